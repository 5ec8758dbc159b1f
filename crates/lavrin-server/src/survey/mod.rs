//! The observation: what was seen of one system, and what has to be looked at next.
//!
//! The core asks ([`Want`]), a reach looks and puts what it saw into the [`Observation`], until nothing is asked any more.

mod connection;
pub mod glob;
pub mod key_use;
pub mod snapshot;
mod stray_key;
pub mod traces;

use crate::abilities::Abilities;
use crate::account::{Account, Group};
use crate::fs::{BytePath, Fact, Node, NodeKind, Why};
use crate::server::{Known, Server};
pub use connection::LoginAttempt;
use key_use::KeyUses;
use lavrin_keys::services::{self, Services};
use lavrin_keys::text::as_text;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::sync::Arc;
pub use stray_key::{PublicHalf, StrayKey};
use traces::{FoundTraces, TracesQuestion};

/// Longest key file that is fetched, in bytes; the server itself has no limit.
pub const KEYS_FILE_BYTES_MAX: u64 = 16 << 20;

/// Longest configuration file that is fetched, in bytes.
pub const CONFIG_BYTES_MAX: u64 = 1 << 20;

/// Links followed on the way to one file; Linux itself stops at 40.
const LINKS_MAX: usize = 40;

/// File systems behind which a network lies: a home there is looked at only when asked.
pub const NETWORK_FILE_SYSTEMS: [&str; 12] = [
    "nfs",
    "nfs4",
    "cifs",
    "smb3",
    "smbfs",
    "9p",
    "afs",
    "ceph",
    "glusterfs",
    "lustre",
    "fuse.sshfs",
    "fuse.glusterfs",
];

/// What to look at, and with whose rights.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Want {
    /// The thing.
    pub what: Wanted,
    /// The account whose rights are used, since what lies in its home is under its control; `None`: one's own.
    pub account: Option<String>,
}

/// The things that can be looked at.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Wanted {
    /// Accounts, groups, the server's kind and main configuration; a reach over a network adds the usual files of each
    /// account, since a second round trip costs more than they do.
    System(Who),
    /// Kind, mode and owner of a path; links are not followed.
    Node(BytePath),
    /// The bytes of a regular file up to a limit.
    Bytes(BytePath, u64),
    /// The names in a folder.
    Names(BytePath),
    /// The private keys in a folder: where they are and whether they are protected, never what they hold.
    PrivateKeys(BytePath),
    /// The slots of an account, on a device that keeps keys in them.
    Slots(String),
    /// What somebody with these keys leaves behind.
    Traces(Arc<TracesQuestion>),
}

/// Which accounts a look is about.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Who {
    /// Every account of the system.
    All,
    /// One.
    One(String),
}

/// A slot of a device that holds a key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeySlot {
    /// How the device names it.
    pub name: String,
    /// The key with its options and comment, as an entry on a line of a key file.
    #[serde(with = "as_text")]
    pub entry: Vec<u8>,
}

/// A file of the configuration that is newer than the running server. Whether the server was told to read it again since is not
/// known: a reload leaves no trace.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ConfigNewer {
    /// The file.
    pub path: BytePath,
    /// When it changed, in seconds since 1970.
    pub changed: i64,
    /// When the server was started.
    pub started: i64,
}

