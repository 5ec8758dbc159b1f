//! Register and fleet held against each other: what surveys saw of the hosts, and what the register says should be there.
//! One file for each family of findings.

mod access;
mod account_comparison;
pub mod adopt;
pub mod compare;
mod difference;
mod entries;
mod first_entries;
mod held_together;
mod hosts;
mod index;
pub mod matrix;
mod offers;
pub mod rotation;
mod shared_files;
#[cfg(test)]
mod tests;
mod wanted;

pub use crate::host_fault::HostFault;
use crate::register::{Date, Exception, Host, Register};
pub(crate) use access::CLIENT_FILES;
pub use access::{Access, Certainty, wants, who};
pub use first_entries::FirstAccount;
pub use index::{Index, KeyOwners, Owner, Standing, owners_of};
use lavrin_keys::key::Fingerprint;
use lavrin_server::abilities::Abilities;
use lavrin_server::audit::{AuditEntry, Auditor, NotChecked, Report};
use lavrin_server::finding::{Fault, Finding, Severity};
use lavrin_server::fs::{BytePath, Fact};
use lavrin_server::survey::StrayKey;
use lavrin_server::survey::key_use::KeyUse;
use lavrin_server::system::System;
pub use offers::Offers;
use std::collections::{BTreeMap, HashMap};

/// A moment, for the core without a clock.
#[derive(Debug, Clone, Copy)]
pub struct Moment {
    /// Seconds since 1970.
    pub time: i64,
    /// The day.
    pub today: Date,
}

/// What is known of one host.
#[derive(Debug, Clone, Default)]
pub struct HostState {
    /// When it was last seen, in seconds since 1970.
    pub seen: Option<i64>,
    /// Why the last try to look at it failed.
    pub fault: Option<String>,
    /// When its logs begin.
    pub logs_since: Option<i64>,
    /// Entries that were removed, by account and key, and on which day.
    pub removed: Removed,
    /// The version of the register by which it was last changed, where that is none of which this copy knows; and on which day.
    pub other_register: Option<(Date, String)>,
    /// The last use of each key in each account.
    pub uses: HashMap<(String, Fingerprint), KeyUse>,
}

/// Entries of one host that were removed, by account and key, and on which day.
pub type Removed = HashMap<(String, Fingerprint), Date>;

/// What is wrong with a host: by itself, or beside a register and over time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum What {
    /// What an audit of the system alone tells.
    System(Fault),
    /// What shows only here.
    Host(HostFault),
}

impl What {
    /// The stable rule name.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        match self {
            Self::System(fault) => fault.rule(),
            Self::Host(fault) => fault.rule(),
        }
    }

    /// How much it matters by default.
    #[must_use]
    pub fn severity(&self) -> Severity {
        match self {
            Self::System(fault) => fault.severity(),
            Self::Host(fault) => fault.severity(),
        }
    }
}

/// A finding on a host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FleetFinding {
    /// The host.
    pub host: String,
    /// What, and where on it.
    pub finding: Finding<What>,
    /// How much it matters here.
    pub severity: Severity,
}

/// An entry, and whose it is.
#[derive(Debug, Clone)]
pub struct FleetEntry {
    /// The host.
    pub host: String,
    /// The entry.
    pub entry: AuditEntry,
    /// Whose key it is, where the register knows.
    pub owner: Option<Owner>,
}

/// What was found on one host or on many.
#[derive(Debug, Clone, Default)]
pub struct FleetReport {
    /// How many accounts were looked at.
    pub accounts: usize,
    /// Every entry.
    pub entries: Vec<FleetEntry>,
    /// Every finding.
    pub findings: Vec<FleetFinding>,
    /// What could not be checked, by host.
    pub not_checked: Vec<(String, NotChecked)>,
    /// What a host cannot do or show, whatever rights one has.
    pub not_applicable: Vec<(String, Abilities)>,
    /// On how many hosts an agent can be forwarded to the server.
    pub take_agents: usize,
    /// Hosts on which private keys lie.
    pub key_holders: Vec<String>,
}

impl FleetReport {
    /// Takes up what was found elsewhere.
    pub fn absorb(&mut self, part: Self) {
        self.accounts += part.accounts;
        self.entries.extend(part.entries);
        self.findings.extend(part.findings);
        self.not_checked.extend(part.not_checked);
        self.not_applicable.extend(part.not_applicable);
        self.take_agents += part.take_agents;
        self.key_holders.extend(part.key_holders);
    }

    /// How many findings have this severity.
    #[must_use]
    pub fn count(&self, severity: Severity) -> usize {
        self.findings.iter().filter(|finding| finding.severity == severity).count()
    }

    /// The most urgent severity found.
    #[must_use]
    pub fn worst(&self) -> Option<Severity> {
        self.findings.iter().map(|finding| finding.severity).max()
    }
}

/// What shows only when the entries of all hosts are seen together. They are added one by one and need not be kept.
#[derive(Debug, Default)]
pub struct AcrossHosts {
    many_hands: entries::ManyHands,
    rsa_keys: held_together::RsaKeys,
}

impl AcrossHosts {
    /// Takes up the entries of a host.
    pub fn add(&mut self, entries: &[FleetEntry]) {
        for entry in entries {
            self.many_hands.add(entry);
            self.rsa_keys.add(entry);
        }
    }
}

