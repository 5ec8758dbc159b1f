//! A change of a host: of a file, or of a key in a slot. Each knows what takes it back, what it leaves behind and what it means.

mod file;

use super::NewAccount;
use crate::account::{Aging, Group};
use crate::fs::{BytePath, Fact};
use crate::survey::{KeySlot, Observation};
pub use file::{Deed, FileChange, Was};
use lavrin_keys::keysfile::{Content, Dialect, read_all};

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

#[cfg(test)]
mod tests;
