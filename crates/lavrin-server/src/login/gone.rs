//! Whether a key is gone from an account: every file that the server would read was read whole, and no line of it holds the key.
//! That a server refuses a key is evidence of another kind, and never stands in for this.

use super::{AccountKeys, HeldEntry, KeySource, Place};
use crate::abilities::Ability;
use crate::account::Account;
use crate::fs::{BytePath, Why};
use crate::server_config::Settings;
use crate::system::System;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::keysfile::Content;
use std::collections::HashMap;

/// Why a key is not shown to be gone from an account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotGone {
    /// A line holds it.
    Stands(Place),
    /// Something that the server would read was not read.
    Unseen(KeySource, Why),
    /// Nobody can tell what a line holds.
    NotUnderstood(Place),
    /// A command gives the server keys too.
    KeysCommand(String),
    /// Certificates open the account: whose, nobody here knows.
    Authorities(String),
    /// The same, by an entry of the account itself.
    Authority(Place),
    /// Which files the server reads depends on what could not be seen.
    Settings(BytePath),
    /// There is no such account any more; who looks again may find one.
    NoSuchAccount,
}

/// The keys that stand in an account's files, and what keeps others from being shown to be gone.
#[derive(Debug, Clone, Default)]
pub struct Traces {
    stands: HashMap<Fingerprint, Place>,
    open: Vec<NotGone>,
}

impl Traces {
    /// Those of an account.
    #[must_use]
    pub fn of(account: &Account, seen: &System<'_>) -> Self {
        let mut traces = Self::default();
        let keys = AccountKeys::of(account, seen, None);
        traces.open.extend(keys.unread.into_iter().map(|(source, why)| NotGone::Unseen(source, why)));
        for held in keys.entries {
            traces.entry(held);
        }
        let has_settings = seen.abilities.has(Ability::Settings) && !seen.network_homes.contains(&account.home);
        if has_settings && !seen.server.is_dropbear() {
            traces.settings(&seen.settings(account));
        }
        traces
    }

    /// Why this key is not gone, or not shown to be; `None`: it is gone.
    #[must_use]
    pub fn not_gone(&self, key: &Fingerprint) -> Option<NotGone> {
        self.stands.get(key).map(|place| NotGone::Stands(place.clone())).or_else(|| self.open.first().cloned())
    }

    /// Whether everything was read, so that what does not stand here is gone.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.open.is_empty()
    }

    fn entry(&mut self, held: HeldEntry) {
        let place = held.place;
        match held.content {
            Content::Blank | Content::Comment => {}
            Content::Entry(entry) => {
                if entry.options.has("cert-authority") {
                    self.open.push(NotGone::Authority(place.clone()));
                }
                self.stands.entry(entry.fingerprint).or_insert(place);
            }
            Content::Unusable(unusable) => match unusable.key {
                Some(key) => drop(self.stands.entry(key.fingerprint()).or_insert(place)),
                None => self.open.push(NotGone::NotUnderstood(place)),
            },
        }
    }

    fn settings(&mut self, settings: &Settings) {
        let said = |keyword: &str| settings.get(keyword).map(|setting| setting.words.join(" "));
        let is_set = |said: &String| !said.is_empty() && !said.eq_ignore_ascii_case("none");
        self.open.extend(said("authorizedkeyscommand").filter(is_set).map(NotGone::KeysCommand));
        self.open.extend(said("trustedusercakeys").filter(is_set).map(NotGone::Authorities));
        self.open.extend(settings.unseen.first().cloned().map(NotGone::Settings));
        let of_files = ["authorizedkeysfile", "authorizedkeyscommand", "trustedusercakeys"];
        let conditional = settings.conditional.iter().find(|(keyword, ..)| of_files.contains(&keyword.as_str()));
        self.open.extend(conditional.map(|(_, path, _)| NotGone::Settings(path.clone())));
    }
}

