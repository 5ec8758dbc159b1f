//! What Lavrin remembers between runs, in the user's state folder: a backup of every file it replaces, by content, and
//! a journal in which the intent stands before a change and the outcome after it.

mod backup;
mod chain;
mod copied;
mod copy;
pub mod database;
mod fault;
mod holds;
mod journal;
mod postgres;
mod private;
pub mod register;
mod shared_journal;
mod spool;
mod sqlite;
mod store;

pub use journal::{ChangeOutcome, Event, JournalEntry, KeptChange, KeptDeed, KeptKeyDeed};
pub use shared_journal::{SharedFault, SharedFaultKind};
pub use store::HostHold;

use rustix::fs::Mode;
use std::path::{Path, PathBuf};
use thiserror::Error;

/// Something about the state folder did not work.
#[derive(Debug, Error)]
#[error("{path}: {source}")]
pub struct StoreFault {
    /// The file or folder.
    pub path: PathBuf,
    /// What the system says.
    pub source: std::io::Error,
}

/// The state folder.
#[derive(Debug, Clone)]
pub struct State {
    folder: PathBuf,
}

/// Keeps backups and the journal: a register's store, or without a register the state folder.
pub trait Keeper {
    /// Keeps these bytes and gives the name under which they are found again: their SHA-256 in hexadecimal.
    ///
    /// # Errors
    /// [`StoreFault`] where they could not be written down safely; nothing should be changed then.
    fn back_up(&self, bytes: &[u8]) -> Result<String, StoreFault>;

    /// Appends a line to the journal and waits until it is on disk.
    ///
    /// # Errors
    /// [`StoreFault`].
    fn write_down(&self, entry: &JournalEntry) -> Result<(), StoreFault>;

    /// What was kept under a name.
    ///
    /// # Errors
    /// [`StoreFault`] where it cannot be read.
    fn kept(&self, name: &str) -> Result<Option<Vec<u8>>, StoreFault>;

    /// Every line of the journal, in order.
    ///
    /// # Errors
    /// [`StoreFault`].
    fn lines(&self) -> Result<Vec<JournalEntry>, StoreFault>;

    /// Makes sure that nobody else changes a place until it is let go, as far as this keeper reaches; tells who does, where somebody
    /// does.
    ///
    /// # Errors
    /// [`StoreFault`].
    fn hold(&self, _place: &str, _now: i64) -> Result<HostHold, StoreFault> {
        Ok(HostHold::Own)
    }

    /// Lets a place go.
    fn let_go(&self, _place: &str) {}

    /// Writes down how changes ended.
    ///
    /// # Errors
    /// [`StoreFault`].
    fn write_outcomes(&self, entries: &[JournalEntry]) -> Result<(), StoreFault> {
        self.at_once(&mut |keeper| entries.iter().try_for_each(|entry| keeper.write_down(entry)))
    }

    /// Does several things as one, where that is faster.
    ///
    /// # Errors
    /// [`StoreFault`] of the first that fails.
    fn at_once(&self, work: &mut dyn FnMut(&dyn Keeper) -> Result<(), StoreFault>) -> Result<(), StoreFault>;
}

/// The lock, also after a task crashed holding it: a transaction that was open then is rolled back by the next.
fn hold<K>(shared: &std::sync::Mutex<K>) -> std::sync::MutexGuard<'_, K> {
    shared.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

/// One that several threads share.
impl<K: Keeper> Keeper for std::sync::Mutex<K> {
    fn back_up(&self, bytes: &[u8]) -> Result<String, StoreFault> {
        hold(self).back_up(bytes)
    }

    fn write_down(&self, entry: &JournalEntry) -> Result<(), StoreFault> {
        hold(self).write_down(entry)
    }

    fn kept(&self, name: &str) -> Result<Option<Vec<u8>>, StoreFault> {
        hold(self).kept(name)
    }

    fn lines(&self) -> Result<Vec<JournalEntry>, StoreFault> {
        hold(self).lines()
    }

    fn hold(&self, place: &str, now: i64) -> Result<HostHold, StoreFault> {
        hold(self).hold(place, now)
    }

    fn let_go(&self, place: &str) {
        hold(self).let_go(place);
    }

    fn write_outcomes(&self, entries: &[JournalEntry]) -> Result<(), StoreFault> {
        hold(self).write_outcomes(entries)
    }

    fn at_once(&self, work: &mut dyn FnMut(&dyn Keeper) -> Result<(), StoreFault>) -> Result<(), StoreFault> {
        hold(self).at_once(work)
    }
}

impl Keeper for State {
    fn back_up(&self, bytes: &[u8]) -> Result<String, StoreFault> {
        Self::back_up(self, bytes)
    }

    fn write_down(&self, entry: &JournalEntry) -> Result<(), StoreFault> {
        Self::write_down(self, entry)
    }

    fn kept(&self, name: &str) -> Result<Option<Vec<u8>>, StoreFault> {
        let path = self.backup_path(name);
        let is_right = |bytes: &Vec<u8>| backup::name_of(bytes) == name;
        let kept = private::read(&path);
        if let Ok(Some(bytes)) = &kept
            && is_right(bytes)
        {
            return kept.map_err(Self::fault(&path));
        }
        if let Some(bytes) = copy::read(&self.copies(), name).ok().flatten().filter(is_right) {
            return Ok(Some(bytes));
        }
        match kept.map_err(Self::fault(&path))? {
            Some(_) => Err(Self::fault(&path)(std::io::Error::other("it is not the content that was kept"))),
            None => Ok(None),
        }
    }

    fn lines(&self) -> Result<Vec<JournalEntry>, StoreFault> {
        self.journal()
    }

    fn at_once(&self, work: &mut dyn FnMut(&dyn Keeper) -> Result<(), StoreFault>) -> Result<(), StoreFault> {
        work(self)
    }
}

impl State {
    /// Opens the folder; it is made, for its owner alone, when something is first kept in it.
    #[must_use]
    pub fn at(folder: &Path) -> Self {
        Self { folder: folder.to_owned() }
    }

    /// The folder.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    fn fault(path: &Path) -> impl FnOnce(std::io::Error) -> StoreFault {
        let path = path.to_owned();
        move |source| StoreFault { path, source }
    }

    /// Makes a folder below the state folder, with mode 0700, and gives its path.
    fn folder_for(&self, name: &str) -> Result<PathBuf, StoreFault> {
        use std::os::unix::fs::DirBuilderExt as _;
        let path = if name.is_empty() { self.folder.clone() } else { self.folder.join(name) };
        std::fs::DirBuilder::new()
            .recursive(true)
            .mode(Mode::RWXU.as_raw_mode())
            .create(&path)
            .map_err(Self::fault(&path))?;
        for folder in [&self.folder, &path] {
            private::folder(folder).map_err(Self::fault(folder))?;
        }
        Ok(path)
    }
}
