//! The chain of the journal: each line holds the hash over the line before it and itself. Whoever removes, adds or changes a line has
//! to rewrite all lines after it, and the last hash changes.

use crate::chain::{ChainedLine, JournalLine, link};
use lavrin_server::survey::snapshot::Hash;
use rusqlite::{Connection, OptionalExtension as _, params};

/// Appends a line and its hash. The caller has begun a transaction.
pub(super) fn append(connection: &Connection, line: &JournalLine) -> rusqlite::Result<()> {
    connection
        .prepare_cached("INSERT INTO journal (id, time, entry) VALUES (?1, ?2, ?3)")?
        .execute(params![line.id, line.time, line.entry])?;
    let number = connection.last_insert_rowid();
    let before = connection
        .prepare_cached("SELECT hash FROM chain ORDER BY number DESC LIMIT 1")?
        .query_row([], |row| row.get::<_, Hash>(0))
        .optional()?;
    connection
        .prepare_cached("INSERT INTO chain (number, hash) VALUES (?1, ?2)")?
        .execute(params![number, link(before.as_ref(), number, line)])?;
    Ok(())
}

/// Gives each line of a journal from before the chain its hash.
pub(super) fn begin(connection: &Connection) -> rusqlite::Result<()> {
    let mut lines = connection.prepare("SELECT number, id, time, entry FROM journal ORDER BY number")?;
    let mut write = connection.prepare("INSERT INTO chain (number, hash) VALUES (?1, ?2)")?;
    let mut before = None;
    let mut rows = lines.query([])?;
    while let Some(row) = rows.next()? {
        let number: i64 = row.get(0)?;
        let hash =
            link(before.as_ref(), number, &JournalLine { id: row.get(1)?, time: row.get(2)?, entry: row.get(3)? });
        write.execute(params![number, hash])?;
        before = Some(hash);
    }
    Ok(())
}

/// Each line with its hash, in order; what has only one of the two too.
pub(super) fn each(connection: &Connection, visit: &mut dyn FnMut(ChainedLine)) -> rusqlite::Result<()> {
    let sql = "SELECT coalesce(journal.number, chain.number), journal.id, journal.time, journal.entry, chain.hash
        FROM journal FULL OUTER JOIN chain ON chain.number = journal.number ORDER BY 1";
    let mut query = connection.prepare(sql)?;
    let mut rows = query.query([])?;
    while let Some(row) = rows.next()? {
        let line: (Option<String>, Option<String>, Option<String>) = (row.get(1)?, row.get(2)?, row.get(3)?);
        let line = match line {
            (Some(id), Some(time), Some(entry)) => Some(JournalLine { id, time, entry }),
            _ => None,
        };
        visit(ChainedLine { number: row.get(0)?, line, hash: row.get(4)? });
    }
    Ok(())
}
