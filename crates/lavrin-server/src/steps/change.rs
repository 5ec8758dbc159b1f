//! A change of a host: of a file, or of a key in a slot. Each knows what takes it back, what it leaves behind and what it means.

use super::{NewAccount, OwnerIds};
use crate::account::{Aging, Group};
use crate::fs::{BytePath, Fact, Node, NodeKind};
use crate::survey::{KeySlot, Observation};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::keysfile::{Content, Dialect, read_all};
use lavrin_keys::repair::LineRepair;

/// One change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// Of a file or folder.
    File(FileChange),
    /// Of a key in a slot of a device.
    Key(KeyChange),
    /// Of the server.
    Server(ServerChange),
    /// Of an account.
    Account(AccountChange),
}

impl Change {
    /// The change that takes this one back.
    #[must_use]
    pub fn inverse(&self) -> Self {
        match self {
            Self::File(file) => Self::File(file.inverse()),
            Self::Key(key) => Self::Key(key.inverse()),
            Self::Server(server) => Self::Server(server.inverse()),
            Self::Account(account) => Self::Account(account.inverse()),
        }
    }

    /// Whether what was seen is what the change leaves behind.
    #[must_use]
    pub fn holds(&self, seen: &Observation) -> bool {
        match self {
            Self::File(file) => file.holds(seen),
            Self::Key(key) => key.holds(seen),
            Self::Server(server) => server.takes_passwords().is_none_or(|takes| seen.takes_passwords == Some(takes)),
            Self::Account(account) => account.holds(seen),
        }
    }

    /// Whether a look shows whether it was made. What a server reads again it may have read before.
    #[must_use]
    pub fn leaves_traces(&self) -> bool {
        self.can_be_taken_back() && !matches!(self, Self::Server(ServerChange::Reload))
    }

    /// Whether there is a way back.
    #[must_use]
    pub fn can_be_taken_back(&self) -> bool {
        !matches!(self, Self::Account(AccountChange::EndSession { .. }))
    }

    /// Whether what was seen is what was there before the change.
    #[must_use]
    pub fn is_undone(&self, seen: &Observation) -> bool {
        match self {
            Self::File(file) => file.is_undone(seen),
            Self::Key(key) => key.inverse().holds(seen),
            Self::Server(server) => server.takes_passwords().is_none_or(|takes| seen.takes_passwords == Some(!takes)),
            Self::Account(account) => account.is_undone(seen),
        }
    }

    /// Whether what it is about was looked at.
    #[must_use]
    pub fn is_seen(&self, seen: &Observation) -> bool {
        match self {
            Self::File(file) => {
                let holds_bytes = matches!(file, FileChange::WriteFile { .. } | FileChange::RemoveFile { .. });
                let (node, content) = (seen.node(file.path()), seen.content(file.path()));
                // What is not there holds nothing.
                node == Fact::Absent || !(node.is_unseen() || holds_bytes && content.is_unseen())
            }
            Self::Key(key) => !seen.slots_of(&key.account).is_unseen(),
            Self::Server(server) => server.takes_passwords().is_none() || seen.takes_passwords.is_some(),
            Self::Account(AccountChange::Expire { account, .. }) => {
                seen.account(account).is_some_and(|account| account.aging.is_some())
            }
            Self::Account(_) => seen.looked,
        }
    }

    /// What it is about.
    #[must_use]
    pub fn subject(&self) -> ChangeSubject {
        match self {
            Self::File(file) => ChangeSubject::Path(file.path().clone()),
            Self::Key(key) => ChangeSubject::Slot { account: key.account.clone(), slot: key.slot.clone() },
            Self::Server(_) => ChangeSubject::Server,
            Self::Account(account) => account.subject(),
        }
    }

    /// Whether it is about the same thing as this one, so that the later of them says how that is left. Two keys that a device
    /// finds slots for are two things.
    #[must_use]
    pub fn is_about_what(&self, other: &Self) -> bool {
        match (self, other) {
            (Self::Key(KeyChange { slot: None, .. }), _) => false,
            _ => self.subject() == other.subject(),
        }
    }

    /// The file or folder that it is about, where it is about one.
    #[must_use]
    pub fn path(&self) -> Option<&BytePath> {
        self.as_file().map(FileChange::path)
    }

    /// Whether it writes this file.
    #[must_use]
    pub fn writes(&self, file: &BytePath) -> bool {
        matches!(self, Self::File(FileChange::WriteFile { path, .. }) if path == file)
    }

    /// Whether it writes settings of the server.
    #[must_use]
    pub fn is_of_settings(&self) -> bool {
        matches!(self, Self::File(FileChange::WriteFile { deed: Deed::Settings { .. }, .. }))
    }