/// What was seen.
#[derive(Debug, Clone, Default)]
pub struct Observation {
    /// Whether the first look happened.
    pub looked: bool,
    /// The uid that looked; 0 sees everything.
    pub viewer: Option<u32>,
    /// The login that is asked about, as far as it is known.
    pub connection: LoginAttempt,
    /// What runs the logins.
    pub server: Server,
    /// How that is known.
    pub server_known: Known,
    /// The main configuration file, where it is not the usual one.
    pub config_path: Option<BytePath>,
    /// The options (`-o`) that the server was started with; they go before its files.
    pub start_options: Vec<String>,
    /// What the server itself said is in force for the account asked about (`keyword value` lines).
    pub said_by_server: Option<Vec<u8>>,
    /// When the server was started and a file of its configuration changed after that.
    pub config_newer: Option<ConfigNewer>,
    /// The accounts, in the system's order.
    pub accounts: Arc<Vec<Account>>,
    /// The groups.
    pub groups: Arc<Vec<Group>>,
    /// Homes that lie on a network file system and were not looked at.
    pub network_homes: Vec<BytePath>,
    /// Homes that lie on a network file system and were looked at; other hosts may have them too.
    pub shared_homes: Vec<BytePath>,
    /// Nodes by path.
    pub nodes: BTreeMap<BytePath, Fact<Node>>,
    /// File contents by path.
    pub bytes: BTreeMap<BytePath, Fact<Vec<u8>>>,
    /// Names by folder.
    pub names: BTreeMap<BytePath, Fact<Vec<Vec<u8>>>>,
    /// Private keys by folder.
    pub private_keys: BTreeMap<BytePath, Fact<Vec<StrayKey>>>,
    /// What cannot be done or seen there.
    pub abilities: Abilities,
    /// Whether passwords open accounts there, where one switch for all says so and shows how it stands.
    pub takes_passwords: Option<bool>,
    /// Slots by account, where keys are kept in slots and not in files.
    pub slots: BTreeMap<String, Fact<Vec<KeySlot>>>,
    /// Open sessions by account, where they could be counted.
    pub sessions: BTreeMap<String, usize>,
    /// Which keys were used when, where the logs tell.
    pub key_uses: KeyUses,
    /// What somebody leaves behind, where that was looked for; it is not kept.
    pub traces: Option<Fact<FoundTraces>>,
    /// What its clock says, where it was asked.
    pub clock: Option<HostClock>,
}

/// The clock of a host: what expires there expires by it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostClock {
    /// How many seconds it is ahead of the clock of the machine that looked, in whole minutes and 0 within one; none where nobody
    /// knows when the host said so.
    pub ahead: Option<i64>,
    /// How many seconds its time zone is ahead of UTC.
    pub zone: i64,
}

impl HostClock {
    /// What a host says, `now` in seconds since 1970, in answer to a question that was sent and answered at these moments.
    #[must_use]
    pub fn of(now: i64, zone: i64, asked: Option<(i64, i64)>) -> Self {
        let ahead = asked.map(|(sent, answered)| {
            let off = if now < sent { now.saturating_sub(sent) } else { now.saturating_sub(answered).max(0) };
            off / 60 * 60
        });
        Self { ahead, zone }
    }
}

impl Observation {
    /// The account of this name.
    #[must_use]
    pub fn account(&self, name: &str) -> Option<&Account> {
        self.accounts.iter().find(|account| account.name == name)
    }

    /// The node at a path; what was never looked at is "not reached".
    #[must_use]
    pub fn node(&self, path: &BytePath) -> Fact<&Node> {
        look_up(&self.nodes, path)
    }

    /// The content of a file.
    #[must_use]
    pub fn content(&self, path: &BytePath) -> Fact<&Vec<u8>> {
        look_up(&self.bytes, path)
    }

    /// The slots of an account.
    #[must_use]
    pub fn slots_of(&self, account: &str) -> Fact<&Vec<KeySlot>> {
        look_up(&self.slots, account)
    }

    /// The names of ports that the system knows; the usual ones where its own list was not looked at.
    #[must_use]
    pub fn services(&self) -> Services {
        match self.content(&services::PATH.into()) {
            Fact::Known(bytes) => Services::parse(bytes),
            Fact::Absent => Services::parse(b""),
            Fact::Unseen(_) => Services::default(),
        }
    }

    /// Writes down what runs the logins; what the user said goes before what was found.
    pub fn found_server(&mut self, server: Server, known: Known) {
        if !matches!(self.server_known, Known::Given(_)) {
            (self.server, self.server_known) = (server.or_version(known.version()), known);
        }
    }

