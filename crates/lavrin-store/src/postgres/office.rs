//! What several machines share beside the memory itself: who changes which host, and which collector looks at which.

use super::PostgresStore;
use crate::fault::{DatabaseFault, StoreResult};
use crate::store::{DueHost, HostHold, HostToCollect, Office, Store as _};
use lavrin_keys::text::printable;
use std::time::Duration;

/// The class of the locks on hosts: "LVRN".
const HOSTS: i32 = 0x4c56_524e;

/// Where collectors listen.
const CHANNEL: &str = "lavrin_work";

impl PostgresStore {
    pub(super) fn hold_host(&self, host: &str, who: &str, now: i64) -> StoreResult<HostHold> {
        if !self.may_append()? {
            let said = "this login may add what it sees, and change no host".to_owned();
            return Err(DatabaseFault::Refused { place: self.server.place().to_owned(), said });
        }
        let sql = "SELECT pg_try_advisory_lock($1, hashtext($2))";
        let got = self.server.rows_holding(sql, &[&HOSTS, &host])?;
        if got.first().is_some_and(|row| row.get(0)) {
            let sql = "INSERT INTO lavrin.at_work AS w (host, who, since) VALUES ($1, $2, $3)
                ON CONFLICT (host) DO UPDATE SET who = $2, since = $3";
            self.server.rows_apart(sql, &[&host, &who, &now])?;
            return Ok(HostHold::Own);
        }
        let other = self.server.rows_apart("SELECT who, since FROM lavrin.at_work WHERE host = $1", &[&host])?;
        Ok(HostHold::Other(other.first().map(|row| (printable(row.get::<_, String>(0).as_bytes()), row.get(1)))))
    }

    pub(super) fn let_host_go(&self, host: &str) {
        // The note goes first: whoever gets the lock writes its own. Where the line is lost the lock is gone by itself.
        let _ = self.server.rows_apart("DELETE FROM lavrin.at_work WHERE host = $1", &[&host]);
        let _ = self.server.rows_holding("SELECT pg_advisory_unlock($1, hashtext($2))", &[&HOSTS, &host]);
    }
}

impl Office for PostgresStore {
    fn put_work(&self, hosts: &[HostToCollect<'_>], now: i64) -> StoreResult<()> {
        let names: Vec<&str> = hosts.iter().map(|one| one.host).collect();
        let sites: Vec<Option<&str>> = hosts.iter().map(|one| one.site).collect();
        // Everybody in one order, so that no two wait for each other.
        let sql = "INSERT INTO lavrin.work AS w (host, site, due)
            SELECT host, site, $3::bigint FROM unnest($1::text[], $2::text[]) AS new (host, site) ORDER BY host COLLATE \"C\"
            ON CONFLICT (host) DO UPDATE SET site = excluded.site WHERE w.site IS DISTINCT FROM excluded.site";
        self.server.rows(sql, &[&names, &sites, &now])?;
        let sql = "DELETE FROM lavrin.work WHERE NOT host = ANY($1) AND (until IS NULL OR until < $2)";
        self.server.rows(sql, &[&names, &now]).map(drop)
    }

    fn take_work(
        &self,
        collector: &str,
        sites: &[String],
        most: i64,
        now: i64,
        lease: i64,
    ) -> StoreResult<Vec<DueHost>> {
        let sql = "UPDATE lavrin.work AS w SET collector = $1, until = $4::bigint + $5 FROM
              (SELECT host FROM lavrin.work WHERE (due <= $4 OR asked IS NOT NULL) AND (until IS NULL OR until < $4)
                AND (cardinality($2::text[]) = 0 OR site IS NULL OR site = ANY($2))
               ORDER BY asked NULLS LAST, due, host LIMIT $3 FOR UPDATE SKIP LOCKED) AS free
            WHERE w.host = free.host RETURNING w.host, w.asked IS NOT NULL";
        let rows = self.server.rows(sql, &[&collector, &sites, &most, &now, &lease])?;
        let mut taken: Vec<DueHost> = rows.iter().map(|row| DueHost { host: row.get(0), asked: row.get(1) }).collect();
        taken.sort_unstable_by(|one, other| one.host.cmp(&other.host));
        Ok(taken)
    }

    fn end_work(&self, collector: &str, hosts: &[&str], due: i64, began: i64) -> StoreResult<()> {
        // Somebody may have asked again since it began: then the question stays. One who lost the lease ends nothing.
        let sql = "UPDATE lavrin.work SET collector = NULL, until = NULL, due = $3,
              asked = CASE WHEN asked > $4 THEN asked END
            WHERE host = ANY($2) AND collector = $1";
        self.server.rows(sql, &[&collector, &hosts, &due, &began]).map(drop)
    }

    fn ask(&self, hosts: &[&str], now: i64) -> StoreResult<()> {
        let sql = "UPDATE lavrin.work SET asked = $2 WHERE host = ANY($1)";
        self.server.rows(sql, &[&hosts, &now])?;
        self.server.rows("SELECT pg_notify($1, '')", &[&CHANNEL]).map(drop)
    }

    fn next_due(&self, sites: &[String]) -> StoreResult<Option<i64>> {
        let sql = "SELECT min(CASE WHEN asked IS NOT NULL THEN 0 ELSE due END) FROM lavrin.work
            WHERE cardinality($1::text[]) = 0 OR site IS NULL OR site = ANY($1)";
        Ok(self.server.rows(sql, &[&sites])?.first().and_then(|row| row.get(0)))
    }

    fn wait(&self, time: Duration) -> StoreResult<()> {
        self.server.listen(CHANNEL, time)
    }
}
