//! What a memory of a register has to be able to do: one trait, behind which are `SQLite` on this machine and PostgreSQL for an office.
//! Everything goes in batches, since one of them is a conversation away.

use crate::chain::{ChainedLine, JournalLine};
use crate::copied::{StorePart, StoreRow, TakeRows};
use crate::fault::{DatabaseFault, StoreResult};
use lavrin_keys::key::Fingerprint;
use lavrin_server::survey::key_use::{KeyUse, KeyUses};
use lavrin_server::survey::snapshot::{Hash, Snapshot, hash};
use std::collections::{HashMap, HashSet};

/// An entry that a look saw.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Sighted {
    /// The account it opens.
    pub account: String,
    /// Its key.
    pub key: Fingerprint,
    /// Its comment, safe to show.
    pub comment: String,
}

/// The keys that a look saw, and where it could not look.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SeenKeys {
    /// Every entry.
    pub entries: Vec<Sighted>,
    /// Accounts of which not everything was read.
    pub unread: HashSet<String>,
}

/// What a look at a host saw, as it is written down.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostRecord {
    /// The host.
    pub host: String,
    /// When, in seconds since 1970.
    pub time: i64,
    /// What was seen.
    pub snapshot: Snapshot,
    /// The entries in it.
    pub keys: SeenKeys,
    /// When keys were last used.
    pub uses: KeyUses,
    /// The commit of the register by which somebody looked.
    pub register: Option<String>,
}

/// An entry over time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// The host.
    pub host: String,
    /// The account.
    pub account: String,
    /// The key.
    pub key: Fingerprint,
    /// The comment.
    pub comment: String,
    /// The look that first saw it, in seconds since 1970.
    pub first: i64,
    /// The look that did not see it any more; `None` while it is there.
    pub gone: Option<i64>,
    /// When its key last opened the account, and from where.
    pub used: Option<(i64, String)>,
}

/// Which entries are asked for.
#[derive(Debug, Clone, Copy)]
pub(crate) enum SightingsOf<'a> {
    /// All.
    Everything,
    /// Those on a host.
    Host(&'a str),
    /// Those of a key.
    Key(Fingerprint),
}

/// An observation that is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stored {
    /// The host.
    pub host: String,
    /// Its document.
    pub document: Vec<u8>,
    /// The first look that saw it so, in seconds since 1970.
    pub first: i64,
    /// The last look that saw it so.
    pub last: i64,
}

/// The last look at a host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Look {
    /// The host.
    pub host: String,
    /// When it was last tried, in seconds since 1970.
    pub tried: i64,
    /// When it was last seen.
    pub seen: Option<i64>,
    /// Why the last try failed, where it did.
    pub fault: Option<String>,
    /// When its logs begin.
    pub logs_since: Option<i64>,
    /// The commit of the register by which it was last seen.
    pub register: Option<String>,
}

/// What came of keeping a look.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Recorded {
    /// Whether it differs from the look before.
    pub changed: bool,
    /// Accounts that were not read now, and have entries that were seen before.
    pub kept: Vec<String>,
}

/// Entries that came and went on a day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DayOfChange {
    /// The day, as `2026-11-23`.
    pub day: String,
    /// Entries that a look saw for the first time.
    pub came: usize,
    /// Entries that a look did not see any more.
    pub gone: usize,
}

/// The last looks at all hosts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SeenHosts {
    /// Hosts that somebody tried to look at.
    pub tried: usize,
    /// Hosts that were seen.
    pub seen: usize,
    /// Hosts of which the last try failed.
    pub failed: usize,
    /// The oldest last look.
    pub oldest: Option<i64>,
    /// The newest one.
    pub newest: Option<i64>,
}

/// How much a store holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct StoreNumbers {
    /// The form of the tables.
    pub version: i32,
    /// Its size, in bytes.
    pub bytes: u64,
    /// Hosts that were looked at.
    pub hosts: usize,
    /// Documents that were seen on hosts, each once for as long as it stayed the same.
    pub observations: usize,
    /// Contents: documents, files, backups.
    pub contents: usize,
    /// How long they are together, in bytes.
    pub content_bytes: u64,
    /// Entries that were seen.
    pub sightings: usize,
    /// Lines of the journal.
    pub journal: usize,
    /// When the first of the observations began, in seconds since 1970.
    pub since: Option<i64>,
    /// Observations that ended before this moment were taken out.
    pub pruned: Option<i64>,
}

