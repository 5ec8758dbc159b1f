//! The chain of the journal: each line holds the hash over the line before it and itself. Whoever removes, adds or changes a line has
//! to rewrite all lines after it, and the last hash changes.

use super::{Database, DatabaseFault, Hash, hash};
use rusqlite::{Connection, OptionalExtension as _, params};

/// What stands before the first line.
const BEGIN: Hash = [0; 32];

/// The hash of a line behind the one with this hash: over the number, the id, the time and the text, each with its length.
fn link(before: &Hash, number: i64, id: &str, time: &str, entry: &str) -> Hash {
    let mut bytes = before.to_vec();
    bytes.extend(number.to_be_bytes());
    for text in [id, time, entry] {
        bytes.extend((text.len() as u64).to_be_bytes());
        bytes.extend(text.as_bytes());
    }
    hash(&bytes)
}

/// How the journal stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChainStanding {
    /// Lines.
    pub lines: usize,
    /// The last hash, in hexadecimal; whoever notes it elsewhere can tell later whether anything before it was changed.
    pub last: String,
    /// The number of the first line that does not fit.
    pub broken_at: Option<i64>,
}

/// Appends a line and its hash. The caller has begun a transaction.
pub(super) fn append(connection: &Connection, id: &str, time: &str, entry: &str) -> rusqlite::Result<()> {
    connection
        .prepare_cached("INSERT INTO journal (id, time, entry) VALUES (?1, ?2, ?3)")?
        .execute(params![id, time, entry])?;
    let number = connection.last_insert_rowid();
    let before = connection
        .prepare_cached("SELECT hash FROM chain ORDER BY number DESC LIMIT 1")?
        .query_row([], |row| row.get::<_, Hash>(0))
        .optional()?
        .unwrap_or(BEGIN);
    connection
        .prepare_cached("INSERT INTO chain (number, hash) VALUES (?1, ?2)")?
        .execute(params![number, link(&before, number, id, time, entry)])?;
    Ok(())
}

/// Gives each line of a journal from before the chain its hash.
pub(super) fn begin(connection: &Connection) -> rusqlite::Result<()> {
    let mut lines = connection.prepare("SELECT number, id, time, entry FROM journal ORDER BY number")?;
    let mut write = connection.prepare("INSERT INTO chain (number, hash) VALUES (?1, ?2)")?;
    let mut before = BEGIN;
    let mut rows = lines.query([])?;
    while let Some(row) = rows.next()? {
        let (number, id, time, entry): (i64, String, String, String) =
            (row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?);
        before = link(&before, number, &id, &time, &entry);
        write.execute(params![number, before])?;
    }
    Ok(())
}

impl Database {
    /// Goes over the whole journal and holds each line against its hash. A line without one, and a hash without a line, is a break.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn chain(&self) -> Result<ChainStanding, DatabaseFault> {
        let read = || {
            let sql =
                "SELECT coalesce(journal.number, chain.number), journal.id, journal.time, journal.entry, chain.hash
                FROM journal FULL OUTER JOIN chain ON chain.number = journal.number ORDER BY 1";
            let mut query = self.connection.prepare(sql)?;
            let mut rows = query.query([])?;
            let (mut before, mut lines, mut broken_at) = (BEGIN, 0, None);
            while let Some(row) = rows.next()? {
                let number: i64 = row.get(0)?;
                let line: (Option<String>, Option<String>, Option<String>) = (row.get(1)?, row.get(2)?, row.get(3)?);
                let kept: Option<Hash> = row.get(4)?;
                lines += usize::from(line.0.is_some());
                let own = match line {
                    (Some(id), Some(time), Some(entry)) => Some(link(&before, number, &id, &time, &entry)),
                    _ => None,
                };
                if own.is_none() || own != kept {
                    broken_at = broken_at.or(Some(number));
                }
                before = kept.or(own).unwrap_or(before);
            }
            let last = before.iter().map(|byte| format!("{byte:02x}")).collect();
            Ok(ChainStanding { lines, last, broken_at })
        };
        read().map_err(|error| self.fault(error))
    }
}