    /// Whether this want has been answered, well or badly.
    #[must_use]
    pub fn answers(&self, want: &Want) -> bool {
        match &want.what {
            Wanted::System(_) => self.looked,
            Wanted::Node(path) => self.nodes.contains_key(path),
            Wanted::Bytes(path, _) => self.bytes.contains_key(path),
            Wanted::Names(path) => self.names.contains_key(path),
            Wanted::PrivateKeys(path) => self.private_keys.contains_key(path),
            Wanted::Slots(account) => self.slots.contains_key(account),
            Wanted::Traces(_) => self.traces.is_some(),
        }
    }

    /// Writes down that something could not be seen, so that it is not asked for again.
    pub fn give_up(&mut self, want: &Want, why: &Why) {
        match &want.what {
            Wanted::System(_) => self.looked = true,
            Wanted::Node(path) => drop(self.nodes.insert(path.clone(), Fact::Unseen(why.clone()))),
            Wanted::Bytes(path, _) => drop(self.bytes.insert(path.clone(), Fact::Unseen(why.clone()))),
            Wanted::Names(path) => drop(self.names.insert(path.clone(), Fact::Unseen(why.clone()))),
            Wanted::PrivateKeys(path) => drop(self.private_keys.insert(path.clone(), Fact::Unseen(why.clone()))),
            Wanted::Slots(account) => drop(self.slots.insert(account.clone(), Fact::Unseen(why.clone()))),
            Wanted::Traces(_) => self.traces = Some(Fact::Unseen(why.clone())),
        }
    }
}

fn look_up<'a, K: Ord + std::borrow::Borrow<Q>, Q: Ord + ?Sized, T>(
    map: &'a BTreeMap<K, Fact<T>>,
    name: &Q,
) -> Fact<&'a T> {
    match map.get(name) {
        Some(Fact::Known(value)) => Fact::Known(value),
        Some(Fact::Absent) => Fact::Absent,
        Some(Fact::Unseen(why)) => Fact::Unseen(why.clone()),
        None => Fact::Unseen(Why::NotReached),
    }
}

/// A path with its links followed, as the server's own `realpath` does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Resolved {
    /// Where it leads, and what is there.
    To(BytePath, Node),
    /// Nothing is at this path on the way.
    Missing(BytePath),
    /// This path on the way could not be seen.
    Unseen(BytePath, Why),
    /// The links go round in circles.
    Loop,
    /// This path has to be looked at first.
    Ask(BytePath),
}

/// Follows the links in a path, from the root down, by what was seen.
#[must_use]
pub fn resolve(path: &BytePath, seen: &Observation) -> Resolved {
    straight(path, seen).unwrap_or_else(|| walk(path, seen, |_| {}))
}

/// The same where no link and no `..` lies on the way, as nearly always: nothing is copied. `None` where one does.
fn straight(path: &BytePath, seen: &Observation) -> Option<Resolved> {
    let bytes = path.as_bytes();
    let ends = (2..bytes.len()).filter(|at| bytes[*at] == b'/').chain([bytes.len()]);
    let mut last = None;
    for end in ends {
        let part = &bytes[..end];
        if part.len() < 2 || part.ends_with(b"/..") {
            return None;
        }
        match seen.nodes.get(part) {
            Some(Fact::Known(Node { kind: NodeKind::Link(_), .. })) => return None,
            Some(Fact::Known(node)) => last = Some(node),
            None => return Some(Resolved::Ask(BytePath::new(part))),
            Some(Fact::Absent) => return Some(Resolved::Missing(BytePath::new(part))),
            Some(Fact::Unseen(why)) => return Some(Resolved::Unseen(BytePath::new(part), why.clone())),
        }
    }
    last.map(|node| Resolved::To(path.clone(), node.clone()))
}

