//! The memory of a register: what surveys saw, backups by content, and the journal. It lies in one file on this machine, or in a
//! PostgreSQL that an office shares, as the register says; whoever asks it does not notice which.

mod delivery;
mod desk;
mod keeper;
mod moving;
mod pruning;
mod questions;
mod settings;
mod shared_work;
mod who;

pub use crate::fault::DatabaseFault;
pub use crate::store::{
    DayOfChange, HostRecord, Look, Recorded, Seen, SeenHosts, SeenKeys, Sighted, StoreFinding, StoreNumbers, Stored,
};
pub use crate::store::{DueHost, HostHold, HostToCollect};
pub use moving::{MovedStore, move_store};
pub use pruning::PrunedRows;

use crate::chain::{JournalLine, link};
use crate::fault::StoreResult;
use crate::postgres::PostgresStore;
use crate::shared_journal::SharedJournal;
use crate::spool::Spool;
use crate::sqlite::{self, SqliteStore};
use crate::store::Store;
use crate::{Event, JournalEntry, SharedFault, StoreFault};
use lavrin_server::survey::snapshot::{Hash, hash};
use settings::StoreSettings;
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

/// The roles of a store that an office shares, as statements for whoever runs its server.
pub const ROLES: &str = crate::postgres::ROLES;

/// Makes a store in a database, or brings it up to this version's form; says from which form to which it went. It takes somebody
/// who may make roles and own what is made.
///
/// # Errors
/// [`DatabaseFault`].
pub fn set_up(url: &str) -> StoreResult<(i32, i32)> {
    settings::check_address(url)?;
    crate::postgres::set_up(url)
}

/// Agrees on this machine to the address that a register names; without one its store is the file on this machine.
///
/// # Errors
/// [`DatabaseFault`].
pub fn agree(register: &Path, url: Option<&str>) -> StoreResult<()> {
    settings::agree(register, url)
}

/// The folder below the register's.
pub const FOLDER: &str = ".lavrin";

/// At most this many findings are reported.
const TOLD_MAX: usize = 100;

/// The open store.
#[derive(Debug)]
pub struct Database {
    store: Box<dyn Store>,
    /// The folder of what this machine keeps beside it.
    folder: PathBuf,
    /// The journal in the register, where that is asked for.
    shared: Option<SharedJournal>,
    /// Where what cannot be delivered waits; only for a store elsewhere.
    spool: Option<Spool>,
    /// The commit of the register.
    register: Option<String>,
}

/// How the journal stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChainStanding {
    /// Lines.
    pub lines: usize,
    /// The last hash, in hexadecimal; whoever notes it elsewhere can tell later whether anything before it was changed.
    pub last: String,
    /// The number of the first line that does not fit.
    pub broken_at: Option<i64>,
}

