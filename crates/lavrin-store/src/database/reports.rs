//! What reports counted, and what changed over time: for the next report.

use super::{Database, DatabaseFault};
use lavrin_keys::key::Fingerprint;
use rusqlite::{Row, params};
use std::collections::HashMap;

/// Entries that came and went on a day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DayOfChange {
    /// The day, as `2026-11-23`.
    pub day: String,
    /// Entries that a look saw for the first time.
    pub came: usize,
    /// Entries that a look did not see any more.
    pub gone: usize,
}

/// The last looks at all hosts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct SeenHosts {
    /// Hosts that somebody tried to look at.
    pub tried: usize,
    /// Hosts that were seen.
    pub seen: usize,
    /// Hosts of which the last try failed.
    pub failed: usize,
    /// The oldest last look.
    pub oldest: Option<i64>,
    /// The newest one.
    pub newest: Option<i64>,
}

impl Database {
    /// Writes down what a report counted, in a form of the caller's.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn note_report(&self, time: i64, scope: &str, numbers: &str) -> Result<(), DatabaseFault> {
        self.execute("INSERT INTO report (time, scope, numbers) VALUES (?1, ?2, ?3)", params![time, scope, numbers])
    }

    /// The same in place of whatever was written down about that part before.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn note_instead(&self, time: i64, scope: &str, numbers: &str) -> Result<(), DatabaseFault> {
        self.together(|store| {
            store.execute("DELETE FROM report WHERE scope = ?1", params![scope])?;
            store.note_report(time, scope, numbers)
        })
    }

    /// How many hosts were seen, and when the first and the last of the last looks were, in seconds since 1970.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn seen_hosts(&self) -> Result<SeenHosts, DatabaseFault> {
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

    /// What the reports before a moment counted about the same part of the register, the oldest first.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn reports(&self, scope: &str, before: i64) -> Result<Vec<(i64, String)>, DatabaseFault> {
        let sql = "SELECT time, numbers FROM report WHERE scope = ?1 AND time < ?2 ORDER BY time, rowid";
        self.rows(sql, params![scope, before], |row| Ok((row.get(0)?, row.get(1)?)))
    }

    /// Entries that came and went, day by day, within some time in seconds since 1970.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn changes(&self, after: i64, until: i64) -> Result<Vec<DayOfChange>, DatabaseFault> {
        let sql = "SELECT day, sum(came), sum(went) FROM (
               SELECT date(first, 'unixepoch') AS day, 1 AS came, 0 AS went FROM sighting WHERE first > ?1 AND first <= ?2
               UNION ALL
               SELECT date(gone, 'unixepoch'), 0, 1 FROM sighting WHERE gone > ?1 AND gone <= ?2
             ) GROUP BY day ORDER BY day";
        let day = |row: &Row<'_>| {
            let number = |column| row.get::<_, i64>(column).map(|number| usize::try_from(number).unwrap_or_default());
            Ok(DayOfChange { day: row.get(0)?, came: number(1)?, gone: number(2)? })
        };
        self.rows(sql, params![after, until], day)
    }

    /// When each key was first seen anywhere.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn first_seen(&self) -> Result<HashMap<Fingerprint, i64>, DatabaseFault> {
        let pair = |row: &Row<'_>| Ok((row.get::<_, String>(0)?, row.get(1)?));
        let found: Vec<(String, i64)> = self.rows("SELECT key, min(first) FROM sighting GROUP BY key", [], pair)?;
        Ok(found.into_iter().filter_map(|(key, first)| Some((Fingerprint::parse(&key).ok()?, first))).collect())
    }
}
