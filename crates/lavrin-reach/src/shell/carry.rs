//! Carrying out changes on a host. Work in a home is done with the account's rights; root's are used where root alone decides
//! what a name means, and on `.` after an entered folder has proven to be the one that was meant. Which of the two it is, is
//! decided on the host at that moment (`scripts/carry.sh`), never by what an account has said.

use super::listing::letters_of;
use super::{LISTENER, ShellHost, opening_words, quoted, quoted_path};
use crate::ssh::{Exec, ExecFault};
use crate::{Boxed, CarryFault, read_exactly};
use lavrin_keys::text::printable;
use lavrin_server::account::Account;
use lavrin_server::fs::{BytePath, NodeKind};
use lavrin_server::steps::{AccountChange, Change, ChangeSubject, FileChange, Guarded, OwnerIds, ServerChange, Was};
use lavrin_server::survey::Observation;
use std::time::Duration;

/// Functions for one change, by whoever makes it.
const CHANGE: &str = include_str!("scripts/change.sh");

/// Functions that decide whose rights are used.
const CARRY: &str = include_str!("scripts/carry.sh");

const WRITE: &str = include_str!("scripts/write.sh");

/// Functions for a change of the server or of an account.
pub(super) const SERVER: &str = include_str!("scripts/server.sh");

/// Functions for a change of an account.
const ACCOUNT: &str = include_str!("scripts/account.sh");

/// How long what runs as an account may take for a change, in seconds, beside a second for each 100 KB that are sent.
const ACCOUNT_SECONDS: u64 = 20;

/// How much longer the answer to a change may take.
const ANSWER_TIME: Duration = Duration::from_secs(15);

/// Longest answer to a change, in bytes: a few words.
const ANSWER_BYTES_MAX: usize = 1 << 20;

/// A file as it is to be written.
struct Writing<'a> {
    path: &'a BytePath,
    old: Option<&'a [u8]>,
    new: &'a [u8],
    now: Was,
    /// What the file in its place has.
    was: Was,
}

impl<'a> Writing<'a> {
    fn of(change: &'a FileChange) -> Option<Self> {
        let FileChange::WriteFile { path, old, new, mode, owner, was, .. } = change else { return None };
        let now = Was { mode: *mode, owner: *owner };
        Some(Self { path, old: old.as_deref(), new, now, was: was.unwrap_or(now) })
    }

    fn bytes(&self) -> usize {
        self.new.len() + self.old.map_or(0, <[u8]>::len)
    }