/// What is not in order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum StoreFinding {
    /// The database itself says that it is damaged, in its words.
    Damaged(String),
    /// Something in it that this program does not make, or that is missing.
    Foreign(String),
    /// A content is not the one whose hash it has, by the hash in hexadecimal.
    Content(String),
    /// An observation names a content that is not there: of this host, since this time.
    Missing(String, i64),
    /// The journal was changed at this line.
    Chain(i64),
}

/// A memory. What is done between `begin` and `commit` is done as one.
pub(crate) trait Store: std::fmt::Debug + Send {
    /// Where it is, for people.
    fn place(&self) -> String;
    /// What kind it is: `sqlite` or `postgresql`.
    fn kind(&self) -> &'static str;

    fn begin(&self) -> StoreResult<()>;
    fn commit(&self) -> StoreResult<()>;
    fn roll_back(&self);
    fn has_begun(&self) -> bool;

    /// Keeps contents under their hashes; those that are there already are left as they are.
    fn keep(&self, contents: &[(Hash, &[u8])]) -> StoreResult<()>;
    /// Contents by their hashes; those that are not there are left out.
    fn contents(&self, hashes: &[Hash]) -> StoreResult<HashMap<Hash, Vec<u8>>>;
    /// Every content, one after the other.
    fn each_content(&self, visit: &mut dyn FnMut(&[u8], &[u8])) -> StoreResult<()>;

    /// Appends a line to the journal, with its place in the chain, and waits until it is on disk.
    fn append(&self, line: &JournalLine) -> StoreResult<()>;
    /// Every line in order.
    fn each_line(&self, visit: &mut dyn FnMut(ChainedLine)) -> StoreResult<()>;

    /// Keeps what looks at hosts saw, each host at most once, and says for each what came of it.
    fn record(&self, records: &[HostRecord]) -> StoreResult<Vec<Recorded>>;
    /// Notes that a host could not be looked at; what was seen of it before stays.
    fn record_fault(&self, host: &str, time: i64, fault: &str) -> StoreResult<()>;
    /// Gives a host another name in all that was seen of it.
    fn rename_host(&self, old: &str, new: &str) -> StoreResult<()>;
    /// The last look at each of these hosts, or at every host, by name.
    fn looks(&self, hosts: Option<&[&str]>) -> StoreResult<Vec<Look>>;
    /// How many were seen, and when.
    fn seen_hosts(&self) -> StoreResult<SeenHosts>;
    /// The observation of each host that was in force at this time, in the order of the hosts.
    fn observations_at(&self, hosts: &[&str], time: i64) -> StoreResult<Vec<Option<Stored>>>;

    /// Entries by host, account, beginning and key.
    fn sightings(&self, of: SightingsOf<'_>) -> StoreResult<Vec<Seen>>;
    /// The last use of every key in every account.
    fn key_uses(&self) -> StoreResult<Vec<(String, String, Fingerprint, KeyUse)>>;
    /// When each key was first seen anywhere.
    fn first_seen(&self) -> StoreResult<HashMap<Fingerprint, i64>>;
    /// Entries that came and went, day by day, after the one time and until the other.
    fn changes(&self, after: i64, until: i64) -> StoreResult<Vec<DayOfChange>>;

    /// Notes what a report counted; `instead`: of all that was noted about that part before.
    fn note_report(&self, time: i64, scope: &str, numbers: &str, instead: bool) -> StoreResult<()>;
    /// What was noted about a part before a moment, the oldest first.
    fn reports(&self, scope: &str, before: i64) -> StoreResult<Vec<(i64, String)>>;

    /// How much is in it.
    fn numbers(&self) -> StoreResult<StoreNumbers>;
    /// What the database itself knows to be wrong, and observations without their content.
    fn structure(&self) -> StoreResult<Vec<StoreFinding>>;

    /// Hands out every row of a part, some at once.
    fn each_row(&self, part: StorePart, take: TakeRows<'_>) -> StoreResult<()>;
    /// Takes rows of one part in. Lines of the journal are appended, so they have to come in their order.
    fn put_rows(&self, rows: &[StoreRow]) -> StoreResult<()>;

    /// Takes out observations that ended before a moment, but not the first and the newest of a host, and entries that were gone
    /// before it, but not the first and the last sighting of one. Gives the documents of what is gone, and how many entries.
    fn prune(&self, before: i64, time: i64) -> StoreResult<(Vec<Hash>, usize)>;
    /// The documents of all observations.
    fn documents(&self) -> StoreResult<HashSet<Hash>>;
    /// Takes contents out.
    fn forget(&self, hashes: &[Hash]) -> StoreResult<()>;
    /// Observations that ended before this moment were taken out.
    fn pruned(&self) -> StoreResult<Option<i64>>;

    /// Notes that everything is elsewhere now.
    fn mark_moved(&self, to: &str, time: i64) -> StoreResult<()>;

    /// Makes sure that nobody else changes a host until it is let go; tells who does, where somebody does.
    fn hold(&self, host: &str, who: &str, now: i64) -> StoreResult<HostHold>;
    /// Lets a host go.
    fn let_go(&self, host: &str);

    /// Whether whoever is signed in may write into the journal.
    fn may_append(&self) -> StoreResult<bool> {
        Ok(true)
    }

    /// What several collectors share, where the store is one for several.
    fn office(&self) -> Option<&dyn Office> {
        None
    }
}

/// Whether a host is held.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HostHold {
    /// By whoever asked.
    Own,
    /// By somebody else, since then (in seconds since 1970), where that is known.
    Other(Option<(String, i64)>),
}

/// A host that is to be looked at, as a collector finds it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DueHost {
    /// The host.
    pub host: String,
    /// Whether somebody asked for a look.
    pub asked: bool,
}

