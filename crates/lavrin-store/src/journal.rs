//! The journal: one JSON object a line, only ever appended to.

use crate::{State, StoreFault};
use serde::{Deserialize, Serialize};
use std::fs::OpenOptions;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;

/// One line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Entry {
    /// Ties the outcome to its intent.
    pub id: String,
    /// When, in UTC (RFC 3339).
    pub time: String,
    /// What happened.
    #[serde(flatten)]
    pub event: Event,
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
    },
    /// How it ended.
    Outcome {
        /// In one word.
        outcome: Outcome,
        /// What was proven, or what went wrong.
        detail: String,
    },
}

/// The ways a change ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
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
    pub fn write_down(&self, entry: &Entry) -> Result<(), StoreFault> {
        let path = self.folder_for("")?.join("journal.jsonl");
        let mut line = serde_json::to_vec(entry).map_err(|error| Self::fault(&path)(error.into()))?;
        line.push(b'\n');
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
    pub fn journal(&self) -> Result<Vec<Entry>, StoreFault> {
        let path = self.folder().join("journal.jsonl");
        match std::fs::read(&path) {
            Ok(bytes) => {
                Ok(bytes.split(|byte| *byte == b'\n').filter_map(|line| serde_json::from_slice(line).ok()).collect())
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(Self::fault(&path)(error)),
        }
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
        let entry = Entry {
            id: "1".into(),
            time: "2026-11-23T08:00:00Z".into(),
            event: Event::Outcome { outcome: Outcome::Done, detail: "the server accepts the key".into() },
        };
        state.write_down(&entry).unwrap();
        let mut file = OpenOptions::new().append(true).open(folder.path().join("journal.jsonl")).unwrap();
        file.write_all(b"{\"id\":\"2\",\"ti").unwrap();
        assert_eq!(state.journal().unwrap(), [entry]);
    }
}