    /// The mode for a file that was root's and that the account puts back: readable where it was, else shut to everybody.
    fn put_back_as(&self, account: &Account) -> Option<u32> {
        let puts_back = self.now.owner.uid != account.uid && self.was.owner.uid == account.uid;
        puts_back.then_some(if self.now.mode & 0o004 == 0 { 0 } else { self.now.mode & 0o755 })
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
            let change = match change {
                Change::File(file) => file,
                Change::Server(ServerChange::Reload) => {
                    let steps = format!("{LISTENER}\n{SERVER}\nreload");
                    return self.make(&format!("( {steps} )"), &change.subject()).await;
                }
                Change::Account(of_account) => {
                    let script = format!("( {SERVER}\n{ACCOUNT}\n{} )", account_call(of_account));
                    return self.make(&script, &change.subject()).await;
                }
                Change::Key(_) | Change::Server(ServerChange::Passwords { .. }) => {
                    return Err(CarryFault::not_there(change));
                }
            };
            let path = change.path();
            let unsafe_name = || CarryFault::Refused { subject: path.clone().into(), why: NOT_FOR_A_SHELL.to_owned() };
            if let Some(writing) = Writing::of(change) {
                let folder = path.parent().as_ref().and_then(quoted_path).ok_or_else(unsafe_name)?;
                return self.write(&writing, &folder, account).await;
            }
            let call = call(change, account, seen).ok_or_else(unsafe_name)?;
            self.make(&call, &path.clone().into()).await
        })
    }

    async fn make(&self, call: &str, subject: &ChangeSubject) -> Result<(), CarryFault> {
        self.told(call, subject).await.map(drop)
    }

    /// The same, and what is said behind "ok".
    pub(super) async fn told(&self, call: &str, subject: &ChangeSubject) -> Result<String, CarryFault> {
        let (nonce, child) = (self.nonce(), self.nonce());
        let script = format!(
            "T={ACCOUNT_SECONDS}; {}{CHANGE}\n{CARRY}\nb p; {call}; e $?\nprintf '\\n%s Z\\n' \"$N\"\n",
            opening_words(&nonce, &child)
        );
        let time = Duration::from_secs(ACCOUNT_SECONDS) + ANSWER_TIME;
        let told = async {
            let mut exec = self.connection.start(&script, &self.root_by, time).await?;
            let answer = exec.until(format!("\n{nonce} Z\n").as_bytes(), ANSWER_BYTES_MAX).await?;
            exec.close().await;
            Ok::<_, ExecFault>(answer)
        };
        let answer = told.await.map_err(|_| CarryFault::Unknown { subject: subject.clone() })?;
        let frames = super::frames::frames(&answer, &nonce);
        let said = frames.first().map(|frame| String::from_utf8_lossy(frame.bytes).trim().to_owned());
        let said = said.unwrap_or_default();
        match said.lines().last().unwrap_or_default() {
            "ok" => Ok(String::new()),
            last if last.starts_with("ok ") => Ok(last[3..].to_owned()),
            last => match last.strip_prefix("fail ") {
                Some(word) => Err(fault(subject, word.trim())),
                // What runs as an account may end, or be ended, at any moment.
                None => Err(CarryFault::Unknown { subject: subject.clone() }),
            },
        }
    }

    /// Stages a file next to the old one, and commits it with a single rename.
    async fn write(&self, writing: &Writing<'_>, folder: &str, account: &Account) -> Result<(), CarryFault> {
        let path = writing.path;
        let (nonce, child) = (self.nonce(), self.nonce());
        let inner = write_script(writing, &child, folder, account);
        let payload = inner.len() + writing.bytes();
        let seconds = ACCOUNT_SECONDS + payload as u64 / 100_000;
        let call = write_call(account, folder, &inner);
        // What runs as the account holds neither what we read from nor what we write into.
        let script = format!(
            "T={seconds}; {}{CHANGE}\n{CARRY}\nif own {}; then {call}; else {{ relay {payload} & }} 3<&0 | {call} | within {} cat; fi\nprintf '\\n%s Z %s\\n' \"$N\" $?\n",
            opening_words(&nonce, &child),
            account.uid,
            seconds + 1,
        );
        // Until "go" is sent nothing can have changed, whatever goes wrong.
        let refused = |fault: ExecFault| CarryFault::Refused { subject: path.clone().into(), why: fault.to_string() };
        let time = Duration::from_secs(seconds) + ANSWER_TIME;
        let mut exec = self.connection.start(&script, &self.root_by, time).await.map_err(refused)?;
        let staged = staged(&mut exec, &inner, writing).await;
        let text = staged.map_err(refused)?;
        if text != format!("{child} staged") {
            exec.end().await;
            let word =
                text.strip_prefix(&format!("{child} fail ")).unwrap_or("refused: nothing could be run as the account");
            return Err(fault(&path.clone().into(), word));
        }
        let unknown = |_| CarryFault::Unknown { subject: path.clone().into() };
        exec.send(b"go\n").await.map_err(unknown)?;
        let said = exec.until(format!("\n{nonce} Z ").as_bytes(), ANSWER_BYTES_MAX).await.map_err(unknown)?;
        exec.close().await;
        let text = String::from_utf8_lossy(&said);
        if text.contains(&format!("{child} done")) {
            return Ok(());
        }
        let word = text.split(&format!("{child} fail ")).nth(1).and_then(|rest| rest.lines().next());
        word.map_or_else(
            || Err(CarryFault::Unknown { subject: path.clone().into() }),
            |word| Err(fault(&path.clone().into(), word.trim())),
        )
    }
}

