//! What is remembered of hosts, read many at once.

use crate::survey::unread;
use lavrin_server::survey::Observation;
use lavrin_server::survey::snapshot::{self, Hash, SnapshotFault};
use lavrin_server::system::System;
use lavrin_store::database::{Database, DatabaseFault, Stored};
use rayon::prelude::*;
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// Contents that are kept for the next hosts, in bytes: fleets have many equal files.
const CONTENTS_KEPT: usize = 24 << 20;

/// Contents that are asked for at once.
const CONTENTS_AT_ONCE: usize = 500;

/// Why what is remembered could not be used.
#[derive(Debug)]
pub enum FleetFault {
    /// The store.
    Store(DatabaseFault),
    /// One document in it.
    Document {
        /// The host.
        host: String,
        /// Why.
        fault: SnapshotFault,
    },
}

impl From<DatabaseFault> for FleetFault {
    fn from(fault: DatabaseFault) -> Self {
        Self::Store(fault)
    }
}

/// Reads what was remembered of hosts, many at once, keeping contents that many of them share.
pub struct Memory<'a> {
    store: &'a Database,
    kept: HashMap<Hash, Arc<Vec<u8>>>,
    bytes: usize,
}

impl<'a> Memory<'a> {
    /// From this store.
    #[must_use]
    pub fn of(store: &'a Database) -> Self {
        Self { store, kept: HashMap::new(), bytes: 0 }
    }

    /// What was known of each host at this time, in seconds since 1970; `None` where it was never seen before.
    ///
    /// # Errors
    /// [`FleetFault`].
    pub fn observations(&mut self, hosts: &[&str], time: i64) -> Result<Vec<Option<Observation>>, FleetFault> {
        let seen = self.with_times(hosts, time)?;
        Ok(seen.into_iter().map(|seen| seen.map(|(seen, _)| seen)).collect())
    }

    /// The same, each with the time of the last look that saw it so.
    ///
    /// # Errors
    /// [`FleetFault`].
    pub fn with_times(&mut self, hosts: &[&str], time: i64) -> Result<Vec<Option<(Observation, i64)>>, FleetFault> {
        let documents: Vec<Option<Stored>> = self.store.observations_at(hosts, time)?;
        let of = |host: &str| {
            let host = host.to_owned();
            move |fault| FleetFault::Document { host, fault }
        };
        let parsed: Vec<_> = documents
            .par_iter()
            .map(|stored| stored.as_ref().map(|stored| snapshot::parse(&stored.document)).transpose())
            .zip(hosts.par_iter())
            .map(|(parsed, host)| parsed.map_err(of(host)))
            .collect::<Result<_, _>>()?;
        if self.bytes > CONTENTS_KEPT {
            (self.kept, self.bytes) = (HashMap::new(), 0);
        }
        let named = parsed.iter().flatten().flat_map(snapshot::Parsed::contents);
        let missing: HashSet<Hash> = named.filter(|hash| !self.kept.contains_key(*hash)).copied().collect();
        let missing: Vec<Hash> = missing.into_iter().collect();
        for some in missing.chunks(CONTENTS_AT_ONCE) {
            for (hash, content) in self.store.contents(some)? {
                self.bytes += content.len();
                self.kept.insert(hash, Arc::new(content));
            }
        }
        let kept = &self.kept;
        let content = |hash: &Hash| kept.get(hash).map(|bytes| bytes.to_vec());
        let restore = |(parsed, host): (Option<snapshot::Parsed>, &&str)| {
            parsed.map(|parsed| parsed.restore(content)).transpose().map_err(of(host))
        };
        let times = documents.iter().map(|stored| stored.as_ref().map(|stored| stored.last));
        let restored: Vec<Option<Observation>> =
            parsed.into_par_iter().zip(hosts.par_iter()).map(restore).collect::<Result<_, _>>()?;
        Ok(restored.into_iter().zip(times).map(|(seen, time)| seen.zip(time)).collect())
    }
}

/// Looks that are gone back through, to find the one that last read an account.
const LOOKS_BACK_MAX: usize = 64;

/// What an earlier look read of accounts that a later one could not read.
#[derive(Debug)]
pub struct LastRead {
    /// The accounts.
    pub accounts: Vec<String>,
    /// What was seen then.
    pub seen: Observation,
    /// When it was last seen so, in seconds since 1970.
    pub time: i64,
}

impl Memory<'_> {
    /// For accounts that the look in force at this time did not read: the last looks before it that did. Accounts that none of
    /// them read are left out.
    ///
    /// # Errors
    /// [`FleetFault`].
    pub fn last_read(&mut self, host: &str, mut accounts: Vec<String>, time: i64) -> Result<Vec<LastRead>, FleetFault> {
        let mut found = Vec::new();
        let mut time = time;
        for _ in 0..LOOKS_BACK_MAX {
            let Some(stored) = self.store.observation_at(host, time)?.filter(|_| !accounts.is_empty()) else { break };
            let Some(seen) = self.observations(&[host], time)?.pop().flatten() else { break };
            let unread = unread(&System::of(&seen));
            let (read, still): (Vec<String>, Vec<String>) =
                accounts.into_iter().partition(|account| !unread.contains(account) && seen.account(account).is_some());
            accounts = still;
            if !read.is_empty() {
                found.push(LastRead { accounts: read, seen, time: stored.last });
            }
            time = stored.first - 1;
        }
        Ok(found)
    }
}