impl Database {
    /// Opens the store of the register in this folder. One on this machine is made where there is none.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn open(register: &Path) -> StoreResult<Self> {
        let settings = StoreSettings::of(register)?;
        let store: Box<dyn Store> = match &settings.url {
            Some(url) => Box::new(PostgresStore::open(url)?),
            None => Box::new(SqliteStore::open(&register.join(FOLDER))?),
        };
        let database = Self::with(store, register, settings)?;
        database.deliver()?;
        Ok(database)
    }

    /// Opens the store where there is one.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn open_existing(register: &Path) -> StoreResult<Option<Self>> {
        let settings = StoreSettings::of(register)?;
        // A copy of the register brings its journal with it.
        let is_there = settings.url.is_some()
            || register.join(FOLDER).join(sqlite::FILE).exists()
            || settings.shared.as_ref().is_some_and(SharedJournal::is_there);
        if is_there { Self::open(register).map(Some) } else { Ok(None) }
    }

    /// Opens it to write down what looks see: where it is away they wait on this machine.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn open_for_looks(register: &Path) -> StoreResult<Self> {
        match Self::open(register) {
            Err(DatabaseFault::Away { place, said }) => {
                let settings = StoreSettings::of(register)?;
                Self::with(Box::new(crate::spool::Away { place, said }), register, settings)
            }
            opened => opened,
        }
    }

    fn with(store: Box<dyn Store>, register: &Path, settings: StoreSettings) -> StoreResult<Self> {
        let folder = register.join(FOLDER);
        let is_elsewhere = settings.url.is_some();
        if is_elsewhere {
            let fault = |source| StoreFault { path: folder.clone(), source };
            sqlite::prepare_folder(&folder).map_err(fault)?;
        }
        let spool = if is_elsewhere { Some(Spool::in_folder(&desk::folder_of(register)?)) } else { None };
        let register = crate::register::commit(register);
        Ok(Self { store, folder, shared: settings.shared, spool, register })
    }

    /// Whether the register at hand is under version control and has no such commit.
    #[must_use]
    pub fn lacks_commit(&self, commit: &str) -> bool {
        let register = self.folder.parent().filter(|_| self.register.is_some());
        register.is_some_and(|register| crate::register::has_commit(register, commit) == Some(false))
    }

    /// Where it is, for people.
    #[must_use]
    pub fn place(&self) -> String {
        self.store.place()
    }

    /// What kind it is: `sqlite` or `postgresql`.
    #[must_use]
    pub fn kind(&self) -> &'static str {
        self.store.kind()
    }

    /// Does several things as one: all of them are written, or none.
    ///
    /// # Errors
    /// [`DatabaseFault`] of the first that fails.
    pub fn together<T>(&self, work: impl FnOnce(&Self) -> StoreResult<T>) -> StoreResult<T> {
        self.store.begin()?;
        // What does not come to the end, be it by an error or a crash, is rolled back.
        let rollback = OpenTransaction(Some(self.store.as_ref()));
        let value = work(self)?;
        self.store.commit()?;
        rollback.not_needed();
        Ok(value)
    }

    /// Keeps a content under its hash; one that is there already is left as it is.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn keep(&self, hash: &Hash, bytes: &[u8]) -> StoreResult<()> {
        self.store.keep(&[(*hash, bytes)])
    }

    /// The content of this hash.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn content(&self, hash: &Hash) -> StoreResult<Option<Vec<u8>>> {
        Ok(self.store.contents(&[*hash])?.remove(hash))
    }

    /// The contents of these hashes; those that are not there are left out.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn contents(&self, hashes: &[Hash]) -> StoreResult<HashMap<Hash, Vec<u8>>> {
        self.store.contents(hashes)
    }

    /// Appends a line to the journal and waits until it is on disk. How a change ended waits on this machine where the store is away.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn write_down(&self, entry: &JournalEntry) -> StoreResult<()> {
        self.catch_up();
        let entry = self.with_register(entry);
        // The register comes first: a line that is only there shows as an open change.
        self.shared.iter().try_for_each(|shared| shared.write_down(&entry))?;
        match (self.append(&entry), &entry.event, &self.spool) {
            (Err(DatabaseFault::Away { .. }), Event::Outcome { .. }, Some(spool)) if !self.store.has_begun() => {
                Ok(spool.put_outcome(&entry)?)
            }
            (appended, ..) => appended,
        }
    }

    /// Writes down how changes ended, all at once. Where the store is away they wait on this machine.
    fn end_changes(&self, entries: &[JournalEntry]) -> StoreResult<()> {
        let entries: Vec<JournalEntry> = entries.iter().map(|entry| self.with_register(entry)).collect();
        if let Some(shared) = &self.shared {
            entries.iter().try_for_each(|entry| shared.write_down(entry))?;
        }
        let written = self.together(|own| entries.iter().try_for_each(|entry| own.append(entry)));
        match (written, &self.spool) {
            // Whether they arrived before the line broke is found out when they are delivered.
            (Err(DatabaseFault::Away { .. }), Some(spool)) => {
                Ok(entries.iter().try_for_each(|entry| spool.put_outcome(entry))?)
            }
            (written, _) => written,
        }
    }

    /// With the commit of the register that is at hand.
    fn with_register(&self, entry: &JournalEntry) -> JournalEntry {
        let register = entry.register.clone().or_else(|| self.register.clone());
        JournalEntry { register, ..entry.clone() }
    }

    fn append(&self, entry: &JournalEntry) -> StoreResult<()> {
        let line = line_of(entry);
        // The line and its hash come together; where more is written with it, all of that does.
        if self.store.has_begun() { self.store.append(&line) } else { self.together(|own| own.store.append(&line)) }
    }

    /// Every line of the journal, in order.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn journal(&self) -> StoreResult<Vec<JournalEntry>> {
        let (mut own, mut odd) = (Vec::new(), None);
        self.store.each_line(&mut |line| {
            let Some(line) = line.line else { return };
            match serde_json::from_str(&line.entry) {
                Ok(entry) => own.push(entry),
                Err(error) => odd = odd.take().or(Some(error)),
            }
        })?;
        if let Some(error) = odd {
            return Err(DatabaseFault::Damaged { place: self.place(), said: error.to_string() });
        }
        match &self.shared {
            Some(shared) => Ok(joined(own, shared.lines()?)),
            None => Ok(own),
        }
    }

    /// What does not fit in the journal of the register, and how many lines it has; none where there is no such journal.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn check_shared(&self) -> StoreResult<Option<(usize, Vec<SharedFault>)>> {
        Ok(self.shared.as_ref().map(SharedJournal::check).transpose()?)
    }

    /// Goes over the whole journal and holds each line against its hash. A line without one, and a hash without a line, is a break.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn chain(&self) -> StoreResult<ChainStanding> {
        let (mut before, mut lines, mut broken_at): (Option<Hash>, _, _) = (None, 0, None);
        self.store.each_line(&mut |line| {
            lines += usize::from(line.line.is_some());
            let own = line.line.as_ref().map(|text| link(before.as_ref(), line.number, text));
            if own.is_none() || own != line.hash {
                broken_at = broken_at.or(Some(line.number));
            }
            before = line.hash.or(own).or(before);
        })?;
        let last = before.unwrap_or_default().iter().map(|byte| format!("{byte:02x}")).collect();
        Ok(ChainStanding { lines, last, broken_at })
    }

    /// Goes over all of it: the database's own structure, each content against its hash, each observation's content, the chain of the
    /// journal. Foreign tables were refused when it was opened.
    ///
    /// # Errors
    /// [`DatabaseFault`] where it cannot be read at all.
    pub fn check(&self) -> StoreResult<Vec<StoreFinding>> {
        let mut found = self.store.structure()?;
        // One after the other, so that memory stays small however many there are.
        self.store.each_content(&mut |name, bytes| {
            if hash(bytes) != name && found.len() < TOLD_MAX {
                found.push(StoreFinding::Content(name.iter().map(|byte| format!("{byte:02x}")).collect()));
            }
        })?;
        found.extend(self.chain()?.broken_at.map(StoreFinding::Chain));
        found.truncate(TOLD_MAX);
        Ok(found)
    }

    /// Keeps what a look at a host saw, and says whether it differs from the last one; where not, only its time is written.
    /// Entries of accounts that were not read stay as they were: unread is not gone.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn record(&self, record: HostRecord) -> StoreResult<Recorded> {
        Ok(self.record_all(vec![record])?.pop().unwrap_or_default())
    }

    /// The same for several hosts as one, each result at the place of its look.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn record_all(&self, mut records: Vec<HostRecord>) -> StoreResult<Vec<Recorded>> {
        self.catch_up();
        for record in &mut records {
            record.register = record.register.take().or_else(|| self.register.clone());
        }
        let write = || {
            let mut recorded = Vec::with_capacity(records.len());
            for batch in batches(&records) {
                recorded.extend(self.store.record(batch)?);
            }
            Ok(recorded)
        };
        let written = if self.store.has_begun() { write() } else { self.together(|_| write()) };
        match (written, &self.spool) {
            (Err(DatabaseFault::Away { .. }), Some(spool)) => {
                records.iter().try_for_each(|record| spool.put_look(record))?;
                Ok(vec![Recorded::default(); records.len()])
            }
            (written, _) => written,
        }
    }

    /// Gives a host another name in everything that was seen of it. The journal keeps the name that it had.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn rename_host(&self, old: &str, new: &str) -> StoreResult<()> {
        self.together(|own| own.store.rename_host(old, new))
    }

    /// Writes down that a host could not be looked at; what was seen of it before stays.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn record_fault(&self, host: &str, time: i64, fault: &str) -> StoreResult<()> {
        match (self.store.record_fault(host, time, fault), &self.spool) {
            (Err(DatabaseFault::Away { .. }), Some(spool)) => Ok(spool.put_fault(host, time, fault)?),
            (written, _) => written,
        }
    }

    /// Writes down what a report counted, in a form of the caller's.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn note_report(&self, time: i64, scope: &str, numbers: &str) -> StoreResult<()> {
        self.store.note_report(time, scope, numbers, false)
    }

    /// The same in place of whatever was written down about that part before.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn note_instead(&self, time: i64, scope: &str, numbers: &str) -> StoreResult<()> {
        self.together(|own| own.store.note_report(time, scope, numbers, true))
    }

    /// Whether whoever is signed in may write into the journal: a collector only adds what it sees.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn may_change(&self) -> StoreResult<bool> {
        self.store.may_append()
    }
}

