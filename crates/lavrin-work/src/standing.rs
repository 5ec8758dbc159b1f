//! Where the fleet stood at the last audit, small enough to be read at once: who only asks where they are does not wait for a register
//! of twenty thousand hosts.

use lavrin_fleet::fleet::{FleetReport, Moment};
use lavrin_fleet::register::{Register, Whom};
use lavrin_server::finding::Severity;
use lavrin_store::database::{Database, DatabaseFault};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Under this name the store keeps it.
const SCOPE: &str = "standing";

/// Grants that end within so many days are kept by name, up to this number.
const ENDS_DAYS: i64 = 120;
const ENDS_MAX: usize = 1000;

/// Where the fleet stood.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct FleetStanding {
    /// When the audit was, in seconds since 1970.
    pub time: i64,
    /// What the register counts.
    pub people: usize,
    /// Hosts.
    pub hosts: usize,
    /// Grants.
    pub grants: usize,
    /// Findings by severity.
    pub findings: BTreeMap<String, usize>,
    /// Accounts and hosts that were not checked.
    pub not_checked: usize,
    /// Grants that end: the day, and whose they are.
    pub ends: Vec<(String, String)>,
}

impl FleetStanding {
    /// What the register alone says.
    #[must_use]
    pub fn of_register(register: &Register, now: Moment) -> Self {
        let mut ends: Vec<(String, String)> = Vec::new();
        for grant in &register.grants {
            let Some(until) = grant.until.as_ref().map(|until| until.value) else { continue };
            if (0..=ENDS_DAYS).contains(&(until.number() - now.today.number())) {
                let whose = match &grant.whom.value {
                    Whom::Person(name) | Whom::Team(name) => name.clone(),
                    Whom::Machine { account, host } | Whom::Kept { account, host } => format!("{account}@{host}"),
                };
                ends.push((until.to_string(), format!("{whose} as {}", grant.account)));
            }
        }
        ends.sort();
        ends.truncate(ENDS_MAX);
        let (people, hosts, grants) = (register.people.len(), register.hosts.len(), register.grants.len());
        Self { time: now.time, people, hosts, grants, ends, ..Self::default() }
    }

    /// With what an audit of the whole register found.
    #[must_use]
    pub fn of(register: &Register, report: &FleetReport, now: Moment) -> Self {
        let counts = Severity::URGENT_FIRST.into_iter();
        let findings = counts.map(|severity| (severity.name().to_owned(), report.count(severity))).collect();
        Self { findings, not_checked: report.not_checked.len(), ..Self::of_register(register, now) }
    }

    /// Keeps it in place of the one before.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn keep(&self, store: &Database) -> Result<(), DatabaseFault> {
        store.note_instead(self.time, SCOPE, &serde_json::to_string(self).unwrap_or_default())
    }

    /// The last one; none where there was no audit.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn last(store: &Database) -> Result<Option<Self>, DatabaseFault> {
        let last = store.reports(SCOPE, i64::MAX)?.pop();
        Ok(last.and_then(|(_, text)| serde_json::from_str(&text).ok()))
    }
}
