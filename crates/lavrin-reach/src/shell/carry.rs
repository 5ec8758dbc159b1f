//! Carrying out changes on a host. Work in a home is done with the account's rights; root's rights only set owners and
//! modes, of `.` after an entered folder has proven to be the one that was meant.

use super::look::letters_of;
use super::{ShellHost, quoted, quoted_path};
use crate::ssh::ExecFault;
use crate::{Boxed, CarryFault};
use lavrin_core::account::Account;
use lavrin_core::fs::{BytePath, NodeKind};
use lavrin_core::steps::{Change, Guarded, Owner};
use lavrin_core::survey::Observation;
use lavrin_core::text::printable;
use std::time::Duration;

const PREPARE: &str = include_str!("scripts/prepare.sh");
const WRITE: &str = include_str!("scripts/write.sh");

/// How long a change may take, beside a second for each 100 KB that are sent.
const CHANGE_TIMEOUT: Duration = Duration::from_mins(1);

/// A file as it is to be written.
struct Writing<'a> {
    path: &'a BytePath,
    old: Option<&'a [u8]>,
    new: &'a [u8],
    mode: u32,
    owner: Owner,
}

impl<'a> Writing<'a> {
    fn of(change: &'a Change) -> Option<Self> {
        let Change::WriteFile { path, old, new, mode, owner } = change else { return None };
        Some(Self { path, old: old.as_deref(), new, mode: *mode, owner: *owner })
    }
}

/// Why a path is not worked on.
const NOT_FOR_A_SHELL: &str = "its name cannot be handed to a shell safely";

