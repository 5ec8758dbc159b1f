//! Looking at a host: one script for everything that is wanted, one answer.

use super::frames::{Frame, by_id, frames, of_account};
use super::heard::{HeardRound, may_be_roots, path_of};
use super::listing;
use super::network::{Mounts, NetworkHomes};
use super::{LISTENER, ShellHost, opening_words, quoted, quoted_path};
use crate::Boxed;
use crate::ssh::{ExecFault, Said};
use lavrin_keys::key::container::public_in_base64;
use lavrin_server::account::{Account, add_shadow, read_groups, read_passwd};
use lavrin_server::fs::{BytePath, Fact, NodeKind, Why};
use lavrin_server::login;
use lavrin_server::server::{Known, Server};
use lavrin_server::survey::{ConfigNewer, HostClock, Observation, PublicHalf, StrayKey, Want, Wanted, Who, key_use};
use lavrin_server::system::System;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::fmt::Write as _;
use std::sync::Arc;
use std::time::Duration;

/// How long a look may take.
const LOOK_TIMEOUT: Duration = Duration::from_mins(2);

/// Longest answer, in bytes: a look at ten thousand accounts stays far below.
const ANSWER_BYTES_MAX: usize = 256 << 20;

/// Most bytes that all accounts may say in one round, and one of them: two long key files and what frames them.
const SAID_BYTES_MAX: usize = 240 << 20;
const ACCOUNT_BYTES_MAX: usize = 36 << 20;

/// How long a look at a home on a network file system may take.
const NETWORK_TIMEOUT: Duration = Duration::from_secs(20);

const SYSTEM: &str = include_str!("scripts/system.sh");
const RUNNING: &str = include_str!("scripts/running.sh");
const FLEET: &str = include_str!("scripts/fleet.sh");
const HOMES: &str = include_str!("scripts/homes.sh");

/// What the shell says for a file it could not give.
const NO_RIGHT: u8 = 96;
const WRONG_KIND: u8 = 97;
const TOO_LARGE: u8 = 98;
const NOT_THERE: u8 = 99;
const NOT_ONLY_KEYS: u8 = 94;

