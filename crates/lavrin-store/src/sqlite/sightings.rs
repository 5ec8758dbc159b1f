//! Entries of key files: since when each was seen, until when, and when its key was last used.

use super::SqliteStore;
use crate::fault::StoreResult;
use crate::store::{DayOfChange, Seen, SeenKeys, Sighted, SightingsOf, differing};
use lavrin_keys::key::Fingerprint;
use lavrin_server::survey::key_use::KeyUse;
use rusqlite::{Row, params};
use std::collections::HashMap;

const COLUMNS: &str = "SELECT s.host, s.account, s.key, s.comment, s.first, s.gone, u.time, u.origin FROM sighting s
  LEFT JOIN key_use u ON u.host = s.host AND u.account = s.account AND u.key = s.key";
const ORDER: &str = "ORDER BY s.host, s.account, s.first, s.key, s.gone IS NULL, s.gone";

impl SqliteStore {
    /// Entries that are there, as far as is known.
    pub(super) fn open_entries(&self, host: &str) -> StoreResult<Vec<(i64, Sighted)>> {
        self.rows(
            "SELECT rowid, account, key, comment FROM sighting WHERE host = ?1 AND gone IS NULL",
            params![host],
            |row| {
                let key = fingerprint(&row.get::<_, String>(2)?)?;
                Ok((row.get(0)?, Sighted { account: row.get(1)?, key, comment: row.get(3)? }))
            },
        )
    }

    /// Notes which entries came and which went since the last look that saw something new.
    pub(super) fn sight(&self, host: &str, time: i64, keys: &SeenKeys, open: &[(i64, Sighted)]) -> StoreResult<()> {
        let (came, gone) = differing(open, keys);
        for row in gone {
            self.execute("UPDATE sighting SET gone = ?2 WHERE rowid = ?1", params![row, time])?;
        }
        for Sighted { account, key, comment } in came {
            self.execute(
                "INSERT INTO sighting (host, account, key, comment, first) VALUES (?1, ?2, ?3, ?4, ?5)",
                params![host, account, key.to_string(), comment, time],
            )?;
        }
        Ok(())
    }

    pub(super) fn seen_entries(&self, of: SightingsOf<'_>) -> StoreResult<Vec<Seen>> {
        match of {
            SightingsOf::Everything => self.rows(&format!("{COLUMNS} {ORDER}"), [], seen),
            SightingsOf::Host(host) => self.rows(&format!("{COLUMNS} WHERE s.host = ?1 {ORDER}"), params![host], seen),
            SightingsOf::Key(key) => {
                self.rows(&format!("{COLUMNS} WHERE s.key = ?1 {ORDER}"), params![key.to_string()], seen)
            }
        }
    }

    pub(super) fn last_uses(&self) -> StoreResult<Vec<(String, String, Fingerprint, KeyUse)>> {
        let used = |row: &Row<'_>| {
            let (time, from) = (row.get(3)?, row.get(4)?);
            Ok((row.get(0)?, row.get(1)?, fingerprint(&row.get::<_, String>(2)?)?, KeyUse { time, from }))
        };
        self.rows("SELECT host, account, key, time, origin FROM key_use", [], used)
    }

    pub(super) fn days_of_change(&self, after: i64, until: i64) -> StoreResult<Vec<DayOfChange>> {
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

    pub(super) fn keys_first_seen(&self) -> StoreResult<HashMap<Fingerprint, i64>> {
        let pair = |row: &Row<'_>| Ok((fingerprint(&row.get::<_, String>(0)?)?, row.get(1)?));
        Ok(self.rows("SELECT key, min(first) FROM sighting GROUP BY key", [], pair)?.into_iter().collect())
    }
}

fn fingerprint(text: &str) -> rusqlite::Result<Fingerprint> {
    let odd = |_| rusqlite::Error::InvalidColumnType(2, "key".to_owned(), rusqlite::types::Type::Text);
    Fingerprint::parse(text).map_err(odd)
}

fn seen(row: &Row<'_>) -> rusqlite::Result<Seen> {
    let time: Option<i64> = row.get(6)?;
    let origin: Option<String> = row.get(7)?;
    Ok(Seen {
        host: row.get(0)?,
        account: row.get(1)?,
        key: fingerprint(&row.get::<_, String>(2)?)?,
        comment: row.get(3)?,
        first: row.get(4)?,
        gone: row.get(5)?,
        used: time.zip(origin),
    })
}
