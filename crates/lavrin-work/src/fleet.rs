//! The audit of register and fleet from what surveys remembered.

use crate::hops::worst;
use crate::memory::{FleetFault, Memory};
use lavrin_fleet::fleet::compare::{AccountComparison, Comparer};
use lavrin_fleet::fleet::{AcrossHosts, FleetAuditor, FleetReport, HostState, Moment, Removed};
use lavrin_fleet::register::{Date, Host, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_server::survey::Observation;
use lavrin_server::survey::snapshot;
use lavrin_server::system::System;
use lavrin_store::database::{Database, DatabaseFault, Look};
use lavrin_store::{ChangeOutcome, Event, JournalEntry};
use rayon::prelude::*;
use std::collections::HashMap;
use std::sync::mpsc;

/// Hosts that are held in memory at once.
const HOSTS_AT_ONCE: usize = 256;

/// Parts that wait to be compared: as much as is read while a large register is.
const PARTS_AHEAD: usize = 12;

/// The accounts that the last look at a host saw; nothing where there was none, or where what it saw cannot be read.
#[must_use]
pub fn accounts_seen(document: &[u8]) -> Option<Vec<String>> {
    let parsed = snapshot::parse(document).ok()?;
    Some(parsed.accounts().map(str::to_owned).collect())
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
    let (mut report, mut across) = (FleetReport::default(), AcrossHosts::default());
    let states = store.map(states).transpose()?.unwrap_or_default();
    let mut memory = store.map(Memory::of);
    let unknown = HostState::default();
    let judge = |some: &[&Host], seen: Vec<Option<Observation>>| -> Vec<FleetReport> {
        let one = |(host, seen): (&&Host, Option<Observation>)| {
            let seen = seen.as_ref().map(System::of);
            auditor.host(host, seen.as_ref(), states.get(&host.id).unwrap_or(&unknown))
        };
        some.par_iter().zip(seen).map(one).collect()
    };
    let mut take = |parts: Vec<FleetReport>| {
        for part in parts {
            across.add(&part.entries);
            report.absorb(part);
        }
    };
    // While some hosts are judged, the next ones are read. Each part has a channel of its own, which a panic closes.
    rayon::in_place_scope(|scope| {
        let mut judging: Option<mpsc::Receiver<Vec<FleetReport>>> = None;
        for some in hosts.chunks(HOSTS_AT_ONCE) {
            let names: Vec<&str> = some.iter().map(|host| host.id.as_str()).collect();
            let seen = match &mut memory {
                Some(memory) => memory.observations(&names, i64::MAX)?,
                None => vec![None; some.len()],
            };
            let before = judging.take().and_then(|judged| judged.recv().ok());
            let (done, judged) = mpsc::channel();
            let judge = &judge;
            scope.spawn(move |_| drop(done.send(judge(some, seen))));
            judging = Some(judged);
            before.into_iter().for_each(&mut take);
        }
        judging.and_then(|judged| judged.recv().ok()).into_iter().for_each(&mut take);
        Ok::<(), FleetFault>(())
    })?;
    let hops = match store {
        Some(store) => worst(register, store, now, hosts, &report.key_holders)?,
        None => Vec::new(),
    };
    auditor.finish(&mut report, across, hops);
    Ok(report)
}

/// What the store knows of each host beside its observation.
///
/// # Errors
/// [`DatabaseFault`].
pub fn states(store: &Database) -> Result<HashMap<String, HostState>, DatabaseFault> {
    let mut states: HashMap<String, HostState> = HashMap::new();
    for look in store.looks()? {
        let (seen, fault, logs_since) = (look.seen, look.fault, look.logs_since);
        states.insert(look.host, HostState { seen, fault, logs_since, ..HostState::default() });
    }
    for (host, account, key, used) in store.key_uses()? {
        states.entry(host).or_default().uses.insert((account, key), used);
    }
    let journal = store.journal()?;
    for (host, changed) in last_changed(&journal) {
        if store.lacks_commit(&changed.1) {
            states.entry(host).or_default().other_register = Some(changed);
        }
    }
    for (host, removed) in removed_by(journal) {
        states.entry(host).or_default().removed = removed;
    }
    Ok(states)
}

/// The day and the version of the register of the last change of each host.
fn last_changed(journal: &[JournalEntry]) -> HashMap<String, (Date, String)> {
    let change = |entry: &JournalEntry| {
        let Event::Intent { place, .. } = &entry.event else { return None };
        Some((place.clone(), (entry.time.get(..10).and_then(Date::parse)?, entry.register.clone()?)))
    };
    journal.iter().filter_map(change).collect()
}

/// One host held against the register by what was last seen of it.
#[derive(Debug)]
pub struct Compared {
    /// The host.
    pub host: String,
    /// When it was last seen, in seconds since 1970; `None`: never, so there is nothing to compare.
    pub seen: Option<i64>,
    /// Why the last try to look at it failed.
    pub fault: Option<String>,
    /// The accounts on which something differs.
    pub accounts: Vec<AccountComparison>,
}

/// Some hosts and what was last seen of each.
type HostBatch = Vec<(String, Option<Observation>)>;

/// What was last seen of hosts, read from the store on a thread of its own: reading a large register takes as long as that.
pub struct Ahead {
    parts: mpsc::Receiver<Result<HostBatch, FleetFault>>,
    /// The last look at each host.
    looks: HashMap<String, Look>,
    removed: HashMap<String, Removed>,
}

impl Ahead {
    /// Begins to read; `only` names the hosts, without it every host that was ever looked at.
    ///
    /// # Errors
    /// [`FleetFault`].
    pub fn begin(store: Database, only: Option<Vec<String>>) -> Result<Self, FleetFault> {
        let looks: HashMap<String, Look> = store.looks()?.into_iter().map(|look| (look.host.clone(), look)).collect();
        let removed = removed(&store)?;
        let mut names = only.unwrap_or_else(|| looks.keys().cloned().collect());
        names.sort_unstable();
        let (parts, ahead) = mpsc::sync_channel(PARTS_AHEAD);
        std::thread::spawn(move || {
            let mut memory = Memory::of(&store);
            for some in names.chunks(HOSTS_AT_ONCE) {
                let hosts: Vec<&str> = some.iter().map(String::as_str).collect();
                let seen = memory.observations(&hosts, i64::MAX);
                let part = seen.map(|seen| some.iter().cloned().zip(seen).collect());
                let failed = part.is_err();
                // Where nobody listens any more, and after a fault, there is nothing more to do.
                if parts.send(part).is_err() || failed {
                    return;
                }
            }
        });
        Ok(Self { parts: ahead, looks, removed })
    }
}

/// Compares these hosts, in their order, by what was last seen of them.
///
/// # Errors
/// [`FleetFault`].
pub fn compare(
    register: &Register,
    hosts: &[&Host],
    ahead: Option<Ahead>,
    now: Moment,
) -> Result<Vec<Compared>, FleetFault> {
    let never = |host: &&Host| Compared { host: host.id.clone(), seen: None, fault: None, accounts: Vec::new() };
    let mut all: HashMap<&str, Compared> = hosts.iter().map(|host| (host.id.as_str(), never(host))).collect();
    if let Some(Ahead { parts, looks, removed }) = ahead {
        let comparer = Comparer::new(register, now);
        let none = Removed::default();
        let one = |(name, seen): (String, Option<Observation>)| {
            let host = register.hosts.get(&name)?;
            let look = looks.get(&name);
            let accounts =
                seen.map(|seen| comparer.host(host, &System::of(&seen), removed.get(&name).unwrap_or(&none)));
            let seen = look.and_then(|look| look.seen).filter(|_| accounts.is_some());
            let fault = look.and_then(|look| look.fault.clone());
            Some((host.id.as_str(), Compared { host: name, seen, fault, accounts: accounts.unwrap_or_default() }))
        };
        for part in parts {
            let compared: Vec<(&str, Compared)> = part?.into_par_iter().filter_map(one).collect();
            for (name, compared) in compared {
                if let Some(own) = all.get_mut(name) {
                    *own = compared;
                }
            }
        }
    }
    Ok(hosts.iter().filter_map(|host| all.remove(host.id.as_str())).collect())
}

/// What was removed on each host and not put back by Lavrin itself, by the journal.
///
/// # Errors
/// [`DatabaseFault`].
pub fn removed(store: &Database) -> Result<HashMap<String, Removed>, DatabaseFault> {
    Ok(removed_by(store.journal()?))
}

fn removed_by(journal: Vec<JournalEntry>) -> HashMap<String, Removed> {
    let mut removed: HashMap<String, Removed> = HashMap::new();
    let mut open = HashMap::new();
    for entry in journal {
        match entry.event {
            Event::Intent { place, account, came, gone, .. } => {
                open.insert(entry.id, (place, account, came, gone));
            }
            Event::Outcome { outcome: ChangeOutcome::Done, .. } => {
                let Some((place, account, came, gone)) = open.remove(&entry.id) else { continue };
                let of_host = removed.entry(place).or_default();
                let day = entry.time.get(..10).and_then(Date::parse);
                for key in came.iter().filter_map(|key| Fingerprint::parse(key).ok()) {
                    of_host.remove(&(account.clone(), key));
                }
                for key in gone.iter().filter_map(|key| Fingerprint::parse(key).ok()) {
                    of_host.extend(day.map(|day| ((account.clone(), key), day)));
                }
            }
            Event::Outcome { .. } | Event::Kept { .. } => {}
        }
    }
    removed
}
