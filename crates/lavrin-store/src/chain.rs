//! The chain of the journal: each line holds the hash over the line before it and itself. Whoever removes, adds or changes a line has
//! to rewrite all lines after it, and the last hash changes.

use lavrin_server::survey::snapshot::{Hash, hash};

/// A line of the journal as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct JournalLine {
    /// Which change it belongs to.
    pub id: String,
    /// When, in UTC (RFC 3339).
    pub time: String,
    /// The whole entry, as JSON.
    pub entry: String,
}

/// A line and its place in the chain; one without the other is a break.
#[derive(Debug, Clone)]
pub(crate) struct ChainedLine {
    /// Its number, from 1.
    pub number: i64,
    /// The line.
    pub line: Option<JournalLine>,
    /// The hash that is kept for it.
    pub hash: Option<Hash>,
}

/// What stands before the first line of the journal.
const BEGIN: Hash = [0; 32];

/// The hash of a line behind the one with this hash: over the number, the id, the time and the text, each with its length.
pub(crate) fn link(before: Option<&Hash>, number: i64, line: &JournalLine) -> Hash {
    let mut bytes = before.unwrap_or(&BEGIN).to_vec();
    bytes.extend(number.to_be_bytes());
    for text in [&line.id, &line.time, &line.entry] {
        bytes.extend((text.len() as u64).to_be_bytes());
        bytes.extend(text.as_bytes());
    }
    hash(&bytes)
}