/// Audits hosts one by one, perhaps on several threads.
pub struct FleetAuditor<'a> {
    register: &'a Register,
    index: Index<'a>,
    auditor: Auditor,
    now: Moment,
}

impl<'a> FleetAuditor<'a> {
    /// One for this register at this moment.
    #[must_use]
    pub fn new(register: &'a Register, now: Moment) -> Self {
        let auditor = Auditor::new(register.rules.policy.clone());
        Self { register, index: Index::of(register), auditor, now }
    }

    /// Everything about one host. Without an observation only that it was never seen.
    #[must_use]
    pub fn host(&self, host: &Host, seen: Option<&System<'_>>, state: &HostState) -> FleetReport {
        let mut report = FleetReport::default();
        let mut findings = hosts::check(host, state, self.now);
        if let Some(seen) = seen {
            let of_system = self.system(seen);
            report.accounts = of_system.accounts;
            report.take_agents = usize::from(of_system.takes_agents);
            let holds = |keys: &Fact<Vec<StrayKey>>| keys.known().is_some_and(|keys| !keys.is_empty());
            report.key_holders.extend(seen.private_keys.values().any(holds).then(|| host.id.clone()));
            report.not_checked = of_system.not_checked.into_iter().map(|item| (host.id.clone(), item)).collect();
            report
                .not_applicable
                .extend((!seen.abilities.is_whole()).then(|| (host.id.clone(), seen.abilities.clone())));
            let own = of_system.findings.into_iter().filter(|finding| !is_expected(finding, host));
            findings.extend(own.map(|finding| finding.map(What::System)));
            for entry in of_system.entries {
                let owner = self.index.owner(entry.fingerprint).cloned();
                findings.extend(entries::check(self, host, &entry, owner.as_ref(), state, seen.clock));
                report.entries.push(FleetEntry { host: host.id.clone(), entry, owner });
            }
            if entries::lacks_break_glass(self, host, &report.entries) {
                findings.push(Finding::of(What::Host(HostFault::BreakGlassMissing)));
            }
        } else if let Some(fault) = &state.fault {
            let why = lavrin_server::fs::Why::Other(fault.clone());
            let item = NotChecked { account: None, source: BytePath::from("/").into(), why };
            report.not_checked.push((host.id.clone(), item));
        }
        report.findings = findings.into_iter().filter_map(|finding| self.weighed(host, finding)).collect();
        report
    }

    /// Every account of a host, as the audit of a single one sees it.
    fn system(&self, seen: &System<'_>) -> Report {
        let mut report = Report::default();
        for account in seen.accounts.iter() {
            report.absorb(self.auditor.account(account, seen));
        }
        report.add_server(seen);
        report
    }

    /// The severity that the register gives it; `None` where the register does not want to hear of it.
    fn weighed(&self, host: &Host, finding: Finding<What>) -> Option<FleetFinding> {
        let severity = match self.register.rules.severities.get(finding.fault.rule()) {
            Some(None) => return None,
            Some(Some(severity)) => *severity,
            None => finding.fault.severity(),
        };
        Some(FleetFinding { host: host.id.clone(), finding, severity })
    }

    /// What shows only when all hosts are known, and the order and the exceptions of the register. `across` has the entries of all hosts; `hops` are findings about ways
    /// from host to host, each with its host.
    pub fn finish(&self, report: &mut FleetReport, across: AcrossHosts, hops: Vec<(String, Finding<What>)>) {
        let all = hops.into_iter().chain(across.many_hands.findings()).chain(across.rsa_keys.findings());
        let all = all.chain(hosts::owed(self.register));
        report.findings.extend(all.filter_map(|(host, finding)| {
            let host = self.register.hosts.get(&host)?;
            self.weighed(host, finding)
        }));
        self.excuse(&mut report.findings);
        report.findings.sort_by(|one, other| {
            (other.severity, &one.host, &one.finding.account).cmp(&(one.severity, &other.host, &other.finding.account))
        });
    }

    /// Leaves out what an exception excuses.
    fn excuse(&self, findings: &mut Vec<FleetFinding>) {
        let open = self.register.exceptions.iter().filter(|exception| exception.until.value >= self.now.today);
        let mut by_rule: BTreeMap<&str, Vec<&Exception>> = BTreeMap::new();
        for exception in open {
            by_rule.entry(&exception.rule.value).or_default().push(exception);
        }
        findings.retain(|found| {
            let exceptions = by_rule.get(found.finding.fault.rule());
            exceptions.is_none_or(|list| !list.iter().any(|exception| concerns(exception, found)))
        });
    }
}

/// An exception names a host or `ACCOUNT@HOST`.
fn concerns(exception: &Exception, found: &FleetFinding) -> bool {
    match exception.about.split_once('@') {
        Some((account, host)) => found.host == host && found.finding.account.as_deref() == Some(account),
        None => found.host == exception.about,
    }
}

/// A private key of a machine that the register knows to lie there.
fn is_expected(finding: &Finding, host: &Host) -> bool {
    let path = finding.path.as_ref();
    matches!(finding.fault, Fault::StrayPrivateKey { .. })
        && host.keys.iter().filter_map(|key| key.file.as_deref()).any(|file| path == Some(&BytePath::from(file)))
}