/// Hands over what is to be written, and gives what is said about it.
async fn staged(exec: &mut Exec, inner: &str, writing: &Writing<'_>) -> Result<String, ExecFault> {
    exec.send(inner.as_bytes()).await?;
    exec.send(writing.new).await?;
    exec.send(writing.old.unwrap_or_default()).await?;
    let mut said = exec.until(b"\n", ANSWER_BYTES_MAX).await?;
    if *said == *b"\n" {
        said = exec.until(b"\n", ANSWER_BYTES_MAX).await?;
    }
    Ok(String::from_utf8_lossy(&said).trim().to_owned())
}

/// Runs what stages and commits a file, by whoever may work in this folder.
fn write_call(account: &Account, folder: &str, inner: &str) -> String {
    let command = format!("eval \"$({})\"", read_exactly(inner.len()));
    format!("write_in {} {folder} {}", words_of(account), quoted(&command))
}

/// The call that changes an account.
fn account_call(change: &AccountChange) -> String {
    match change {
        AccountChange::Expire { account, from, to } => {
            let day = |day: &Option<i64>| day.map(|day| day.to_string()).unwrap_or_default();
            format!("expire {} '{}' '{}'", quoted(account), day(from), day(to))
        }
        AccountChange::EndSession { account, pid, started } => {
            format!("end_session {} {pid} {started}", quoted(account))
        }
        AccountChange::Make(new) => {
            let word = |text: &Option<String>| quoted(text.as_deref().unwrap_or_default());
            format!("make_account {} {} {}", quoted(&new.name), word(&new.shell), word(&new.home))
        }
        AccountChange::Join { account, group, is_member } => {
            let function = if *is_member { "join" } else { "leave" };
            format!("{function} {} {}", quoted(account), quoted(group))
        }
    }
}

fn words_of(account: &Account) -> String {
    format!("{} {} {}", quoted(&account.name), account.uid, account.gid)
}

/// The call that makes a change of modes, owners or folders. `None` where a name cannot be handed to a shell safely.
fn call(change: &FileChange, account: &Account, seen: &Observation) -> Option<String> {
    let path = change.path();
    let folder = quoted_path(&path.parent()?)?;
    let name = quoted(std::str::from_utf8(path.name()).ok()?);
    let whole = quoted_path(path)?;
    let is_folder = kind_letter(seen, path) == 'd';
    let (steps, on_itself) = match change {
        FileChange::WriteFile { .. } => return None,
        FileChange::MakeFolder { mode, owner, .. } => {
            let give = format!("if root; then inside {whole}\nchown {}:{} . || fail owner; fi\n", owner.uid, owner.gid);
            // Below a folder that hands its group on a new one does so too, whatever mode it gets.
            let make = format!(
                "inside {folder}\nmkdir -m {mode:o} -- {name} 2>/dev/null && chmod -- g-s {name} || fail \"changed\"\n"
            );
            (format!("{make}{give}"), None)
        }
        FileChange::RemoveFolder { .. } => {
            (format!("inside {folder}\nrmdir -- {name} 2>/dev/null || fail \"not empty\"\n"), None)
        }
        FileChange::RemoveFile { .. } => {
            (format!("inside {folder}\n[ -f {name} ] && [ ! -L {name} ] && rm -f -- {name} || fail changed\n"), None)
        }
        FileChange::SetMode { from, to, .. } if is_folder => (mode_of_folder(&whole, *from, *to), Some("")),
        FileChange::SetMode { from, to, .. } => (mode_of_file(&folder, &name, *from, *to), None),
        // Only root can give something away.
        FileChange::SetOwner { from, to, .. } if is_folder => (owner_of_folder(&whole, *from, *to), Some("root")),
        FileChange::SetOwner { from, to, .. } => (owner_of_file(&folder, &name, *from, *to), None),
    };
    let steps = quoted(&format!("{CHANGE}\n{steps}echo ok\n"));
    let who = words_of(account);
    Some(match on_itself {
        Some(whose) => format!("on_folder {who} {whole} {steps} '{whose}'"),
        None => format!("in_folder {who} {folder} {steps}"),
    })
}

