//! What a store elsewhere could not take, because it was away: one file for each thing, for their owner alone, delivered when the
//! store answers again. The space is limited; when it is full the command reports an error, and nothing is dropped.

use crate::chain::{ChainedLine, JournalLine};
use crate::copied::{StorePart, StoreRow, TakeRows};
use crate::fault::{DatabaseFault, StoreResult};
use crate::store::{
    DayOfChange, HostHold, HostRecord, Look, Recorded, Seen, SeenHosts, SeenKeys, Sighted, SightingsOf, Store,
    StoreFinding, StoreNumbers, Stored,
};
use crate::{JournalEntry, StoreFault, private};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use lavrin_keys::key::Fingerprint;
use lavrin_server::survey::key_use::{KeyUse, KeyUses};
use lavrin_server::survey::snapshot::{Hash, Snapshot, hash};
use rustix::fs::{FlockOperation, Mode, OFlags, flock, open};
use serde::{Deserialize, Serialize};
use std::cell::Cell;
use std::collections::{HashMap, HashSet};
use std::fs::OpenOptions;
use std::hash::{BuildHasher as _, Hasher as _};
use std::io::{Error, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

/// The folder, beside what else this machine keeps.
const FOLDER: &str = "spool";

/// How much may wait, in bytes: a night of some ten thousand hosts that all changed.
const BYTES_MAX: u64 = 512 << 20;

/// What waits.
#[derive(Debug, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub(crate) enum Waiting {
    /// A look at a host.
    Look(Box<WaitingLook>),
    /// A host that could not be looked at.
    Fault { host: String, time: i64, fault: String },
    /// How a change ended.
    Outcome { entry: Box<JournalEntry> },
}

/// A look as it lies in a file.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) struct WaitingLook {
    host: String,
    time: i64,
    document: String,
    /// Contents, in base64; their hashes are what they are.
    contents: Vec<String>,
    /// Account, key and comment of each entry.
    entries: Vec<(String, String, String)>,
    unread: Vec<String>,
    logs_since: Option<i64>,
    /// Account, key, time and origin of each last use.
    uses: Vec<(String, String, i64, String)>,
    register: Option<String>,
}

impl WaitingLook {
    fn of(record: &HostRecord) -> Self {
        let entry = |entry: &Sighted| (entry.account.clone(), entry.key.to_string(), entry.comment.clone());
        let used = |((account, key), used): (&(String, Fingerprint), &KeyUse)| {
            (account.clone(), key.to_string(), used.time, used.from.clone())
        };
        Self {
            host: record.host.clone(),
            time: record.time,
            document: STANDARD.encode(&record.snapshot.document),
            contents: record.snapshot.contents.values().map(|bytes| STANDARD.encode(bytes)).collect(),
            entries: record.keys.entries.iter().map(entry).collect(),
            unread: record.keys.unread.iter().cloned().collect(),
            logs_since: record.uses.since,
            uses: record.uses.last.iter().map(used).collect(),
            register: record.register.clone(),
        }
    }

    /// The look again; none where the file was damaged.
    pub(crate) fn record(self) -> Option<HostRecord> {
        let bytes = |text: String| STANDARD.decode(text).ok();
        let contents = self.contents.into_iter().map(|text| bytes(text).map(|bytes| (hash(&bytes), bytes)));
        let entries = self
            .entries
            .into_iter()
            .map(|(account, key, comment)| Some(Sighted { account, key: Fingerprint::parse(&key).ok()?, comment }));
        let uses = self
            .uses
            .into_iter()
            .map(|(account, key, time, from)| Some(((account, Fingerprint::parse(&key).ok()?), KeyUse { time, from })));
        Some(HostRecord {
            host: self.host,
            time: self.time,
            snapshot: Snapshot { document: bytes(self.document)?, contents: contents.collect::<Option<_>>()? },
            keys: SeenKeys { entries: entries.collect::<Option<_>>()?, unread: self.unread.into_iter().collect() },
            uses: KeyUses { since: self.logs_since, last: uses.collect::<Option<_>>()? },
            register: self.register,
        })
    }
}

