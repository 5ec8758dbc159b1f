//! The store taken apart into rows, and put together from them.

use super::{PostgresStore, ROWS_AT_ONCE};
use crate::copied::{StorePart, StoreRow, TakeRows, line_row};
use crate::fault::StoreResult;
use crate::store::Store as _;
use lavrin_server::survey::snapshot::Hash;
use tokio_postgres::Row;

type ReadPostgresRow = fn(&Row) -> StoreRow;

/// Rows of which there are many, column by column.
#[derive(Default)]
struct Batch<'a> {
    contents: Vec<(Hash, &'a [u8])>,
    past: PastColumns<'a>,
    sightings: SightingColumns<'a>,
}

#[derive(Default)]
struct PastColumns<'a> {
    hosts: Vec<&'a str>,
    documents: Vec<&'a [u8]>,
    firsts: Vec<i64>,
    lasts: Vec<i64>,
    registers: Vec<Option<&'a str>>,
}

#[derive(Default)]
struct SightingColumns<'a> {
    hosts: Vec<&'a str>,
    accounts: Vec<&'a str>,
    keys: Vec<&'a str>,
    comments: Vec<&'a str>,
    firsts: Vec<i64>,
    gones: Vec<Option<i64>>,
}

impl<'a> Batch<'a> {
    /// Takes a row in, where it is of such a kind.
    fn takes(&mut self, row: &'a StoreRow) -> bool {
        match row {
            StoreRow::Content { hash, bytes } => {
                // One whose name is no hash at all has no place in a store; the sums tell that it is missing.
                self.contents.extend(Hash::try_from(hash.as_slice()).ok().map(|hash| (hash, bytes.as_slice())));
            }
            StoreRow::Past { host, document, first, last, register } => {
                self.past.hosts.push(host);
                self.past.documents.push(document);
                self.past.firsts.push(*first);
                self.past.lasts.push(*last);
                self.past.registers.push(register.as_deref());
            }
            StoreRow::Sighting { host, account, key, comment, first, gone } => {
                self.sightings.hosts.push(host);
                self.sightings.accounts.push(account);
                self.sightings.keys.push(key);
                self.sightings.comments.push(comment);
                self.sightings.firsts.push(*first);
                self.sightings.gones.push(*gone);
            }
            _ => return false,
        }
        true
    }
}

impl PostgresStore {
    pub(super) fn hand_out(&self, part: StorePart, take: TakeRows<'_>) -> StoreResult<()> {
        let (sql, row): (&str, ReadPostgresRow) = match part {
            StorePart::Contents => {
                let content = |row: &Row| StoreRow::Content { hash: row.get(0), bytes: row.get(1) };
                return self.pages_of_contents(&mut |rows| take(rows.iter().map(content).collect()));
            }
            StorePart::Journal => {
                let mut rows = Vec::new();
                self.each_line(&mut |line| rows.extend(line_row(line)))?;
                return take(rows);
            }
            StorePart::Past => ("SELECT host, document, first, last, register FROM lavrin.observation", |row| {
                let (host, document, first) = (row.get(0), row.get(1), row.get(2));
                StoreRow::Past { host, document, first, last: row.get(3), register: row.get(4) }
            }),
            StorePart::Current => (
                "SELECT host, tried, seen, fault, logs_since, register, document, first, first_register FROM lavrin.look",
                current,
            ),
            StorePart::Sightings => ("SELECT host, account, key, comment, first, gone FROM lavrin.sighting", |row| {
                let (host, account, key, comment) = (row.get(0), row.get(1), row.get(2), row.get(3));
                StoreRow::Sighting { host, account, key, comment, first: row.get(4), gone: row.get(5) }
            }),
            StorePart::KeyUses => ("SELECT host, account, key, time, origin FROM lavrin.key_use", |row| {
                let (host, account, key) = (row.get(0), row.get(1), row.get(2));
                StoreRow::KeyUse { host, account, key, time: row.get(3), origin: row.get(4) }
            }),
            StorePart::Reports => ("SELECT time, scope, numbers FROM lavrin.report ORDER BY number", |row| {
                StoreRow::Report { time: row.get(0), scope: row.get(1), numbers: row.get(2) }
            }),
            StorePart::Pruned => ("SELECT before, time FROM lavrin.pruned", |row| StoreRow::Pruned {
                before: row.get(0),
                time: row.get(1),
            }),
        };
        // A cursor keeps memory small however much there is. It lives as long as the transaction that the caller began.
        let name = format!("copied_{part:?}").to_ascii_lowercase();
        self.server.batch(&format!("DECLARE {name} NO SCROLL CURSOR FOR {sql}"))?;
        loop {
            let rows = self.server.rows(&format!("FETCH {ROWS_AT_ONCE} FROM {name}"), &[])?;
            if rows.is_empty() {
                return self.server.batch(&format!("CLOSE {name}"));
            }
            take(rows.iter().map(row).collect())?;
        }
    }

