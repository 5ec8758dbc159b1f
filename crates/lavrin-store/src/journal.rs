//! The journal: one JSON object a line, only ever appended to.

use crate::{State, StoreFault, private};
use lavrin_keys::key::Fingerprint;
use lavrin_server::fs::BytePath;
use lavrin_server::steps::{
    AccountChange, Change, Deed, FileChange, KeyChange, NewAccount, OwnerIds, ServerChange, Was,
};
use serde::{Deserialize, Serialize};
use std::fs::OpenOptions;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;

/// One line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct JournalEntry {
    /// Ties the outcome to its intent.
    pub id: String,
    /// When, in UTC (RFC 3339).
    pub time: String,
    /// The commit of the register from which it was done, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub register: Option<String>,
    /// What happened.
    #[serde(flatten)]
    pub event: Event,
}

impl JournalEntry {
    /// A line about something that happens now.
    #[must_use]
    pub fn new(id: impl Into<String>, time: impl Into<String>, event: Event) -> Self {
        Self { id: id.into(), time: time.into(), register: None, event }
    }
}

/// What a line says.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A change is about to be made.
    Intent {
        /// The command.
        command: String,
        /// The host, or the tree.
        place: String,
        /// The account it is about.
        account: String,
        /// The login used.
        login: Option<String>,
        /// The key, by its fingerprint, where it is about one.
        key: Option<String>,
        /// Each file that is replaced: its path, and the name of its backup (none where there was no file).
        files: Vec<(String, Option<String>)>,
        /// Why, in the user's words.
        reason: Option<String>,
        /// What ties the changes of one command together.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        run: Option<String>,
        /// Keys that come, by their fingerprints.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        came: Vec<String>,
        /// Keys that go.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        gone: Vec<String>,
        /// The changes themselves, so that they can be taken back.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        changes: Vec<KeptChange>,
    },
    /// Something was done with a kept key; it stands alone.
    Kept {
        /// What.
        deed: KeptKeyDeed,
        /// The account that it opens.
        account: String,
        /// The host.
        host: String,
        /// Which version.
        version: u32,
        /// The key, by its fingerprint.
        key: String,
        /// Whom it concerns, by the register: to whom it was handed out, for whom it was sealed.
        people: Vec<String>,
        /// Why, in the user's words.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        reason: Option<String>,
    },
    /// How it ended.
    Outcome {
        /// In one word.
        outcome: ChangeOutcome,
        /// What was proven, or what went wrong.
        detail: String,
    },
}

/// What was done with a kept key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeptKeyDeed {
    /// It was made and sealed.
    Made,
    /// It came from elsewhere and was sealed.
    TakenIn,
    /// It was sealed again, for others than before.
    SealedAgain,
    /// Its private half left the seal.
    HandedOut,
    /// It opened the account.
    Proven,
    /// The next version took its place, and its private half was removed.
    Retired,
}

/// A change as it is kept: contents stand apart from it, each under its name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "change", rename_all = "kebab-case")]
pub enum KeptChange {
    /// A folder that was made.
    MakeFolder {
        /// Where.
        path: BytePath,
        /// Its permission bits.
        mode: u32,
        /// Owner and group.
        owner: (u32, u32),
    },
    /// An empty folder that was removed.
    RemoveFolder {
        /// Where.
        path: BytePath,
        /// Its permission bits.
        mode: u32,
        /// Owner and group.
        owner: (u32, u32),
    },
    /// Permission bits.
    SetMode {
        /// Of what.
        path: BytePath,
        /// Before.
        from: u32,
        /// After.
        to: u32,
    },
    /// Owner and group.
    SetOwner {
        /// Of what.
        path: BytePath,
        /// Before.
        from: (u32, u32),
        /// After.
        to: (u32, u32),
    },
    /// A file that was written.
    WriteFile {
        /// Where.
        path: BytePath,
        /// The name of its content before; `None`: there was no file.
        old: Option<String>,
        /// The name of its content after.
        new: String,
        /// Its permission bits.
        mode: u32,
        /// Owner and group.
        owner: (u32, u32),
        /// Permission bits, owner and group before, where they were others.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        was: Option<(u32, u32, u32)>,
        /// What that means; none where an earlier version kept it.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        deed: Option<KeptDeed>,
    },
    /// A file that was removed.
    RemoveFile {
        /// Where.
        path: BytePath,
        /// The name of its content before.
        old: String,
        /// Its permission bits.
        mode: u32,
        /// Owner and group.
        owner: (u32, u32),
    },
    /// The key in a slot.
    SetKey {
        /// The account.
        account: String,
        /// The slot; `None`: the device chose one.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        slot: Option<String>,
        /// The name of its content before; `None`: there was none.
        old: Option<String>,
        /// The name of its content after; `None`: there is none.
        new: Option<String>,
    },
    /// The server read its configuration again.
    Reload,
    /// Passwords are let in, or no more, by a switch.
    PasswordSwitch {
        /// Whether they are.
        on: bool,
    },
    /// A session was ended.
    EndSession {
        /// The account.
        account: String,
        /// The server's process for it.
        pid: u32,
        /// When that was started, in seconds since 1970.
        started: i64,
    },
    /// An account was made.
    MakeAccount(NewAccount),
    /// An account came into a group, or out of it.
    JoinGroup {
        /// The account.
        account: String,
        /// The group.
        group: String,
        /// Whether it is in it.
        is_member: bool,
    },
    /// The day on which an account ends, in days since 1970.
    Expire {
        /// The account.
        account: String,
        /// Before.
        from: Option<i64>,
        /// After.
        to: Option<i64>,
    },
}

