//! The store of a register: one database file (`SQLite`) in its `.lavrin` folder, with what surveys saw, backups by content and the
//! journal. An observation is kept once for as long as it stays the same.

mod chain;
mod health;
mod observations;
mod reports;
mod sightings;

pub use chain::ChainStanding;
pub use health::{StoreFinding, StoreNumbers};
pub use observations::{Look, Recorded, Stored};
pub use reports::{DayOfChange, SeenHosts};
pub use sightings::{Seen, SeenKeys, Sighted};

use crate::register::{MAIN_FILE, RegisterFolder};
use crate::shared_journal::SharedJournal;
use crate::{JournalEntry, Keeper, SharedFault, StoreFault, copy, private};
use lavrin_fleet::register::{JournalPlace, SourceFile};
use lavrin_server::survey::snapshot::{Hash, hash};
use rusqlite::{Connection, ErrorCode, OptionalExtension as _, params};
use std::collections::HashSet;
use std::fs::{Metadata, OpenOptions};
use std::io::{ErrorKind, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::time::Duration;
use thiserror::Error;

/// The folder below the register's.
pub const FOLDER: &str = ".lavrin";

/// The file in it.
const FILE: &str = "store.sqlite3";

/// Marks the file as ours (`application_id`): "LVRN".
const APPLICATION: i32 = 0x4c56_524e;

/// The form of the tables (`user_version`).
const VERSION: i32 = 3;

/// How long to wait for another Lavrin that is writing.
const BUSY: Duration = Duration::from_secs(20);

const TABLES: &str = FORMS[2];

/// The tables in each form: what a store of that version consists of.
const FORMS: [&str; 3] = [
    include_str!("tables.sql"),
    concat!(include_str!("tables.sql"), include_str!("reports.sql")),
    concat!(include_str!("tables.sql"), include_str!("reports.sql"), include_str!("chain.sql")),
];

/// Why the store cannot be used. It is never overwritten for any of these.
#[derive(Debug, Error)]
pub enum DatabaseFault {
    /// Written by a newer version.
    #[error("{path} was written by a newer version (form {found}, known is {VERSION})")]
    Newer {
        /// The file.
        path: PathBuf,
        /// Its form.
        found: i32,
    },
    /// Not a store, or damaged.
    #[error("{path} is damaged or no store of this program: {said}")]
    Damaged {
        /// The file.
        path: PathBuf,
        /// In the database's words.
        said: String,
    },
    /// Another process holds it for too long.
    #[error("{path} is in use by another process")]
    Busy {
        /// The file.
        path: PathBuf,
    },
    /// Anything else.
    #[error("{path}: {said}")]
    Other {
        /// The file.
        path: PathBuf,
        /// In the database's words.
        said: String,
    },
    /// The folder or the file itself.
    #[error(transparent)]
    System(#[from] StoreFault),
}

/// The open store.
#[derive(Debug)]
pub struct Database {
    connection: Connection,
    path: PathBuf,
    /// The journal in the register, where that is asked for.
    shared: Option<SharedJournal>,
}

impl Database {
    /// Opens the store of the register in this folder, and makes it where there is none.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn open(register: &Path) -> Result<Self, DatabaseFault> {
        let folder = register.join(FOLDER);
        let path = folder.join(FILE);
        prepare(&folder, &path).map_err(|source| StoreFault { path: path.clone(), source })?;
        let mut store = Self::connect(path)?;
        store.shared = shared_journal(register)?;
        store.set_up().map_err(|error| store.fault(error))??;
        Ok(store)
    }

    /// Opens the store where there is one.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn open_existing(register: &Path) -> Result<Option<Self>, DatabaseFault> {
        let exists = register.join(FOLDER).join(FILE).exists();
        // A copy of the register brings its journal with it.
        let is_shared = || Ok::<_, DatabaseFault>(shared_journal(register)?.is_some_and(|journal| journal.is_there()));
        if exists || is_shared()? { Self::open(register).map(Some) } else { Ok(None) }
    }

    fn connect(path: PathBuf) -> Result<Self, DatabaseFault> {
        match Connection::open(&path) {
            Ok(connection) => Ok(Self { connection, path, shared: None }),
            Err(error) => Err(fault(&path, error)),
        }
    }

    fn set_up(&self) -> rusqlite::Result<Result<(), DatabaseFault>> {
        self.connection.busy_timeout(BUSY)?;
        // Nothing in the file is run: no function in a view, a trigger or a default.
        self.connection.pragma_update(None, "trusted_schema", "off")?;
        let number = |name: &str| self.connection.pragma_query_value(None, name, |row| row.get::<_, i32>(0));
        let tables: i64 = self.connection.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))?;
        let (application, version) = (number("application_id")?, number("user_version")?);
        if tables > 0 && application != APPLICATION {
            let said = "it belongs to another program".to_owned();
            return Ok(Err(DatabaseFault::Damaged { path: self.path.clone(), said }));
        }
        if version > VERSION {
            return Ok(Err(DatabaseFault::Newer { path: self.path.clone(), found: version }));
        }
        if tables > 0
            && let Some(name) = foreign(&self.connection, version)?
        {
            let said = format!("'{name}' in it is none of this program's own tables, or not as they are");
            return Ok(Err(DatabaseFault::Damaged { path: self.path.clone(), said }));
        }
        self.connection.pragma_update(None, "journal_mode", "wal")?;
        // An intent has to be on disk before its change is made.
        self.connection.pragma_update(None, "synchronous", "full")?;
        self.connection.pragma_update(None, "foreign_keys", "on")?;
        if tables > 0 && version < VERSION {
            self.migrate(version)?;
        }
        if tables == 0 {
            // Two that begin at once both find no tables; the second finds those of the first.
            self.connection.execute_batch(&format!(
                "BEGIN IMMEDIATE;\n{TABLES}\nPRAGMA application_id = {APPLICATION};\nPRAGMA user_version = {VERSION};\nCOMMIT;"
            ))?;
        }
        Ok(Ok(()))
    }

    /// Brings the tables of an earlier version up to this one: all of it, or nothing.
    fn migrate(&self, version: i32) -> rusqlite::Result<()> {
        self.connection.execute_batch("BEGIN IMMEDIATE")?;
        let rollback = Rollback(Some(&self.connection));
        // Of two that begin at once the second finds the work done.
        let now: i32 = self.connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
        if now == version {
            // What is there already is left as it is.
            self.connection.execute_batch(TABLES)?;
            chain::begin(&self.connection)?;
            self.connection.pragma_update(None, "user_version", VERSION)?;
        }
        self.connection.execute_batch("COMMIT")?;
        rollback.not_needed();
        Ok(())
    }

    /// The file.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    fn fault(&self, error: rusqlite::Error) -> DatabaseFault {
        fault(&self.path, error)
    }

    /// Does several things as one: all of them are written, or none.
    ///
    /// # Errors
    /// [`DatabaseFault`] of the first that fails.
    pub fn together<T>(&self, work: impl FnOnce(&Self) -> Result<T, DatabaseFault>) -> Result<T, DatabaseFault> {
        self.connection.execute_batch("BEGIN IMMEDIATE").map_err(|error| self.fault(error))?;
        // What does not come to the end, be it by an error or a crash, is rolled back.
        let rollback = Rollback(Some(&self.connection));
        let value = work(self)?;
        self.connection.execute_batch("COMMIT").map_err(|error| self.fault(error))?;
        rollback.not_needed();
        Ok(value)
    }

    /// Keeps a content under its hash; one that is there already is left as it is.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn keep(&self, hash: &Hash, bytes: &[u8]) -> Result<(), DatabaseFault> {
        let keep = || {
            self.connection
                .prepare_cached("INSERT INTO content (hash, bytes) VALUES (?1, ?2) ON CONFLICT DO NOTHING")?
                .execute(params![hash, bytes])
        };
        keep().map(drop).map_err(|error| self.fault(error))
    }

    /// The content of this hash.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn content(&self, hash: &Hash) -> Result<Option<Vec<u8>>, DatabaseFault> {
        let read = || {
            let mut query = self.connection.prepare_cached("SELECT bytes FROM content WHERE hash = ?1")?;
            query.query_row(params![hash], |row| row.get(0)).optional()
        };
        let bytes: Option<Vec<u8>> = read().map_err(|error| self.fault(error))?;
        bytes.map(|bytes| self.checked(hash, bytes)).transpose()
    }

    /// What is kept under a hash is believed only where it has that hash.
    fn checked(&self, name: &Hash, bytes: Vec<u8>) -> Result<Vec<u8>, DatabaseFault> {
        if hash(&bytes) == *name {
            return Ok(bytes);
        }
        let said = "a content in it is not the one that was kept".to_owned();
        Err(DatabaseFault::Damaged { path: self.path.clone(), said })
    }

    /// Appends a line to the journal and waits until it is on disk.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn write_down(&self, entry: &JournalEntry) -> Result<(), DatabaseFault> {
        let text = serde_json::to_string(entry).expect("these types have only text keys");
        // The register comes first: a line that is only there shows as an open change.
        self.shared.iter().try_for_each(|shared| shared.write_down(entry))?;
        let append = |store: &Self| {
            chain::append(&store.connection, &entry.id, &entry.time, &text).map_err(|error| store.fault(error))
        };
        // The line and its hash come together; where more is written with it, all of that does.
        if self.connection.is_autocommit() { self.together(append) } else { append(self) }
    }

    /// Every line of the journal, in order.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn journal(&self) -> Result<Vec<JournalEntry>, DatabaseFault> {
        let read = || {
            let mut query = self.connection.prepare_cached("SELECT entry FROM journal ORDER BY number")?;
            query.query_map([], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()
        };
        let lines = read().map_err(|error| self.fault(error))?;
        let parse = |line: String| {
            serde_json::from_str(&line)
                .map_err(|error| DatabaseFault::Damaged { path: self.path.clone(), said: error.to_string() })
        };
        let own: Vec<JournalEntry> = lines.into_iter().map(parse).collect::<Result<_, _>>()?;
        match &self.shared {
            Some(shared) => Ok(joined(own, shared.lines()?)),
            None => Ok(own),
        }
    }

    /// What does not fit in the journal of the register, and how many lines it has; none where there is no such journal.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn check_shared(&self) -> Result<Option<(usize, Vec<SharedFault>)>, DatabaseFault> {
        Ok(self.shared.as_ref().map(SharedJournal::check).transpose()?)
    }
}