impl ShellHost {
    /// Makes one change. What was looked at before must still hold, else nothing is changed.
    ///
    /// # Errors
    /// [`CarryFault`].
    #[must_use]
    pub fn carry<'a>(
        &'a self,
        change: &'a Guarded,
        account: &'a Account,
        seen: &'a Observation,
    ) -> Boxed<'a, Result<(), CarryFault>> {
        Box::pin(async move {
            let change = change.change();
            let path = change.path();
            if let Some(writing) = Writing::of(change) {
                return self.write(&writing, account, seen).await;
            }
            let unsafe_name = || CarryFault::Refused { path: path.clone(), why: NOT_FOR_A_SHELL.to_owned() };
            let (lines, by_root) = lines_of(change, account, seen).ok_or_else(unsafe_name)?;
            self.prepare(&lines, by_root, path, account).await
        })
    }

    async fn prepare(&self, lines: &str, by_root: bool, path: &BytePath, account: &Account) -> Result<(), CarryFault> {
        let (nonce, child) = (self.nonce(), self.nonce());
        let steps = format!("{PREPARE}\n{lines}echo ok\n");
        let run = if by_root {
            format!("b p; ( {steps} ); e $?\n")
        } else {
            let name = quoted(&account.name);
            format!(
                "QR=\"'$R'\"\n{{ printf 'N=%s; R=%s\\n%s\\n' \"$K\" \"$QR\" \"$F\"; printf '%s' {}; }} | run_as {name} {} {}\n",
                quoted(&steps),
                account.uid,
                account.gid
            )
        };
        let script = format!("{}{run}\nprintf '\\n%s Z\\n' \"$N\"\n", self.opening(&nonce, &child));
        let told = async {
            let mut exec = self.connection.start(&script, &self.rise, CHANGE_TIMEOUT).await?;
            let answer = exec.until(format!("\n{nonce} Z\n").as_bytes()).await?;
            exec.close().await;
            Ok::<_, ExecFault>(answer)
        };
        let answer = told.await.map_err(|_| CarryFault::Unknown { path: path.clone() })?;
        let frames = super::frames::frames(&answer, &nonce);
        let said =
            frames.first().map(|frame| String::from_utf8_lossy(frame.bytes).trim().to_owned()).unwrap_or_default();
        if said.ends_with("ok") { Ok(()) } else { Err(fault(path, said.trim_start_matches("fail ").trim())) }
    }

    /// Stages a file next to the old one, and commits it with a single rename.
    async fn write(&self, writing: &Writing<'_>, account: &Account, seen: &Observation) -> Result<(), CarryFault> {
        let path = writing.path;
        let (nonce, child) = (self.nonce(), self.nonce());
        let inner = self.write_script(writing, &child);
        let (name, uid, gid) = writer(writing, account, seen);
        let command = format!("eval \"$(dd bs=1 count={} 2>/dev/null)\"", inner.len());
        let script = format!(
            "{}as {} {uid} {gid} {}\nprintf '\\n%s Z %s\\n' \"$N\" $?\n",
            self.opening(&nonce, &child),
            quoted(name),
            quoted(&command)
        );
        let payload = inner.len() + writing.new.len() + writing.old.map_or(0, <[u8]>::len);
        let time = CHANGE_TIMEOUT + Duration::from_secs(payload as u64 / 100_000);
        // Until "go" is sent nothing can have changed, whatever goes wrong.
        let staged = async {
            let mut exec = self.connection.start(&script, &self.rise, time).await?;
            exec.send(inner.as_bytes()).await?;
            exec.send(writing.new).await?;
            exec.send(writing.old.unwrap_or_default()).await?;
            let said = exec.until(b"\n").await?;
            Ok::<_, ExecFault>((exec, said))
        };
        let (mut exec, mut said) =
            staged.await.map_err(|fault| CarryFault::Refused { path: path.clone(), why: fault.to_string() })?;
        if said == b"\n" {
            said = exec
                .until(b"\n")
                .await
                .map_err(|fault| CarryFault::Refused { path: path.clone(), why: fault.to_string() })?;
        }
        let text = String::from_utf8_lossy(&said).trim().to_owned();
        if text != format!("{child} staged") {
            let word =
                text.strip_prefix(&format!("{child} fail ")).unwrap_or("refused: nothing could be run as the account");
            return Err(fault(path, word));
        }
        let unknown = |_| CarryFault::Unknown { path: path.clone() };
        exec.send(b"go\n").await.map_err(unknown)?;
        let said = exec.until(format!("\n{nonce} Z ").as_bytes()).await.map_err(unknown)?;
        exec.close().await;
        let text = String::from_utf8_lossy(&said);
        if text.contains(&format!("{child} done")) {
            return Ok(());
        }
        let word =
            text.split(&format!("{child} fail ")).nth(1).and_then(|rest| rest.lines().next()).unwrap_or("no answer");
        Err(fault(path, word.trim()))
    }

    fn write_script(&self, writing: &Writing<'_>, nonce: &str) -> String {
        let root = if self.is_standin() { "R=$(cd -P \"$LAVRIN_STANDIN_ROOT\" && pwd -P)" } else { "R=" };
        let folder = writing.path.parent().as_ref().and_then(quoted_path).unwrap_or_else(|| "''".to_owned());
        write_script(writing, nonce, root, &folder)
    }
}

/// The commands for a change of modes, owners and folders, and whether root has to run them. `None` where a name cannot be
/// handed to a shell safely.
fn lines_of(change: &Change, account: &Account, seen: &Observation) -> Option<(String, bool)> {
    let path = change.path();
    let folder = quoted_path(&path.parent()?)?;
    let name = quoted(std::str::from_utf8(path.name()).ok()?);
    let whole = quoted_path(path)?;
    Some(match change {
        Change::WriteFile { .. } => return None,
        Change::MakeFolder { mode, owner, .. } => {
            let make = format!("inside {folder}\nmkdir -m {mode:o} -- {name} 2>/dev/null || fail \"changed\"\n");
            // In a home that root owns only root can make it; the account cannot swap it there.
            let root = parent_is_roots(path, account, seen);
            let give = if root {
                format!("inside {whole}\nchown {}:{} . || fail owner\n", owner.uid, owner.gid)
            } else {
                String::new()
            };
            (format!("{make}{give}"), root)
        }
        Change::RemoveFolder { .. } => (
            format!("inside {folder}\nrmdir -- {name} 2>/dev/null || fail \"not empty\"\n"),
            parent_is_roots(path, account, seen),
        ),
        Change::SetMode { from, to, .. } => {
            (set_mode(seen, path, &folder, &name, &whole, *from, *to), is_roots(path, account, seen))
        }
        Change::SetOwner { from, to, .. } => (set_owner(seen, path, &folder, &name, &whole, *from, *to), true),
        Change::RemoveFile { .. } => (
            format!("inside {folder}\n[ -f {name} ] && [ ! -L {name} ] && rm -f -- {name} || fail changed\n"),
            parent_is_roots(path, account, seen),
        ),
    })
}