    /// The change of a file, where it is one.
    #[must_use]
    pub fn as_file(&self) -> Option<&FileChange> {
        match self {
            Self::File(file) => Some(file),
            Self::Key(_) | Self::Server(_) | Self::Account(_) => None,
        }
    }
}

impl From<FileChange> for Change {
    fn from(file: FileChange) -> Self {
        Self::File(file)
    }
}

impl From<ServerChange> for Change {
    fn from(server: ServerChange) -> Self {
        Self::Server(server)
    }
}

impl From<AccountChange> for Change {
    fn from(account: AccountChange) -> Self {
        Self::Account(account)
    }
}

impl From<KeyChange> for Change {
    fn from(key: KeyChange) -> Self {
        Self::Key(key)
    }
}

/// What a change is about.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChangeSubject {
    /// A file or folder.
    Path(BytePath),
    /// A slot for keys; which one of the account's, where that is known.
    Slot {
        /// The account.
        account: String,
        /// The slot.
        slot: Option<String>,
    },
    /// The server.
    Server,
    /// An account.
    Account(String),
    /// A session of an account.
    Session {
        /// The account.
        account: String,
        /// The server's process for it.
        pid: u32,
    },
    /// An account as a member of a group.
    Member {
        /// The account.
        account: String,
        /// The group.
        group: String,
    },
}

impl From<BytePath> for ChangeSubject {
    fn from(path: BytePath) -> Self {
        Self::Path(path)
    }
}

/// The path, or `account slot name`.
impl std::fmt::Display for ChangeSubject {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Path(path) => write!(out, "{path}"),
            Self::Slot { account, slot: Some(slot) } => write!(out, "{account} slot {slot}"),
            Self::Slot { account, slot: None } => write!(out, "{account} slot"),
            Self::Server => out.write_str("server"),
            Self::Account(account) => write!(out, "{account}"),
            Self::Session { account, pid } => write!(out, "session {pid} of {account}"),
            Self::Member { account, group } => write!(out, "{account} in the group {group}"),
        }
    }
}

/// What writing a file means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Deed {
    /// Entries of a key file come, go or change.
    Entries {
        /// Lines that come, as they are counted afterwards.
        come: Vec<usize>,
        /// Lines that go, as they are counted before.
        go: Vec<usize>,
        /// Lines whose options change, as they are counted before.
        limit: Vec<usize>,
    },
    /// Lines of a key file are repaired.
    Repair {
        /// The repairs.
        lines: Vec<LineRepair>,
        /// How many lines lose the CR of their CR LF.
        line_ends: usize,
    },
    /// A copy with another owner takes the place of the file; its content stays.
    Copy,
    /// Keys come into the server's own list of revoked keys: then the file that is written opens nothing.
    Revoke(Vec<Fingerprint>),
    /// Settings of the server come, go or change.
    Settings {
        /// Lines that come, as they are counted afterwards.
        come: Vec<usize>,
        /// Lines that go, as they are counted before.
        go: Vec<usize>,
    },
    /// Something that was done before is taken back.
    PutBack,
    /// A version that kept no deeds did it.
    Unsaid,
}

/// A change of the server.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ServerChange {
    /// A switch lets passwords in, or no more.
    Passwords {
        /// Whether it lets them in.
        on: bool,
    },
    /// It reads its configuration again, once its own test mode has taken it. Taken back by doing it again.
    Reload,
}

impl ServerChange {
    /// The change that takes this one back.
    #[must_use]
    pub fn inverse(self) -> Self {
        match self {
            Self::Reload => Self::Reload,
            Self::Passwords { on } => Self::Passwords { on: !on },
        }
    }

    /// Whether passwords open accounts afterwards; `None`: it is not about that.
    #[must_use]
    pub fn takes_passwords(self) -> Option<bool> {
        match self {
            Self::Reload => None,
            Self::Passwords { on } => Some(on),
        }
    }
}

/// A change of an account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AccountChange {
    /// The day on which it ends (`shadow(5)`), in days since 1970; none: it does not end.
    Expire {
        /// The account.
        account: String,
        /// The day found.
        from: Option<i64>,
        /// The day wanted.
        to: Option<i64>,
    },
    /// It is made, without a password. Nothing is ever deleted: what takes it back ends it.
    Make(NewAccount),
    /// It comes into a group, or out of it.
    Join {
        /// The account.
        account: String,
        /// The group.
        group: String,
        /// Whether it is to be in it.
        is_member: bool,
    },
    /// A session of it is ended. Nothing takes that back.
    EndSession {
        /// The account.
        account: String,
        /// The server's process for it.
        pid: u32,
        /// When that was started, in seconds since 1970.
        started: i64,
    },
}

/// The day on which an account ends that was made and is taken back: none on which anybody came in.
const ENDED_BEFORE_ALL: i64 = 1;