/// Every folder and link that is passed on the way to where a path leads, that place included.
#[must_use]
pub fn passed(path: &BytePath, seen: &Observation) -> Vec<BytePath> {
    let mut paths = Vec::new();
    let _ = walk(path, seen, |path| paths.push(path.clone()));
    paths
}

/// Whether nobody but root can have laid a link that is passed on the way to a path, as far as the way was seen. Where
/// somebody else may have, root's rights must not be led along it.
#[must_use]
pub fn only_roots_links(path: &BytePath, seen: &Observation) -> bool {
    if straight(path, seen).is_some() {
        return true;
    }
    let is_link = |at: &BytePath| matches!(seen.node(at).known(), Some(Node { kind: NodeKind::Link(_), .. }));
    passed(path, seen).iter().filter(|at| is_link(at)).all(|link| is_under_root_alone(link, seen))
}

/// Whether root alone decides which file this path names: every folder on the way belongs to root and nobody else may write in
/// it, as far as the way was seen.
#[must_use]
pub fn is_under_root_alone(path: &BytePath, seen: &Observation) -> bool {
    let mut folders = std::iter::successors(path.parent(), BytePath::parent);
    folders.all(|folder| folder.as_bytes().len() < 2 || is_roots_alone(&folder, seen))
}

fn is_roots_alone(folder: &BytePath, seen: &Observation) -> bool {
    seen.node(folder).known().is_some_and(|node| node.uid == 0 && node.mode & 0o022 == 0 && !node.access_list)
}

/// Where something new at this path would really lie: the part that is there may lead over links, the rest is made below it.
/// `None` where the path leads to something that is there, or where its way could not be seen.
#[must_use]
pub fn resolve_new(path: &BytePath, seen: &Observation) -> Option<BytePath> {
    let (resolved, rest) = walk_on(path, seen, |_| {});
    let Resolved::Missing(missing) = resolved else { return None };
    let mut names = rest.iter().rev();
    names.all(|name| name != b"..").then(|| rest.iter().rev().fold(missing, |path, name| path.join(name)))
}

fn walk(path: &BytePath, seen: &Observation, pass: impl FnMut(&BytePath)) -> Resolved {
    walk_on(path, seen, pass).0
}

/// The same, and the names behind the place where it ends, the last one first.
fn walk_on(path: &BytePath, seen: &Observation, mut pass: impl FnMut(&BytePath)) -> (Resolved, Vec<Vec<u8>>) {
    let mut rest: Vec<Vec<u8>> = components(path).rev().collect();
    let mut here = BytePath::from("/");
    let mut links = 0;
    let mut last = Node { kind: NodeKind::Folder, mode: 0o755, uid: 0, gid: 0, access_list: false };
    while let Some(name) = rest.pop() {
        if name == b".." {
            here = here.parent().unwrap_or(here);
            continue;
        }
        let next = here.join(&name);
        let node = match seen.nodes.get(&next) {
            None => return (Resolved::Ask(next), rest),
            Some(Fact::Absent) => return (Resolved::Missing(next), rest),
            Some(Fact::Unseen(why)) => return (Resolved::Unseen(next, why.clone()), rest),
            Some(Fact::Known(node)) => node,
        };
        pass(&next);
        if let NodeKind::Link(target) = &node.kind {
            links += 1;
            if links > LINKS_MAX {
                return (Resolved::Loop, rest);
            }
            if target.first() == Some(&b'/') {
                here = BytePath::from("/");
            }
            rest.extend(components(&BytePath::new(target)).rev());
        } else {
            last = node.clone();
            here = next;
        }
    }
    // After `..` the node of the folder itself counts; the root is taken as safe.
    if let Some(Fact::Known(node)) = seen.nodes.get(&here) {
        last = node.clone();
    }
    (Resolved::To(here, last), rest)
}

