//! What surveys saw.

use super::{Database, DatabaseFault, SeenKeys};
use lavrin_server::survey::key_use::KeyUses;
use lavrin_server::survey::snapshot::{Hash, Snapshot, hash};
use rusqlite::{OptionalExtension as _, Row, params};

/// An observation that is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stored {
    /// The host.
    pub host: String,
    /// Its document.
    pub document: Vec<u8>,
    /// The first look that saw it so, in seconds since 1970.
    pub first: i64,
    /// The last look that saw it so.
    pub last: i64,
}

/// The last look at a host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Look {
    /// The host.
    pub host: String,
    /// When it was last tried, in seconds since 1970.
    pub tried: i64,
    /// When it was last seen.
    pub seen: Option<i64>,
    /// Why the last try failed, where it did.
    pub fault: Option<String>,
    /// When its logs begin.
    pub logs_since: Option<i64>,
}

/// What came of keeping a look.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Recorded {
    /// Whether it differs from the look before.
    pub changed: bool,
    /// Accounts that were not read now, and have entries that were seen before.
    pub kept: Vec<String>,
}

impl Database {
    /// Keeps what a look at a host saw, and says whether it differs from the last one; where not, only its time is written.
    /// Entries of accounts that were not read stay as they were: unread is not gone.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn record(
        &self,
        host: &str,
        time: i64,
        snapshot: &Snapshot,
        keys: &SeenKeys,
        uses: &KeyUses,
    ) -> Result<Recorded, DatabaseFault> {
        let document = hash(&snapshot.document);
        let last = self.last_document(host).map_err(|error| self.fault(error))?;
        let same = last.filter(|(_, last)| *last == document);
        if let Some((id, _)) = same {
            self.execute("UPDATE observation SET last = max(last, ?2) WHERE id = ?1", params![id, time])?;
        } else {
            for (hash, bytes) in &snapshot.contents {
                self.keep(hash, bytes)?;
            }
            self.keep(&document, &snapshot.document)?;
            self.execute(
                "INSERT INTO observation (host, document, first, last) VALUES (?1, ?2, ?3, ?3)",
                params![host, document, time],
            )?;
            self.sight(host, time, keys)?;
        }
        self.execute(
            "INSERT INTO look (host, tried, seen, fault, logs_since) VALUES (?1, ?2, ?2, NULL, ?3)
             ON CONFLICT (host) DO UPDATE SET tried = ?2, seen = ?2, fault = NULL, logs_since = ?3",
            params![host, time, uses.since],
        )?;
        for ((account, key), used) in &uses.last {
            self.execute(
                "INSERT INTO key_use (host, account, key, time, origin) VALUES (?1, ?2, ?3, ?4, ?5)
                 ON CONFLICT (host, account, key) DO UPDATE SET time = ?4, origin = ?5 WHERE time < ?4",
                params![host, account, key.to_string(), used.time, used.from],
            )?;
        }
        Ok(Recorded { changed: same.is_none(), kept: self.kept_unread(host, keys)? })
    }

    /// Gives a host another name in everything that was seen of it. The journal keeps the name that it had.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn rename_host(&self, old: &str, new: &str) -> Result<(), DatabaseFault> {
        self.together(|store| {
            for table in ["observation", "look", "sighting", "key_use"] {
                store.execute(&format!("UPDATE {table} SET host = ?2 WHERE host = ?1"), params![old, new])?;
            }
            Ok(())
        })
    }

    /// Writes down that a host could not be looked at; what was seen of it before stays.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn record_fault(&self, host: &str, time: i64, fault: &str) -> Result<(), DatabaseFault> {
        self.execute(
            "INSERT INTO look (host, tried, seen, fault) VALUES (?1, ?2, NULL, ?3)
             ON CONFLICT (host) DO UPDATE SET tried = ?2, fault = ?3",
            params![host, time, fault],
        )
    }

    /// The last look at every host.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn looks(&self) -> Result<Vec<Look>, DatabaseFault> {
        let look = |row: &Row<'_>| {
            let (host, tried, seen) = (row.get(0)?, row.get(1)?, row.get(2)?);
            Ok(Look { host, tried, seen, fault: row.get(3)?, logs_since: row.get(4)? })
        };
        self.rows("SELECT host, tried, seen, fault, logs_since FROM look ORDER BY host", [], look)
    }

    /// The observation of one host that was in force at this time.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn observation_at(&self, host: &str, time: i64) -> Result<Option<Stored>, DatabaseFault> {
        let found = self.rows(
            "SELECT o.host, c.bytes, o.first, o.last, c.hash FROM observation o JOIN content c ON c.hash = o.document
             WHERE o.host = ?1 AND o.first <= ?2 ORDER BY o.first DESC, o.id DESC LIMIT 1",
            params![host, time],
            stored,
        )?;
        let Some((stored, hash)) = found.into_iter().next() else { return Ok(None) };
        let document = self.checked(&hash, stored.document)?;
        Ok(Some(Stored { document, ..stored }))
    }

    fn last_document(&self, host: &str) -> rusqlite::Result<Option<(i64, Hash)>> {
        let sql = "SELECT id, document FROM observation WHERE host = ?1 ORDER BY first DESC, id DESC LIMIT 1";
        let mut query = self.connection.prepare_cached(sql)?;
        query.query_row(params![host], |row| Ok((row.get(0)?, row.get(1)?))).optional()
    }

    pub(super) fn execute(&self, sql: &str, values: impl rusqlite::Params) -> Result<(), DatabaseFault> {
        let run = || self.connection.prepare_cached(sql)?.execute(values);
        run().map(drop).map_err(|error| self.fault(error))
    }

    pub(super) fn rows<T>(
        &self,
        sql: &str,
        values: impl rusqlite::Params,
        row: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, DatabaseFault> {
        let read = || self.connection.prepare_cached(sql)?.query_map(values, row)?.collect::<Result<Vec<T>, _>>();
        read().map_err(|error| self.fault(error))
    }
}

fn stored(row: &Row<'_>) -> rusqlite::Result<(Stored, Hash)> {
    let stored = Stored { host: row.get(0)?, document: row.get(1)?, first: row.get(2)?, last: row.get(3)? };
    Ok((stored, row.get(4)?))
}
