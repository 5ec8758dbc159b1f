//! What somebody who leaves has left behind beside keys: sessions, copies, accounts of their own.

use crate::clock;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use lavrin_keys::text::printable;
use lavrin_server::survey::traces::OpenSession;
use lavrin_work::change::Ended;
use lavrin_work::offboard::{HostLeftBehind, LeftBehind, OwnAccount};
use serde::Serialize;
use std::collections::BTreeMap;

/// On one host.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct LeftBehindOut {
    pub host: String,
    /// Whether it could be looked for.
    pub seen: bool,
    pub sessions: Vec<SessionOut>,
    pub copies: Vec<CopyOut>,
    pub accounts: Vec<OwnAccountOut>,
}

/// A session that one of their keys opened.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct SessionOut {
    pub account: String,
    /// The key; none where no log tells it: then the session may be somebody else's, and is left alone.
    pub key: Option<String>,
    /// Since when (RFC 3339, UTC).
    pub since: String,
    pub from: Option<String>,
    /// Whether an agent is forwarded into it.
    pub agent: bool,
    /// What runs in it.
    pub runs: Vec<String>,
    /// `open` or `ended`.
    pub state: &'static str,
}

/// A file in which one of their keys stands and that no server reads.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct CopyOut {
    pub account: String,
    pub path: String,
    /// Whether a private key lies beside it.
    pub private_key: bool,
}

/// An account that was theirs alone.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct OwnAccountOut {
    pub account: String,
    /// `open` or `ended`.
    pub state: &'static str,
    /// What runs in its name.
    pub runs: Vec<String>,
    /// What starts by itself in its name.
    pub starts: Vec<&'static str>,
}

/// Everything that was found.
pub fn all(found: &LeftBehind<'_>) -> Vec<LeftBehindOut> {
    let seen = found.hosts.iter().map(|(host, found)| LeftBehindOut::of(host, found));
    let none = |host: &String| LeftBehindOut {
        host: host.clone(),
        seen: false,
        sessions: Vec::new(),
        copies: Vec::new(),
        accounts: Vec::new(),
    };
    let mut all: Vec<LeftBehindOut> = seen.chain(found.unseen.iter().map(none)).collect();
    all.sort_by(|one, other| one.host.cmp(&other.host));
    all
}

impl LeftBehindOut {
    fn of(host: &str, found: &HostLeftBehind) -> Self {
        let session = |one: &OpenSession| SessionOut {
            account: printable(one.account.as_bytes()),
            key: one.key.map(|key| key.to_string()),
            since: clock::text_of(one.started),
            from: one.from.clone(),
            agent: one.has_agent,
            runs: one.runs.clone(),
            state: "open",
        };
        let account = |one: &OwnAccount| OwnAccountOut {
            account: printable(one.name.as_bytes()),
            state: if one.has_ended { "ended" } else { "open" },
            runs: one.commands.clone(),
            starts: one.starts.clone(),
        };
        let copies = found.copies.iter().map(|(copy, private_key)| CopyOut {
            account: printable(copy.account.as_bytes()),
            path: copy.path.to_string(),
            private_key: *private_key,
        });
        Self {
            host: host.to_owned(),
            seen: true,
            sessions: found.sessions.iter().chain(&found.untold).map(session).collect(),
            copies: copies.collect(),
            accounts: found.accounts.iter().map(account).collect(),
        }
    }

    fn is_ended(&self, ended: &BTreeMap<String, Ended>, account: &str) -> bool {
        ended.get(&self.host).and_then(|ended| ended.of(account)).is_some_and(lavrin_work::change::End::is_done)
    }

    /// The sessions that were ended.
    pub fn end_sessions(&mut self, ended: &BTreeMap<String, Ended>) {
        let is_ended = |one: &SessionOut| one.key.is_some() && self.is_ended(ended, &one.account);
        let done: Vec<bool> = self.sessions.iter().map(is_ended).collect();
        for (one, done) in self.sessions.iter_mut().zip(done) {
            one.state = if done { "ended" } else { "open" };
        }
    }

    /// The accounts that were ended.
    pub fn end_accounts(&mut self, ended: &BTreeMap<String, Ended>) {
        let done: Vec<bool> = self.accounts.iter().map(|one| self.is_ended(ended, &one.account)).collect();
        for (one, _) in self.accounts.iter_mut().zip(done).filter(|(_, done)| *done) {
            one.state = "ended";
        }
    }

    /// How the command ends because of it.
    pub fn exit(&self) -> Exit {
        // An account that no key opens is worth telling; a session that is open is a way in.
        let is_open = self.sessions.iter().any(|one| one.state == "open" && one.key.is_some());
        if is_open { Exit::Findings } else { Exit::Done }
    }

    /// Each thing in a word, how good that is, and more about it.
    pub fn told(&self) -> Vec<(&'static str, Label, String)> {
        let mut told = Vec::new();
        let host = &self.host;
        if !self.seen {
            let what = format!("{host}: open sessions, copies of keys and own accounts could not be checked");
            told.push(("not checked", Label::Warn, what));
        }
        for one in &self.sessions {
            let from = one.from.as_ref().map(|from| format!(" from {from}")).unwrap_or_default();
            let agent = if one.agent { "; an agent is forwarded into it" } else { "" };
            let runs = listed("; in it runs ", &one.runs);
            let since = one.since.replace('T', " ");
            let (word, label) =
                if one.state == "ended" { ("session ended", Label::Good) } else { ("session open", Label::Warn) };
            let by = one.key.as_ref().map_or_else(
                || " by a key that no log tells, so it may be somebody else's".to_owned(),
                |key| format!(" by {key}"),
            );
            told.push((word, label, format!("{}@{host} since {since}{from}{by}{agent}{runs}", one.account)));
        }
        for one in &self.accounts {
            let (word, label) =
                if one.state == "ended" { ("account ended", Label::Good) } else { ("account open", Label::Warn) };
            let more = listed("; runs ", &one.runs) + &listed("; starts by itself: ", &one.starts);
            told.push((word, label, format!("{}@{host}, theirs alone{more}", one.account)));
        }
        for one in &self.copies {
            let beside = if one.private_key { "; a private key lies beside it" } else { "; it opens nothing there" };
            told.push(("copy of a key", Label::Warn, format!("{host} {}{beside}", one.path)));
        }
        told
    }

    /// The same in lines.
    pub fn lines(&self, ui: &Ui) -> Vec<String> {
        let line = |(word, label, more): (&str, Label, String)| format!("{}  {more}", ui.paint_status(label, word));
        self.told().into_iter().map(line).collect()
    }
}

fn listed<T: AsRef<str>>(words: &str, list: &[T]) -> String {
    if list.is_empty() {
        return String::new();
    }
    let list: Vec<&str> = list.iter().map(AsRef::as_ref).collect();
    format!("{words}{}", list.join(", "))
}

/// What is left, in lines, and what ends it.
pub fn text(all: &[LeftBehindOut], person: &str, ui: &Ui) -> String {
    let mut lines: Vec<String> = all.iter().flat_map(|host| host.lines(ui)).collect();
    let is_open = |state: &'static str| state == "open";
    if all.iter().flat_map(|host| &host.sessions).any(|one| is_open(one.state) && one.key.is_some()) {
        lines.push(format!("next: lavrin offboard {person} --end-sessions"));
    }
    if all.iter().flat_map(|host| &host.accounts).any(|one| is_open(one.state)) {
        lines.push(format!("next: lavrin offboard {person} --end-accounts"));
    }
    lines.iter().map(|line| format!("\n{line}")).collect()
}
