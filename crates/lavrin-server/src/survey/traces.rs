//! What somebody leaves behind on a host when they leave: sessions that their keys opened, copies of their keys that open nothing,
//! and what runs by itself.

use super::key_use::accepted_by;
use crate::fs::BytePath;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::printable;
use std::collections::BTreeSet;

/// Most of each kind that are kept of one host.
const KEPT_MAX: usize = 10_000;

/// Most commands that are listed for one session.
const COMMANDS_MAX: usize = 20;

/// What is looked for.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct TracesQuestion {
    /// The keys, as they stand in base64 on a line.
    pub keys: Vec<String>,
}

/// What was found. It is only reported: an absence proves nothing.
#[derive(Debug, Clone, Default)]
pub struct FoundTraces {
    /// Sessions that are open.
    pub sessions: Vec<OpenSession>,
    /// Files in homes in which one of the keys stands.
    pub copies: Vec<KeyCopy>,
    /// What runs, by account.
    pub processes: Vec<Process>,
    /// Accounts with a table of the clock daemon of their own.
    pub crontabs: BTreeSet<String>,
    /// Accounts whose services run without a session.
    pub lingering: BTreeSet<String>,
    /// Accounts in whose name the system's own tables run something.
    pub cron: BTreeSet<String>,
}

/// A session that is open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenSession {
    /// The server's process for it.
    pub pid: u32,
    /// When that was started, in seconds since 1970.
    pub started: i64,
    /// The account.
    pub account: String,
    /// The key that opened it, where the log tells.
    pub key: Option<Fingerprint>,
    /// From where, where the log tells.
    pub from: Option<String>,
    /// Whether an agent is forwarded into it.
    pub has_agent: bool,
    /// Whether it is the one that looks.
    pub is_own: bool,
    /// What runs in it.
    pub runs: Vec<String>,
}

/// A file in which a key stands.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct KeyCopy {
    /// In whose home.
    pub account: String,
    /// The file.
    pub path: BytePath,
}

/// A process.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Process {
    /// Its number.
    pub pid: u32,
    /// That of the one that started it.
    pub parent: u32,
    /// In whose name it runs.
    pub account: String,
    /// What it is called.
    pub command: String,
}

/// What a host says, unread.
#[derive(Debug, Clone, Copy, Default)]
pub struct RawTraces<'a> {
    /// Lines of number, parent, account and command.
    pub processes: &'a [u8],
    /// The processes that the look descends from.
    pub mine: &'a [u8],
    /// Lines of process, start and account.
    pub open: &'a [u8],
    /// Sockets of forwarded agents.
    pub agents: &'a [u8],
    /// Seconds since 1970 and the zone, as `1795456800 +0100`.
    pub clock: &'a [u8],
    /// Lines of the log.
    pub accepted: &'a [u8],
    /// Names of tables.
    pub crontabs: &'a [u8],
    /// Names of accounts.
    pub lingering: &'a [u8],
    /// Lines of the system's tables (`crontab(5)`).
    pub cron: &'a [u8],
}

fn lines(bytes: &[u8]) -> Vec<String> {
    let text = String::from_utf8_lossy(bytes);
    text.lines().map(str::trim).filter(|line| !line.is_empty()).take(KEPT_MAX).map(str::to_owned).collect()
}

impl FoundTraces {
    /// Reads what a host says.
    #[must_use]
    pub fn read(raw: &RawTraces<'_>) -> Self {
        let processes: Vec<Process> = lines(raw.processes).iter().filter_map(|line| process(line)).collect();
        let mine: BTreeSet<u32> = lines(raw.mine).iter().filter_map(|line| line.parse().ok()).collect();
        let agents: BTreeSet<u32> =
            lines(raw.agents).iter().filter_map(|line| line.rsplit_once("agent.")?.1.parse().ok()).collect();
        let log = lines(raw.accepted);
        let clock = clock(raw.clock);
        let session = |line: String| {
            let mut words = line.split_ascii_whitespace();
            let (pid, started) = (words.next()?.parse().ok()?, words.next()?.parse().ok()?);
            let account = printable(words.next()?.as_bytes());
            let (key, from) = opened_by(pid, started, &account, &log, clock).unzip();
            let below = descendants(pid, &processes);
            let has_agent = agents.contains(&pid) || below.iter().any(|one| agents.contains(&one.pid));
            let is_server = |one: &&&Process| !one.command.starts_with("sshd");
            let runs = below.iter().filter(is_server).take(COMMANDS_MAX).map(|one| one.command.clone()).collect();
            Some(OpenSession { pid, started, account, key, from, has_agent, is_own: mine.contains(&pid), runs })
        };
        Self {
            sessions: lines(raw.open).into_iter().filter_map(session).collect(),
            copies: Vec::new(),
            crontabs: lines(raw.crontabs).into_iter().collect(),
            lingering: lines(raw.lingering).into_iter().collect(),
            cron: lines(raw.cron).iter().filter_map(|line| cron_account(line)).collect(),
            processes,
        }
    }

    /// What runs in the name of an account, each command once.
    #[must_use]
    pub fn commands_of(&self, account: &str) -> Vec<String> {
        let own: BTreeSet<&String> =
            self.processes.iter().filter(|one| one.account == account).map(|one| &one.command).collect();
        own.into_iter().take(COMMANDS_MAX).cloned().collect()
    }
}

/// How long before its own start a session may be told of, in seconds: clocks are rounded.
const ROUNDED: i64 = 2;

