//! Entries of key files: since when each was seen, until when, and when its key was last used.

use super::PostgresStore;
use crate::fault::{DatabaseFault, StoreResult};
use crate::store::{DayOfChange, Seen, Sighted, SightingsOf};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::printable;
use lavrin_server::survey::key_use::KeyUse;
use std::collections::HashMap;
use tokio_postgres::Row;

const COLUMNS: &str = "SELECT s.host, s.account, s.key, s.comment, s.first, s.gone, u.time, u.origin
  FROM lavrin.sighting s LEFT JOIN lavrin.key_use u ON u.host = s.host AND u.account = s.account AND u.key = s.key";
const ORDER: &str = "ORDER BY s.host, s.account, s.first, s.key, s.gone IS NULL, s.gone";

impl PostgresStore {
    /// Entries that are there on these hosts, as far as is known.
    pub(super) fn open_entries(&self, hosts: &[&str]) -> StoreResult<HashMap<String, Vec<(i64, Sighted)>>> {
        let mut open: HashMap<String, Vec<(i64, Sighted)>> = HashMap::new();
        if hosts.is_empty() {
            return Ok(open);
        }
        let sql = "SELECT host, id, account, key, comment FROM lavrin.sighting WHERE gone IS NULL AND host = ANY($1)";
        for row in self.server.rows(sql, &[&hosts])? {
            let entry = Sighted { account: row.get(2), key: self.key(row.get(3))?, comment: row.get(4) };
            open.entry(row.get(0)).or_default().push((row.get(1), entry));
        }
        Ok(open)
    }

    pub(super) fn seen_entries(&self, of: SightingsOf<'_>) -> StoreResult<Vec<Seen>> {
        let rows = match of {
            SightingsOf::Everything => self.server.rows(&format!("{COLUMNS} {ORDER}"), &[]),
            SightingsOf::Host(host) => self.server.rows(&format!("{COLUMNS} WHERE s.host = $1 {ORDER}"), &[&host]),
            SightingsOf::Key(key) => {
                self.server.rows(&format!("{COLUMNS} WHERE s.key = $1 {ORDER}"), &[&key.to_string()])
            }
        };
        let seen = |row: Row| {
            let (time, origin): (Option<i64>, Option<String>) = (row.get(6), row.get(7));
            Ok(Seen {
                // Any collector may have written it: it draws no lines of its own.
                host: shown(&row, 0),
                account: shown(&row, 1),
                key: self.key(row.get(2))?,
                comment: shown(&row, 3),
                first: row.get(4),
                gone: row.get(5),
                used: time.zip(origin.map(|origin| printable(origin.as_bytes()))),
            })
        };
        rows?.into_iter().map(seen).collect()
    }

    pub(super) fn last_uses(&self) -> StoreResult<Vec<(String, String, Fingerprint, KeyUse)>> {
        let rows = self.server.rows("SELECT host, account, key, time, origin FROM lavrin.key_use", &[])?;
        let used = |row: Row| {
            Ok((row.get(0), row.get(1), self.key(row.get(2))?, KeyUse { time: row.get(3), from: row.get(4) }))
        };
        rows.into_iter().map(used).collect()
    }

    pub(super) fn keys_first_seen(&self) -> StoreResult<HashMap<Fingerprint, i64>> {
        let rows = self.server.rows("SELECT key, min(first) FROM lavrin.sighting GROUP BY key", &[])?;
        rows.into_iter().map(|row| Ok((self.key(row.get(0))?, row.get(1)))).collect()
    }

    pub(super) fn days_of_change(&self, after: i64, until: i64) -> StoreResult<Vec<DayOfChange>> {
        let sql =
            "SELECT to_char(to_timestamp(time) AT TIME ZONE 'UTC', 'YYYY-MM-DD') AS day, sum(came), sum(went) FROM (
               SELECT first AS time, 1 AS came, 0 AS went FROM lavrin.sighting WHERE first > $1 AND first <= $2
               UNION ALL
               SELECT gone, 0, 1 FROM lavrin.sighting WHERE gone > $1 AND gone <= $2
             ) AS both_ways GROUP BY day ORDER BY day";
        let number = |row: &Row, column| usize::try_from(row.get::<_, i64>(column)).unwrap_or_default();
        let day = |row: Row| DayOfChange { day: row.get(0), came: number(&row, 1), gone: number(&row, 2) };
        Ok(self.server.rows(sql, &[&after, &until])?.into_iter().map(day).collect())
    }

    fn key(&self, text: &str) -> StoreResult<Fingerprint> {
        let odd = |_| DatabaseFault::Damaged {
            place: self.server.place().to_owned(),
            said: "a key in it is no fingerprint".to_owned(),
        };
        Fingerprint::parse(text).map_err(odd)
    }
}

/// A text that somebody else wrote, safe to show.
fn shown(row: &Row, column: usize) -> String {
    printable(row.get::<_, &str>(column).as_bytes())
}
