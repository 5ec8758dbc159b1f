//! A store taken apart into rows, so that another one can hold the same, and the sums by which both are held against each other.

use crate::chain::ChainedLine;
use crate::fault::StoreResult;
use lavrin_server::survey::snapshot::{Hash, hash};
use serde::Serialize;

/// A row of a store, whatever its tables look like.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub(crate) enum StoreRow {
    /// A content under its hash.
    Content { hash: Vec<u8>, bytes: Vec<u8> },
    /// What a host was like before, from the first look to the last.
    Past { host: String, document: Vec<u8>, first: i64, last: i64, register: Option<String> },
    /// What a host is like, and how the last look at it ended.
    Current {
        host: String,
        tried: i64,
        seen: Option<i64>,
        fault: Option<String>,
        logs_since: Option<i64>,
        register: Option<String>,
        /// Document, beginning, and the commit of then; none where it was never seen.
        as_seen: Option<(Vec<u8>, i64, Option<String>)>,
    },
    /// An entry over time.
    Sighting { host: String, account: String, key: String, comment: String, first: i64, gone: Option<i64> },
    /// The last use of a key.
    KeyUse { host: String, account: String, key: String, time: i64, origin: String },
    /// What a report counted.
    Report { time: i64, scope: String, numbers: String },
    /// A line of the journal with its hash.
    Line { number: i64, id: String, time: String, entry: String, hash: Vec<u8> },
    /// What was pruned.
    Pruned { before: i64, time: i64 },
}

/// The parts of a store, in the order in which they are copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum StorePart {
    Contents,
    Past,
    Current,
    Sightings,
    KeyUses,
    Reports,
    Journal,
    Pruned,
}

impl StorePart {
    pub(crate) const ALL: [Self; 8] = [
        Self::Contents,
        Self::Past,
        Self::Current,
        Self::Sightings,
        Self::KeyUses,
        Self::Reports,
        Self::Journal,
        Self::Pruned,
    ];

    /// What people call it.
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Contents => "contents",
            Self::Past => "past observations",
            Self::Current => "hosts",
            Self::Sightings => "entries seen",
            Self::KeyUses => "uses of keys",
            Self::Reports => "reports",
            Self::Journal => "lines of the journal",
            Self::Pruned => "prunings",
        }
    }
}

/// How many rows a part has, and a sum over the hashes of all of them that does not depend on their order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct PartSum {
    pub rows: u64,
    sum: [u64; 4],
}

impl PartSum {
    pub(crate) fn add_all(&mut self, rows: &[StoreRow]) {
        for row in rows {
            self.add(row);
        }
    }

    fn add(&mut self, row: &StoreRow) {
        let own: Hash = hash(&serde_json::to_vec(row).expect("these types have only text keys"));
        self.rows += 1;
        for (sum, bytes) in self.sum.iter_mut().zip(own.as_chunks::<8>().0) {
            *sum = sum.wrapping_add(u64::from_be_bytes(*bytes));
        }
    }
}

/// A line of the journal as a row; one that is not whole is none.
pub(crate) fn line_row(line: ChainedLine) -> Option<StoreRow> {
    let own = line.line?;
    Some(StoreRow::Line {
        number: line.number,
        id: own.id,
        time: own.time,
        entry: own.entry,
        hash: line.hash?.to_vec(),
    })
}

/// Handed rows, some at once.
pub(crate) type TakeRows<'a> = &'a mut dyn FnMut(Vec<StoreRow>) -> StoreResult<()>;