fn components(path: &BytePath) -> impl DoubleEndedIterator<Item = Vec<u8>> {
    let parts = path.as_bytes().split(|byte| *byte == b'/').filter(|part| !part.is_empty());
    parts.map(<[u8]>::to_vec).collect::<Vec<_>>().into_iter()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tree(nodes: &[(&str, NodeKind)]) -> Observation {
        let mut seen = Observation::default();
        for (path, kind) in nodes {
            let node = Node { kind: kind.clone(), mode: 0o755, uid: 0, gid: 0, access_list: false };
            seen.nodes.insert((*path).into(), Fact::Known(node));
        }
        seen
    }

    #[test]
    fn links_are_followed_inside_the_tree() {
        let link = |to: &str| NodeKind::Link(to.as_bytes().to_vec());
        let seen = tree(&[
            ("/home", link("/srv/homes")),
            ("/srv", NodeKind::Folder),
            ("/srv/homes", NodeKind::Folder),
            ("/srv/homes/edda", link("../people/edda")),
            ("/srv/people", NodeKind::Folder),
            ("/srv/people/edda", NodeKind::Folder),
        ]);
        let Resolved::To(path, _) = resolve(&"/home/edda".into(), &seen) else { panic!() };
        assert_eq!(path.to_string(), "/srv/people/edda");
        assert_eq!(resolve(&"/home/edda/.ssh".into(), &seen), Resolved::Ask("/srv/people/edda/.ssh".into()));
    }

    #[test]
    fn what_is_new_lies_behind_the_links_on_its_way() {
        let link = NodeKind::Link(b"/srv/edda".to_vec());
        let mut seen = tree(&[
            ("/home", NodeKind::Folder),
            ("/home/edda", link),
            ("/srv", NodeKind::Folder),
            ("/srv/edda", NodeKind::Folder),
        ]);
        seen.nodes.insert("/srv/edda/.ssh".into(), Fact::Absent);
        let new = |path: &str| resolve_new(&path.into(), &seen).map(|path| path.to_string());
        assert_eq!(new("/home/edda/.ssh/authorized_keys").as_deref(), Some("/srv/edda/.ssh/authorized_keys"));
        assert_eq!(new("/home/edda/.ssh/../x"), None);
        assert_eq!([new("/home/edda"), new("/home/sten/x")], [None, None]);
    }

    #[test]
    fn what_is_passed_on_the_way_is_told() {
        let link = NodeKind::Link(b"/srv/keys".to_vec());
        let seen = tree(&[("/home", NodeKind::Folder), ("/home/edda", link), ("/srv", NodeKind::Folder)]);
        let paths: Vec<String> = passed(&"/home/edda".into(), &seen).iter().map(ToString::to_string).collect();
        assert_eq!(paths, ["/home", "/home/edda", "/srv"]);
    }

    #[test]
    fn the_short_way_says_what_the_long_one_says() {
        let mut seen = tree(&[
            ("/home", NodeKind::Folder),
            ("/home/edda", NodeKind::Folder),
            ("/home/edda/.ssh", NodeKind::File),
            ("/srv", NodeKind::Link(b"home".to_vec())),
        ]);
        seen.nodes.insert("/gone".into(), Fact::Absent);
        seen.nodes.insert("/shut".into(), Fact::Unseen(Why::Permission));
        for path in [
            "/home/edda/.ssh",
            "/home/edda/x",
            "/home",
            "/",
            "/gone/a",
            "/shut/a",
            "/srv/edda",
            "/home/../home",
            "/new",
        ] {
            let path = path.into();
            assert_eq!(resolve(&path, &seen), walk(&path, &seen, |_| {}), "{path}");
        }
    }

    #[test]
    fn link_loops_end() {
        let seen = tree(&[("/a", NodeKind::Link(b"/b".to_vec())), ("/b", NodeKind::Link(b"a".to_vec()))]);
        assert_eq!(resolve(&"/a".into(), &seen), Resolved::Loop);
    }
}