/// The commands for a change that somebody carries to the host by hand; they end with "ok" or "done".
pub(super) fn by_hand(change: &Guarded, account: &Account, seen: &Observation, nonce: &str) -> Option<String> {
    let change = change.change();
    let name = quoted(&account.name);
    if let Some(writing) = Writing::of(change) {
        let folder = quoted_path(&writing.path.parent()?)?;
        let inner = write_script(&writing, nonce, "R=", &folder);
        let (who, uid, gid) = writer(&writing, account, seen);
        let command = format!("eval \"$(dd bs=1 count={} 2>/dev/null)\"", inner.len());
        return Some(format!(
            "{{ printf '%s' {}; printf '%b' '{}'; printf '%b' '{}'; echo go; }} | as {} {uid} {gid} {} | tail -n 1",
            quoted(&inner),
            octal(writing.new),
            octal(writing.old.unwrap_or_default()),
            quoted(who),
            quoted(&command),
        ));
    }
    let (lines, by_root) = lines_of(change, account, seen)?;
    let steps = format!("{PREPARE}\n{lines}echo ok\n");
    Some(if by_root {
        format!("( {steps} ) | tail -n 1")
    } else {
        format!("as {name} {} {} \"R=; $(cat <<'LAVRIN'\n{steps}LAVRIN\n)\" | tail -n 1", account.uid, account.gid)
    })
}

/// Bytes as `printf %b` takes them inside single quotes.
fn octal(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut text, byte| {
        match byte {
            b'a'..=b'z'
            | b'A'..=b'Z'
            | b'0'..=b'9'
            | b' '
            | b'+'
            | b'/'
            | b'='
            | b'.'
            | b','
            | b'@'
            | b'-'
            | b'_'
            | b':' => {
                text.push(char::from(*byte));
            }
            other => text.push_str(&format!("\\0{other:03o}")),
        }
        text
    })
}

/// The script that stages and commits a file.
fn write_script(writing: &Writing<'_>, nonce: &str, root: &str, folder: &str) -> String {
    let name = quoted(&String::from_utf8_lossy(writing.path.name()));
    let old = writing.old.map_or_else(|| "-1".to_owned(), |old| old.len().to_string());
    format!(
        "N={nonce}; {root}; P={folder}; B={name}; U={}; G={}; MODE={:o}; WANTED=-{}; LN={}; LO={old}\nLC_ALL=C; PATH=/usr/sbin:/usr/bin:/sbin:/bin:/run/current-system/sw/bin; export LC_ALL PATH\n{WRITE}",
        writing.owner.uid,
        writing.owner.gid,
        writing.mode,
        letters_of(writing.mode),
        writing.new.len(),
    )
}

/// With whose rights a file is written: the account's own, unless it is one that root keeps elsewhere.
fn writer<'a>(writing: &Writing<'_>, account: &'a Account, seen: &Observation) -> (&'a str, u32, u32) {
    let own = |node: &lavrin_core::fs::Node| node.uid == account.uid;
    let in_home = writing.path.is_within(&account.home) || seen.node(writing.path).into_known().is_some_and(own);
    if in_home { (account.name.as_str(), account.uid, account.gid) } else { ("root", 0, 0) }
}