impl ShellHost {
    /// Looks at everything that is wanted and writes it into the observation.
    ///
    /// # Errors
    /// [`ExecFault`] where there is no whole answer; nothing is written down then.
    pub fn look<'a>(&'a mut self, wants: &'a [Want], seen: &'a mut Observation) -> Boxed<'a, Result<(), ExecFault>> {
        Box::pin(async move {
            if let Some(who) =
                wants.iter().find_map(|want| if let Wanted::System(who) = &want.what { Some(who) } else { None })
            {
                self.look_at_system(who, seen).await?;
            }
            let rest: Vec<&Want> = wants.iter().filter(|want| !matches!(want.what, Wanted::System(_))).collect();
            if !rest.is_empty() {
                self.look_at(&rest, seen).await?;
            }
            self.look_with_roots_rights(wants, seen).await?;
            for want in wants {
                if let Wanted::Traces(question) = &want.what {
                    // A host where this takes too long is looked at all the same; then it is not checked.
                    if self.look_for_traces(question, seen).await.is_err() {
                        seen.give_up(want, &Why::NoAnswer);
                    }
                }
            }
            for want in wants.iter().filter(|want| !seen.answers(want)).collect::<Vec<_>>() {
                seen.give_up(want, &Why::NotReached);
            }
            Ok(())
        })
    }

    pub(super) async fn run(&self, body: &str, nonce: &str, time: Duration) -> Result<Said, ExecFault> {
        let script = format!("{}{body}\nprintf '\\n%s Z\\n' \"$N\"\n", opening_words(nonce, &self.nonce()));
        let mut exec = self.connection.start(&script, &self.root_by, time).await?;
        let answer = exec.until(format!("\n{nonce} Z\n").as_bytes(), ANSWER_BYTES_MAX).await?;
        exec.close().await;
        Ok(answer)
    }

    /// One round trip for the accounts, the server and the usual files of each home.
    async fn look_at_system(&mut self, who: &Who, seen: &mut Observation) -> Result<(), ExecFault> {
        let nonce = self.nonce();
        let sent = seconds_now();
        let answer = self.run(&system_body(who, false), &nonce, LOOK_TIMEOUT).await?;
        let clock = Some((sent, seconds_now()));
        let asked = self.network_homes.as_deref().map_or(NetworkHomes::No, NetworkHomes::Once);
        self.silent.extend(take_whole(&answer, &nonce, self.connection.banner(), asked, clock, seen));
        Ok(())
    }

    /// Files that root put into an account's folder, where the account itself may not read them: the usual mistake that
    /// an installation has to mend. Root reads them only where nobody else can put another file in their place, and never
    /// behind a link that somebody else may have laid.
    async fn look_with_roots_rights(&self, wants: &[Want], seen: &mut Observation) -> Result<(), ExecFault> {
        if seen.viewer != Some(0) {
            return Ok(());
        }
        let (mut nodes, mut files) = (closed(&seen.nodes), closed(&seen.bytes));
        if nodes.is_empty() && files.is_empty() {
            return Ok(());
        }
        let may = root_may_see(wants, seen);
        nodes.retain(|path| may.contains(path));
        files.retain(|path| may.contains(path));
        if nodes.is_empty() && files.is_empty() {
            return Ok(());
        }
        let nonce = self.nonce();
        let calls = |name: &str, paths: &[BytePath]| -> String {
            paths.iter().filter_map(quoted_path).map(|path| format!("{name} {path}\n")).collect()
        };
        let body = calls("roots_node", &nodes) + &calls("roots_own", &files);
        let answer = self.run(&body, &nonce, LOOK_TIMEOUT).await?;
        for frame in frames(&answer, &nonce) {
            match frame.id {
                [b'n', b' ', path @ ..] if nodes.contains(&BytePath::new(path)) => {
                    seen.nodes.insert(BytePath::new(path), listing::node(frame.bytes, frame.status));
                }
                [b'c', b' ', path @ ..] if files.contains(&BytePath::new(path)) => {
                    seen.bytes.insert(BytePath::new(path), content(&frame));
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// A script for these wants, those of each account with that account's rights. What an account says counts only for what it
    /// was asked; one that has not answered in time is not asked again.
    async fn look_at(&mut self, wants: &[&Want], seen: &mut Observation) -> Result<(), ExecFault> {
        let nonce = self.nonce();
        let (body, network) = self.questions(wants, seen);
        let time = if network { NETWORK_TIMEOUT } else { LOOK_TIMEOUT };
        let answer = self.run(&body, &nonce, time).await?;
        let mut heard = HeardRound::default();
        let roots: HashSet<&BytePath> =
            wants.iter().filter(|want| may_be_roots(want)).filter_map(|want| path_of(want)).collect();
        let mut asked: HashMap<&str, HashSet<&BytePath>> = HashMap::new();
        for want in wants {
            if let (Some(account), Some(path)) = (&want.account, path_of(want)) {
                asked.entry(account).or_default().insert(path);
            }
        }
        for frame in frames(&answer, &nonce) {
            let Some((account, said)) = of_account(&frame) else {
                heard.of(&frame, None, &|path| roots.contains(path));
                continue;
            };
            if said.is_empty() {
                self.silent.insert(account.to_owned());
            }
            let own = asked.get(account);
            for frame in &said {
                heard.of(frame, Some(account), &|path| own.is_some_and(|own| own.contains(path)));
            }
        }
        heard.take_into(seen);
        for want in wants.iter().filter(|want| want.account.as_ref().is_some_and(|name| self.silent.contains(name))) {
            if !seen.answers(want) {
                seen.give_up(want, &Why::NoAnswer);
            }
        }
        Ok(())
    }

    /// What is asked, and whether a home on a network is among it.
    fn questions(&self, wants: &[&Want], seen: &Observation) -> (String, bool) {
        let mut body = "QR=\"'$R'\"\n".to_owned();
        let mut network = false;
        let mut accounts: Vec<Option<&str>> = wants.iter().map(|want| want.account.as_deref()).collect();
        accounts.sort_unstable();
        accounts.dedup();
        // However much each of them says, the answer is one that is read.
        let _ = writeln!(body, "MOST={}", (SAID_BYTES_MAX / accounts.len()).min(ACCOUNT_BYTES_MAX));
        for name in accounts {
            let own = wants.iter().filter(|want| want.account.as_deref() == name);
            let Some(account) = name.and_then(|name| seen.account(name)) else {
                own.filter_map(|want| call(&want.what)).for_each(|(line, _)| body = format!("{body}{line}\n"));
                continue;
            };
            if self.silent.contains(&account.name) {
                continue;
            }
            network |= seen.network_homes.contains(&account.home);
            let who = format!("{} {} {}", quoted(&account.name), account.uid, account.gid);
            let mut lines = String::new();
            for want in own {
                match &want.what {
                    Wanted::Bytes(path, limit) if may_be_roots(want) && !path.is_within(&account.home) => {
                        let Some(path) = quoted_path(path) else { continue };
                        let _ = writeln!(body, "content_of {who} {path} {limit} {}", quoted(&path));
                    }
                    what => lines.extend(call(what).map(|(line, _)| line + "\n")),
                }
            }
            if !lines.is_empty() {
                let _ = writeln!(body, "ask_as {who} {}", quoted(&lines));
            }
        }
        (body, network)
    }
}

/// The script of a first look.
pub(super) fn system_body(who: &Who, network_homes: bool) -> String {
    let one = if let Who::One(name) = who { name.as_str() } else { "" };
    let fleet = if one_only(who) { "" } else { FLEET };
    let homes = homes_loop(who, network_homes);
    let asked = if network_homes { "b network; echo yes; e 0" } else { "" };
    format!("A={}\n{asked}\n{SYSTEM}\n{LISTENER}\n{RUNNING}\n{fleet}\nQR=\"'$R'\"\n{HOMES}\n{homes}", quoted(one))
}

/// The shell's own loop over the accounts; network homes are left out unless asked for.
fn homes_loop(who: &Who, network_homes: bool) -> String {
    let only = if let Who::One(_) = who { "if [ \"$n\" != \"$A\" ]; then continue; fi; " } else { "" };
    let network = if network_homes {
        ""
    } else {
        "x=; for m in $MOUNTS; do case \"$h/\" in \"$m\"/*) x=y ;; esac; done; if [ -n \"$x\" ]; then continue; fi; "
    };
    let list = "if [ -n \"$R\" ]; then cat \"$R/etc/passwd\"; else { if [ -n \"$A\" ]; then getent passwd \"$A\"; fi; getent passwd || cat /etc/passwd; } 2>/dev/null; fi";
    let mounts = "MOUNTS=$(while read -r d m t o; do case $t in nfs|nfs4|cifs|smb3|smbfs|9p|afs|ceph|glusterfs|lustre|fuse.sshfs|fuse.glusterfs) printf '%s ' \"$m\";; esac; done </proc/mounts 2>/dev/null)";
    // A home may hold a quote; it reaches the account's own shell as one word all the same.
    let quote = "q=$h; case $h in *\\'*) q=$(printf '%s' \"$h\" | sed \"s/'/'\\\\\\\\''/g\") ;; esac";
    format!(
        "{mounts}\n{{ {list}; }} | {{ seen=' '; while IFS=: read -r n p u g c h s; do {only}case $h in ''|/|/nonexistent|/dev/null) continue;; esac; case $seen in *\" $n \"*) continue;; esac; {dedup}{network}{quote}; look_at \"$n\" \"$u\" \"$g\" \"$h\" \"'$q'\" \"${{s:-/bin/sh}}\"; done; told; }}\n",
        dedup = if one_only(who) { "seen=\"$seen$n \"; " } else { "" },
    )
}

/// Takes the answer to a first look into the observation; `clock` says when it was asked for and when it came, in seconds since
/// 1970, where that is known. Gives the accounts that were asked and did not answer to the end.
pub(super) fn take_whole(
    answer: &[u8],
    nonce: &str,
    banner: &str,
    asked: NetworkHomes<'_>,
    clock: Option<(i64, i64)>,
    seen: &mut Observation,
) -> Vec<String> {
    let outer = frames(answer, nonce);
    take_system(&outer, banner, asked, clock, seen);
    let homes: HashMap<String, BytePath> =
        seen.accounts.iter().map(|account| (account.name.clone(), account.home.clone())).collect();
    let mut silent = Vec::new();
    for frame in &outer {
        let Some((name, said)) = of_account(frame) else {
            take(frame, seen, &|_| true);
            continue;
        };
        let Some(home) = homes.get(name) else { continue };
        let usual = usual(home);
        if said.is_empty() {
            silent.push(name.to_owned());
            for path in &usual {
                seen.nodes.entry(path.clone()).or_insert(Fact::Unseen(Why::NoAnswer));
            }
        }
        // What an account's own process says counts only for what it was asked about. A long file is asked for by itself.
        let is_long = |inner: &&Frame<'_>| inner.id.starts_with(b"c ") && inner.status == TOO_LARGE;
        said.iter().filter(|inner| !is_long(inner)).for_each(|inner| take(inner, seen, &|path| usual.contains(path)));
    }
    silent
}

/// What each account is asked about in a first look.
fn usual(home: &BytePath) -> [BytePath; 4] {
    let folder = home.join(b".ssh");
    [home.clone(), folder.join(b"authorized_keys"), folder.join(b"authorized_keys2"), folder]
}

/// What could not be seen for lack of a right.
fn closed<T: PartialEq>(facts: &BTreeMap<BytePath, Fact<T>>) -> Vec<BytePath> {
    let closed = facts.iter().filter(|(_, fact)| **fact == Fact::Unseen(Why::Permission));
    closed.map(|(path, _)| path.clone()).collect()
}

/// What root may see for the accounts that these wants are about.
fn root_may_see(wants: &[Want], seen: &Observation) -> HashSet<BytePath> {
    let mut of: HashSet<Option<&str>> = HashSet::new();
    for want in wants {
        match &want.what {
            Wanted::System(Who::All) => return login::root_may_see(None, &System::of(seen)),
            Wanted::System(Who::One(name)) => drop(of.insert(Some(name))),
            _ => drop(of.insert(want.account.as_deref())),
        }
    }
    of.into_iter().flatten().flat_map(|name| login::root_may_see(Some(name), &System::of(seen))).collect()
}

fn one_only(who: &Who) -> bool {
    matches!(who, Who::One(_))
}

/// The function call for a want; `None` where its path cannot be said.
fn call(what: &Wanted) -> Option<(String, BytePath)> {
    let (line, path) = match what {
        Wanted::System(_) | Wanted::Slots(_) | Wanted::Traces(_) => return None,
        Wanted::Node(path) => (format!("node {}", quoted_path(path)?), path),
        Wanted::Bytes(path, limit) => (format!("content {} {limit}", quoted_path(path)?), path),
        Wanted::Names(path) => (format!("names {}", quoted_path(path)?), path),
        Wanted::PrivateKeys(path) => (format!("privates {}", quoted_path(path)?), path),
    };
    Some((line, path.clone()))
}

fn seconds_now() -> i64 {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    now.map_or(0, |now| i64::try_from(now.as_secs()).unwrap_or(i64::MAX))
}

fn take_system(
    outer: &[Frame<'_>],
    banner: &str,
    asked: NetworkHomes<'_>,
    clock: Option<(i64, i64)>,
    seen: &mut Observation,
) {
    let map = by_id(outer);
    let bytes = |id: &str| map.get(id.as_bytes()).map(|frame| frame.bytes).unwrap_or_default();
    let text = |id: &str| String::from_utf8_lossy(bytes(id)).trim().to_owned();
    seen.looked = true;
    seen.viewer = text("uid").parse().ok();
    seen.found_server(Server::from_banner(banner), Known::Banner(banner.to_owned()));
    let mut accounts = read_passwd(bytes("passwd"));
    if !bytes("shadow").is_empty() {
        add_shadow(&mut accounts, bytes("shadow"));
    }
    seen.accounts = Arc::new(accounts);
    seen.groups = Arc::new(read_groups(bytes("group")));
    let config = text("config");
    if !config.is_empty() {
        seen.config_path = Some(BytePath::from(config.as_str()));
    }
    seen.start_options =
        text("options").split(" -o ").map(|one| one.trim_start_matches("-o").trim().to_owned()).collect();
    seen.start_options.retain(|option| !option.is_empty());
    seen.said_by_server = map
        .get(&b"said"[..])
        .filter(|frame| frame.status == 0 && !frame.bytes.is_empty())
        .map(|frame| frame.bytes.to_vec());
    seen.config_newer = config_newer(&text("started"), &text("changed"));
    let mounts = Mounts::read(&text("mounts"));
    let on_network = |account: &&Account| mounts.of(&account.home).is_some();
    seen.network_homes = seen.accounts.iter().filter(on_network).map(|account| account.home.clone()).collect();
    match asked {
        NetworkHomes::No => {}
        NetworkHomes::ByHand if text("network") != "yes" => {}
        NetworkHomes::ByHand => seen.shared_homes = std::mem::take(&mut seen.network_homes),
        NetworkHomes::Once(claims) => {
            let ours = |home: &BytePath| mounts.of(home).is_some_and(|shared| claims.take(&shared));
            (seen.shared_homes, seen.network_homes) =
                std::mem::take(&mut seen.network_homes).into_iter().partition(ours);
        }
    }
    let sessions = text("sessions");
    if let Ok(count) = sessions.parse() {
        seen.sessions.insert(String::new(), count);
    } else {
        sessions.lines().for_each(|account| *seen.sessions.entry(account.to_owned()).or_default() += 1);
    }
    if let Some((now, zone)) =
        text("clock").split_once(' ').and_then(|(now, zone)| Some((now.parse().ok()?, zone_seconds(zone)?)))
    {
        seen.key_uses = key_use::read(bytes("logs"), now, zone);
        seen.clock = Some(HostClock::of(now, zone, clock));
    }
}

/// The system tells when it and its processes started in parts that are rounded, each to a second.
const ROUNDED: i64 = 2;

/// The newest file of the configuration, where it changed after the server was started.
fn config_newer(started: &str, changed: &str) -> Option<ConfigNewer> {
    let started: i64 = started.parse().ok()?;
    let file = |line: &str| {
        let (time, path) = line.split_once(' ')?;
        Some(ConfigNewer { path: BytePath::from(path), changed: time.parse().ok()?, started })
    };
    changed.lines().filter_map(file).max_by_key(|file| file.changed).filter(|file| file.changed > started + ROUNDED)
}

/// `+0130` in seconds.
fn zone_seconds(zone: &str) -> Option<i64> {
    // No place is a day away from UTC.
    let number: i64 = zone.trim().parse().ok().filter(|number: &i64| (-2400..=2400).contains(number))?;
    Some(number.signum() * (number.abs() / 100 * 3600 + number.abs() % 100 * 60))
}

/// Takes one frame about a path into the observation, where that path may be told.
pub(super) fn take(frame: &Frame<'_>, seen: &mut Observation, may: &dyn Fn(&BytePath) -> bool) {
    if frame.id == b"N" {
        for (path, node) in listing::nodes(frame.bytes).filter(|(path, _)| may(path)) {
            seen.nodes.entry(path).or_insert(node);
        }
    }
    let [kind, b' ', path @ ..] = frame.id else { return };
    let path = BytePath::new(path);
    if !may(&path) {
        return;
    }
    match kind {
        b'n' => drop(seen.nodes.entry(path).or_insert_with(|| listing::node(frame.bytes, frame.status))),
        b'l' => {
            if let Some(Fact::Known(node)) = seen.nodes.get_mut(&path) {
                node.kind = NodeKind::Link(frame.bytes.strip_suffix(b"\n").unwrap_or(frame.bytes).to_vec());
            }
        }
        b'c' => drop(seen.bytes.entry(path).or_insert_with(|| content(frame))),
        b'd' => drop(seen.names.insert(path, names(frame))),
        b'k' => {
            let keys = stray_keys(&path, frame.bytes);
            seen.private_keys.insert(path, Fact::Known(keys));
        }
        _ => {}
    }
}

fn content(frame: &Frame<'_>) -> Fact<Vec<u8>> {
    match frame.status {
        0 => Fact::Known(frame.bytes.to_vec()),
        NO_RIGHT => Fact::Unseen(Why::Permission),
        WRONG_KIND => Fact::Unseen(Why::WrongKind),
        TOO_LARGE => Fact::Unseen(Why::TooLarge(lavrin_server::survey::KEYS_FILE_BYTES_MAX)),
        NOT_THERE => Fact::Absent,
        NOT_ONLY_KEYS => {
            let said = "root owns it, and not every line is a key: look at it as root, then give it to the account";
            Fact::Unseen(Why::Other(said.to_owned()))
        }
        status => Fact::Unseen(Why::Other(format!("reading it ended with status {status}"))),
    }
}

fn names(frame: &Frame<'_>) -> Fact<Vec<Vec<u8>>> {
    if frame.status == 0 {
        let lines = frame.bytes.split(|byte| *byte == b'\n').filter(|line| !line.is_empty());
        return Fact::Known(lines.map(<[u8]>::to_vec).collect());
    }
    listing::refusal(frame.bytes)
}

fn stray_keys(folder: &BytePath, bytes: &[u8]) -> Vec<StrayKey> {
    let mut keys: Vec<StrayKey> = Vec::new();
    for line in bytes.split(|byte| *byte == b'\n') {
        let Some(blank) = line.iter().position(|byte| *byte == b' ') else { continue };
        let rest = &line[blank + 1..];
        let protected = match &line[..blank] {
            b"open" => Some(false),
            b"protected" => Some(true),
            b"unknown" => None,
            word => {
                if let Some(last) = keys.last_mut().filter(|last| last.public.is_none()) {
                    last.public = public_half(word, rest);
                }
                continue;
            }
        };
        keys.push(StrayKey { path: folder.join(rest), protected, public: None });
    }
    keys
}

/// What is said of the public half of a private key: it stands in front of it, or in a file beside it.
fn public_half(word: &[u8], said: &[u8]) -> Option<PublicHalf> {
    match word {
        b"half" => public_in_base64(said).map(|key| PublicHalf::in_front(&key)),
        b"beside" => PublicHalf::beside(said),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_frame_about_a_path_that_was_not_asked_for_is_not_believed() {
        let mut seen = Observation::default();
        let frame = Frame { id: b"c /etc/passwd", bytes: b"evil", status: 0 };
        take(&frame, &mut seen, &|path| path.is_within(&"/home/edda".into()));
        assert!(seen.bytes.is_empty());
    }
}
