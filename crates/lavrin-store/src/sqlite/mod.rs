//! A memory in one file on this machine.

mod chain;
mod health;
mod observations;
mod pruning;
mod rows;
mod sightings;

use crate::chain::{ChainedLine, JournalLine};
use crate::copied::{StorePart, StoreRow, TakeRows};
use crate::fault::{DatabaseFault, StoreResult};
use crate::holds::HoldFiles;
use crate::store::{
    DayOfChange, HostHold, HostRecord, Look, Recorded, Seen, SeenHosts, SightingsOf, Store, StoreFinding, StoreNumbers,
    Stored, checked,
};
use crate::{StoreFault, private};
use lavrin_keys::key::Fingerprint;
use lavrin_server::survey::key_use::KeyUse;
use lavrin_server::survey::snapshot::Hash;
use rusqlite::config::DbConfig;
use rusqlite::{Connection, ErrorCode, OptionalExtension as _, Row, params};
use std::collections::{HashMap, HashSet};
use std::fs::{Metadata, OpenOptions};
use std::io::{ErrorKind, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The file in the folder of the store.
pub(crate) const FILE: &str = "store.sqlite3";

/// Marks the file as ours (`application_id`): "LVRN".
const APPLICATION: i32 = 0x4c56_524e;

/// The form of the tables (`user_version`).
const VERSION: i32 = 4;

/// How long to wait for another Lavrin that is writing.
const BUSY: Duration = Duration::from_secs(20);

const TABLES: &str = FORMS[3];

/// The tables in each form: what a store of that version consists of.
const FORMS: [&str; 4] = [
    include_str!("tables.sql"),
    concat!(include_str!("tables.sql"), include_str!("reports.sql")),
    concat!(include_str!("tables.sql"), include_str!("reports.sql"), include_str!("chain.sql")),
    concat!(
        include_str!("tables.sql"),
        include_str!("reports.sql"),
        include_str!("chain.sql"),
        include_str!("commits.sql")
    ),
];

/// The open file.
#[derive(Debug)]
pub(crate) struct SqliteStore {
    connection: Connection,
    path: PathBuf,
    holds: HoldFiles,
}

impl SqliteStore {
    /// Opens the file in this folder, and makes both where they are not there.
    pub(crate) fn open(folder: &Path) -> StoreResult<Self> {
        let path = folder.join(FILE);
        prepare(folder, &path).map_err(|source| StoreFault { path: path.clone(), source })?;
        let store = match Connection::open(&path) {
            Ok(connection) => Self { connection, path, holds: HoldFiles::in_folder(folder) },
            Err(error) => return Err(fault(&path, &error)),
        };
        store.set_up().map_err(|error| store.fault(&error))??;
        Ok(store)
    }

    fn set_up(&self) -> rusqlite::Result<StoreResult<()>> {
        self.connection.busy_timeout(BUSY)?;
        // Nothing in the file is run: no function in a view, a trigger or a default.
        self.connection.pragma_update(None, "trusted_schema", "off")?;
        // Keep the plan of a query: planning it again for other values took as long as the query.
        self.connection.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
        let number = |name: &str| self.connection.pragma_query_value(None, name, |row| row.get::<_, i32>(0));
        let tables: i64 = self.connection.query_row("SELECT count(*) FROM sqlite_schema", [], |row| row.get(0))?;
        let (application, version) = (number("application_id")?, number("user_version")?);
        let damaged = |said: String| Ok(Err(DatabaseFault::Damaged { place: self.place(), said }));
        if tables > 0 && application != APPLICATION {
            return damaged("it belongs to another program".to_owned());
        }
        if version > VERSION {
            return Ok(Err(DatabaseFault::Newer { place: self.place(), found: version, known: VERSION }));
        }
        if tables > 0
            && let Some(name) = foreign(&self.connection, version)?
        {
            return damaged(format!("'{name}' in it is none of this program's own tables, or not as they are"));
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
            if version < 3 {
                chain::begin(&self.connection)?;
            }
            self.connection.pragma_update(None, "user_version", VERSION)?;
        }
        self.connection.execute_batch("COMMIT")?;
        rollback.not_needed();
        Ok(())
    }

    fn fault(&self, error: &rusqlite::Error) -> DatabaseFault {
        fault(&self.path, error)
    }

    fn batch(&self, sql: &str) -> StoreResult<()> {
        self.connection.execute_batch(sql).map_err(|error| self.fault(&error))
    }

    fn execute(&self, sql: &str, values: impl rusqlite::Params) -> StoreResult<()> {
        let run = || self.connection.prepare_cached(sql)?.execute(values);
        run().map(drop).map_err(|error| self.fault(&error))
    }

    fn rows<T>(
        &self,
        sql: &str,
        values: impl rusqlite::Params,
        row: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> StoreResult<Vec<T>> {
        let read = || self.connection.prepare_cached(sql)?.query_map(values, row)?.collect::<Result<Vec<T>, _>>();
        read().map_err(|error| self.fault(&error))
    }
}

impl Store for SqliteStore {
    fn place(&self) -> String {
        self.path.display().to_string()
    }

    fn kind(&self) -> &'static str {
        "sqlite"
    }

    fn begin(&self) -> StoreResult<()> {
        self.batch("BEGIN IMMEDIATE")
    }

    fn commit(&self) -> StoreResult<()> {
        self.batch("COMMIT")
    }

    fn roll_back(&self) {
        let _ = self.connection.execute_batch("ROLLBACK");
    }

    fn has_begun(&self) -> bool {
        !self.connection.is_autocommit()
    }

    fn keep(&self, contents: &[(Hash, &[u8])]) -> StoreResult<()> {
        let sql = "INSERT INTO content (hash, bytes) VALUES (?1, ?2) ON CONFLICT DO NOTHING";
        contents.iter().try_for_each(|(hash, bytes)| self.execute(sql, params![hash, bytes]))
    }

    fn contents(&self, hashes: &[Hash]) -> StoreResult<HashMap<Hash, Vec<u8>>> {
        let mut found = HashMap::with_capacity(hashes.len());
        for hash in hashes {
            let read = || {
                let mut query = self.connection.prepare_cached("SELECT bytes FROM content WHERE hash = ?1")?;
                query.query_row(params![hash], |row| row.get::<_, Vec<u8>>(0)).optional()
            };
            if let Some(bytes) = read().map_err(|error| self.fault(&error))? {
                found.insert(*hash, checked(&self.place(), hash, bytes)?);
            }
        }
        Ok(found)
    }

    fn each_content(&self, visit: &mut dyn FnMut(&[u8], &[u8])) -> StoreResult<()> {
        let mut read = || {
            let mut query = self.connection.prepare("SELECT hash, bytes FROM content")?;
            let mut rows = query.query([])?;
            while let Some(row) = rows.next()? {
                visit(row.get_ref(0)?.as_blob()?, row.get_ref(1)?.as_blob()?);
            }
            Ok(())
        };
        read().map_err(|error| self.fault(&error))
    }

    fn append(&self, line: &JournalLine) -> StoreResult<()> {
        chain::append(&self.connection, line).map_err(|error| self.fault(&error))
    }

    fn each_line(&self, visit: &mut dyn FnMut(ChainedLine)) -> StoreResult<()> {
        chain::each(&self.connection, visit).map_err(|error| self.fault(&error))
    }

    fn record(&self, records: &[HostRecord]) -> StoreResult<Vec<Recorded>> {
        records.iter().map(|record| self.record_one(record)).collect()
    }

    fn record_fault(&self, host: &str, time: i64, fault: &str) -> StoreResult<()> {
        self.note_fault(host, time, fault)
    }

    fn rename_host(&self, old: &str, new: &str) -> StoreResult<()> {
        for table in ["observation", "look", "sighting", "key_use", "look_commit", "observation_commit"] {
            self.execute(&format!("UPDATE {table} SET host = ?2 WHERE host = ?1"), params![old, new])?;
        }
        Ok(())
    }

    fn looks(&self, hosts: Option<&[&str]>) -> StoreResult<Vec<Look>> {
        self.last_looks(hosts)
    }

    fn seen_hosts(&self) -> StoreResult<SeenHosts> {
        self.count_looks()
    }

    fn observations_at(&self, hosts: &[&str], time: i64) -> StoreResult<Vec<Option<Stored>>> {
        hosts.iter().map(|host| self.observation_at(host, time)).collect()
    }

    fn sightings(&self, of: SightingsOf<'_>) -> StoreResult<Vec<Seen>> {
        self.seen_entries(of)
    }

    fn key_uses(&self) -> StoreResult<Vec<(String, String, Fingerprint, KeyUse)>> {
        self.last_uses()
    }

    fn first_seen(&self) -> StoreResult<HashMap<Fingerprint, i64>> {
        self.keys_first_seen()
    }

    fn changes(&self, after: i64, until: i64) -> StoreResult<Vec<DayOfChange>> {
        self.days_of_change(after, until)
    }

    fn note_report(&self, time: i64, scope: &str, numbers: &str, instead: bool) -> StoreResult<()> {
        if instead {
            self.execute("DELETE FROM report WHERE scope = ?1", params![scope])?;
        }
        self.execute("INSERT INTO report (time, scope, numbers) VALUES (?1, ?2, ?3)", params![time, scope, numbers])
    }

    fn reports(&self, scope: &str, before: i64) -> StoreResult<Vec<(i64, String)>> {
        let sql = "SELECT time, numbers FROM report WHERE scope = ?1 AND time < ?2 ORDER BY time, rowid";
        self.rows(sql, params![scope, before], |row| Ok((row.get(0)?, row.get(1)?)))
    }

    fn numbers(&self) -> StoreResult<StoreNumbers> {
        self.count_all()
    }

    fn structure(&self) -> StoreResult<Vec<StoreFinding>> {
        self.check_structure()
    }

    fn each_row(&self, part: StorePart, take: TakeRows<'_>) -> StoreResult<()> {
        self.hand_out(part, take)
    }

    fn put_rows(&self, rows: &[StoreRow]) -> StoreResult<()> {
        self.take_in(rows)
    }

    fn prune(&self, before: i64, time: i64) -> StoreResult<(Vec<Hash>, usize)> {
        self.prune_seen(before, time)
    }

    fn documents(&self) -> StoreResult<HashSet<Hash>> {
        self.all_documents()
    }

    fn forget(&self, hashes: &[Hash]) -> StoreResult<()> {
        hashes.iter().try_for_each(|hash| self.execute("DELETE FROM content WHERE hash = ?1", params![hash]))
    }

    fn pruned(&self) -> StoreResult<Option<i64>> {
        Ok(self.rows("SELECT max(before) FROM pruned", [], |row| row.get(0))?.pop().flatten())
    }

    // A file is put aside under another name instead.
    fn mark_moved(&self, _: &str, _: i64) -> StoreResult<()> {
        Ok(())
    }

    fn hold(&self, host: &str, who: &str, now: i64) -> StoreResult<HostHold> {
        Ok(self.holds.take(host, who, now)?)
    }

    fn let_go(&self, host: &str) {
        self.holds.give_back(host);
    }
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

/// The folder for its owner alone, kept out of version control, and an empty file that only its owner may read.
fn prepare(folder: &Path, path: &Path) -> std::io::Result<()> {
    prepare_folder(folder)?;
    let new = || OpenOptions::new().write(true).create_new(true).mode(0o600).open(path);
    put(path, Metadata::is_file, || new().map(drop))?;
    for beside in ["", "-wal", "-shm", "-journal"] {
        let mut name = path.as_os_str().to_owned();
        name.push(beside);
        private::file(Path::new(&name))?;
    }
    Ok(())
}

/// The folder for its owner alone, kept out of version control.
pub(crate) fn prepare_folder(folder: &Path) -> std::io::Result<()> {
    // A register comes by version control too: a link in it must not lead the store elsewhere.
    put(folder, Metadata::is_dir, || std::fs::DirBuilder::new().mode(0o700).create(folder))?;
    private::folder(folder)?;
    let ignore = folder.join(".gitignore");
    let new = || OpenOptions::new().write(true).create_new(true).mode(0o644).open(&ignore);
    put(&ignore, Metadata::is_file, || new()?.write_all(b"*\n"))
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

fn fault(path: &Path, error: &rusqlite::Error) -> DatabaseFault {
    let (place, said) = (path.display().to_string(), error.to_string());
    match error.sqlite_error_code() {
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => DatabaseFault::Damaged { place, said },
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => DatabaseFault::Busy { place },
        _ => DatabaseFault::Other { place, said },
    }
}
