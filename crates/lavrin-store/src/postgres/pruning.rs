//! What is old is taken out; it takes the owner's rights.

use super::PostgresStore;
use crate::fault::StoreResult;
use lavrin_server::survey::snapshot::Hash;
use std::collections::HashSet;
use tokio_postgres::Row;

/// The newest observation of a host is in another table, so only the first one is spared here.
const OLD: &str = "DELETE FROM lavrin.observation AS o WHERE o.last < $1 AND EXISTS
    (SELECT FROM lavrin.observation n WHERE n.host = o.host AND n.first < o.first) RETURNING document";

const GONE: &str = "DELETE FROM lavrin.sighting AS s WHERE s.gone < $1
  AND EXISTS (SELECT FROM lavrin.sighting n WHERE n.host = s.host AND n.account = s.account AND n.key = s.key
    AND (n.first, n.id) < (s.first, s.id))
  AND EXISTS (SELECT FROM lavrin.sighting n WHERE n.host = s.host AND n.account = s.account AND n.key = s.key
    AND (n.first, n.id) > (s.first, s.id)) RETURNING 1";

impl PostgresStore {
    pub(super) fn prune_seen(&self, before: i64, time: i64) -> StoreResult<(Vec<Hash>, usize)> {
        // Nobody keeps what is taken out at the same moment: a look holds the same lock in a shared way.
        self.server.rows("SELECT pg_advisory_xact_lock($1)", &[&super::server::PRUNING])?;
        let documents = self.server.rows(OLD, &[&before])?.iter().filter_map(hash_in).collect();
        let gone = self.server.rows(GONE, &[&before])?.len();
        self.server.rows("INSERT INTO lavrin.pruned (before, time) VALUES ($1, $2)", &[&before, &time])?;
        Ok((documents, gone))
    }

    pub(super) fn all_documents(&self) -> StoreResult<HashSet<Hash>> {
        let sql =
            "SELECT document FROM lavrin.observation UNION SELECT document FROM lavrin.look WHERE document IS NOT NULL";
        Ok(self.server.rows(sql, &[])?.iter().filter_map(hash_in).collect())
    }

    pub(super) fn forget_contents(&self, hashes: &[Hash]) -> StoreResult<()> {
        let hashes: Vec<&[u8]> = hashes.iter().map(Hash::as_slice).collect();
        self.server.rows("DELETE FROM lavrin.content WHERE hash = ANY($1)", &[&hashes]).map(drop)
    }
}

fn hash_in(row: &Row) -> Option<Hash> {
    Hash::try_from(row.get::<_, &[u8]>(0)).ok()
}
