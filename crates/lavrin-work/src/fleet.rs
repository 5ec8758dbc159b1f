//! The audit of register and fleet from what surveys remembered.

use lavrin_core::fleet::{FleetAuditor, FleetReport, HostState, Moment};
use lavrin_core::register::{Host, Register};
use lavrin_core::survey::Observation;
use lavrin_core::survey::snapshot::{self, Hash, SnapshotFault};
use lavrin_store::database::{Database, DatabaseFault};
use rayon::prelude::*;
use std::collections::HashMap;
use std::sync::Arc;
use thiserror::Error;

/// Hosts that are held in memory at once.
const HOSTS_AT_ONCE: usize = 512;

/// Contents that are kept for the next hosts, in bytes: fleets have many equal files.
const CONTENTS_KEPT: usize = 64 << 20;

/// Why what is remembered could not be used.
#[derive(Debug, Error)]
pub enum FleetFault {
    /// The store.
    #[error(transparent)]
    Store(#[from] DatabaseFault),
    /// One document in it.
    #[error("what was seen of {host} cannot be read: {fault}")]
    Document {
        /// The host.
        host: String,
        /// Why.
        fault: SnapshotFault,
    },
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
        let documents: Vec<_> =
            hosts.iter().map(|host| self.store.observation_at(host, time)).collect::<Result<_, _>>()?;
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
        for hash in parsed.iter().flatten().flat_map(snapshot::Parsed::contents) {
            if !self.kept.contains_key(hash)
                && let Some(content) = self.store.content(hash)?
            {
                self.bytes += content.len();
                self.kept.insert(*hash, Arc::new(content));
            }
        }
        let kept = &self.kept;
        let content = |hash: &Hash| kept.get(hash).map(|bytes| bytes.to_vec());
        let restore = |(parsed, host): (Option<snapshot::Parsed>, &&str)| {
            parsed.map(|parsed| parsed.restore(content)).transpose().map_err(of(host))
        };
        parsed.into_par_iter().zip(hosts.par_iter()).map(restore).collect()
    }
}

/// Audits these hosts by what was last seen of them.
///
/// # Errors
/// [`FleetFault`].
pub fn audit(
    register: &Register,
    hosts: &[&Host],
    store: Option<&Database>,
    now: Moment,
) -> Result<FleetReport, FleetFault> {
    let auditor = FleetAuditor::new(register, now);
    let mut report = FleetReport::default();
    let states = store.map(states).transpose()?.unwrap_or_default();
    let mut memory = store.map(Memory::of);
    let unknown = HostState::default();
    for some in hosts.chunks(HOSTS_AT_ONCE) {
        let names: Vec<&str> = some.iter().map(|host| host.id.as_str()).collect();
        let seen = match &mut memory {
            Some(memory) => memory.observations(&names, i64::MAX)?,
            None => vec![None; some.len()],
        };
        let parts: Vec<FleetReport> = some
            .par_iter()
            .zip(seen)
            .map(|(host, seen)| auditor.host(host, seen, states.get(&host.id).unwrap_or(&unknown)))
            .collect();
        for part in parts {
            report.absorb(part);
        }
    }
    auditor.finish(&mut report);
    Ok(report)
}

/// What the store knows of each host beside its observation.
///
/// # Errors
/// [`DatabaseFault`].
pub fn states(store: &Database) -> Result<HashMap<String, HostState>, DatabaseFault> {
    let mut states: HashMap<String, HostState> = HashMap::new();
    for look in store.looks()? {
        let state = HostState { seen: look.seen, fault: look.fault, logs_since: look.logs_since, uses: HashMap::new() };
        states.insert(look.host, state);
    }
    for (host, account, key, used) in store.key_uses()? {
        states.entry(host).or_default().uses.insert((account, key), used);
    }
    Ok(states)
}
