//! Everything that is remembered of many hosts, judged once: the findings, who gets in, and what keys there are. Each host is handed
//! on and let go, so that memory stays small.

use crate::fleet::states;
use crate::hops::worst;
use crate::memory::FleetFault;
use crate::walk::{HostAccess, RememberedHost, walk};
use lavrin_fleet::fleet::matrix::Matrix;
use lavrin_fleet::fleet::{
    AcrossHosts, FleetAuditor, FleetEntry, FleetFinding, FleetReport, HostState, Moment, Owner, who,
};
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::container::line::KnownKeys;
use lavrin_server::system::System;
use lavrin_store::database::Database;

/// What one host shows.
#[derive(Debug)]
pub struct HostOverview {
    /// Who gets in.
    pub access: HostAccess,
    /// How many accounts it has.
    pub accounts: usize,
    /// Its entries.
    pub entries: Vec<EntryBrief>,
    /// What could not be checked.
    pub not_checked: usize,
    /// Why the last try to look at it failed.
    pub fault: Option<String>,
}

/// What is counted of an entry.
#[derive(Debug)]
pub struct EntryBrief {
    /// Its key.
    pub key: Fingerprint,
    /// The algorithm of the key.
    pub algorithm: &'static str,
    /// Its size.
    pub bits: usize,
    /// Whose it is, where the register knows.
    pub owner: Option<Owner>,
    /// When the key last opened the account, in seconds since 1970.
    pub used: Option<i64>,
    /// When the logs of the host begin.
    pub logs_since: Option<i64>,
}

/// What was found on all of them.
#[derive(Debug)]
pub struct Found {
    /// The findings, the most urgent first.
    pub findings: Vec<FleetFinding>,
    /// The hosts on which private keys lie.
    pub key_holders: Vec<String>,
}

/// Goes over these hosts as they were at a moment; `take` is handed what each shows, in their order.
///
/// # Errors
/// [`FleetFault`].
pub fn overview(
    register: &Register,
    hosts: &[&Host],
    store: Option<&Database>,
    now: Moment,
    is_past: bool,
    mut take: impl FnMut(&Host, HostOverview),
) -> Result<Found, FleetFault> {
    let (auditor, matrix) = (FleetAuditor::new(register, now), Matrix::new(register, now));
    let known_keys = KnownKeys::default();
    let states = store.map(states).transpose()?.unwrap_or_default();
    let unknown = HostState::default();
    let judge = |host: &Host, remembered: Option<&RememberedHost>| {
        let known = states.get(&host.id).unwrap_or(&unknown);
        let past = is_past.then(|| as_it_was(known, remembered, now));
        one((&auditor, &matrix, &known_keys), host, remembered, past.as_ref().unwrap_or(known), now)
    };
    let (mut report, mut across) = (FleetReport::default(), AcrossHosts::default());
    walk(store, hosts, now.time, judge, |host, (mut part, shown)| {
        across.add(&std::mem::take(&mut part.entries));
        report.absorb(part);
        take(host, shown);
    })?;
    let hops = match store {
        Some(store) => worst(register, store, now, hosts, &report.key_holders)?,
        None => Vec::new(),
    };
    auditor.finish(&mut report, across, hops);
    Ok(Found { findings: report.findings, key_holders: report.key_holders })
}

/// What was known of a host at a moment in the past.
fn as_it_was(known: &HostState, remembered: Option<&RememberedHost>, now: Moment) -> HostState {
    let mut past = known.clone();
    past.seen = remembered.map(|one| one.time);
    past.fault = None;
    past.uses.retain(|_, used| used.time <= now.time);
    past.removed.retain(|_, on| *on <= now.today);
    past
}

fn one(
    (auditor, matrix, known): (&FleetAuditor<'_>, &Matrix<'_>, &KnownKeys),
    host: &Host,
    remembered: Option<&RememberedHost>,
    state: &HostState,
    now: Moment,
) -> (FleetReport, HostOverview) {
    let system = remembered.map(|one| System::of(&one.seen).knowing(known));
    let report = auditor.host(host, system.as_ref(), state);
    let open = system.as_ref().map(|system| who(system, now.time));
    let brief = |entry: &FleetEntry| EntryBrief {
        key: entry.entry.fingerprint,
        algorithm: entry.entry.key.algorithm().name(),
        bits: entry.entry.key.bits(),
        owner: entry.owner.clone(),
        used: state.uses.get(&(entry.entry.account.to_string(), entry.entry.fingerprint)).map(|used| used.time),
        logs_since: state.logs_since,
    };
    let shown = HostOverview {
        access: HostAccess::of(matrix, host, remembered, open, now),
        accounts: report.accounts,
        entries: report.entries.iter().map(brief).collect(),
        not_checked: report.not_checked.len(),
        fault: state.fault.clone(),
    };
    (report, shown)
}