/// The journal of the register, where its settings ask for one.
fn shared_journal(register: &Path) -> Result<Option<SharedJournal>, DatabaseFault> {
    let Some(folder) = RegisterFolder::at(register) else { return Ok(None) };
    let text = folder.text(MAIN_FILE)?.unwrap_or_default();
    let main = lavrin_fleet::register::read(&[SourceFile { path: MAIN_FILE.to_owned(), text }]);
    let asked = main.register.journal == JournalPlace::Register;
    Ok(if asked { SharedJournal::at(register) } else { None })
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

/// Something in the store that this program does not make: a table, a trigger, a view, or one of its own that was altered.
fn foreign(store: &Connection, version: i32) -> rusqlite::Result<Option<String>> {
    let own = Connection::open_in_memory()?;
    let form = usize::try_from(version).unwrap_or_default().clamp(1, FORMS.len());
    own.execute_batch(FORMS[form - 1])?;
    let (own, found) = (objects(&own)?, objects(store)?);
    let odd = found.iter().find(|object| !own.contains(object)).or_else(|| own.iter().find(|own| !found.contains(own)));
    Ok(odd.map(|(_, name, _)| name.clone()))
}

/// Kind, name and definition of everything in a database.
fn objects(database: &Connection) -> rusqlite::Result<Vec<(String, String, String)>> {
    let mut query = database.prepare("SELECT type, name, coalesce(sql, '') FROM sqlite_schema ORDER BY type, name")?;
    let rows = query.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)))?;
    rows.collect()
}

