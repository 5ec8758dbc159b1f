//! The ways through a fleet by what is remembered of it.

use crate::memory::FleetFault;
use crate::walk::{RememberedHost, walk};
use lavrin_fleet::fleet::{Moment, What, who};
use lavrin_fleet::hops::{Follow, HostFacts, WaysThrough, findings};
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::container::line::KnownKeys;
use lavrin_keys::text::printable;
use lavrin_server::finding::Finding;
use lavrin_server::system::System;
use lavrin_store::database::{Database, Seen};
use std::collections::{BTreeSet, HashSet};

/// What is known of some hosts.
#[derive(Debug, Default)]
pub struct FleetFacts {
    /// What each of them adds to the ways through.
    pub hosts: Vec<HostFacts>,
    /// Those that were never seen.
    pub never_seen: Vec<String>,
    /// Accounts of the others of which not everything was read, as `ACCOUNT@HOST`: a way may lead through them.
    pub not_read: Vec<String>,
}

/// What each of these hosts adds to the ways through.
///
/// # Errors
/// [`FleetFault`].
pub fn facts(hosts: &[&Host], store: Option<&Database>, now: Moment) -> Result<FleetFacts, FleetFault> {
    let mut found = FleetFacts::default();
    let known = KnownKeys::default();
    let judge = |host: &Host, remembered: Option<&RememberedHost>| {
        let remembered = remembered?;
        let system = System::of(&remembered.seen).knowing(&known);
        let facts = HostFacts::of(host, &system, &who(&system, now.time));
        let without_keys = facts.not_looked_at.iter().map(|account| printable(account.as_bytes()));
        let not_read: BTreeSet<String> = remembered.unread.iter().cloned().chain(without_keys).collect();
        Some((facts, not_read))
    };
    walk(store, hosts, now.time, judge, |host, facts| match facts {
        Some((facts, not_read)) => {
            found.not_read.extend(not_read.into_iter().map(|account| format!("{account}@{}", host.id)));
            found.hosts.push(facts);
        }
        None => found.never_seen.push(host.id.clone()),
    })?;
    Ok(found)
}

/// The same for these hosts and all that are behind them: where their private keys lie there are entries, and keys again.
///
/// # Errors
/// [`FleetFault`].
pub fn behind(register: &Register, store: &Database, now: Moment, begin: &[String]) -> Result<FleetFacts, FleetFault> {
    let mut known: BTreeSet<String> = BTreeSet::new();
    let mut asked: HashSet<Fingerprint> = HashSet::new();
    let mut next: BTreeSet<String> = begin.iter().cloned().collect();
    let mut all = FleetFacts::default();
    while !next.is_empty() {
        let hosts: Vec<&Host> = next.iter().filter_map(|host| register.hosts.get(host)).map(Box::as_ref).collect();
        let found = facts(&hosts, Some(store), now)?;
        known.append(&mut next);
        for key in found.hosts.iter().flat_map(|host| &host.accounts).flat_map(|account| &account.held) {
            let Some(public) = key.public.filter(|public| asked.insert(public.fingerprint)) else { continue };
            let was_there = |seen: &Seen| seen.first <= now.time && seen.gone.is_none_or(|gone| gone > now.time);
            let seen = store.sightings_of(public.fingerprint)?.into_iter().filter(was_there);
            next.extend(seen.map(|seen| seen.host).filter(|host| !known.contains(host)));
        }
        all.hosts.extend(found.hosts);
        all.never_seen.extend(found.never_seen);
        all.not_read.extend(found.not_read);
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
        facts(&register.all_hosts().collect::<Vec<_>>(), Some(store), now)?
    };
    let ways = WaysThrough::of(&facts.hosts, register, Follow::default());
    let names: BTreeSet<&str> = hosts.iter().map(|host| host.id.as_str()).collect();
    Ok(findings(&ways, &names))
}
