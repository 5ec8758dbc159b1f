//! What is old is taken out of a store. The journal and what it names stay; so do the first and the last that was seen of anything.

use super::keeper::hash_named;
use super::{Database, DatabaseFault, OpenTransaction};
use crate::fault::StoreResult;
use lavrin_server::survey::snapshot::{self, Hash};
use std::collections::HashSet;

/// Contents that are read at once.
const AT_ONCE: usize = 500;

/// What was taken out, or would be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct PrunedRows {
    /// Observations.
    pub observations: usize,
    /// Entries that were gone.
    pub sightings: usize,
    /// Contents that nothing names any more.
    pub contents: usize,
    /// How long they are together, in bytes.
    pub bytes: u64,
}

impl Database {
    /// Takes out what ended before a moment; a preview takes it back again.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn prune(&self, before: i64, now: i64, is_preview: bool) -> StoreResult<PrunedRows> {
        self.store.begin()?;
        let rollback = OpenTransaction(Some(self.store.as_ref()));
        let (documents, sightings) = self.store.prune(before, now)?;
        let old: HashSet<Hash> = documents.iter().copied().collect();
        let mut doomed = self.named_by(&old)?;
        let rest = self.store.documents()?;
        let named = self.named_by(&rest)?;
        let of_journal = self.named_by_journal()?;
        doomed.extend(old);
        doomed.retain(|hash| !rest.contains(hash) && !named.contains(hash) && !of_journal.contains(hash));
        let mut pruned = PrunedRows { observations: documents.len(), sightings, contents: doomed.len(), bytes: 0 };
        let doomed: Vec<Hash> = doomed.into_iter().collect();
        for some in doomed.chunks(AT_ONCE) {
            pruned.bytes += self.store.contents(some)?.values().map(|bytes| bytes.len() as u64).sum::<u64>();
            self.store.forget(some)?;
        }
        if !is_preview {
            self.store.commit()?;
            rollback.not_needed();
        }
        Ok(pruned)
    }

    /// The contents that documents name.
    fn named_by(&self, documents: &HashSet<Hash>) -> StoreResult<HashSet<Hash>> {
        let mut named = HashSet::new();
        let all: Vec<Hash> = documents.iter().copied().collect();
        for some in all.chunks(AT_ONCE) {
            for document in self.store.contents(some)?.into_values() {
                // What does not read could name anything, so nothing is taken out then.
                let odd = |_| DatabaseFault::Damaged {
                    place: self.place(),
                    said: "an observation in it does not read, so nothing is taken out".to_owned(),
                };
                named.extend(snapshot::parse(&document).map_err(odd)?.contents().copied());
            }
        }
        Ok(named)
    }

    /// Whatever looks like the name of a content in the journal.
    fn named_by_journal(&self) -> StoreResult<HashSet<Hash>> {
        let mut named = HashSet::new();
        self.store.each_line(&mut |line| {
            let text = line.line.map(|line| line.entry).unwrap_or_default();
            named.extend(text.split(|letter: char| !letter.is_ascii_hexdigit()).filter_map(hash_named));
        })?;
        Ok(named)
    }
}