/// Takes an open transaction back when it is dropped.
struct Rollback<'a>(Option<&'a Connection>);

impl Rollback<'_> {
    fn not_needed(mut self) {
        self.0 = None;
    }
}

impl Drop for Rollback<'_> {
    fn drop(&mut self) {
        if let Some(connection) = self.0 {
            let _ = connection.execute_batch("ROLLBACK");
        }
    }
}

impl Keeper for Database {
    fn back_up(&self, bytes: &[u8]) -> Result<String, StoreFault> {
        let hash = hash(bytes);
        self.keep(&hash, bytes).map_err(|fault| self.as_store_fault(fault))?;
        let name: String = hash.iter().map(|byte| format!("{byte:02x}")).collect();
        copy::keep(&self.copies(), &name, bytes).map_err(|source| StoreFault { path: self.copies(), source })?;
        self.shared.iter().try_for_each(|shared| shared.keep(&name, bytes))?;
        Ok(name)
    }

    fn write_down(&self, entry: &JournalEntry) -> Result<(), StoreFault> {
        Self::write_down(self, entry).map_err(|fault| self.as_store_fault(fault))
    }

    fn kept(&self, name: &str) -> Result<Option<Vec<u8>>, StoreFault> {
        let Some(hash) = hash_named(name) else { return Ok(None) };
        let kept = self.content(&hash);
        if matches!(kept, Ok(Some(_))) {
            return kept.map_err(|fault| self.as_store_fault(fault));
        }
        let copied = copy::read(&self.copies(), name).ok().flatten().filter(|bytes| self::hash(bytes) == hash);
        let shared = || self.shared.as_ref().and_then(|shared| shared.kept(name).ok().flatten());
        copied.or_else(shared).map_or_else(|| kept.map_err(|fault| self.as_store_fault(fault)), |bytes| Ok(Some(bytes)))
    }