/// Why a key is not gone from an account, or not shown to be; `None`: it is gone.
#[must_use]
pub fn not_gone(name: &str, key: &Fingerprint, seen: &System<'_>) -> Option<NotGone> {
    match seen.account(name) {
        Some(account) => Traces::of(account, seen).not_gone(key),
        // Whoever reads the list of accounts as root reads all of it.
        None if seen.viewer == Some(0) => None,
        None => Some(NotGone::NoSuchAccount),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::read_passwd;
    use crate::fs::{Fact, Node, NodeKind};
    use crate::survey::Observation;
    use lavrin_keys::key::PrivateKey;

    const FILE: &str = "/home/edda/.ssh/authorized_keys";

    fn key(seed: u8) -> lavrin_keys::key::PublicKey {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
    }

    fn seen(text: &str) -> Observation {
        let mut seen = Observation { looked: true, viewer: Some(0), ..Observation::default() };
        seen.accounts = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n").into();
        for (path, kind) in [("/home", 'd'), ("/home/edda", 'd'), ("/home/edda/.ssh", 'd'), (FILE, '-')] {
            let kind = if kind == 'd' { NodeKind::Folder } else { NodeKind::File };
            seen.nodes
                .insert(path.into(), Fact::Known(Node { kind, mode: 0o700, uid: 1001, gid: 1001, access_list: false }));
        }
        seen.nodes.insert("/home/edda/.ssh/authorized_keys2".into(), Fact::Absent);
        seen.nodes.insert("/etc".into(), Fact::Absent);
        seen.bytes.insert("/etc/ssh/sshd_config".into(), Fact::Known(Vec::new()));
        seen.bytes.insert(FILE.into(), Fact::Known(text.as_bytes().to_vec()));
        seen
    }

    #[test]
    fn a_key_is_gone_where_all_was_read_and_no_line_holds_it() {
        let ask = |seen: &Observation| not_gone("edda", &key(1).fingerprint(), &System::of(seen));
        let other = key(2).line("sten");
        assert_eq!(ask(&seen(&other)), None);
        let place = |line| Place::Line { path: FILE.into(), line };
        let limited = format!("{other}\nfrom=\"192.0.2.1\" {}\n", key(1).line("edda"));
        assert_eq!(ask(&seen(&limited)), Some(NotGone::Stands(place(2))));
        let dead = format!("{other}\nnonsense {}\n", key(1).line("edda"));
        assert_eq!(ask(&seen(&dead)), Some(NotGone::Stands(place(2))));
        assert_eq!(ask(&seen("what is this\n")), Some(NotGone::NotUnderstood(place(1))));
        let authority = format!("cert-authority {other}\n");
        assert!(matches!(ask(&seen(&authority)), Some(NotGone::Authority(_))));
    }

    #[test]
    fn what_was_not_read_is_not_gone() {
        let ask = |seen: &Observation| not_gone("edda", &key(1).fingerprint(), &System::of(seen));
        let mut world = seen("");
        world.bytes.insert(FILE.into(), Fact::Unseen(Why::TooLarge(1)));
        assert_eq!(ask(&world), Some(NotGone::Unseen(BytePath::from(FILE).into(), Why::TooLarge(1))));
        let mut world = seen("");
        world.nodes.insert("/home/edda/.ssh".into(), Fact::Unseen(Why::NoAnswer));
        assert!(matches!(ask(&world), Some(NotGone::Unseen(_, Why::NoAnswer))));
        let mut world = seen("");
        world.network_homes.push("/home/edda".into());
        assert!(matches!(ask(&world), Some(NotGone::Unseen(_, Why::NetworkHome))));
        let with = |line: &str| {
            let mut world = seen("");
            world.bytes.insert("/etc/ssh/sshd_config".into(), Fact::Known(line.as_bytes().to_vec()));
            ask(&world)
        };
        assert!(matches!(
            with("AuthorizedKeysCommand /x\nAuthorizedKeysCommandUser nobody\n"),
            Some(NotGone::KeysCommand(_))
        ));
        assert!(matches!(with("TrustedUserCAKeys /etc/ca\n"), Some(NotGone::Authorities(_))));
        assert!(matches!(with("Match Address 192.0.2.1\nAuthorizedKeysFile /x\n"), Some(NotGone::Settings(_))));
        assert_eq!(with("AuthorizedKeysCommand none\n"), None);
        let mut world = seen("");
        world.accounts = Vec::new().into();
        assert_eq!(ask(&world), None);
        world.viewer = Some(1001);
        assert_eq!(ask(&world), Some(NotGone::NoSuchAccount));
    }
}