/// Parts in which no host comes twice.
fn batches(records: &[HostRecord]) -> Vec<&[HostRecord]> {
    let (mut parts, mut start, mut hosts) = (Vec::new(), 0, HashSet::new());
    for (number, record) in records.iter().enumerate() {
        if !hosts.insert(record.host.as_str()) {
            parts.push(&records[start..number]);
            (start, hosts) = (number, HashSet::from([record.host.as_str()]));
        }
    }
    parts.push(&records[start..]);
    parts.retain(|part| !part.is_empty());
    parts
}

fn line_of(entry: &JournalEntry) -> JournalLine {
    let text = serde_json::to_string(entry).expect("these types have only text keys");
    JournalLine { id: entry.id.clone(), time: entry.time.clone(), entry: text }
}

/// Both in one order. What both have stands where the register has it; the rest goes in between by its time.
fn joined(own: Vec<JournalEntry>, shared: Vec<JournalEntry>) -> Vec<JournalEntry> {
    let text = |entry: &JournalEntry| serde_json::to_string(entry).unwrap_or_default();
    let known: HashSet<String> = shared.iter().map(text).collect();
    let mut own = own.into_iter().filter(|entry| !known.contains(&text(entry))).peekable();
    let mut all = Vec::new();
    for entry in shared {
        while let Some(earlier) = own.next_if(|earlier| earlier.time <= entry.time) {
            all.push(earlier);
        }
        all.push(entry);
    }
    all.extend(own);
    all
}

/// Takes an open transaction back when it is dropped.
struct OpenTransaction<'a>(Option<&'a dyn Store>);

impl OpenTransaction<'_> {
    fn not_needed(mut self) {
        self.0 = None;
    }
}

impl Drop for OpenTransaction<'_> {
    fn drop(&mut self) {
        if let Some(store) = self.0 {
            store.roll_back();
        }
    }
}

#[cfg(test)]
mod tests;