impl AccountChange {
    /// The change that takes this one back.
    #[must_use]
    pub fn inverse(&self) -> Self {
        match self.clone() {
            Self::Expire { account, from, to } => Self::Expire { account, from: to, to: from },
            Self::Make(new) => Self::Expire { account: new.name, from: None, to: Some(ENDED_BEFORE_ALL) },
            Self::Join { account, group, is_member } => Self::Join { account, group, is_member: !is_member },
            gone @ Self::EndSession { .. } => gone,
        }
    }

    fn subject(&self) -> ChangeSubject {
        match self {
            Self::Expire { account, .. } => ChangeSubject::Account(account.clone()),
            Self::EndSession { account, pid, .. } => ChangeSubject::Session { account: account.clone(), pid: *pid },
            Self::Make(new) => ChangeSubject::Account(new.name.clone()),
            Self::Join { account, group, .. } => {
                ChangeSubject::Member { account: account.clone(), group: group.clone() }
            }
        }
    }

    /// Whether what was seen is what was there before the change.
    fn is_undone(&self, seen: &Observation) -> bool {
        match self {
            Self::Make(new) if seen.account(&new.name).is_none() => true,
            Self::Join { account, .. } if seen.account(account).is_none() => true,
            _ => self.inverse().holds(seen),
        }
    }

    /// Whether what was seen is what the change leaves behind.
    #[must_use]
    pub fn holds(&self, seen: &Observation) -> bool {
        match self {
            Self::Expire { account, to, .. } => {
                let aging = seen.account(account).and_then(|account| account.aging);
                matches!(aging, Some(Aging::Line { expires, .. }) if expires == *to)
            }
            Self::Make(new) => seen.account(&new.name).is_some(),
            Self::EndSession { .. } => true,
            Self::Join { account, group, is_member } => {
                let is_it = |own: &&Group| own.name == *group;
                let own = seen.groups.iter().find(is_it).map(|own| own.members.contains(account));
                own == Some(*is_member)
            }
        }
    }
}

/// A change of a key in a slot. Contents are entries as they stand on a line of a key file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyChange {
    /// The account.
    pub account: String,
    /// The slot; `None`: the device chooses one.
    pub slot: Option<String>,
    /// What has to be there still; `None`: nothing.
    pub old: Option<Vec<u8>>,
    /// What is to be there; `None`: nothing.
    pub new: Option<Vec<u8>>,
}

impl KeyChange {
    /// The change that takes this one back.
    #[must_use]
    pub fn inverse(&self) -> Self {
        Self { old: self.new.clone(), new: self.old.clone(), ..self.clone() }
    }

    /// Whether what was seen is what the change leaves behind: what comes is there, and what goes is not.
    #[must_use]
    pub fn holds(&self, seen: &Observation) -> bool {
        let Fact::Known(slots) = seen.slots_of(&self.account) else { return false };
        let own = |slot: &&KeySlot| self.slot.as_ref().is_none_or(|name| *name == slot.name);
        let is_left = |entry: &Vec<u8>| slots.iter().filter(own).any(|slot| slot.entry == *entry);
        // A device may rename the slot and drop the comment.
        let is_there = |entry: &Vec<u8>| slots.iter().any(|slot| entries_say_the_same(&slot.entry, entry));
        self.new.as_ref().is_none_or(is_there) && !self.old.as_ref().is_some_and(is_left)
    }
}

/// Whether two entries hold the same key with the same options; a device may leave the comment away.
#[must_use]
pub fn entries_say_the_same(one: &[u8], other: &[u8]) -> bool {
    let read = |entry: &[u8]| read_all(entry, None, &Dialect::default()).into_iter().next().map(|line| line.content);
    match (read(one), read(other)) {
        (Some(Content::Entry(one)), Some(Content::Entry(other))) => {
            one.fingerprint == other.fingerprint && one.options.says_the_same(&other.options)
        }
        _ => one == other,
    }
}

/// Mode and owner of a file before it is replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Was {
    /// Its permission bits.
    pub mode: u32,
    /// Its owner.
    pub owner: OwnerIds,
}

impl Was {
    /// Those of a file that is there, where writing it gives it others.
    pub(super) fn of(node: Option<&Node>, mode: u32, owner: OwnerIds) -> Option<Self> {
        let was = node.map(|node| Self { mode: node.mode, owner: OwnerIds { uid: node.uid, gid: node.gid } });
        was.filter(|was| *was != Self { mode, owner })
    }
}

