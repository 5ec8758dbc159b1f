//! The file taken apart into rows, and put together from them.

use super::{SqliteStore, chain};
use crate::chain::JournalLine;
use crate::copied::{StorePart, StoreRow, TakeRows, line_row};
use crate::fault::StoreResult;

use rusqlite::{Row, params};

/// Rows that are handed over at once.
const AT_ONCE: usize = 500;

type ReadSqliteRow = fn(&Row<'_>) -> rusqlite::Result<StoreRow>;

impl SqliteStore {
    pub(super) fn hand_out(&self, part: StorePart, take: TakeRows<'_>) -> StoreResult<()> {
        let (sql, row): (&str, ReadSqliteRow) = match part {
            StorePart::Contents => ("SELECT hash, bytes FROM content", |row| {
                Ok(StoreRow::Content { hash: row.get(0)?, bytes: row.get(1)? })
            }),
            StorePart::Past => (
                "SELECT o.host, o.document, o.first, o.last, c.register FROM observation o
                 LEFT JOIN observation_commit c ON c.host = o.host AND c.first = o.first
                 WHERE o.id <> (SELECT id FROM observation n WHERE n.host = o.host ORDER BY first DESC, id DESC LIMIT 1)",
                |row| {
                    let (host, document, first) = (row.get(0)?, row.get(1)?, row.get(2)?);
                    Ok(StoreRow::Past { host, document, first, last: row.get(3)?, register: row.get(4)? })
                },
            ),
            StorePart::Current => (
                "SELECT l.host, l.tried, l.seen, l.fault, l.logs_since, lc.register, o.document, o.first, c.register
                 FROM look l LEFT JOIN look_commit lc ON lc.host = l.host
                 LEFT JOIN observation o ON o.id =
                   (SELECT id FROM observation n WHERE n.host = l.host ORDER BY first DESC, id DESC LIMIT 1)
                 LEFT JOIN observation_commit c ON c.host = o.host AND c.first = o.first",
                current,
            ),
            StorePart::Sightings => ("SELECT host, account, key, comment, first, gone FROM sighting", |row| {
                let (host, account, key) = (row.get(0)?, row.get(1)?, row.get(2)?);
                let (comment, first, gone) = (row.get(3)?, row.get(4)?, row.get(5)?);
                Ok(StoreRow::Sighting { host, account, key, comment, first, gone })
            }),
            StorePart::KeyUses => ("SELECT host, account, key, time, origin FROM key_use", |row| {
                let (host, account, key) = (row.get(0)?, row.get(1)?, row.get(2)?);
                Ok(StoreRow::KeyUse { host, account, key, time: row.get(3)?, origin: row.get(4)? })
            }),
            StorePart::Reports => ("SELECT time, scope, numbers FROM report ORDER BY rowid", |row| {
                Ok(StoreRow::Report { time: row.get(0)?, scope: row.get(1)?, numbers: row.get(2)? })
            }),
            StorePart::Pruned => ("SELECT before, time FROM pruned", |row| {
                Ok(StoreRow::Pruned { before: row.get(0)?, time: row.get(1)? })
            }),
            StorePart::Journal => return self.hand_out_journal(take),
        };
        let mut query = self.connection.prepare(sql).map_err(|error| self.fault(&error))?;
        let mut rows = query.query([]).map_err(|error| self.fault(&error))?;
        let mut some = Vec::with_capacity(AT_ONCE);
        while let Some(found) = rows.next().map_err(|error| self.fault(&error))? {
            some.push(row(found).map_err(|error| self.fault(&error))?);
            if some.len() == AT_ONCE {
                take(std::mem::take(&mut some))?;
            }
        }
        take(some)
    }

    fn hand_out_journal(&self, take: TakeRows<'_>) -> StoreResult<()> {
        let mut rows = Vec::new();
        chain::each(&self.connection, &mut |line| rows.extend(line_row(line))).map_err(|error| self.fault(&error))?;
        take(rows)
    }

    pub(super) fn take_in(&self, rows: &[StoreRow]) -> StoreResult<()> {
        rows.iter().try_for_each(|row| self.take_in_one(row))
    }

    fn take_in_one(&self, row: &StoreRow) -> StoreResult<()> {
        match row {
            StoreRow::Content { hash, bytes } => self.execute(
                "INSERT INTO content (hash, bytes) VALUES (?1, ?2) ON CONFLICT DO NOTHING",
                params![hash, bytes],
            ),
            StoreRow::Past { host, document, first, last, register } => {
                self.put_observation(host, document, *first, *last, register.as_ref())
            }
            StoreRow::Current { host, tried, seen, fault, logs_since, register, as_seen } => {
                self.execute(
                    "INSERT INTO look (host, tried, seen, fault, logs_since) VALUES (?1, ?2, ?3, ?4, ?5)",
                    params![host, tried, seen, fault, logs_since],
                )?;
                if let Some(register) = register {
                    let sql = "INSERT INTO look_commit (host, register) VALUES (?1, ?2)";
                    self.execute(sql, params![host, register])?;
                }
                match as_seen {
                    Some((document, first, then)) => {
                        self.put_observation(host, document, *first, seen.unwrap_or(*first), then.as_ref())
                    }
                    None => Ok(()),
                }
            }
            StoreRow::Sighting { host, account, key, comment, first, gone } => self.execute(
                "INSERT INTO sighting (host, account, key, comment, first, gone) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![host, account, key, comment, first, gone],
            ),
            StoreRow::KeyUse { host, account, key, time, origin } => self.execute(
                "INSERT INTO key_use (host, account, key, time, origin) VALUES (?1, ?2, ?3, ?4, ?5)",
                params![host, account, key, time, origin],
            ),
            StoreRow::Report { time, scope, numbers } => self.execute(
                "INSERT INTO report (time, scope, numbers) VALUES (?1, ?2, ?3)",
                params![time, scope, numbers],
            ),
            StoreRow::Line { id, time, entry, .. } => {
                let line = JournalLine { id: id.clone(), time: time.clone(), entry: entry.clone() };
                chain::append(&self.connection, &line).map_err(|error| self.fault(&error))
            }
            StoreRow::Pruned { before, time } => {
                self.execute("INSERT INTO pruned (before, time) VALUES (?1, ?2)", params![before, time])
            }
        }
    }

    fn put_observation(
        &self,
        host: &str,
        document: &[u8],
        first: i64,
        last: i64,
        register: Option<&String>,
    ) -> StoreResult<()> {
        self.execute(
            "INSERT INTO observation (host, document, first, last) VALUES (?1, ?2, ?3, ?4)",
            params![host, document, first, last],
        )?;
        let Some(register) = register else { return Ok(()) };
        let sql = "INSERT INTO observation_commit (host, first, register) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING";
        self.execute(sql, params![host, first, register])
    }
}

fn current(row: &Row<'_>) -> rusqlite::Result<StoreRow> {
    let (document, first): (Option<Vec<u8>>, Option<i64>) = (row.get(6)?, row.get(7)?);
    let then: Option<String> = row.get(8)?;
    Ok(StoreRow::Current {
        host: row.get(0)?,
        tried: row.get(1)?,
        seen: row.get(2)?,
        fault: row.get(3)?,
        logs_since: row.get(4)?,
        register: row.get(5)?,
        as_seen: document.zip(first).map(|(document, first)| (document, first, then)),
    })
}
