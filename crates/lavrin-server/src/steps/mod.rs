//! Steps: the changes that would bring an account to what was asked. Printing them changes nothing.

mod apply;
mod bring;
mod change;
mod effect;
mod end;
mod guard;
mod install;
mod keep_out;
mod keys_only;
mod make_account;
mod mend;
mod modes;
mod remove;
mod restore;
mod revoke;
mod slots;

use crate::abilities::Ability;
use crate::access_rules::{FileAccess, Obstacle, ObstacleKind, access};
use crate::account::Account;
use crate::device::LimitBroken;
use crate::fs::{BytePath, Fact, Node, NodeKind, Why};
use crate::login::{self, KeySource, Place};
use crate::server_config::ConfigFault;
use crate::survey::{Resolved, is_under_root_alone, resolve, resolve_new};
use crate::system::System;
pub use bring::{Edits, bring};
pub use bring::{held, modes, targets};
pub use change::{
    AccountChange, Change, ChangeSubject, Deed, FileChange, KeyChange, ServerChange, Was, entries_say_the_same,
};
pub use effect::Effect;
pub use end::{end_account, end_sessions};
pub use guard::{Around, Guarded, Kept, LockOut, Login, Whose, guard, guard_around};
pub use install::{Installation, install};
pub use keep_out::keep_out;
pub use keys_only::{
    KeysOnly, OnlyPassword, OpenSetting, RootLogin, SWITCH, SettingLine, keys_only, keys_only_wants, open_to_passwords,
};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::policy::Policy;
use lavrin_keys::keysfile::KeysFile;
pub use make_account::{NewAccount, gives_root, make_account, make_account_wants};
pub use mend::{Left, LeftWhy, Mending, Withheld, WithheldWhat, mend};
pub use remove::{Removal, remove};
pub use restore::restore;
pub use revoke::{is_revoked, revoke};

/// Numeric owner and group.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OwnerIds {
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
}

/// An entry that the server has ignored until now and that the steps bring to life.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Revived {
    /// Where the machine is.
    pub place: Place,
    /// Its key.
    pub fingerprint: Fingerprint,
    /// Its comment.
    pub comment: Vec<u8>,
}

/// What would be done for one account.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Steps {
    /// The account.
    pub account: Account,
    /// The key it is about, where it is about one.
    pub fingerprint: Option<Fingerprint>,
    /// The changes, in order. Empty: all is as asked.
    pub changes: Vec<Change>,
    /// Entries that come to life.
    pub revived: Vec<Revived>,
    /// Places that give keys and are not covered: a command, certificates.
    pub not_covered: Vec<NotCovered>,
}

impl Steps {
    /// No steps yet, for this account and perhaps about this key.
    fn blank(account: &Account, fingerprint: Option<Fingerprint>) -> Self {
        Self {
            account: account.clone(),
            fingerprint,
            changes: Vec::new(),
            revived: Vec::new(),
            not_covered: Vec::new(),
        }
    }

    /// No steps yet, with what they will not cover.
    fn none(account: &Account, fingerprint: Option<Fingerprint>, seen: &System<'_>) -> Self {
        Self { not_covered: not_covered(account, seen), ..Self::blank(account, fingerprint) }
    }
}

/// Keys that come from somewhere else than the account's files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotCovered {
    /// `AuthorizedKeysCommand`.
    KeysCommand(String),
    /// `TrustedUserCAKeys`.
    Authorities(String),
    /// The settings could not be read, so the usual files were taken.
    SettingsUnseen(BytePath),
}

