//! What waited on this machine goes to the store, as soon as it answers again.

use super::{Database, line_of};
use crate::fault::StoreResult;
use crate::spool::{Spool, Waiting};
use std::collections::HashSet;

impl Database {
    /// Delivers what waits. Something that arrived already, before a line broke, is not there twice.
    pub(super) fn deliver(&self) -> StoreResult<()> {
        let Some(spool) = &self.spool else { return Ok(()) };
        let mut known: Option<HashSet<String>> = None;
        spool.deliver(|waiting| match waiting {
            Waiting::Look(look) => match look.record() {
                Some(record) => self.together(|own| own.store.record(&[record])).map(|_| true),
                None => Ok(false),
            },
            Waiting::Fault { host, time, fault } => self.store.record_fault(&host, time, &fault).map(|()| true),
            Waiting::Outcome { entry } => {
                let known = match &mut known {
                    Some(known) => known,
                    None => known.insert(self.written()?),
                };
                let line = line_of(&entry);
                if known.insert(line.entry.clone()) {
                    self.together(|own| own.store.append(&line))?;
                }
                Ok(true)
            }
        })
    }

    /// The same in the middle of a run, once something has had to wait; where the store is still away it goes on waiting.
    pub(super) fn catch_up(&self) {
        if !self.store.has_begun() && self.spool.as_ref().is_some_and(Spool::has_put) {
            let _ = self.deliver();
        }
    }

    /// The text of every line of the journal.
    fn written(&self) -> StoreResult<HashSet<String>> {
        let mut lines = HashSet::new();
        self.store.each_line(&mut |line| lines.extend(line.line.map(|line| line.entry)))?;
        Ok(lines)
    }

    /// How many things wait on this machine.
    ///
    /// # Errors
    /// [`DatabaseFault`](super::DatabaseFault).
    pub fn waiting(&self) -> StoreResult<usize> {
        Ok(self.spool.as_ref().map(Spool::count).transpose()?.unwrap_or_default())
    }
}
