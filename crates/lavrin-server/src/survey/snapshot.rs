//! An observation as it is kept: a document, and the contents of files apart from it, each under its hash. What stayed
//! the same, on one host over time or on many hosts at once, is then kept once.

use super::{HostClock, KeySlot, Observation, StrayKey};
use crate::abilities::Abilities;
use crate::account::{Account, Group};
use crate::fs::{BytePath, Fact, Node};
use crate::server::{Known, Server};
use aws_lc_rs::digest;
use lavrin_keys::text::as_text;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;

/// The form that is written. A reader refuses a form that it does not know.
const FORM: u32 = 3;

/// The form of a host that keeps keys in files: it has not changed, so an earlier version reads it too.
const FORM_OF_FILES: u32 = 2;

/// SHA-256 of a content.
pub type Hash = [u8; 32];

/// The hash under which bytes are kept.
#[must_use]
pub fn hash(bytes: &[u8]) -> Hash {
    let mut hash = [0; 32];
    hash.copy_from_slice(digest::digest(&digest::SHA256, bytes).as_ref());
    hash
}

/// Why a document could not be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SnapshotFault {
    /// It is damaged, or something else.
    Damaged(String),
    /// It was written by a newer version.
    Newer(u32),
    /// A content that it names is not there.
    ContentMissing,
}

/// What stays of an observation. What changes by itself (open sessions, the use of keys) is not part of it.
#[derive(Serialize, Deserialize)]
struct Document {
    form: u32,
    viewer: Option<u32>,
    server: Server,
    server_known: Known,
    config_path: Option<BytePath>,
    accounts: Arc<Vec<Account>>,
    groups: Arc<Vec<Group>>,
    network_homes: Vec<BytePath>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    shared_homes: Vec<BytePath>,
    nodes: Vec<(BytePath, Fact<Node>)>,
    contents: Vec<(BytePath, Fact<Hash>)>,
    names: Vec<(BytePath, Fact<Vec<Name>>)>,
    private_keys: Vec<(BytePath, Fact<Vec<StrayKey>>)>,
    #[serde(default, skip_serializing_if = "Abilities::is_whole")]
    lacks: Abilities,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    slots: BTreeMap<String, Fact<Vec<KeySlot>>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    clock: Option<HostClock>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    takes_passwords: Option<bool>,
}

#[derive(Serialize, Deserialize)]
struct Name(#[serde(with = "as_text")] Vec<u8>);

/// A document and the contents it names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Snapshot {
    /// The document.
    pub document: Vec<u8>,
    /// Contents by hash.
    pub contents: BTreeMap<Hash, Vec<u8>>,
}

impl Snapshot {
    /// Takes an observation apart. The same observation always gives the same document.
    #[must_use]
    pub fn of(seen: &Observation) -> Self {
        let mut contents = BTreeMap::new();
        let mut keep = |bytes: &Vec<u8>| {
            let hash = hash(bytes);
            contents.entry(hash).or_insert_with(|| bytes.clone());
            hash
        };
        let document = Document {
            form: if seen.abilities.is_whole() && seen.slots.is_empty() { FORM_OF_FILES } else { FORM },
            viewer: seen.viewer,
            server: seen.server,
            server_known: seen.server_known.clone(),
            config_path: seen.config_path.clone(),
            accounts: seen.accounts.clone(),
            groups: seen.groups.clone(),
            network_homes: seen.network_homes.clone(),
            shared_homes: seen.shared_homes.clone(),
            nodes: seen.nodes.iter().map(|(path, fact)| (path.clone(), fact.clone())).collect(),
            contents: seen.bytes.iter().map(|(path, fact)| (path.clone(), refer(fact, &mut keep))).collect(),
            names: seen.names.iter().map(|(path, fact)| (path.clone(), refer(fact, |names| names_of(names)))).collect(),
            private_keys: seen.private_keys.iter().map(|(path, fact)| (path.clone(), fact.clone())).collect(),
            lacks: seen.abilities.clone(),
            slots: seen.slots.clone(),
            clock: seen.clock,
            takes_passwords: seen.takes_passwords,
        };
        let document = serde_json::to_vec(&document).expect("these types have only text keys");
        Self { document, contents }
    }
}