/// The folder of what waits.
#[derive(Debug)]
pub(crate) struct Spool {
    folder: PathBuf,
    /// Whether this run has put something there.
    has_put: Cell<bool>,
}

impl Spool {
    /// In the folder of what this machine keeps.
    pub(crate) fn in_folder(folder: &Path) -> Self {
        Self { folder: folder.join(FOLDER), has_put: Cell::new(false) }
    }

    /// Whether this run has put something there since it was last asked.
    pub(crate) fn has_put(&self) -> bool {
        self.has_put.take()
    }

    pub(crate) fn put_look(&self, record: &HostRecord) -> Result<(), StoreFault> {
        self.put(&Waiting::Look(Box::new(WaitingLook::of(record))))
    }

    pub(crate) fn put_fault(&self, host: &str, time: i64, fault: &str) -> Result<(), StoreFault> {
        self.put(&Waiting::Fault { host: host.to_owned(), time, fault: fault.to_owned() })
    }

    pub(crate) fn put_outcome(&self, entry: &JournalEntry) -> Result<(), StoreFault> {
        self.put(&Waiting::Outcome { entry: Box::new(entry.clone()) })
    }

    fn put(&self, waiting: &Waiting) -> Result<(), StoreFault> {
        let put = || {
            if private::folder(&self.folder)?.is_none() {
                std::fs::DirBuilder::new().mode(0o700).create(&self.folder)?;
            }
            let text = serde_json::to_vec(waiting)?;
            let bytes: u64 = self.files()?.iter().filter_map(|path| Some(path.metadata().ok()?.len())).sum();
            if bytes + text.len() as u64 > BYTES_MAX {
                return Err(Error::other("as much waits there already as may; bring the database back first"));
            }
            let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
            let random = std::collections::hash_map::RandomState::new().build_hasher().finish();
            let name = format!("{:020}-{random:016x}.json", since.as_nanos());
            let new = self.folder.join(format!(".{name}"));
            let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&new)?;
            file.write_all(&text)?;
            file.sync_all()?;
            std::fs::rename(&new, self.folder.join(name))?;
            std::fs::File::open(&self.folder)?.sync_all()
        };
        put().map_err(|source| self.fault(source))?;
        self.has_put.set(true);
        Ok(())
    }

    fn fault(&self, source: Error) -> StoreFault {
        StoreFault { path: self.folder.clone(), source }
    }

    /// The files, in the order in which they came.
    fn files(&self) -> Result<Vec<PathBuf>, Error> {
        let list = match std::fs::read_dir(&self.folder) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
            list => list?,
        };
        let mut files: Vec<PathBuf> = list.map(|entry| Ok(entry?.path())).collect::<Result<_, Error>>()?;
        let is_ours = |path: &PathBuf| {
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            !name.starts_with('.') && name.ends_with(".json")
        };
        files.retain(is_ours);
        files.sort_unstable();
        Ok(files)
    }

    /// How many things wait.
    pub(crate) fn count(&self) -> Result<usize, StoreFault> {
        Ok(self.files().map_err(|source| self.fault(source))?.len())
    }

    /// Hands over what waits, in order; what was taken is removed. A file that does not read, or that `take` says is damaged, is put
    /// aside under another name. Only one run delivers at a time; another one passes by.
    pub(crate) fn deliver(&self, mut take: impl FnMut(Waiting) -> StoreResult<bool>) -> StoreResult<()> {
        let files = self.files().map_err(|source| self.fault(source))?;
        if files.is_empty() {
            return Ok(());
        }
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC | OFlags::NOFOLLOW;
        let own = open(&self.folder, flags, Mode::empty()).map_err(|errno| self.fault(errno.into()))?;
        if flock(&own, FlockOperation::NonBlockingLockExclusive).is_err() {
            return Ok(());
        }
        for path in files {
            let fault = |source| StoreFault { path: path.clone(), source };
            let Some(bytes) = private::read(&path).map_err(fault)? else { continue };
            let is_taken = match serde_json::from_slice(&bytes) {
                Ok(waiting) => take(waiting)?,
                Err(_) => false,
            };
            if is_taken {
                std::fs::remove_file(&path).map_err(fault)?;
            } else {
                std::fs::rename(&path, path.with_extension("damaged")).map_err(fault)?;
            }
        }
        Ok(())
    }
}