/// Why no steps can be told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NoSteps {
    /// There is no such account.
    NoSuchAccount,
    /// The server reads no key file for this account.
    NoKeyFileNamed,
    /// The home is not there.
    HomeMissing(BytePath),
    /// The home lies on a network file system and nobody asked to look there.
    HomeOnNetwork(BytePath),
    /// The home belongs to somebody else.
    HomeOwner {
        /// The home.
        path: BytePath,
        /// Its owner.
        found: u32,
        /// Who should own it.
        wanted: u32,
    },
    /// Somebody else owns it, and only root may change that.
    NeedsRoot {
        /// The path.
        path: BytePath,
        /// Its owner.
        found: u32,
        /// Who should own it.
        wanted: u32,
    },
    /// Something other than a file or folder is in the way.
    WrongKind(BytePath),
    /// The file is reached over a link that leads out of the account's home.
    LinkLeadsOut {
        /// The file named.
        path: BytePath,
        /// Where it leads.
        to: BytePath,
    },
    /// Links in a circle.
    LinkLoop(BytePath),
    /// The server's list of revoked keys is kept in its own binary form.
    BinaryList(BytePath),
    /// Somebody has changed it since the change that should be taken back.
    ChangedSince(ChangeSubject),
    /// Setting modes right would bring entries to life that nobody has granted.
    WouldRevive(Vec<Revived>),
    /// No system takes this name or path for an account or a group.
    OddName(String),
    /// There is no such group, and none is made.
    NoSuchGroup(String),
    /// The server's list of users or groups would keep the account out.
    KeptOut {
        /// The account.
        account: String,
        /// The keyword.
        keyword: &'static str,
        /// Its list.
        list: Vec<String>,
    },
    /// Only root can do this.
    OnlyRoot,
    /// Others than root may change this file, or what its name means.
    OthersMayWrite(BytePath),
    /// The server was started with an option that says otherwise, and goes before its files.
    StartOption(String),
    /// The server has its settings from the switches that it is started with.
    StartSwitches,
    /// Dropbear asks for a password behind each key, and does not start with that and without passwords.
    PasswordBehindKey,
    /// The server would not start with its own configuration.
    BrokenSettings(ConfigFault),
    /// What a setting says cannot be told well enough to change it.
    SettingNotUnderstood {
        /// The file.
        path: BytePath,
        /// The line in it.
        line: usize,
    },
    /// Several accounts read this file, so a change for one of them would be one for the others.
    SharedFile(BytePath),
    /// It could not be read, so it cannot be changed safely.
    Unread(KeySource, Why),
    /// There is nothing of that kind on such a host.
    NotApplicable(Ability),
    /// Somebody who may enter has no key that the host takes.
    NoKeyTaken {
        /// Who.
        who: String,
        /// What it takes.
        limit: LimitBroken,
    },
}

/// What one key file is like before the change.
pub struct FileTarget {
    /// As the settings name it.
    pub named: BytePath,
    /// Where it really is, or would be.
    pub real: BytePath,
    /// What is there.
    pub node: Option<Node>,
    /// What it holds.
    pub bytes: Option<Vec<u8>>,
}

impl FileTarget {
    pub(crate) fn document(&self) -> KeysFile {
        KeysFile::parse(self.bytes.as_deref().unwrap_or_default())
    }
}

/// Looks up a key file: what is there, or that nothing is and the folder it would lie in.
fn target(named: &BytePath, account: &Account, seen: &System<'_>) -> Result<FileTarget, NoSteps> {
    match resolve(named, seen) {
        Resolved::To(real, node) => {
            if node.kind != NodeKind::File {
                return Err(NoSteps::WrongKind(real));
            }
            if named.is_within(&account.home) && !within_home(&real, account, seen) {
                return Err(NoSteps::LinkLeadsOut { path: named.clone(), to: real });
            }
            match seen.content(&real) {
                Fact::Known(bytes) => {
                    Ok(FileTarget { named: named.clone(), real, node: Some(node), bytes: Some(bytes.clone()) })
                }
                // A node without content: what was seen does not fit together, so nothing is built on it.
                Fact::Absent => Err(NoSteps::Unread(real.into(), Why::NotReached)),
                Fact::Unseen(why) => Err(NoSteps::Unread(real.into(), why)),
            }
        }
        Resolved::Missing(missing) => {
            let real = resolve_new(named, seen).ok_or(NoSteps::Unread(missing.into(), Why::NotReached))?;
            if named.is_within(&account.home) && !within_home(&real, account, seen) {
                return Err(NoSteps::LinkLeadsOut { path: named.clone(), to: real });
            }
            Ok(FileTarget { named: named.clone(), real, node: None, bytes: None })
        }
        Resolved::Unseen(path, why) => Err(NoSteps::Unread(path.into(), why)),
        Resolved::Loop => Err(NoSteps::LinkLoop(named.clone())),
        Resolved::Ask(path) => Err(NoSteps::Unread(path.into(), Why::NotReached)),
    }
}

