//! What is old is taken out.

use super::SqliteStore;
use crate::fault::StoreResult;
use lavrin_server::survey::snapshot::Hash;
use rusqlite::{Row, params};
use std::collections::HashSet;

/// Observations that end before a moment, without the first and the newest of each host.
const OLD: &str = "FROM observation WHERE last < ?1
  AND id <> (SELECT id FROM observation n WHERE n.host = observation.host ORDER BY first DESC, id DESC LIMIT 1)
  AND id <> (SELECT id FROM observation n WHERE n.host = observation.host ORDER BY first, id LIMIT 1)";

/// Entries that were gone before a moment, without the first and the last sighting of a key in an account.
const GONE: &str = "DELETE FROM sighting WHERE gone < ?1
  AND rowid <> (SELECT rowid FROM sighting n WHERE n.host = sighting.host AND n.account = sighting.account AND n.key = sighting.key
    ORDER BY first, rowid LIMIT 1)
  AND rowid <> (SELECT rowid FROM sighting n WHERE n.host = sighting.host AND n.account = sighting.account AND n.key = sighting.key
    ORDER BY first DESC, rowid DESC LIMIT 1)";

impl SqliteStore {
    pub(super) fn prune_seen(&self, before: i64, time: i64) -> StoreResult<(Vec<Hash>, usize)> {
        let documents = self.rows(&format!("SELECT document {OLD}"), params![before], |row| row.get(0))?;
        self.execute(&format!("DELETE {OLD}"), params![before])?;
        let orphans = "DELETE FROM observation_commit WHERE NOT EXISTS
            (SELECT 1 FROM observation o WHERE o.host = observation_commit.host AND o.first = observation_commit.first)";
        self.execute(orphans, [])?;
        self.execute(GONE, params![before])?;
        let gone = usize::try_from(self.connection.changes()).unwrap_or_default();
        self.execute("INSERT INTO pruned (before, time) VALUES (?1, ?2)", params![before, time])?;
        Ok((documents, gone))
    }

    pub(super) fn all_documents(&self) -> StoreResult<HashSet<Hash>> {
        let document = |row: &Row<'_>| row.get(0);
        Ok(self.rows("SELECT DISTINCT document FROM observation", [], document)?.into_iter().collect())
    }
}