/// What writing a file meant, as it is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum KeptDeed {
    /// Entries came, went or changed, by the numbers of their lines.
    Entries {
        /// Lines that came.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        come: Vec<usize>,
        /// Lines that went.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        go: Vec<usize>,
        /// Lines whose options changed.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        limit: Vec<usize>,
    },
    /// Lines were repaired; which, the contents show.
    Repair,
    /// A copy with another owner took the place of the file.
    Copy,
    /// Keys came into the list of revoked keys.
    Revoke {
        /// Their fingerprints.
        keys: Vec<String>,
    },
    /// Settings of the server came or went, by the numbers of their lines.
    Settings {
        /// Lines that came.
        come: Vec<usize>,
        /// Lines that went.
        go: Vec<usize>,
    },
    /// Something was taken back.
    PutBack,
}

impl KeptDeed {
    fn of(deed: &Deed) -> Option<Self> {
        Some(match deed {
            Deed::Entries { come, go, limit } => {
                Self::Entries { come: come.clone(), go: go.clone(), limit: limit.clone() }
            }
            Deed::Repair { .. } => Self::Repair,
            Deed::Copy => Self::Copy,
            Deed::Revoke(keys) => Self::Revoke { keys: keys.iter().map(ToString::to_string).collect() },
            Deed::Settings { come, go } => Self::Settings { come: come.clone(), go: go.clone() },
            Deed::PutBack => Self::PutBack,
            Deed::Unsaid => return None,
        })
    }

    /// `None` where a fingerprint does not read.
    fn whole(self) -> Option<Deed> {
        Some(match self {
            Self::Entries { come, go, limit } => Deed::Entries { come, go, limit },
            Self::Repair => Deed::Repair { lines: Vec::new(), line_ends: 0 },
            Self::Copy => Deed::Copy,
            Self::Revoke { keys } => {
                Deed::Revoke(keys.iter().map(|key| Fingerprint::parse(key).ok()).collect::<Option<_>>()?)
            }
            Self::Settings { come, go } => Deed::Settings { come, go },
            Self::PutBack => Deed::PutBack,
        })
    }
}

impl KeptChange {
    /// Takes a change apart; `keep` keeps a content and gives its name.
    ///
    /// # Errors
    /// Those of `keep`.
    pub fn of(change: &Change, mut keep: impl FnMut(&[u8]) -> Result<String, StoreFault>) -> Result<Self, StoreFault> {
        let pair = |owner: &OwnerIds| (owner.uid, owner.gid);
        let change = match change {
            Change::File(file) => file,
            Change::Server(ServerChange::Reload) => return Ok(Self::Reload),
            Change::Server(ServerChange::Passwords { on }) => return Ok(Self::PasswordSwitch { on: *on }),
            Change::Account(AccountChange::EndSession { account, pid, started }) => {
                return Ok(Self::EndSession { account: account.clone(), pid: *pid, started: *started });
            }
            Change::Account(AccountChange::Make(new)) => return Ok(Self::MakeAccount(new.clone())),
            Change::Account(AccountChange::Join { account, group, is_member }) => {
                let (account, group) = (account.clone(), group.clone());
                return Ok(Self::JoinGroup { account, group, is_member: *is_member });
            }
            Change::Account(AccountChange::Expire { account, from, to }) => {
                return Ok(Self::Expire { account: account.clone(), from: *from, to: *to });
            }
            Change::Key(KeyChange { account, slot, old, new }) => {
                let (account, slot) = (account.clone(), slot.clone());
                let mut kept = |entry: &Option<Vec<u8>>| entry.as_deref().map(&mut keep).transpose();
                return Ok(Self::SetKey { account, slot, old: kept(old)?, new: kept(new)? });
            }
        };
        Ok(match change {
            FileChange::MakeFolder { path, mode, owner } => {
                Self::MakeFolder { path: path.clone(), mode: *mode, owner: pair(owner) }
            }
            FileChange::RemoveFolder { path, mode, owner } => {
                Self::RemoveFolder { path: path.clone(), mode: *mode, owner: pair(owner) }
            }
            FileChange::SetMode { path, from, to } => Self::SetMode { path: path.clone(), from: *from, to: *to },
            FileChange::SetOwner { path, from, to } => {
                Self::SetOwner { path: path.clone(), from: pair(from), to: pair(to) }
            }
            FileChange::WriteFile { path, old, new, mode, owner, was, deed } => {
                let old = old.as_deref().map(&mut keep).transpose()?;
                let was = was.map(|was| (was.mode, was.owner.uid, was.owner.gid));
                Self::WriteFile {
                    path: path.clone(),
                    old,
                    new: keep(new)?,
                    mode: *mode,
                    owner: pair(owner),
                    was,
                    deed: KeptDeed::of(deed),
                }
            }
            FileChange::RemoveFile { path, old, mode, owner } => {
                Self::RemoveFile { path: path.clone(), old: keep(old)?, mode: *mode, owner: pair(owner) }
            }
        })
    }

