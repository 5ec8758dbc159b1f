//! What Lavrin remembers between runs, in the user's state folder: a backup of every file it replaces, by content, and
//! a journal in which the intent stands before a change and the outcome after it.

mod backup;
pub mod database;
mod journal;
pub mod register;

pub use journal::{Entry, Event, Outcome};

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
    fn write_down(&self, entry: &Entry) -> Result<(), StoreFault>;
}

impl Keeper for State {
    fn back_up(&self, bytes: &[u8]) -> Result<String, StoreFault> {
        Self::back_up(self, bytes)
    }

    fn write_down(&self, entry: &Entry) -> Result<(), StoreFault> {
        Self::write_down(self, entry)
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
        Ok(path)
    }
}
