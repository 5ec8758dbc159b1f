//! The ways through a fleet by what is remembered of it.

use crate::memory::FleetFault;
use crate::walk::{RememberedHost, walk};
use lavrin_fleet::fleet::{Moment, What, who};
use lavrin_fleet::hops::{Follow, HostFacts, WaysThrough, findings};
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::container::line::KnownKeys;
use lavrin_server::finding::Finding;
use lavrin_server::system::System;
use lavrin_store::database::{Database, Seen};
use std::collections::{BTreeSet, HashSet};

/// What each of these hosts adds to the ways through; those that were never seen are named.
///
/// # Errors
/// [`FleetFault`].
pub fn facts(
    hosts: &[&Host],
    store: Option<&Database>,
    now: Moment,
) -> Result<(Vec<HostFacts>, Vec<String>), FleetFault> {
    let (mut found, mut unseen) = (Vec::new(), Vec::new());
    let known = KnownKeys::default();
    let judge = |host: &Host, remembered: Option<&RememberedHost>| {
        let system = System::of(&remembered?.seen).knowing(&known);
        Some(HostFacts::of(host, &system, &who(&system, now.time)))
    };
    walk(store, hosts, now.time, judge, |host, facts| match facts {
        Some(facts) => found.push(facts),
        None => unseen.push(host.id.clone()),
    })?;
    Ok((found, unseen))
}

/// The same for these hosts and all that are behind them: where their private keys lie there are entries, and keys again.
///
/// # Errors
/// [`FleetFault`].
pub fn behind(
    register: &Register,
    store: &Database,
    now: Moment,
    begin: &[String],
) -> Result<Vec<HostFacts>, FleetFault> {
    let mut known: BTreeSet<String> = BTreeSet::new();
    let mut asked: HashSet<Fingerprint> = HashSet::new();
    let mut next: BTreeSet<String> = begin.iter().cloned().collect();
    let mut all = Vec::new();
    while !next.is_empty() {
        let hosts: Vec<&Host> = next.iter().filter_map(|host| register.hosts.get(host)).collect();
        let (found, _) = facts(&hosts, Some(store), now)?;
        known.append(&mut next);
        for key in found.iter().flat_map(|host| &host.accounts).flat_map(|account| &account.held) {
            let Some(public) = key.public.filter(|public| asked.insert(public.fingerprint)) else { continue };
            let was_there = |seen: &Seen| seen.first <= now.time && seen.gone.is_none_or(|gone| gone > now.time);
            let seen = store.sightings_of(public.fingerprint)?.into_iter().filter(was_there);
            next.extend(seen.map(|seen| seen.host).filter(|host| !known.contains(host)));
        }
        all.extend(found);
    }
    Ok(all)
}

/// The worst of the ways that begin on some hosts, as findings. `holders` are those of them on which private keys lie.
///
/// # Errors
/// [`FleetFault`].
pub fn worst(
    register: &Register,
    store: &Database,
    now: Moment,
    hosts: &[&Host],
    holders: &[String],
) -> Result<Vec<(String, Finding<What>)>, FleetFault> {
    // What policy keeps apart may be joined anywhere; without that only what is behind the keys matters.
    let facts = if register.rules.no_ways.is_empty() {
        behind(register, store, now, holders)?
    } else {
        facts(&register.hosts.values().collect::<Vec<_>>(), Some(store), now)?.0
    };
    let ways = WaysThrough::of(&facts, register, Follow::default());
    let names: BTreeSet<&str> = hosts.iter().map(|host| host.id.as_str()).collect();
    Ok(findings(&ways, &names))
}
