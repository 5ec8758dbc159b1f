//! What is in the store, and whether it is in order.

use super::{PostgresStore, VERSION};
use crate::fault::StoreResult;
use crate::store::{StoreFinding, StoreNumbers};

/// Every object of the store, a line each, as a new one has them; parts of a table by year are one line.
const OBJECTS: &str = include_str!("objects.txt");

/// Lists the same of the store that is asked.
const LIST: &str = include_str!("objects.sql");

impl PostgresStore {
    pub(super) fn count_all(&self) -> StoreResult<StoreNumbers> {
        let sql = "SELECT (SELECT count(*) FROM lavrin.look),
            (SELECT count(*) FROM lavrin.observation) + (SELECT count(document) FROM lavrin.look),
            (SELECT count(*) FROM lavrin.content), (SELECT coalesce(sum(octet_length(bytes)), 0)::bigint FROM lavrin.content),
            (SELECT count(*) FROM lavrin.sighting), (SELECT count(*) FROM lavrin.journal),
            least((SELECT min(first) FROM lavrin.observation), (SELECT min(first) FROM lavrin.look)),
            (SELECT coalesce(sum(pg_total_relation_size(c.oid)), 0)::bigint FROM pg_class c
              JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = 'lavrin' AND c.relkind = 'r'),
            (SELECT max(before) FROM lavrin.pruned)";
        let rows = self.server.rows(sql, &[])?;
        let Some(row) = rows.first() else { return Ok(StoreNumbers::default()) };
        let number = |column| row.get::<_, i64>(column).unsigned_abs();
        let count = |column| usize::try_from(number(column)).unwrap_or(usize::MAX);
        Ok(StoreNumbers {
            version: VERSION,
            hosts: count(0),
            observations: count(1),
            contents: count(2),
            content_bytes: number(3),
            sightings: count(4),
            journal: count(5),
            since: row.get(6),
            bytes: number(7),
            pruned: row.get(8),
        })
    }

    pub(super) fn check_structure(&self) -> StoreResult<Vec<StoreFinding>> {
        let found = self.objects()?;
        let own: Vec<&str> = OBJECTS.lines().collect();
        let odd = found.iter().filter(|line| !own.contains(&line.as_str())).cloned();
        let missing = own.iter().filter(|line| !found.iter().any(|own| own == *line));
        let missing = missing.map(|line| format!("missing: {line}"));
        let mut findings: Vec<StoreFinding> = odd.chain(missing).map(StoreFinding::Foreign).collect();
        let sql = "SELECT host, first FROM (SELECT host, first, document FROM lavrin.observation UNION ALL
              SELECT host, first, document FROM lavrin.look WHERE document IS NOT NULL) AS seen
            WHERE NOT EXISTS (SELECT FROM lavrin.content c WHERE c.hash = seen.document)";
        let rows = self.server.rows(sql, &[])?;
        findings.extend(rows.iter().map(|row| StoreFinding::Missing(row.get(0), row.get(1))));
        Ok(findings)
    }

    /// Tables with their columns, keys, indexes, functions, triggers, rules, policies, and who may do what.
    pub(crate) fn objects(&self) -> StoreResult<Vec<String>> {
        Ok(self.server.rows(LIST, &[])?.into_iter().map(|row| row.get(0)).collect())
    }
}
