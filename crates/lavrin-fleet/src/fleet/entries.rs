//! Findings about entries: whose they are, whether they belong there, and whether anybody uses them.

use super::What;
use super::index::Standing;
use super::{FleetAuditor, FleetEntry, HostState, Owner};
use crate::host_fault::HostFault;
use crate::register::{Host, OwnedKey, Purpose};
use foldhash::quality::RandomState;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::keysfile::expiry::expiry;
use lavrin_keys::text::printable;
use lavrin_server::audit::AuditEntry;
use lavrin_server::finding::Finding;
use lavrin_server::survey::HostClock;
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
    clock: Option<HostClock>,
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
    let key = owner.and_then(|owner| all.index.key(owner));
    let faults = fault.into_iter().chain(back).chain(unused(entry, state, all.now.time));
    let faults = faults.chain(old(all, entry, owner, key)).chain(ends_soon(all, entry, owner, clock));
    let faults = faults.chain(used_in_need(entry, owner, key, state));
    faults.map(|fault| at(entry, What::Host(fault))).collect()
}

fn at<F>(entry: &AuditEntry, fault: F) -> Finding<F> {
    Finding {
        fault,
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

/// The key of an entry is older than policy allows.
fn old(all: &FleetAuditor<'_>, entry: &AuditEntry, owner: Option<&Owner>, key: Option<&OwnedKey>) -> Option<HostFault> {
    let (limit, added) = (all.register.rules.key_age_days_max?, key.filter(|key| key.is_active(all.now.today))?.added?);
    let days = all.now.today.number() - added.number();
    let who = owner.map(Owner::name).unwrap_or_default();
    (days > limit).then_some(HostFault::OldKey { who, fingerprint: entry.fingerprint, days, limit })
}

/// By the host's own clock.
fn ends_soon(
    all: &FleetAuditor<'_>,
    entry: &AuditEntry,
    owner: Option<&Owner>,
    clock: Option<HostClock>,
) -> Option<HostFault> {
    let at = entry.limits.expires.clone()?;
    let ahead = clock.map_or(0, |clock| clock.ahead.unwrap_or(0) + if at.ends_with('Z') { 0 } else { clock.zone });
    let left = expiry(at.as_bytes())?.saturating_sub(all.now.time.saturating_add(ahead));
    let is_near =
        (0..=all.register.rules.ends_soon_days * DAY).contains(&left) && all.register.rules.ends_soon_days > 0;
    is_near.then_some(HostFault::EntryEndsSoon { who: owner.map(Owner::name), fingerprint: entry.fingerprint, at })
}

/// A key for the day on which nothing else works was used: somebody should know why.
fn used_in_need(
    entry: &AuditEntry,
    owner: Option<&Owner>,
    key: Option<&OwnedKey>,
    state: &HostState,
) -> Option<HostFault> {
    key.filter(|key| key.purpose == Purpose::BreakGlass)?;
    let used = state.uses.get(&(entry.account.to_string(), entry.fingerprint))?;
    let who = owner.map(Owner::name).unwrap_or_default();
    Some(HostFault::BreakGlassUsed { who, fingerprint: entry.fingerprint, last: used.time })
}

/// Whether a host that needs one has no entry of a key for the day on which nothing else works.
pub(super) fn lacks_break_glass(all: &FleetAuditor<'_>, host: &Host, entries: &[FleetEntry]) -> bool {
    let is_asked = all.register.rules.asks_for_break_glass(host);
    let is_one = |entry: &FleetEntry| {
        let owner = entry.owner.as_ref().filter(|_| entry.host == host.id);
        let key = owner.and_then(|owner| all.index.key(owner));
        key.is_some_and(|key| key.purpose == Purpose::BreakGlass && key.is_active(all.now.today))
            && owner.is_some_and(|owner| misplaced(all, host, &entry.entry, owner).is_none())
    };
    is_asked && !entries.iter().any(is_one)
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

/// Keys that nobody in the register has, with the names that they go by: where there are several, several people may use one.
#[derive(Debug, Default)]
pub(super) struct ManyHands(HashMap<Fingerprint, NamedKey, RandomState>);

#[derive(Debug)]
struct NamedKey {
    names: BTreeSet<String>,
    host: String,
    first: Finding<()>,
}

impl ManyHands {
    pub(super) fn add(&mut self, entry: &FleetEntry) {
        let comment = printable(entry.entry.comment.trim_ascii());
        if entry.owner.is_some() || comment.is_empty() {
            return;
        }
        let new = || NamedKey { names: BTreeSet::new(), host: entry.host.clone(), first: at(&entry.entry, ()) };
        self.0.entry(entry.entry.fingerprint).or_insert_with(new).names.insert(comment);
    }

    pub(super) fn findings(self) -> Vec<(String, Finding<What>)> {
        let many = self.0.into_iter().filter(|(_, key)| key.names.len() > 1);
        let finding = |(fingerprint, key): (Fingerprint, NamedKey)| {
            let names = key.names.into_iter().take(NAMES_TOLD).collect();
            (key.host, key.first.map(|()| What::Host(HostFault::KeyInManyHands { fingerprint, names })))
        };
        let mut found: Vec<(String, Finding<What>)> = many.map(finding).collect();
        found.sort_by(|one, other| (&one.0, one.1.line).cmp(&(&other.0, other.1.line)));
        found
    }
}

impl Owner {
    /// The person, or `ACCOUNT@HOST`.
    #[must_use]
    pub fn name(&self) -> String {
        match self {
            Self::Person { id, .. } => id.clone(),
            Self::Machine { account, host, .. } => format!("{account}@{host}"),
            Self::Kept { account, host, .. } => format!("kept for {account}@{host}"),
        }
    }

    /// The label of the key.
    #[must_use]
    pub fn label(&self) -> &str {
        let (Self::Person { label, .. } | Self::Machine { label, .. } | Self::Kept { label, .. }) = self;
        label
    }
}
