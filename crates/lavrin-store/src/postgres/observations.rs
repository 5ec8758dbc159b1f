//! What surveys saw: each host as it is now in one row, and what it was like before in another table.

use super::PostgresStore;
use crate::fault::StoreResult;
use crate::store::{HostRecord, Recorded, Sighted, Stored, checked, differing, kept_unread};
use lavrin_server::survey::snapshot::{Hash, hash};
use std::collections::HashMap;
use tokio_postgres::Row;

/// A host as it was last seen.
struct Current {
    document: Vec<u8>,
    first: i64,
}

/// What a look changes.
struct Judged<'a> {
    record: &'a HostRecord,
    document: Hash,
    is_same: bool,
    /// Delivered after a newer look: it says nothing about what is there now.
    is_late: bool,
    /// Nobody has seen the host before.
    is_new: bool,
}

impl<'a> Judged<'a> {
    fn of(record: &'a HostRecord, current: Option<&Current>) -> Self {
        let document = hash(&record.snapshot.document);
        let is_same = current.is_some_and(|current| current.document == document);
        let is_late = current.is_some_and(|current| record.time < current.first);
        Self { record, document, is_same, is_late, is_new: current.is_none() }
    }
}

impl PostgresStore {
    pub(super) fn record_all(&self, records: &[HostRecord]) -> StoreResult<Vec<Recorded>> {
        let current = self.current(records)?;
        let judged: Vec<Judged<'_>> =
            records.iter().map(|record| Judged::of(record, current.get(&record.host))).collect();
        let changed: Vec<&Judged<'_>> = judged.iter().filter(|one| !one.is_same).collect();
        self.keep_seen(&changed)?;
        let (late, news): (Vec<&Judged<'_>>, Vec<&Judged<'_>>) = changed.iter().partition(|one| one.is_late);
        self.put_late(&late)?;
        self.put_away(&news)?;
        let on_time: Vec<&Judged<'_>> = judged.iter().filter(|one| !one.is_late).collect();
        self.note_looks(&on_time)?;
        let asked = judged.iter().filter(|one| !one.is_new && (!one.is_same || !one.record.keys.unread.is_empty()));
        let open = self.open_entries(&asked.map(|one| one.record.host.as_str()).collect::<Vec<_>>())?;
        self.sight(&news, &open)?;
        self.note_uses(records)?;
        let none = Vec::new();
        let recorded = |one: &Judged<'_>| {
            let open = open.get(&one.record.host).unwrap_or(&none);
            let kept = kept_unread(open.iter().map(|(_, entry)| entry), &one.record.keys);
            Recorded { changed: !one.is_same, kept }
        };
        Ok(judged.iter().map(recorded).collect())
    }

    /// The hosts as they are known, held until the end of the transaction.
    fn current(&self, records: &[HostRecord]) -> StoreResult<HashMap<String, Current>> {
        let hosts: Vec<&str> = records.iter().map(|record| record.host.as_str()).collect();
        let held = "SELECT host, document, first FROM lavrin.look WHERE host = ANY($1) ORDER BY host FOR UPDATE";
        let mut rows = self.server.rows(held, &[&hosts])?;
        if rows.len() < hosts.len() {
            let new = "INSERT INTO lavrin.look (host, tried) SELECT host, 0 FROM unnest($1::text[]) AS new (host)
                ORDER BY host COLLATE \"C\" ON CONFLICT DO NOTHING";
            self.server.rows(new, &[&hosts])?;
            rows = self.server.rows(held, &[&hosts])?;
        }
        let current = |row: &Row| {
            let (document, first): (Option<Vec<u8>>, Option<i64>) = (row.get(1), row.get(2));
            Some((row.get(0), Current { document: document?, first: first? }))
        };
        Ok(rows.iter().filter_map(current).collect())
    }

    fn keep_seen(&self, changed: &[&Judged<'_>]) -> StoreResult<()> {
        let mut contents: Vec<(Hash, &[u8])> = Vec::new();
        for one in changed {
            contents.extend(one.record.snapshot.contents.iter().map(|(hash, bytes)| (*hash, bytes.as_slice())));
            contents.push((one.document, &one.record.snapshot.document));
        }
        if contents.is_empty() { Ok(()) } else { self.keep_new(&contents) }
    }

    /// A look that came late is history at once; one that was delivered already is not there twice.
    fn put_late(&self, late: &[&Judged<'_>]) -> StoreResult<()> {
        let sql = "INSERT INTO lavrin.observation (host, document, first, last, register)
            SELECT $1, $2, $3::bigint, $3, $4 WHERE NOT EXISTS (SELECT FROM lavrin.observation
              WHERE host = $1 AND document = $2 AND first <= $3 AND last >= $3)";
        for one in late {
            let HostRecord { host, time, register, .. } = one.record;
            self.server.rows(sql, &[host, &one.document.as_slice(), time, register])?;
        }
        Ok(())
    }

    /// What the hosts were like until now becomes history.
    fn put_away(&self, news: &[&Judged<'_>]) -> StoreResult<()> {
        if news.is_empty() {
            return Ok(());
        }
        let hosts: Vec<&str> = news.iter().map(|one| one.record.host.as_str()).collect();
        let sql = "INSERT INTO lavrin.observation (host, document, first, last, register)
            SELECT host, document, first, seen, first_register FROM lavrin.look
            WHERE host = ANY($1) AND document IS NOT NULL";
        self.server.rows(sql, &[&hosts])?;
        let documents: Vec<&[u8]> = news.iter().map(|one| one.document.as_slice()).collect();
        let times: Vec<i64> = news.iter().map(|one| one.record.time).collect();
        let registers: Vec<Option<&str>> = news.iter().map(|one| one.record.register.as_deref()).collect();
        let sql = "UPDATE lavrin.look AS l SET document = n.document, first = n.time, first_register = n.register
            FROM unnest($1::text[], $2::bytea[], $3::bigint[], $4::text[]) AS n (host, document, time, register)
            WHERE l.host = n.host";
        self.server.rows(sql, &[&hosts, &documents, &times, &registers]).map(drop)
    }

    /// An unchanged host costs this alone.
    fn note_looks(&self, looked: &[&Judged<'_>]) -> StoreResult<()> {
        let hosts: Vec<&str> = looked.iter().map(|one| one.record.host.as_str()).collect();
        let times: Vec<i64> = looked.iter().map(|one| one.record.time).collect();
        let since: Vec<Option<i64>> = looked.iter().map(|one| one.record.uses.since).collect();
        let registers: Vec<Option<&str>> = looked.iter().map(|one| one.record.register.as_deref()).collect();
        let sql = "UPDATE lavrin.look AS l SET tried = greatest(l.tried, n.time), seen = greatest(l.seen, n.time),
            fault = NULL, logs_since = n.since, register = n.register
            FROM unnest($1::text[], $2::bigint[], $3::bigint[], $4::text[]) AS n (host, time, since, register)
            WHERE l.host = n.host";
        self.server.rows(sql, &[&hosts, &times, &since, &registers]).map(drop)
    }

    fn sight(&self, news: &[&Judged<'_>], open: &HashMap<String, Vec<(i64, Sighted)>>) -> StoreResult<()> {
        let none = Vec::new();
        let (mut ids, mut ends) = (Vec::new(), Vec::new());
        let (mut hosts, mut accounts, mut keys, mut comments, mut times) =
            (Vec::new(), Vec::new(), Vec::new(), Vec::new(), Vec::new());
        for one in news {
            let HostRecord { host, time, keys: seen, .. } = one.record;
            let (came, gone) = differing(open.get(host).unwrap_or(&none), seen);
            ends.extend(gone.iter().map(|_| *time));
            ids.extend(gone);
            for entry in came {
                hosts.push(host.as_str());
                accounts.push(entry.account.as_str());
                keys.push(entry.key.to_string());
                comments.push(entry.comment.as_str());
                times.push(*time);
            }
        }
        if !ids.is_empty() {
            let sql =
                "UPDATE lavrin.sighting AS s SET gone = n.gone FROM unnest($1::bigint[], $2::bigint[]) AS n (id, gone)
                WHERE s.gone IS NULL AND s.host = ANY($3) AND s.id = n.id";
            let hosts: Vec<&str> = news.iter().map(|one| one.record.host.as_str()).collect();
            self.server.rows(sql, &[&ids, &ends, &hosts])?;
        }
        if !hosts.is_empty() {
            let sql = "INSERT INTO lavrin.sighting (host, account, key, comment, first)
                SELECT * FROM unnest($1::text[], $2::text[], $3::text[], $4::text[], $5::bigint[])";
            self.server.rows(sql, &[&hosts, &accounts, &keys, &comments, &times])?;
        }
        Ok(())
    }

    fn note_uses(&self, records: &[HostRecord]) -> StoreResult<()> {
        let (mut hosts, mut accounts, mut keys, mut times, mut origins) =
            (Vec::new(), Vec::new(), Vec::new(), Vec::new(), Vec::new());
        for record in records {
            for ((account, key), used) in &record.uses.last {
                hosts.push(record.host.as_str());
                accounts.push(account.as_str());
                keys.push(key.to_string());
                times.push(used.time);
                origins.push(used.from.as_str());
            }
        }
        if hosts.is_empty() {
            return Ok(());
        }
        let sql = "INSERT INTO lavrin.key_use AS u (host, account, key, time, origin)
            SELECT * FROM unnest($1::text[], $2::text[], $3::text[], $4::bigint[], $5::text[])
            ON CONFLICT (host, account, key) DO UPDATE SET time = excluded.time, origin = excluded.origin
            WHERE u.time < excluded.time";
        self.server.rows(sql, &[&hosts, &accounts, &keys, &times, &origins]).map(drop)
    }

    pub(super) fn in_force(&self, hosts: &[&str], time: i64) -> StoreResult<Vec<Option<Stored>>> {
        let now = "SELECT l.host, l.document, c.bytes, l.first, coalesce(l.seen, l.first) FROM lavrin.look l
            JOIN lavrin.content c ON c.hash = l.document WHERE l.host = ANY($1) AND l.first <= $2";
        let mut found = self.stored(now, hosts, time)?;
        let rest: Vec<&str> = hosts.iter().copied().filter(|host| !found.contains_key(*host)).collect();
        if !rest.is_empty() {
            let then = "SELECT h.host, o.document, c.bytes, o.first, o.last FROM unnest($1::text[]) AS h (host)
                CROSS JOIN LATERAL (SELECT document, first, last FROM lavrin.observation o WHERE o.host = h.host COLLATE \"C\"
                  AND o.first <= $2 ORDER BY o.first DESC LIMIT 1) o
                JOIN lavrin.content c ON c.hash = o.document";
            found.extend(self.stored(then, &rest, time)?);
        }
        Ok(hosts.iter().map(|host| found.remove(*host)).collect())
    }

    fn stored(&self, sql: &str, hosts: &[&str], time: i64) -> StoreResult<HashMap<String, Stored>> {
        let rows = self.server.rows(sql, &[&hosts, &time])?;
        let stored = |row: Row| {
            let host: String = row.get(0);
            let document = checked(self.server.place(), row.get(1), row.get(2))?;
            Ok((host.clone(), Stored { host, document, first: row.get(3), last: row.get(4) }))
        };
        rows.into_iter().map(stored).collect()
    }
}
