//! Findings about entries: whose they are, whether they belong there, and whether anybody uses them.

use super::What;
use super::index::Standing;
use super::{FleetAuditor, FleetEntry, HostState, Owner};
use crate::host_fault::HostFault;
use crate::register::Host;
use foldhash::quality::RandomState;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::printable;
use lavrin_server::audit::AuditEntry;
use lavrin_server::finding::Finding;
use std::collections::{BTreeSet, HashMap};

/// A key that was not used for so many days is worth a question.
const UNUSED_DAYS: i64 = 180;

/// Seconds of a day.
const DAY: i64 = 86_400;

/// How many names of one key are told.
const NAMES_TOLD: usize = 5;

pub(super) fn check(
    all: &FleetAuditor<'_>,
    host: &Host,
    entry: &AuditEntry,
    owner: Option<&Owner>,
    state: &HostState,
) -> Vec<Finding<What>> {
    let comment = printable(entry.comment.trim_ascii());
    if all.index.is_left_alone(entry.fingerprint, host) {
        return Vec::new();
    }
    let fingerprint = entry.fingerprint;
    let fault = match owner {
        None => Some(HostFault::UnknownKey { fingerprint, comment }),
        Some(owner) => misplaced(all, host, entry, owner),
    };
    let removed = state.removed.get(&(entry.account.to_string(), fingerprint));
    let back = removed.filter(|_| fault.is_some()).map(|on| HostFault::CameBack { fingerprint, on: *on });
    let faults = fault.into_iter().chain(back).chain(unused(entry, state, all.now.time));
    faults.map(|fault| at(entry, fault)).collect()
}

fn at(entry: &AuditEntry, fault: HostFault) -> Finding<What> {
    Finding {
        fault: What::Host(fault),
        account: Some(entry.account.to_string()),
        path: entry.place.path().cloned(),
        line: entry.place.line(),
    }
}

fn misplaced(all: &FleetAuditor<'_>, host: &Host, entry: &AuditEntry, owner: &Owner) -> Option<HostFault> {
    let fingerprint = entry.fingerprint;
    let who = owner.name();
    match all.index.standing(owner, &entry.account, host, all.now.today) {
        Standing::Granted => None,
        Standing::Left(on) => Some(HostFault::KeyOfLeaver { who, on, fingerprint }),
        Standing::Retired(on) => Some(HostFault::RetiredKey { who, on, fingerprint }),
        Standing::Over(on) => Some(HostFault::GrantOver { who, on, fingerprint }),
        Standing::None => Some(HostFault::NotGranted { who, fingerprint }),
    }
}

fn unused(entry: &AuditEntry, state: &HostState, now: i64) -> Option<HostFault> {
    let fingerprint = entry.fingerprint;
    let old = |time: i64| now - time > UNUSED_DAYS * DAY;
    match state.uses.get(&(entry.account.to_string(), fingerprint)) {
        Some(used) if old(used.time) => Some(HostFault::KeyLongUnused { fingerprint, last: used.time }),
        Some(_) => None,
        // Logs that begin yesterday tell nothing about the year.
        None => {
            state.logs_since.filter(|since| old(*since)).map(|since| HostFault::KeyNeverSeen { fingerprint, since })
        }
    }
}

/// Keys that nobody in the register has and that go by several names: several people may use them.
pub(super) fn in_many_hands(entries: &[FleetEntry]) -> Vec<(String, Finding<What>)> {
    let mut names: HashMap<Fingerprint, (BTreeSet<String>, &FleetEntry), RandomState> = HashMap::default();
    for entry in entries.iter().filter(|entry| entry.owner.is_none()) {
        let comment = printable(entry.entry.comment.trim_ascii());
        if !comment.is_empty() {
            names.entry(entry.entry.fingerprint).or_insert_with(|| (BTreeSet::new(), entry)).0.insert(comment);
        }
    }
    let mut found: Vec<(String, Finding<What>)> = names
        .into_iter()
        .filter(|(_, (names, _))| names.len() > 1)
        .map(|(fingerprint, (names, entry))| {
            let names = names.into_iter().take(NAMES_TOLD).collect();
            (entry.host.clone(), at(&entry.entry, HostFault::KeyInManyHands { fingerprint, names }))
        })
        .collect();
    found.sort_by(|one, other| (&one.0, one.1.line).cmp(&(&other.0, other.1.line)));
    found
}

impl Owner {
    /// The person, or `ACCOUNT@HOST`.
    #[must_use]
    pub fn name(&self) -> String {
        match self {
            Self::Person { id, .. } => id.clone(),
            Self::Machine { account, host, .. } => format!("{account}@{host}"),
        }
    }
}