/// Owner and group that a file can have once it has been replaced with this mode. Where root alone decides what a name means,
/// root writes, and keeps both. Elsewhere the account writes with its own rights, so the file becomes the account's; a group that
/// the account is not in is kept where the file was its own and the group has any rights, and the step fails where the system
/// does not allow that.
fn owner_after(path: &BytePath, node: &Node, mode: u32, account: &Account, seen: &System<'_>) -> OwnerIds {
    let by_account = seen.viewer != Some(0) || !is_under_root_alone(path, seen);
    if !by_account || account.is_root() {
        return OwnerIds { uid: node.uid, gid: node.gid };
    }
    let is_in = |group: &crate::account::Group| group.gid == node.gid && group.members.contains(&account.name);
    let counts = node.uid == account.uid && mode & 0o070 != 0;
    let may_keep = node.gid == account.gid || counts || seen.groups.iter().any(is_in);
    OwnerIds { uid: account.uid, gid: if may_keep { node.gid } else { account.gid } }
}

/// Whether changing modes and owners takes it out of the way.
fn can_be_mended(obstacle: &Obstacle) -> bool {
    matches!(
        obstacle.kind,
        ObstacleKind::TooOpen { .. } | ObstacleKind::TooClosed { .. } | ObstacleKind::WrongOwner { .. }
    )
}

fn within_home(path: &BytePath, account: &Account, seen: &System<'_>) -> bool {
    let home = match resolve(&account.home, seen) {
        Resolved::To(home, _) => home,
        _ => account.home.clone(),
    };
    path.is_within(&home)
}

/// The home as it really is, or why nothing can be done in it.
fn check_home(account: &Account, seen: &System<'_>) -> Result<(BytePath, Node), NoSteps> {
    if seen.network_homes.contains(&account.home) {
        return Err(NoSteps::HomeOnNetwork(account.home.clone()));
    }
    match resolve(&account.home, seen) {
        Resolved::To(path, node) if node.kind != NodeKind::Folder => Err(NoSteps::WrongKind(path)),
        Resolved::To(path, node) if node.uid != 0 && node.uid != account.uid => {
            Err(NoSteps::HomeOwner { path, found: node.uid, wanted: account.uid })
        }
        Resolved::To(path, node) => Ok((path, node)),
        Resolved::Missing(_) => Err(NoSteps::HomeMissing(account.home.clone())),
        Resolved::Unseen(path, why) => Err(NoSteps::Unread(path.into(), why)),
        Resolved::Loop => Err(NoSteps::LinkLoop(account.home.clone())),
        Resolved::Ask(path) => Err(NoSteps::Unread(path.into(), Why::NotReached)),
    }
}

fn not_covered(account: &Account, seen: &System<'_>) -> Vec<NotCovered> {
    if !seen.abilities.has(Ability::Settings) || seen.server.is_dropbear() {
        return Vec::new();
    }
    let settings = seen.settings(account);
    let said = |keyword: &str| settings.get(keyword).map(|setting| setting.words.join(" "));
    let mut list = Vec::new();
    list.extend(said("authorizedkeyscommand").map(NotCovered::KeysCommand));
    list.extend(said("trustedusercakeys").map(NotCovered::Authorities));
    list.extend(settings.unseen.first().cloned().map(NotCovered::SettingsUnseen));
    list
}

#[cfg(test)]
mod tests;