    /// Puts the change together again; `content` finds what was kept. `None` where a content is missing.
    #[must_use]
    pub fn whole(&self, content: impl Fn(&str) -> Option<Vec<u8>>) -> Option<Change> {
        let owner = |(uid, gid): (u32, u32)| OwnerIds { uid, gid };
        let named = |name: Option<String>| match name {
            Some(name) => content(&name).map(Some),
            None => Some(None),
        };
        let file = match self.clone() {
            Self::MakeFolder { path, mode, owner: own } => FileChange::MakeFolder { path, mode, owner: owner(own) },
            Self::RemoveFolder { path, mode, owner: own } => FileChange::RemoveFolder { path, mode, owner: owner(own) },
            Self::SetMode { path, from, to } => FileChange::SetMode { path, from, to },
            Self::SetOwner { path, from, to } => FileChange::SetOwner { path, from: owner(from), to: owner(to) },
            Self::WriteFile { path, old, new, mode, owner: own, was, deed } => {
                let old = named(old)?;
                let deed = deed.map_or(Some(Deed::Unsaid), KeptDeed::whole)?;
                let was = was.map(|(mode, uid, gid)| Was { mode, owner: OwnerIds { uid, gid } });
                FileChange::WriteFile { path, old, new: content(&new)?, mode, owner: owner(own), was, deed }
            }
            Self::RemoveFile { path, old, mode, owner: own } => {
                FileChange::RemoveFile { path, old: content(&old)?, mode, owner: owner(own) }
            }
            Self::Reload => return Some(ServerChange::Reload.into()),
            Self::PasswordSwitch { on } => return Some(ServerChange::Passwords { on }.into()),
            Self::EndSession { account, pid, started } => {
                return Some(AccountChange::EndSession { account, pid, started }.into());
            }
            Self::MakeAccount(new) => return Some(AccountChange::Make(new).into()),
            Self::JoinGroup { account, group, is_member } => {
                return Some(AccountChange::Join { account, group, is_member }.into());
            }
            Self::Expire { account, from, to } => return Some(AccountChange::Expire { account, from, to }.into()),
            Self::SetKey { account, slot, old, new } => {
                return Some(Change::Key(KeyChange { account, slot, old: named(old)?, new: named(new)? }));
            }
        };
        Some(file.into())
    }
}

/// The ways a change ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChangeOutcome {
    /// Done.
    Done,
    /// Taken back, or never begun.
    AsBefore,
    /// Not known.
    Unknown,
}

