//! Entries of key files: since when each was seen, until when, and when its key was last used.

use super::{Database, DatabaseFault};
use lavrin_keys::key::Fingerprint;
use lavrin_server::survey::key_use::KeyUse;
use rusqlite::{Row, params};
use std::collections::HashSet;

/// An entry that a look saw.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Sighted {
    /// The account it opens.
    pub account: String,
    /// Its key.
    pub key: Fingerprint,
    /// Its comment, safe to show.
    pub comment: String,
}

/// The keys that a look saw, and where it could not look.
#[derive(Debug, Clone, Default)]
pub struct SeenKeys {
    /// Every entry.
    pub entries: Vec<Sighted>,
    /// Accounts of which not everything was read.
    pub unread: HashSet<String>,
}

/// An entry over time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// The host.
    pub host: String,
    /// The account.
    pub account: String,
    /// The key.
    pub key: Fingerprint,
    /// The comment.
    pub comment: String,
    /// The look that first saw it, in seconds since 1970.
    pub first: i64,
    /// The look that did not see it any more; `None` while it is there.
    pub gone: Option<i64>,
    /// When its key last opened the account, and from where.
    pub used: Option<(i64, String)>,
}

const COLUMNS: &str = "SELECT s.host, s.account, s.key, s.comment, s.first, s.gone, u.time, u.origin FROM sighting s
  LEFT JOIN key_use u ON u.host = s.host AND u.account = s.account AND u.key = s.key";

impl Database {
    /// Notes which entries came and which went since the last look that saw something new.
    pub(super) fn sight(&self, host: &str, time: i64, keys: &SeenKeys) -> Result<(), DatabaseFault> {
        let open = self.rows(
            "SELECT rowid, account, key, comment FROM sighting WHERE host = ?1 AND gone IS NULL",
            params![host],
            |row| Ok((row.get::<_, i64>(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?, row.get(3)?)),
        )?;
        let now: HashSet<(String, String, String)> = keys
            .entries
            .iter()
            .map(|entry| (entry.account.clone(), entry.key.to_string(), entry.comment.clone()))
            .collect();
        let mut known = HashSet::new();
        for (row, account, key, comment) in open {
            let entry = (account, key, comment);
            if !now.contains(&entry) && !keys.unread.contains(&entry.0) {
                self.execute("UPDATE sighting SET gone = ?2 WHERE rowid = ?1", params![row, time])?;
            }
            known.insert(entry);
        }
        for (account, key, comment) in now.difference(&known) {
            self.execute(
                "INSERT INTO sighting (host, account, key, comment, first) VALUES (?1, ?2, ?3, ?4, ?5)",
                params![host, account, key, comment, time],
            )?;
        }
        Ok(())
    }

    /// Accounts that were not read and have entries from an earlier look.
    pub(super) fn kept_unread(&self, host: &str, keys: &SeenKeys) -> Result<Vec<String>, DatabaseFault> {
        if keys.unread.is_empty() {
            return Ok(Vec::new());
        }
        let sql = "SELECT DISTINCT account FROM sighting WHERE host = ?1 AND gone IS NULL ORDER BY account";
        let known: Vec<String> = self.rows(sql, params![host], |row| row.get(0))?;
        Ok(known.into_iter().filter(|account| keys.unread.contains(account)).collect())
    }

    /// Every entry that was ever seen, by host, account and time.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn sightings(&self) -> Result<Vec<Seen>, DatabaseFault> {
        self.rows(&format!("{COLUMNS} ORDER BY s.host, s.account, s.first, s.key"), [], seen)
    }

    /// The last use of every key in every account: host, account, key, time and from where.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn key_uses(&self) -> Result<Vec<(String, String, Fingerprint, KeyUse)>, DatabaseFault> {
        let used = |row: &Row<'_>| {
            let (time, from) = (row.get(3)?, row.get(4)?);
            Ok((row.get(0)?, row.get(1)?, fingerprint(&row.get::<_, String>(2)?)?, KeyUse { time, from }))
        };
        self.rows("SELECT host, account, key, time, origin FROM key_use", [], used)
    }

    /// Those on one host.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn sightings_on(&self, host: &str) -> Result<Vec<Seen>, DatabaseFault> {
        self.rows(&format!("{COLUMNS} WHERE s.host = ?1 ORDER BY s.account, s.first, s.key"), params![host], seen)
    }

    /// Those of one key.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn sightings_of(&self, key: Fingerprint) -> Result<Vec<Seen>, DatabaseFault> {
        let sql = format!("{COLUMNS} WHERE s.key = ?1 ORDER BY s.host, s.account, s.first");
        self.rows(&sql, params![key.to_string()], seen)
    }
}

fn fingerprint(text: &str) -> rusqlite::Result<Fingerprint> {
    let odd = |_| rusqlite::Error::InvalidColumnType(2, "key".to_owned(), rusqlite::types::Type::Text);
    Fingerprint::parse(text).map_err(odd)
}

fn seen(row: &Row<'_>) -> rusqlite::Result<Seen> {
    let key: String = row.get(2)?;
    let time: Option<i64> = row.get(6)?;
    let origin: Option<String> = row.get(7)?;
    Ok(Seen {
        host: row.get(0)?,
        account: row.get(1)?,
        key: fingerprint(&key)?,
        comment: row.get(3)?,
        first: row.get(4)?,
        gone: row.get(5)?,
        used: time.zip(origin),
    })
}
