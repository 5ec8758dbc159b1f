//! A store is moved to another place: everything is copied, then both are held against each other by number and by sum.

use super::{Database, DatabaseFault, FOLDER, settings};
use crate::StoreFault;
use crate::copied::{PartSum, StorePart};
use crate::fault::StoreResult;
use crate::postgres::PostgresStore;
use crate::sqlite::{self, SqliteStore};
use crate::store::Store;
use std::path::{Path, PathBuf};

/// A store that was copied. The register still names the old place; once it names the new one, `finish` closes the old.
#[must_use = "the old store is closed by finish"]
pub struct MovedStore {
    /// What was copied of each part: its name, and how many.
    pub parts: Vec<(&'static str, u64)>,
    /// Where it was.
    pub from: String,
    /// Where it is.
    pub to: String,
    register: PathBuf,
    old: Database,
    now: i64,
}

/// Copies the store of a register to an address, or without one into a new file on this machine, and agrees to the new place.
///
/// # Errors
/// [`DatabaseFault`]; then the old store is as it was and in force, and the new one holds nothing.
pub fn move_store(register: &Path, to: Option<&str>, now: i64) -> StoreResult<MovedStore> {
    to.map_or(Ok(()), settings::check_address)?;
    let old = Database::open(register)?;
    if let Some(line) = old.chain()?.broken_at {
        let said = format!("line {line} of its journal does not fit, so it is not copied");
        return Err(DatabaseFault::Damaged { place: old.place(), said });
    }
    if (old.kind() == "sqlite") == to.is_none() || to.is_some_and(|to| to == old.place()) {
        return Err(DatabaseFault::Other { place: old.place(), said: "it is there already".to_owned() });
    }
    let target = MoveTarget::of(register, to)?;
    let parts = copied(old.store.as_ref(), target.store.as_ref())?;
    let from = old.place();
    let new = to.map_or_else(|| register.join(FOLDER).join(sqlite::FILE).display().to_string(), ToOwned::to_owned);
    target.settle(register)?;
    if let Some(url) = to {
        settings::agree(register, Some(url))?;
    }
    Ok(MovedStore { parts, from, to: new, register: register.to_owned(), old, now })
}

impl MovedStore {
    /// Closes the old place: a file gets another name, a database a note, so that nobody goes on with it by mistake.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn finish(self) -> StoreResult<()> {
        if self.old.kind() == "sqlite" {
            drop(self.old);
            return put_aside(&self.register, self.now);
        }
        self.old.store.mark_moved(&self.to, self.now)?;
        settings::agree(&self.register, None)
    }
}

/// Where a store goes.
struct MoveTarget {
    store: Box<dyn Store>,
    /// A new file stands beside its place until it is whole.
    beside: Option<PathBuf>,
}

impl MoveTarget {
    fn of(register: &Path, to: Option<&str>) -> StoreResult<Self> {
        if let Some(url) = to {
            return Ok(Self { store: Box::new(PostgresStore::open(url)?), beside: None });
        }
        let folder = register.join(FOLDER).join("moving");
        let _ = std::fs::remove_dir_all(&folder);
        Ok(Self { store: Box::new(SqliteStore::open(&folder)?), beside: Some(folder) })
    }

    /// Puts a new file into its place.
    fn settle(self, register: &Path) -> StoreResult<()> {
        let Some(beside) = self.beside else { return Ok(()) };
        // What it still has to write it writes when it is closed.
        drop(self.store);
        let path = register.join(FOLDER).join(sqlite::FILE);
        let put = || {
            std::fs::rename(beside.join(sqlite::FILE), &path)?;
            std::fs::remove_dir_all(&beside)
        };
        put().map_err(|source| StoreFault { path: path.clone(), source }.into())
    }
}

/// Nothing is ever written over: the file gets a name with its time.
fn put_aside(register: &Path, now: i64) -> StoreResult<()> {
    let folder = register.join(FOLDER);
    for beside in ["", "-wal", "-shm"] {
        let path = folder.join(format!("{}{beside}", sqlite::FILE));
        match std::fs::rename(&path, folder.join(format!("moved-{now}.sqlite3{beside}"))) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                return Err(StoreFault { path, source: error }.into());
            }
            _ => {}
        }
    }
    Ok(())
}

fn copied(from: &dyn Store, to: &dyn Store) -> StoreResult<Vec<(&'static str, u64)>> {
    let other = |said: &str| DatabaseFault::Other { place: to.place(), said: said.to_owned() };
    let numbers = to.numbers()?;
    if numbers.hosts + numbers.journal + numbers.sightings > 0 {
        return Err(other("it holds something already; a store is moved into an empty one"));
    }
    // Nobody writes into a file meanwhile; of a server one moment is read.
    from.begin()?;
    let _from = super::OpenTransaction(Some(from));
    to.begin()?;
    let rollback = super::OpenTransaction(Some(to));
    let mut sums = Vec::new();
    for part in StorePart::ALL {
        let mut sum = PartSum::default();
        from.each_row(part, &mut |rows| {
            sum.add_all(&rows);
            to.put_rows(&rows)
        })?;
        sums.push((part, sum));
    }
    for (part, sum) in &sums {
        // Contents that are in the new place already are nobody's loss.
        let is_contents = *part == StorePart::Contents;
        if !is_contents && sum_of(from, *part)? != *sum {
            return Err(other("somebody wrote into the old store meanwhile; try it again when nobody works with it"));
        }
        let copy = sum_of(to, *part)?;
        if copy != *sum && !(is_contents && copy.rows > sum.rows) {
            return Err(other(&format!("the copy of its {} is not what it should be", part.name())));
        }
    }
    to.commit()?;
    rollback.not_needed();
    Ok(sums.into_iter().map(|(part, sum)| (part.name(), sum.rows)).collect())
}

fn sum_of(store: &dyn Store, part: StorePart) -> StoreResult<PartSum> {
    let mut sum = PartSum::default();
    store.each_row(part, &mut |rows| {
        sum.add_all(&rows);
        Ok(())
    })?;
    Ok(sum)
}