    fn lines(&self) -> Result<Vec<JournalEntry>, StoreFault> {
        self.journal().map_err(|fault| self.as_store_fault(fault))
    }

    fn at_once(&self, work: &mut dyn FnMut(&dyn Keeper) -> Result<(), StoreFault>) -> Result<(), StoreFault> {
        let fault = |fault| match fault {
            DatabaseFault::System(fault) => fault,
            other => self.as_store_fault(other),
        };
        self.together(|store| work(store).map_err(DatabaseFault::System)).map_err(fault)
    }
}

/// The hash that a name in the journal stands for.
fn hash_named(name: &str) -> Option<Hash> {
    let mut hash = [0; 32];
    if name.len() != 64 || !name.is_ascii() {
        return None;
    }
    for (number, byte) in hash.iter_mut().enumerate() {
        *byte = u8::from_str_radix(&name[2 * number..2 * number + 2], 16).ok()?;
    }
    Some(hash)
}

impl Database {
    fn copies(&self) -> PathBuf {
        self.path.with_file_name(copy::FOLDER)
    }

    fn as_store_fault(&self, fault: DatabaseFault) -> StoreFault {
        StoreFault { path: self.path.clone(), source: std::io::Error::other(fault.to_string()) }
    }
}

/// The folder for its owner alone, kept out of version control, and an empty file that only its owner may read.
fn prepare(folder: &Path, path: &Path) -> std::io::Result<()> {
    // A register comes by version control too: a link in it must not lead the store elsewhere.
    put(folder, Metadata::is_dir, || std::fs::DirBuilder::new().mode(0o700).create(folder))?;
    private::folder(folder)?;
    let ignore = folder.join(".gitignore");
    let new = |path: &Path, mode: u32| OpenOptions::new().write(true).create_new(true).mode(mode).open(path);
    put(&ignore, Metadata::is_file, || new(&ignore, 0o644)?.write_all(b"*\n"))?;
    put(path, Metadata::is_file, || new(path, 0o600).map(drop))?;
    for beside in ["", "-wal", "-shm", "-journal"] {
        let mut name = path.as_os_str().to_owned();
        name.push(beside);
        private::file(Path::new(&name))?;
    }
    Ok(())
}

/// Makes what is not there yet; somebody else may make it at the same moment.
fn put(
    path: &Path,
    fits: impl Fn(&Metadata) -> bool,
    make: impl FnOnce() -> std::io::Result<()>,
) -> std::io::Result<()> {
    if is_there(path, &fits)? {
        return Ok(());
    }
    match make() {
        Err(error) if error.kind() == ErrorKind::AlreadyExists => is_there(path, fits).map(drop),
        made => made,
    }
}

/// Whether something is there, and itself what it should be: links are not followed.
fn is_there(path: &Path, fits: impl Fn(&Metadata) -> bool) -> std::io::Result<bool> {
    match path.symlink_metadata() {
        Ok(meta) if fits(&meta) => Ok(true),
        Ok(_) => {
            Err(std::io::Error::other(format!("{} is a link, or something else than belongs there", path.display())))
        }
        Err(error) if error.kind() == ErrorKind::NotFound => Ok(false),
        Err(error) => Err(error),
    }
}

fn fault(path: &Path, error: rusqlite::Error) -> DatabaseFault {
    let (path, said) = (path.to_owned(), error.to_string());
    match error.sqlite_error_code() {
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => DatabaseFault::Damaged { path, said },
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => DatabaseFault::Busy { path },
        _ => DatabaseFault::Other { path, said },
    }
}

#[cfg(test)]
mod tests;