fn names_of(names: &[Vec<u8>]) -> Vec<Name> {
    names.iter().cloned().map(Name).collect()
}

fn refer<T, U>(fact: &Fact<T>, change: impl FnOnce(&T) -> U) -> Fact<U> {
    match fact {
        Fact::Known(value) => Fact::Known(change(value)),
        Fact::Absent => Fact::Absent,
        Fact::Unseen(why) => Fact::Unseen(why.clone()),
    }
}

/// A document that was read; its contents are still to be fetched.
pub struct Parsed(Document);

/// Reads a document.
///
/// # Errors
/// [`SnapshotFault`].
pub fn parse(document: &[u8]) -> Result<Parsed, SnapshotFault> {
    let damaged = |error: serde_json::Error| SnapshotFault::Damaged(error.to_string());
    let document: Document = serde_json::from_slice(document).map_err(|error| match form(document) {
        Some(form) if form > FORM => SnapshotFault::Newer(form),
        _ => damaged(error),
    })?;
    if document.form > FORM {
        return Err(SnapshotFault::Newer(document.form));
    }
    Ok(Parsed(document))
}

impl Parsed {
    /// The accounts that were seen.
    pub fn accounts(&self) -> impl Iterator<Item = &str> {
        self.0.accounts.iter().map(|account| account.name.as_str())
    }

    /// The contents that it names.
    pub fn contents(&self) -> impl Iterator<Item = &Hash> {
        self.0.contents.iter().filter_map(|(_, fact)| fact.known())
    }

    /// Puts the observation together again.
    ///
    /// # Errors
    /// [`SnapshotFault::ContentMissing`].
    pub fn restore(self, content: impl Fn(&Hash) -> Option<Vec<u8>>) -> Result<Observation, SnapshotFault> {
        restored(self.0, content)
    }
}

/// Reads a document and puts the observation together again.
///
/// # Errors
/// [`SnapshotFault`].
pub fn restore(document: &[u8], content: impl Fn(&Hash) -> Option<Vec<u8>>) -> Result<Observation, SnapshotFault> {
    parse(document)?.restore(content)
}

fn restored(document: Document, content: impl Fn(&Hash) -> Option<Vec<u8>>) -> Result<Observation, SnapshotFault> {
    let mut bytes = BTreeMap::new();
    for (path, fact) in document.contents {
        let fact = match fact {
            Fact::Known(hash) => Fact::Known(content(&hash).ok_or(SnapshotFault::ContentMissing)?),
            Fact::Absent => Fact::Absent,
            Fact::Unseen(why) => Fact::Unseen(why),
        };
        bytes.insert(path, fact);
    }
    let names = |list: Vec<Name>| list.into_iter().map(|name| name.0).collect();
    Ok(Observation {
        looked: true,
        viewer: document.viewer,
        // Documents of the first form name the version only in how it is known.
        server: document.server.or_version(document.server_known.version()),
        server_known: document.server_known,
        config_path: document.config_path,
        accounts: document.accounts,
        groups: document.groups,
        network_homes: document.network_homes,
        shared_homes: document.shared_homes,
        nodes: document.nodes.into_iter().collect(),
        bytes,
        names: document.names.into_iter().map(|(path, fact)| (path, fact.map(names))).collect(),
        private_keys: document.private_keys.into_iter().collect(),
        abilities: document.lacks,
        slots: document.slots,
        clock: document.clock,
        takes_passwords: document.takes_passwords,
        ..Observation::default()
    })
}