/// A change of a file or folder. Paths are real ones: no link is on the way, or the step is refused when it is carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileChange {
    /// Make a folder.
    MakeFolder {
        /// Where.
        path: BytePath,
        /// Its permission bits.
        mode: u32,
        /// Its owner.
        owner: OwnerIds,
    },
    /// Remove an empty folder; only ever to take back [`FileChange::MakeFolder`].
    RemoveFolder {
        /// Where.
        path: BytePath,
        /// Its permission bits.
        mode: u32,
        /// Its owner.
        owner: OwnerIds,
    },
    /// Set permission bits.
    SetMode {
        /// Of what.
        path: BytePath,
        /// Bits found.
        from: u32,
        /// Bits wanted.
        to: u32,
    },
    /// Set owner and group.
    SetOwner {
        /// Of what.
        path: BytePath,
        /// Found.
        from: OwnerIds,
        /// Wanted.
        to: OwnerIds,
    },
    /// Put a file in place of the one that was read, or where there was none.
    WriteFile {
        /// Where.
        path: BytePath,
        /// What has to be there still; `None`: nothing.
        old: Option<Vec<u8>>,
        /// What is to be there.
        new: Vec<u8>,
        /// Its permission bits.
        mode: u32,
        /// Its owner.
        owner: OwnerIds,
        /// What the file in its place has just before; `None`: the same, or there is none.
        was: Option<Was>,
        /// What that means.
        deed: Deed,
    },
    /// Remove a file; only ever to take back [`FileChange::WriteFile`] where there was none.
    RemoveFile {
        /// Where.
        path: BytePath,
        /// What has to be there still.
        old: Vec<u8>,
        /// Its permission bits.
        mode: u32,
        /// Its owner.
        owner: OwnerIds,
    },
}

impl FileChange {
    /// The change that takes this one back.
    #[must_use]
    pub fn inverse(&self) -> Self {
        match self.clone() {
            Self::MakeFolder { path, mode, owner } => Self::RemoveFolder { path, mode, owner },
            Self::RemoveFolder { path, mode, owner } => Self::MakeFolder { path, mode, owner },
            Self::SetMode { path, from, to } => Self::SetMode { path, from: to, to: from },
            Self::SetOwner { path, from, to } => Self::SetOwner { path, from: to, to: from },
            Self::WriteFile { path, old: Some(old), new, mode, owner, was, .. } => {
                let now = was.map(|_| Was { mode, owner });
                let Was { mode, owner } = was.unwrap_or(Was { mode, owner });
                Self::WriteFile { path, old: Some(new), new: old, mode, owner, was: now, deed: Deed::PutBack }
            }
            Self::WriteFile { path, old: None, new, mode, owner, .. } => {
                Self::RemoveFile { path, old: new, mode, owner }
            }
            Self::RemoveFile { path, old, mode, owner } => {
                Self::WriteFile { path, old: None, new: old, mode, owner, was: None, deed: Deed::PutBack }
            }
        }
    }

    /// Whether what was seen is what the change leaves behind.
    #[must_use]
    pub fn holds(&self, seen: &Observation) -> bool {
        let node = seen.node(self.path());
        let is = |mode: u32, owner: &OwnerIds| {
            node.known().is_some_and(|node| node.mode == mode && node.uid == owner.uid && node.gid == owner.gid)
        };
        match self {
            Self::MakeFolder { mode, owner, .. } => is(*mode, owner),
            Self::RemoveFolder { .. } | Self::RemoveFile { .. } => node == Fact::Absent,
            Self::SetMode { to, .. } => node.known().is_some_and(|node| node.mode == *to),
            Self::SetOwner { to, .. } => node.known().is_some_and(|node| node.uid == to.uid && node.gid == to.gid),
            Self::WriteFile { path, new, mode, owner, .. } => {
                is(*mode, owner) && seen.content(path).into_known() == Some(new)
            }
        }
    }

    /// Whether what was seen is what was there before the change.
    #[must_use]
    pub fn is_undone(&self, seen: &Observation) -> bool {
        let node = seen.node(self.path());
        match self {
            Self::MakeFolder { .. } | Self::WriteFile { old: None, .. } => node == Fact::Absent,
            Self::RemoveFolder { .. } => node.known().is_some_and(|node| node.kind == NodeKind::Folder),
            Self::SetMode { from, .. } => node.known().is_some_and(|node| node.mode == *from),
            Self::SetOwner { from, .. } => {
                node.known().is_some_and(|node| node.uid == from.uid && node.gid == from.gid)
            }
            Self::WriteFile { path, old: Some(old), .. } | Self::RemoveFile { path, old, .. } => {
                seen.content(path).into_known() == Some(old)
            }
        }
    }

    /// The path it is about.
    #[must_use]
    pub fn path(&self) -> &BytePath {
        match self {
            Self::MakeFolder { path, .. }
            | Self::RemoveFolder { path, .. }
            | Self::SetMode { path, .. }
            | Self::SetOwner { path, .. }
            | Self::WriteFile { path, .. }
            | Self::RemoveFile { path, .. } => path,
        }
    }
}

#[cfg(test)]
mod tests;
