//! Until when the agent holds what it was handed: it keeps to that, and does not tell it, so Lavrin remembers it.

use crate::error::CommandError;
use crate::paths;
use serde::{Deserialize, Serialize};
use std::io::Write as _;
use std::os::unix::fs::DirBuilderExt as _;

/// Its file in the state folder.
const FILE: &str = "agent.json";

/// Longest file that is read, in bytes.
const BYTES_MAX: u64 = 1 << 20;

/// A key that an agent was handed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Handed {
    /// Its fingerprint.
    pub key: String,
    /// The socket of the agent.
    pub socket: String,
    /// Until when, in seconds since 1970; none: until it ends.
    pub until: Option<i64>,
    /// Whether somebody is asked at each use.
    pub confirm: bool,
}

/// What is remembered. A file that does not read says nothing.
pub fn all() -> Vec<Handed> {
    let read = || {
        let file = std::fs::File::open(paths::state()?.join(FILE)).ok()?;
        serde_json::from_reader(std::io::Read::take(file, BYTES_MAX)).ok()
    };
    read().unwrap_or_default()
}

/// Remembers a key, and forgets what is over.
pub fn remember(new: Handed, now: i64) -> Result<(), CommandError> {
    let mut kept = all();
    kept.retain(|one| one.until.is_none_or(|until| until > now) && (&one.key, &one.socket) != (&new.key, &new.socket));
    kept.push(new);
    write(&kept)
}

/// Forgets keys that an agent let go.
pub fn forget(socket: &str, keys: &[String]) -> Result<(), CommandError> {
    let mut kept = all();
    let before = kept.len();
    kept.retain(|one| one.socket != socket || !keys.contains(&one.key));
    if kept.len() == before { Ok(()) } else { write(&kept) }
}

fn write(kept: &[Handed]) -> Result<(), CommandError> {
    let Some(folder) = paths::state() else { return Ok(()) };
    let path = folder.join(FILE);
    let fault = |error: std::io::Error| CommandError::file(&path, "write", &error);
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(fault)?;
    let mut draft = tempfile::NamedTempFile::new_in(&folder).map_err(fault)?;
    draft.write_all(&serde_json::to_vec(kept).unwrap_or_default()).map_err(fault)?;
    draft.persist(&path).map_err(|error| fault(error.error))?;
    Ok(())
}