/// The key that opened a session, and from where. Numbers of processes are given out again, so only what was said since the process
/// started counts; and anybody may write into a log, so where two things are said none is believed.
fn opened_by(
    pid: u32,
    started: i64,
    account: &str,
    log: &[String],
    clock: (i64, i64),
) -> Option<(Fingerprint, String)> {
    let said = log.iter().filter_map(|line| accepted_by(line, pid, clock));
    let mut said = said.filter(|(time, _)| *time >= started - ROUNDED).map(|(_, told)| told);
    let first = said.next()?;
    let is_one = said.all(|other| other == first);
    (is_one && first.0 == account).then_some((first.1, first.2))
}

/// Now and the zone, in seconds.
fn clock(bytes: &[u8]) -> (i64, i64) {
    let text = String::from_utf8_lossy(bytes);
    let mut words = text.split_ascii_whitespace();
    let now = words.next().and_then(|now| now.parse().ok()).unwrap_or(0);
    let zone: i64 = words.next().and_then(|zone| zone.parse().ok()).unwrap_or(0);
    (now, zone / 100 * 3600 + zone % 100 * 60)
}

fn process(line: &str) -> Option<Process> {
    let mut words = line.split_ascii_whitespace();
    let (pid, parent) = (words.next()?.parse().ok()?, words.next()?.parse().ok()?);
    let account = printable(words.next()?.as_bytes());
    let command = printable(words.collect::<Vec<_>>().join(" ").as_bytes());
    Some(Process { pid, parent, account, command })
}

/// Everything that was started by a process, directly or not.
fn descendants(pid: u32, all: &[Process]) -> Vec<&Process> {
    let (mut found, mut known): (Vec<&Process>, BTreeSet<u32>) = (Vec::new(), BTreeSet::from([pid]));
    loop {
        let before = found.len();
        for one in all {
            if known.contains(&one.parent) && known.insert(one.pid) {
                found.push(one);
            }
        }
        if found.len() == before {
            return found;
        }
    }
}

/// In whose name a line of a table of the system runs something: the sixth word, or the second behind `@daily` and its like.
fn cron_account(line: &str) -> Option<String> {
    let words: Vec<&str> = line.split_ascii_whitespace().collect();
    let first = words.first()?;
    let at = if first.starts_with('@') { 1 } else { 5 };
    let is_time = first.starts_with('@') || first.starts_with(|letter: char| letter.is_ascii_digit() || letter == '*');
    words.get(at).filter(|_| is_time && words.len() > at + 1).map(|word| printable(word.as_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_keys::key::PrivateKey;
    use proptest::prelude::*;

    #[test]
    fn sessions_are_told_with_the_key_that_opened_them() {
        let key = PrivateKey::ed25519(&[1; 32]).unwrap().public().fingerprint();
        let accepted = format!(
            "2026-11-23T17:38:09+0100 lantern sshd[70]: Accepted publickey for edda from 192.0.2.1 port 5 ssh2: ED25519 {key}\n\
             2026-11-23T17:39:09+0100 lantern sshd[90]: Accepted publickey for sten from 192.0.2.2 port 5 ssh2: ED25519 {key}\n"
        );
        let raw = RawTraces {
            processes: b" 1 0 root systemd\n70 1 root sshd\n71 70 edda sshd\n72 71 edda bash\n80 72 edda rsync\n90 1 root sshd\n91 90 root sh\nPID PPID USER COMMAND\n",
            mine: b"91\n90\n",
            open: b"70 1795451888 edda\n90 1795451900 root\nx\n",
            clock: b"1795452000 +0100\n",
            agents: b"/tmp/ssh-XXabc/agent.71\n",
            accepted: accepted.as_bytes(),
            crontabs: b"edda\n",
            lingering: b"edda\n",
            cron: b"17 * * * * root cd / && run\n@daily edda /srv/tide\nSHELL=/bin/sh -x y z w v u\n",
        };
        let traces = FoundTraces::read(&raw);
        let [one, own] = &traces.sessions[..] else { panic!("{traces:?}") };
        assert_eq!((one.account.as_str(), one.key, one.from.as_deref()), ("edda", Some(key), Some("192.0.2.1")));
        assert!(one.has_agent && !one.is_own && own.is_own && !own.has_agent);
        assert_eq!(one.runs, ["bash", "rsync"]);
        // The line of that process is about somebody else.
        assert_eq!(own.key, None);
        // What was said before the process started is about an older one of the same number.
        let late = FoundTraces::read(&RawTraces { open: b"70 1795451900 edda\n", ..raw });
        assert_eq!(late.sessions[0].key, None);
        // Somebody writes into the log that another key opened it: then nobody knows.
        let other = PrivateKey::ed25519(&[2; 32]).unwrap().public().fingerprint();
        let forged = accepted.clone() + &accepted.replace(&key.to_string(), &other.to_string());
        let told = FoundTraces::read(&RawTraces { accepted: forged.as_bytes(), ..raw });
        assert_eq!(told.sessions[0].key, None);
        assert_eq!(traces.commands_of("edda"), ["bash", "rsync", "sshd"]);
        assert_eq!(traces.cron.into_iter().collect::<Vec<_>>(), ["edda", "root"]);
    }

    proptest! {
        #[test]
        fn nothing_breaks_the_reading(bytes: Vec<u8>) {
            let raw = RawTraces { processes: &bytes, mine: &bytes, open: &bytes, agents: &bytes, clock: &bytes, accepted: &bytes, crontabs: &bytes, lingering: &bytes, cron: &bytes };
            let _ = FoundTraces::read(&raw);
        }
    }
}