fn form(document: &[u8]) -> Option<u32> {
    #[derive(Deserialize)]
    struct FormNumber {
        form: u32,
    }
    serde_json::from_slice::<FormNumber>(document).ok().map(|form| form.form)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::{add_shadow, read_groups, read_passwd};
    use crate::fs::{NodeKind, Why};
    use crate::server::Version;
    use crate::survey::PublicHalf;
    use lavrin_keys::key::Fingerprint;
    use proptest::prelude::*;

    fn world(name: &[u8], content: &[u8]) -> Observation {
        let mut accounts = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\nbuoy:x:7:7::/srv/buoy:\n");
        add_shadow(&mut accounts, b"edda:!:19000:0:99999:7:::\n");
        let mut seen = Observation {
            looked: true,
            viewer: Some(0),
            server: Server::debian(Version(9, 2)),
            server_known: Known::Banner("SSH-2.0-OpenSSH_9.2p1".to_owned()),
            accounts: accounts.into(),
            groups: read_groups(b"edda:x:1001:\ncrew:x:50:edda,sten\n").into(),
            network_homes: vec!["/srv/buoy".into()],
            ..Observation::default()
        };
        let path = BytePath::new(b"/home/edda").join(name);
        let node = |kind| Fact::Known(Node { kind, mode: 0o4755, uid: 1, gid: 2, access_list: true });
        seen.nodes.insert(path.clone(), node(NodeKind::Link(content.to_vec())));
        seen.nodes.insert("/etc".into(), node(NodeKind::Folder));
        seen.nodes.insert("/gone".into(), Fact::Absent);
        seen.bytes.insert(path.clone(), Fact::Known(content.to_vec()));
        seen.bytes.insert("/copy".into(), Fact::Known(content.to_vec()));
        seen.bytes.insert("/large".into(), Fact::Unseen(Why::TooLarge(9)));
        seen.bytes.insert("/shut".into(), Fact::Unseen(Why::Other("odd".to_owned())));
        seen.names.insert("/etc".into(), Fact::Known(vec![name.to_vec()]));
        let public = Some(PublicHalf { fingerprint: Fingerprint::of(content), beside: true });
        let stray = StrayKey { path: path.clone(), protected: None, public };
        seen.private_keys.insert("/home/edda/.ssh".into(), Fact::Known(vec![stray]));
        seen
    }

    proptest! {
        #[test]
        fn an_observation_comes_back_as_it_was(name in prop::collection::vec(1u8.., 1..20), content: Vec<u8>) {
            let seen = world(&name, &content);
            let snapshot = Snapshot::of(&seen);
            prop_assert_eq!(snapshot.contents.len(), 1);
            let back = restore(&snapshot.document, |hash| snapshot.contents.get(hash).cloned()).unwrap();
            prop_assert_eq!(format!("{back:?}"), format!("{seen:?}"));
            prop_assert_eq!(Snapshot::of(&back), snapshot);
        }
    }

    #[test]
    fn what_is_damaged_newer_or_incomplete_is_told_apart() {
        let snapshot = Snapshot::of(&world(b"x", b"y"));
        assert_eq!(restore(&snapshot.document, |_| None).unwrap_err(), SnapshotFault::ContentMissing);
        let text = String::from_utf8(snapshot.document.clone()).unwrap();
        let newer = text.replacen("\"form\":2", "\"form\":4", 1);
        assert_eq!(restore(newer.as_bytes(), |_| None).unwrap_err(), SnapshotFault::Newer(4));
        assert_eq!(restore(b"{\"form\":5,\"shape\":[]}", |_| None).unwrap_err(), SnapshotFault::Newer(5));
        let cut = &snapshot.document[..snapshot.document.len() / 2];
        assert!(matches!(restore(cut, |_| None), Err(SnapshotFault::Damaged(_))));
    }

    #[test]
    fn a_document_of_the_first_form_is_read_with_the_version_that_its_banner_tells() {
        let snapshot = Snapshot::of(&world(b"x", b"y"));
        let text = String::from_utf8(snapshot.document.clone()).unwrap();
        let server = r#""server":{"software":"open-ssh","version":[9,2],"tolerates_private_groups":true}"#;
        assert!(text.contains(server), "{text}");
        let first = text.replacen("\"form\":2", "\"form\":1", 1);
        let first = first.replacen(server, r#""server":{"open-ssh":{"tolerates_private_groups":true}}"#, 1);
        let back = restore(first.as_bytes(), |hash| snapshot.contents.get(hash).cloned()).unwrap();
        assert_eq!(back.server, Server::debian(Version(9, 2)));
    }

    #[test]
    fn what_changes_by_itself_makes_no_new_document() {
        let mut seen = world(b"x", b"y");
        let before = Snapshot::of(&seen);
        seen.sessions.insert("edda".to_owned(), 3);
        assert_eq!(Snapshot::of(&seen), before);
    }
}