/// A host as it is put to the collectors.
#[derive(Debug, Clone, Copy)]
pub struct HostToCollect<'a> {
    /// The host.
    pub host: &'a str,
    /// From where alone it is reached.
    pub site: Option<&'a str>,
}

/// What collectors share: which host is to be looked at when, and who does it now.
pub(crate) trait Office {
    /// Puts the register's hosts to the collectors: new ones are due at once, those that are gone are taken out.
    fn put_work(&self, hosts: &[HostToCollect<'_>], now: i64) -> StoreResult<()>;
    /// Takes hosts that are due and that nobody has, asked ones first, for so many seconds. Without sites: those of every site.
    fn take_work(
        &self,
        collector: &str,
        sites: &[String],
        most: i64,
        now: i64,
        lease: i64,
    ) -> StoreResult<Vec<DueHost>>;
    /// Gives back a host that was looked at; it is due again then.
    fn end_work(&self, collector: &str, hosts: &[&str], due: i64, now: i64) -> StoreResult<()>;
    /// Asks for a look soon, and wakes whoever waits.
    fn ask(&self, hosts: &[&str], now: i64) -> StoreResult<()>;
    /// When the next host is due, for these sites.
    fn next_due(&self, sites: &[String]) -> StoreResult<Option<i64>>;
    /// Waits until somebody asks for a look, or that long.
    fn wait(&self, time: std::time::Duration) -> StoreResult<()>;
}

/// What is kept under a hash is believed only where it has that hash.
pub(crate) fn checked(place: &str, name: &[u8], bytes: Vec<u8>) -> StoreResult<Vec<u8>> {
    if hash(&bytes) == name {
        return Ok(bytes);
    }
    Err(DatabaseFault::Damaged {
        place: place.to_owned(),
        said: "a content in it is not the one that was kept".to_owned(),
    })
}

/// Entries that came and that went between what was known of a host and what a look saw. Entries of accounts that were not read
/// stay as they were: unread is not gone.
pub(crate) fn differing<'a, I: Copy>(open: &[(I, Sighted)], keys: &'a SeenKeys) -> (Vec<&'a Sighted>, Vec<I>) {
    let now: HashSet<&Sighted> = keys.entries.iter().collect();
    let known: HashSet<&Sighted> = open.iter().map(|(_, entry)| entry).collect();
    let is_gone = |entry: &Sighted| !now.contains(entry) && !keys.unread.contains(&entry.account);
    let gone = open.iter().filter(|(_, entry)| is_gone(entry)).map(|(row, _)| *row).collect();
    let mut came: Vec<&Sighted> = now.into_iter().filter(|entry| !known.contains(entry)).collect();
    came.sort_unstable();
    (came, gone)
}

/// Accounts that a look did not read and that have entries from an earlier one.
pub(crate) fn kept_unread<'a>(open: impl Iterator<Item = &'a Sighted>, keys: &SeenKeys) -> Vec<String> {
    let mut kept: Vec<String> =
        open.filter(|entry| keys.unread.contains(&entry.account)).map(|entry| entry.account.clone()).collect();
    kept.sort_unstable();
    kept.dedup();
    kept
}