impl State {
    /// Appends a line and waits until it is on disk.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn write_down(&self, entry: &JournalEntry) -> Result<(), StoreFault> {
        let path = self.folder_for("")?.join("journal.jsonl");
        let mut line = serde_json::to_vec(entry).map_err(|error| Self::fault(&path)(error.into()))?;
        line.push(b'\n');
        private::file(&path).map_err(Self::fault(&path))?;
        let write = || {
            let mut file = OpenOptions::new().append(true).create(true).mode(0o600).open(&path)?;
            file.write_all(&line)?;
            file.sync_all()
        };
        write().map_err(Self::fault(&path))
    }

    /// Every line that reads; a last line cut short by a crash is passed over.
    ///
    /// # Errors
    /// [`StoreFault`] where the journal is there and cannot be read.
    pub fn journal(&self) -> Result<Vec<JournalEntry>, StoreFault> {
        let path = self.folder().join("journal.jsonl");
        let bytes = private::read(&path).map_err(Self::fault(&path))?.unwrap_or_default();
        Ok(bytes.split(|byte| *byte == b'\n').filter_map(|line| serde_json::from_slice(line).ok()).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_read_back_and_a_torn_one_is_passed_over() {
        let folder = tempfile::tempdir().unwrap();
        let state = State::at(folder.path());
        assert!(state.journal().unwrap().is_empty());
        let event = Event::Outcome { outcome: ChangeOutcome::Done, detail: "the server accepts the key".into() };
        let entry = JournalEntry::new("1", "2026-11-23T08:00:00Z", event);
        state.write_down(&entry).unwrap();
        let mut file = OpenOptions::new().append(true).open(folder.path().join("journal.jsonl")).unwrap();
        file.write_all(b"{\"id\":\"2\",\"ti").unwrap();
        assert_eq!(state.journal().unwrap(), [entry]);
    }

    #[test]
    fn a_change_is_kept_apart_from_its_contents_and_put_together_again() {
        use crate::Keeper;
        use crate::database::Database;
        let folder = tempfile::tempdir().unwrap();
        let keepers: [Box<dyn Keeper>; 2] = [
            Box::new(State::at(&folder.path().join("state"))),
            Box::new(std::sync::Mutex::new(Database::open(folder.path()).unwrap())),
        ];
        let owner = OwnerIds { uid: 1001, gid: 100 };
        let path: BytePath = "/home/edda/.ssh".into();
        let (old, new) = (b"old\xff\n".to_vec(), b"new\n".to_vec());
        let changes = [
            FileChange::MakeFolder { path: path.clone(), mode: 0o700, owner },
            FileChange::RemoveFolder { path: path.clone(), mode: 0o700, owner },
            FileChange::SetMode { path: path.clone(), from: 0o755, to: 0o700 },
            FileChange::SetOwner { path: path.clone(), from: OwnerIds { uid: 0, gid: 0 }, to: owner },
            FileChange::WriteFile {
                path: path.clone(),
                old: Some(old.clone()),
                new: new.clone(),
                mode: 0o600,
                owner,
                was: Some(Was { mode: 0o644, owner: OwnerIds { uid: 0, gid: 0 } }),
                deed: Deed::Entries { come: vec![2], go: vec![1], limit: Vec::new() },
            },
            FileChange::WriteFile {
                path: path.clone(),
                old: None,
                new,
                mode: 0o600,
                owner,
                was: None,
                deed: Deed::PutBack,
            },
            FileChange::RemoveFile { path, old, mode: 0o600, owner },
        ];
        let key =
            KeyChange { account: "edda".into(), slot: Some("3".into()), old: None, new: Some(b"ssh-ed25519 x".into()) };
        let changes = changes.map(Change::File).into_iter().chain([Change::Key(key)]);
        let ends = AccountChange::Expire { account: "edda".into(), from: None, to: Some(20_000) };
        let server = [ServerChange::Reload.into(), ServerChange::Passwords { on: false }.into(), ends.into()];
        let changes: Vec<Change> = changes.chain(server).collect();
        for keeper in &keepers {
            let mut kept = Vec::new();
            let mut keep = |keeper: &dyn Keeper| {
                kept = changes
                    .iter()
                    .map(|change| KeptChange::of(change, |bytes| keeper.back_up(bytes)))
                    .collect::<Result<_, _>>()?;
                Ok(())
            };
            keeper.at_once(&mut keep).unwrap();
            let text = serde_json::to_string(&kept).unwrap();
            assert!(!text.contains("new\\n"));
            let read: Vec<KeptChange> = serde_json::from_str(&text).unwrap();
            let whole: Vec<Change> =
                read.iter().map(|kept| kept.whole(|name| keeper.kept(name).unwrap()).unwrap()).collect();
            assert_eq!(whole, changes);
            assert_eq!(read[4].whole(|_| None), None);
            assert_eq!(keeper.kept("no such name").unwrap(), None);
            assert!(keeper.lines().unwrap().is_empty());
        }
    }

    #[test]
    fn a_line_of_an_older_version_still_reads() {
        let line = r#"{"id":"1","time":"2026-11-23T08:00:00Z","event":"intent","command":"install","place":"lantern","account":"edda","login":null,"key":null,"files":[["/a",null]],"reason":null}"#;
        let entry: JournalEntry = serde_json::from_str(line).unwrap();
        let Event::Intent { run, came, changes, .. } = entry.event else { panic!() };
        assert!(run.is_none() && came.is_empty() && changes.is_empty());
    }
}
