//! What surveys saw.

use super::SqliteStore;
use crate::fault::StoreResult;
use crate::store::{HostRecord, Look, Recorded, SeenHosts, Store as _, Stored, checked, kept_unread};
use lavrin_server::survey::snapshot::{Hash, hash};
use rusqlite::{OptionalExtension as _, Row, params};
use std::collections::BTreeSet;

/// The newest observation of a host.
struct Newest {
    id: i64,
    document: Hash,
    first: i64,
}

impl SqliteStore {
    pub(super) fn record_one(&self, record: &HostRecord) -> StoreResult<Recorded> {
        let HostRecord { host, time, snapshot, keys, uses, register } = record;
        let document = hash(&snapshot.document);
        let newest = self.newest(host).map_err(|error| self.fault(&error))?;
        let same = newest.as_ref().filter(|newest| newest.document == document);
        // What is delivered late says nothing about what is there now.
        let is_late = newest.as_ref().is_some_and(|newest| *time < newest.first);
        let is_asked = same.is_none() || !keys.unread.is_empty();
        let open = if is_asked { self.open_entries(host)? } else { Vec::new() };
        if let Some(newest) = same {
            self.execute("UPDATE observation SET last = max(last, ?2) WHERE id = ?1", params![newest.id, time])?;
        } else if !(is_late && self.is_known(host, &document, *time)?) {
            let contents: Vec<(Hash, &[u8])> =
                snapshot.contents.iter().map(|(hash, bytes)| (*hash, bytes.as_slice())).collect();
            self.keep(&contents)?;
            self.keep(&[(document, &snapshot.document)])?;
            self.execute(
                "INSERT INTO observation (host, document, first, last) VALUES (?1, ?2, ?3, ?3)",
                params![host, document, time],
            )?;
            if let Some(register) = register {
                let sql =
                    "INSERT INTO observation_commit (host, first, register) VALUES (?1, ?2, ?3) ON CONFLICT DO NOTHING";
                self.execute(sql, params![host, time, register])?;
            }
            if !is_late {
                self.sight(host, *time, keys, &open)?;
            }
        }
        if !is_late {
            self.note_look(record)?;
        }
        for ((account, key), used) in &uses.last {
            self.execute(
                "INSERT INTO key_use (host, account, key, time, origin) VALUES (?1, ?2, ?3, ?4, ?5)
                 ON CONFLICT (host, account, key) DO UPDATE SET time = ?4, origin = ?5 WHERE time < ?4",
                params![host, account, key.to_string(), used.time, used.from],
            )?;
        }
        Ok(Recorded { changed: same.is_none(), kept: kept_unread(open.iter().map(|(_, entry)| entry), keys) })
    }

    /// Whether a look was delivered already.
    fn is_known(&self, host: &str, document: &Hash, time: i64) -> StoreResult<bool> {
        let sql = "SELECT 1 FROM observation WHERE host = ?1 AND document = ?2 AND first <= ?3 AND last >= ?3 LIMIT 1";
        Ok(!self.rows(sql, params![host, document, time], |_| Ok(()))?.is_empty())
    }

    fn note_look(&self, record: &HostRecord) -> StoreResult<()> {
        let HostRecord { host, time, uses, register, .. } = record;
        self.execute(
            "INSERT INTO look (host, tried, seen, fault, logs_since) VALUES (?1, ?2, ?2, NULL, ?3)
             ON CONFLICT (host) DO UPDATE SET tried = ?2, seen = ?2, fault = NULL, logs_since = ?3",
            params![host, time, uses.since],
        )?;
        match register {
            Some(register) => self.execute(
                "INSERT INTO look_commit (host, register) VALUES (?1, ?2)
                 ON CONFLICT (host) DO UPDATE SET register = ?2 WHERE register <> ?2",
                params![host, register],
            ),
            None => self.execute("DELETE FROM look_commit WHERE host = ?1", params![host]),
        }
    }

    pub(super) fn note_fault(&self, host: &str, time: i64, fault: &str) -> StoreResult<()> {
        self.execute(
            "INSERT INTO look (host, tried, seen, fault) VALUES (?1, ?2, NULL, ?3)
             ON CONFLICT (host) DO UPDATE SET tried = ?2, fault = ?3 WHERE tried <= ?2",
            params![host, time, fault],
        )
    }

    pub(super) fn last_looks(&self, hosts: Option<&[&str]>) -> StoreResult<Vec<Look>> {
        let look = |row: &Row<'_>| {
            let (host, tried, seen) = (row.get(0)?, row.get(1)?, row.get(2)?);
            Ok(Look { host, tried, seen, fault: row.get(3)?, logs_since: row.get(4)?, register: row.get(5)? })
        };
        let sql = "SELECT l.host, l.tried, l.seen, l.fault, l.logs_since, c.register
            FROM look l LEFT JOIN look_commit c ON c.host = l.host";
        let Some(hosts) = hosts else { return self.rows(&format!("{sql} ORDER BY l.host"), [], look) };
        let sql = format!("{sql} WHERE l.host = ?1");
        let names: BTreeSet<&str> = hosts.iter().copied().collect();
        let found = names.into_iter().map(|host| self.rows(&sql, [host], look));
        Ok(found.collect::<StoreResult<Vec<_>>>()?.into_iter().flatten().collect())
    }

    pub(super) fn count_looks(&self) -> StoreResult<SeenHosts> {
        let sql = "SELECT count(*), count(seen), count(fault), min(seen), max(seen) FROM look";
        let row = |row: &Row<'_>| {
            let number = |column| row.get::<_, i64>(column).map(|number| usize::try_from(number).unwrap_or_default());
            Ok(SeenHosts {
                tried: number(0)?,
                seen: number(1)?,
                failed: number(2)?,
                oldest: row.get(3)?,
                newest: row.get(4)?,
            })
        };
        Ok(self.rows(sql, [], row)?.pop().unwrap_or_default())
    }

    pub(super) fn observation_at(&self, host: &str, time: i64) -> StoreResult<Option<Stored>> {
        let found = self.rows(
            "SELECT o.host, c.bytes, o.first, o.last, c.hash FROM observation o JOIN content c ON c.hash = o.document
             WHERE o.host = ?1 AND o.first <= ?2 ORDER BY o.first DESC, o.id DESC LIMIT 1",
            params![host, time],
            stored,
        )?;
        let Some((stored, hash)) = found.into_iter().next() else { return Ok(None) };
        let document = checked(&self.place(), &hash, stored.document)?;
        Ok(Some(Stored { document, ..stored }))
    }

    fn newest(&self, host: &str) -> rusqlite::Result<Option<Newest>> {
        let sql = "SELECT id, document, first FROM observation WHERE host = ?1 ORDER BY first DESC, id DESC LIMIT 1";
        let mut query = self.connection.prepare_cached(sql)?;
        let newest = |row: &Row<'_>| Ok(Newest { id: row.get(0)?, document: row.get(1)?, first: row.get(2)? });
        query.query_row(params![host], newest).optional()
    }
}

fn stored(row: &Row<'_>) -> rusqlite::Result<(Stored, Hash)> {
    let stored = Stored { host: row.get(0)?, document: row.get(1)?, first: row.get(2)?, last: row.get(3)? };
    Ok((stored, row.get(4)?))
}