/// Whether root owns the folder a path lies in, so that only root can change it and the account cannot swap it.
fn parent_is_roots(path: &BytePath, account: &Account, seen: &Observation) -> bool {
    path.parent().is_some_and(|parent| is_roots(&parent, account, seen))
}

fn is_roots(path: &BytePath, account: &Account, seen: &Observation) -> bool {
    let owner = seen.node(path).into_known().map(|node| node.uid);
    owner == Some(0) && !account.is_root() && seen.viewer == Some(0)
}

fn kind_letter(seen: &Observation, path: &BytePath) -> char {
    let folder = seen.node(path).into_known().is_some_and(|node| node.kind == NodeKind::Folder);
    if folder { 'd' } else { '-' }
}

fn set_mode(seen: &Observation, path: &BytePath, folder: &str, name: &str, whole: &str, from: u32, to: u32) -> String {
    let kind = kind_letter(seen, path);
    let (was, is) = (format!("{kind}{}", letters_of(from)), format!("{kind}{}", letters_of(to)));
    if kind == 'd' {
        format!(
            "inside {whole}\nsame . {was}\nchmod {to:o} . || fail mode\n[ \"$(line . | cut -c1-10)\" = {is} ] || fail \"held $(line . | cut -c1-10)\"\n"
        )
    } else {
        format!(
            "inside {folder}\n[ ! -L {name} ] || fail changed\nsame {name} {was}\nchmod {to:o} {name} || fail mode\n[ \"$(line {name} | cut -c1-10)\" = {is} ] || fail \"held $(line {name} | cut -c1-10)\"\n"
        )
    }
}

/// Root gives something to the account. A folder is entered first, so that it cannot be swapped. For a file the folder
/// it lies in is taken over for a moment: only then can nobody put another file in its place.
fn set_owner(
    seen: &Observation,
    path: &BytePath,
    folder: &str,
    name: &str,
    whole: &str,
    from: Owner,
    to: Owner,
) -> String {
    let was = format!("{}:{}", from.uid, from.gid);
    if kind_letter(seen, path) == 'd' {
        return format!("inside {whole}\nowned . {was}\nchown {}:{} . || fail owner\n", to.uid, to.gid);
    }
    format!(
        "inside {folder}\ntrap '' HUP PIPE INT TERM\nremember\n\
         chown 0:0 . && chmod 700 . || {{ back; fail owner; }}\n\
         if [ -L {name} ] || [ ! -f {name} ]; then back; fail changed; fi\n\
         set -- $(line {name}); if [ \"$2\" != 1 ] || [ \"$3:$4\" != {was} ]; then back; fail \"changed or linked\"; fi\n\
         chown {}:{} {name} || {{ back; fail owner; }}\nback\n",
        to.uid, to.gid
    )
}

/// What the scripts' short words mean.
fn fault(path: &BytePath, said: &str) -> CarryFault {
    let path = path.clone();
    let why = match said.split(' ').next().unwrap_or_default() {
        "changed" | "moved" | "gone" => return CarryFault::Changed { path },
        "held" => {
            let letters = said.trim_start_matches("held ").to_owned();
            return CarryFault::Refused {
                path,
                why: format!("the mode did not hold: the file system made it {letters}"),
            };
        }
        "access-list" => "it has an access list, and this host has no getfacl and setfacl to keep it".to_owned(),
        "short" => "not all bytes arrived".to_owned(),
        "owner" | "group" | "mode" => {
            format!("the system does not allow to set the {}", said.split(' ').next().unwrap_or_default())
        }
        _ if said.contains("not permitted") => {
            "the system does not allow it; perhaps it is marked immutable (lsattr shows it)".to_owned()
        }
        _ => printable(said.trim_start_matches("refused: ").as_bytes()),
    };
    CarryFault::Refused { path, why }
}