    pub(super) fn take_in(&self, rows: &[StoreRow]) -> StoreResult<()> {
        let mut batch = Batch::default();
        for row in rows {
            // Lines follow each other, and of the others there are few.
            if !batch.takes(row) {
                self.take_in_one(row)?;
            }
        }
        let Batch { contents, past, sightings } = batch;
        if !contents.is_empty() {
            self.keep_new(&contents)?;
        }
        if !past.hosts.is_empty() {
            let sql = "INSERT INTO lavrin.observation (host, document, first, last, register)
                SELECT * FROM unnest($1::text[], $2::bytea[], $3::bigint[], $4::bigint[], $5::text[])";
            self.server.rows(sql, &[&past.hosts, &past.documents, &past.firsts, &past.lasts, &past.registers])?;
        }
        let SightingColumns { hosts, accounts, keys, comments, firsts, gones } = sightings;
        if !hosts.is_empty() {
            let sql = "INSERT INTO lavrin.sighting (host, account, key, comment, first, gone)
                SELECT * FROM unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::bigint[], $6::bigint[])";
            self.server.rows(sql, &[&hosts, &accounts, &keys, &comments, &firsts, &gones])?;
        }
        Ok(())
    }

    fn take_in_one(&self, row: &StoreRow) -> StoreResult<()> {
        let done = match row {
            StoreRow::Current { host, tried, seen, fault, logs_since, register, as_seen } => {
                let (document, first, then) = match as_seen {
                    Some((document, first, then)) => (Some(document), Some(*first), then.as_ref()),
                    None => (None, None, None),
                };
                self.server.rows(
                    "INSERT INTO lavrin.look (host, tried, seen, fault, logs_since, register, document, first, first_register)
                     VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
                    &[host, tried, seen, fault, logs_since, register, &document, &first, &then],
                )
            }
            StoreRow::KeyUse { host, account, key, time, origin } => self.server.rows(
                "INSERT INTO lavrin.key_use (host, account, key, time, origin) VALUES ($1, $2, $3, $4, $5)",
                &[host, account, key, time, origin],
            ),
            StoreRow::Report { time, scope, numbers } => self
                .server
                .rows("INSERT INTO lavrin.report (time, scope, numbers) VALUES ($1, $2, $3)", &[time, scope, numbers]),
            StoreRow::Line { id, time, entry, .. } => {
                self.server.rows("SELECT lavrin.append($1, $2, $3)", &[id, time, entry])
            }
            StoreRow::Pruned { before, time } => {
                self.server.rows("INSERT INTO lavrin.pruned (before, time) VALUES ($1, $2)", &[before, time])
            }
            // These go in many at once.
            StoreRow::Content { .. } | StoreRow::Past { .. } | StoreRow::Sighting { .. } => return Ok(()),
        };
        done.map(drop)
    }
}

fn current(row: &Row) -> StoreRow {
    let (document, first): (Option<Vec<u8>>, Option<i64>) = (row.get(6), row.get(7));
    let then: Option<String> = row.get(8);
    StoreRow::Current {
        host: row.get(0),
        tried: row.get(1),
        seen: row.get(2),
        fault: row.get(3),
        logs_since: row.get(4),
        register: row.get(5),
        as_seen: document.zip(first).map(|(document, first)| (document, first, then)),
    }
}