/// The commands for a change that somebody carries to the host by hand; they end with "ok" or "done".
pub(super) fn by_hand(change: &Guarded, account: &Account, seen: &Observation, nonce: &str) -> Option<String> {
    let change = change.change().as_file()?;
    if let Some(writing) = Writing::of(change) {
        let folder = quoted_path(&writing.path.parent()?)?;
        let inner = write_script(&writing, nonce, &folder, account);
        return Some(format!(
            "{{ printf '%s' {}; printf '%b' '{}'; printf '%b' '{}'; echo go; }} | {} | within $((T + 1)) tail -n 1",
            quoted(&inner),
            octal(writing.new),
            octal(writing.old.unwrap_or_default()),
            write_call(account, &folder, &inner),
        ));
    }
    Some(format!("{} | tail -n 1", call(change, account, seen)?))
}

/// What a script of changes by hand begins with, behind the usual opening.
pub(super) fn by_hand_opening() -> String {
    format!("T={ACCOUNT_SECONDS}\n{CHANGE}\n{CARRY}\n")
}

/// Bytes as `printf %b` takes them inside single quotes.
pub(super) fn octal(bytes: &[u8]) -> String {
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
fn write_script(writing: &Writing<'_>, nonce: &str, folder: &str, account: &Account) -> String {
    let name = quoted(&String::from_utf8_lossy(writing.path.name()));
    let old = writing.old.map_or_else(|| "-1".to_owned(), |old| old.len().to_string());
    let Writing { now, was, .. } = writing;
    let back = writing.put_back_as(account).map(|mode| format!("{mode:o} -{}", letters_of(mode))).unwrap_or_default();
    // A group that the account is not in does not come back; whoever was in it reads no more than before.
    let group = if now.owner.gid != account.gid && was.owner.gid == account.gid { "lost" } else { "" };
    format!(
        "N={nonce}; P={folder}; B={name}; U={}; G={}; MODE={:o}; WANTED=-{}; WAS=-{}; WHOSE={}:{}; BACK='{back}'; GROUP={group}; LN={}; LO={old}\nLC_ALL=C; PATH=/usr/sbin:/usr/bin:/sbin:/bin:/run/current-system/sw/bin; export LC_ALL PATH\n{WRITE}",
        now.owner.uid,
        now.owner.gid,
        now.mode,
        letters_of(now.mode),
        letters_of(was.mode),
        was.owner.uid,
        was.owner.gid,
        writing.new.len(),
    )
}

fn kind_letter(seen: &Observation, path: &BytePath) -> char {
    let folder = seen.node(path).into_known().is_some_and(|node| node.kind == NodeKind::Folder);
    if folder { 'd' } else { '-' }
}

/// Bits that root gives to nobody in a place that others can change.
const LOOSE: u32 = 0o7022;

fn mode_of_folder(whole: &str, from: u32, to: u32) -> String {
    let (was, is) = (format!("d{}", letters_of(from)), format!("d{}", letters_of(to)));
    let loosens = to & !from & LOOSE != 0;
    // Digits alone leave these two bits of a folder as they are.
    let sign = |bit: u32| if to & bit == 0 { '-' } else { '+' };
    let bits = format!("u{}s,g{}s", sign(0o4000), sign(0o2000));
    let guarded =
        if loosens { format!("if root && ! may {whole}; then fail \"open {whole}\"; fi\n") } else { String::new() };
    format!(
        "inside {whole}\nsame . {was}\n{guarded}chmod {to:o} . && chmod {bits} . || fail mode\n[ \"$(line . | cut -c1-10)\" = {is} ] || fail \"held $(line . | cut -c1-10)\"\n"
    )
}

fn mode_of_file(folder: &str, name: &str, from: u32, to: u32) -> String {
    let (was, is) = (format!("-{}", letters_of(from)), format!("-{}", letters_of(to)));
    format!(
        "inside {folder}\n[ ! -L {name} ] || fail changed\nsame {name} {was}\nchmod {to:o} {name} || fail mode\n[ \"$(line {name} | cut -c1-10)\" = {is} ] || fail \"held $(line {name} | cut -c1-10)\"\n"
    )
}

/// Root gives a folder to the account, or takes it back. It is entered first, so that it cannot be swapped.
fn owner_of_folder(whole: &str, from: OwnerIds, to: OwnerIds) -> String {
    format!(
        "inside {whole}\nowned . {}:{}\nif root; then keys_only; fi\nchown {}:{} . || fail owner\n",
        from.uid, from.gid, to.uid, to.gid
    )
}

/// Only where root alone decides what the name means.
fn owner_of_file(folder: &str, name: &str, from: OwnerIds, to: OwnerIds) -> String {
    format!(
        "inside {folder}\nif [ -L {name} ] || [ ! -f {name} ]; then fail changed; fi\nset -- $(line {name}); [ \"$2\" = 1 ] || fail \"changed or linked\"\nowned {name} {}:{}\nchown {}:{} {name} || fail owner\n",
        from.uid, from.gid, to.uid, to.gid
    )
}

/// What the scripts' short words mean.
fn fault(subject: &ChangeSubject, said: &str) -> CarryFault {
    let subject = subject.clone();
    let why = match said.split(' ').next().unwrap_or_default() {
        "changed" | "moved" | "gone" => return CarryFault::Changed { subject },
        "open" => {
            let why = format!(
                "other users can write to a folder above it, so root does not work there: {}",
                said.trim_start_matches("open ")
            );
            return CarryFault::Refused { subject, why };
        }
        "holds" => {
            let what = said.trim_start_matches("holds ");
            let why = format!(
                "besides key files it holds {what}, which would get the new owner too; look at it and change the owner by hand"
            );
            return CarryFault::Refused { subject, why };
        }
        "held" => {
            let letters = said.trim_start_matches("held ").to_owned();
            return CarryFault::Refused {
                subject,
                why: format!("the mode did not stick: the file system made it {letters}"),
            };
        }
        "access-list" => "it has an access list, and this host has no getfacl and setfacl to keep it".to_owned(),
        "rejected" => {
            format!(
                "the server's own test refuses the configuration: {}",
                printable(said.trim_start_matches("rejected ").as_bytes())
            )
        }
        "no-listener" => "no server was found that waits for connections and runs this session".to_owned(),
        "busy" => {
            "somebody else changes the server's settings right now, and has not proven them yet; try again in some minutes"
                .to_owned()
        }
        "no-timer" => "nothing was found on this host that could put the settings back by itself".to_owned(),
        "put-back" => return CarryFault::PutBack,
        "no-useradd" => "this host has neither useradd nor adduser".to_owned(),
        "no-gpasswd" => "this host has no program that puts accounts into groups".to_owned(),
        "no-chage" => "this host has no chage that sets the day on which an account ends".to_owned(),
        "short" => "not all bytes arrived, or there was no room for them".to_owned(),
        "full" => format!("there is no room for it: {} KiB are left", printable(said.trim_start_matches("full ").as_bytes())),
        "after" => format!("what has to run after a change failed: {}", printable(said.trim_start_matches("after ").as_bytes())),
        "owner" | "group" | "mode" => {
            format!("the system does not allow to set the {}", said.split(' ').next().unwrap_or_default())
        }
        _ if said.contains("not permitted") => {
            "the system does not allow it; perhaps it is marked immutable (lsattr shows it)".to_owned()
        }
        _ => printable(said.trim_start_matches("refused: ").as_bytes()),
    };
    CarryFault::Refused { subject, why }
}