/// Stands where the store does not answer: it knows of nothing, and takes nothing.
#[derive(Debug)]
pub(crate) struct Away {
    /// Where the store is.
    pub place: String,
    /// Why it does not answer.
    pub said: String,
}

impl Away {
    fn away<T>(&self) -> StoreResult<T> {
        Err(DatabaseFault::Away { place: self.place.clone(), said: self.said.clone() })
    }
}

impl Store for Away {
    fn place(&self) -> String {
        self.place.clone()
    }

    fn kind(&self) -> &'static str {
        "postgresql"
    }

    fn begin(&self) -> StoreResult<()> {
        self.away()
    }

    fn commit(&self) -> StoreResult<()> {
        self.away()
    }

    fn roll_back(&self) {}

    fn has_begun(&self) -> bool {
        false
    }

    fn keep(&self, _: &[(Hash, &[u8])]) -> StoreResult<()> {
        self.away()
    }

    fn contents(&self, _: &[Hash]) -> StoreResult<HashMap<Hash, Vec<u8>>> {
        self.away()
    }

    fn each_content(&self, _: &mut dyn FnMut(&[u8], &[u8])) -> StoreResult<()> {
        self.away()
    }

    fn append(&self, _: &JournalLine) -> StoreResult<()> {
        self.away()
    }

    // A survey begins with these two; it goes on without them.
    fn each_line(&self, _: &mut dyn FnMut(ChainedLine)) -> StoreResult<()> {
        Ok(())
    }

    fn record(&self, _: &[HostRecord]) -> StoreResult<Vec<Recorded>> {
        self.away()
    }

    fn record_fault(&self, _: &str, _: i64, _: &str) -> StoreResult<()> {
        self.away()
    }

    fn rename_host(&self, _: &str, _: &str) -> StoreResult<()> {
        self.away()
    }

    fn looks(&self, _: Option<&[&str]>) -> StoreResult<Vec<Look>> {
        Ok(Vec::new())
    }

    fn seen_hosts(&self) -> StoreResult<SeenHosts> {
        self.away()
    }

    fn observations_at(&self, _: &[&str], _: i64) -> StoreResult<Vec<Option<Stored>>> {
        self.away()
    }

    fn sightings(&self, _: SightingsOf<'_>) -> StoreResult<Vec<Seen>> {
        self.away()
    }

    fn key_uses(&self) -> StoreResult<Vec<(String, String, Fingerprint, KeyUse)>> {
        self.away()
    }

    fn first_seen(&self) -> StoreResult<HashMap<Fingerprint, i64>> {
        self.away()
    }

    fn changes(&self, _: i64, _: i64) -> StoreResult<Vec<DayOfChange>> {
        self.away()
    }

    fn note_report(&self, _: i64, _: &str, _: &str, _: bool) -> StoreResult<()> {
        self.away()
    }

    fn reports(&self, _: &str, _: i64) -> StoreResult<Vec<(i64, String)>> {
        self.away()
    }

    fn numbers(&self) -> StoreResult<StoreNumbers> {
        self.away()
    }

    fn structure(&self) -> StoreResult<Vec<StoreFinding>> {
        self.away()
    }

    fn each_row(&self, _: StorePart, _: TakeRows<'_>) -> StoreResult<()> {
        self.away()
    }

    fn put_rows(&self, _: &[StoreRow]) -> StoreResult<()> {
        self.away()
    }

    fn prune(&self, _: i64, _: i64) -> StoreResult<(Vec<Hash>, usize)> {
        self.away()
    }

    fn documents(&self) -> StoreResult<HashSet<Hash>> {
        self.away()
    }

    fn forget(&self, _: &[Hash]) -> StoreResult<()> {
        self.away()
    }

    fn pruned(&self) -> StoreResult<Option<i64>> {
        self.away()
    }

    fn mark_moved(&self, _: &str, _: i64) -> StoreResult<()> {
        self.away()
    }

    fn hold(&self, _: &str, _: &str, _: i64) -> StoreResult<HostHold> {
        self.away()
    }

    fn let_go(&self, _: &str) {}
}
