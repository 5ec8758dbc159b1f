//! From what was seen to what is to be done, host by host. A plan carries facts; who shows it words them.

use crate::change::{Job, Proof, Task};
use crate::scope::Scope;
use crate::ways::Ways;
use lavrin_fleet::fleet::compare::{AccountComparison, Comparer, Part};
use lavrin_fleet::fleet::{Moment, Removed};
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_server::steps::{Around, NoSteps, Steps};
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// Hosts whose tag begins so belong together, as two routers of a pair do, and are never changed at the same time.
pub const PAIR: &str = "pair-";

/// The tags of a host that keep it apart from others.
#[must_use]
pub fn pairs(host: &Host) -> Vec<String> {
    host.tags.iter().filter(|tag| tag.starts_with(PAIR)).cloned().collect()
}

/// Which differences are ended.
pub enum Which {
    /// All of them.
    All,
    /// Those of one kind.
    Part(Part),
    /// Those that are about these keys.
    Keys(Vec<Fingerprint>),
}

/// A plan in the making.
pub struct Plan<'a> {
    register: &'a Register,
    comparer: Comparer<'a>,
    removed: HashMap<String, Removed>,
    which: Which,
    network_homes: bool,
    everywhere: bool,
    accounts: BTreeMap<String, Vec<AccountComparison>>,
    problems: HashMap<String, Vec<(String, NoSteps)>>,
    work: BTreeMap<String, Vec<Task>>,
}

/// What is to be done.
pub struct Planned {
    /// What differs on each host that was seen.
    pub accounts: BTreeMap<String, Vec<AccountComparison>>,
    /// By host: accounts that cannot be brought into line, and why.
    pub problems: HashMap<String, Vec<(String, NoSteps)>>,
    /// The work, in the order of the hosts.
    pub jobs: Vec<Job>,
}

impl<'a> Plan<'a> {
    /// Begins one.
    #[must_use]
    pub fn new(register: &'a Register, now: Moment, removed: HashMap<String, Removed>, which: Which) -> Self {
        Self {
            register,
            comparer: Comparer::new(register, now),
            removed,
            which,
            network_homes: false,
            everywhere: false,
            accounts: BTreeMap::new(),
            problems: HashMap::new(),
            work: BTreeMap::new(),
        }
    }

    /// Homes on a network were looked at too, each on one of the hosts that share it.
    #[must_use]
    pub fn with_network_homes(self, looked_at: bool) -> Self {
        Self { network_homes: looked_at, ..self }
    }

    /// Accounts that the register does not manage are worked on too.
    #[must_use]
    pub fn everywhere(self, everywhere: bool) -> Self {
        Self { everywhere, ..self }
    }

    /// Takes in what was seen of a host. It is kept only where there is something to do.
    pub fn take(&mut self, host: &str, seen: Box<Observation>) {
        let Some(known) = self.register.hosts.get(host) else { return };
        let none = Removed::default();
        let system = System::of(&seen);
        let mut found = self.comparer.host(known, &system, self.removed.get(host).unwrap_or(&none));
        let mut all = Vec::new();
        for account in &mut found {
            match &self.which {
                Which::All => {}
                Which::Part(part) => account.only(*part),
                Which::Keys(keys) => account.only_keys(keys),
            }
            account.managed |= self.everywhere && !account.differences.is_empty();
            if let Some(fault) = account.no_key_taken() {
                self.problems.entry(host.to_owned()).or_default().push((account.account.clone(), fault));
            }
            // What is only told about an account that is not managed needs no steps, and must not fail for want of them.
            if account.managed || account.fault.is_some() {
                all.extend(self.steps(host, account, &system).filter(|steps| !steps.changes.is_empty()));
            }
        }
        found.retain(|account| account.fault.is_some() || !account.differences.is_empty());
        self.accounts.insert(host.to_owned(), found);
        if !all.is_empty() {
            let seen: Arc<Observation> = Arc::new(*seen);
            let around = Arc::new(Around { seen: seen.clone(), granted: self.comparer.granted(known) });
            let task = |steps| Task { steps, seen: seen.clone(), around: around.clone() };
            self.work.insert(host.to_owned(), all.into_iter().map(task).collect());
        }
    }

    fn steps(&mut self, host: &str, account: &mut AccountComparison, seen: &System<'_>) -> Option<Steps> {
        match account.steps(seen, &self.register.rules.policy) {
            Ok(steps) => Some(steps),
            // It is worked on where it was looked at, once for all hosts that share it.
            Err(NoSteps::HomeOnNetwork(_)) if self.network_homes => None,
            Err(fault) => {
                self.problems.entry(host.to_owned()).or_default().push((account.account.clone(), fault.clone()));
                account.fault = Some(fault);
                None
            }
        }
    }

    /// The plan.
    #[must_use]
    pub fn end(self, ways: &Ways) -> Planned {
        let job = |(host, tasks): (String, Vec<Task>)| {
            let known = self.register.hosts.get(&host)?;
            Some(Job { stop: ways.stop(known), pairs: pairs(known), tasks, proof: Proof::of(Scope::Survey) })
        };
        let jobs = self.work.into_iter().filter_map(job).collect();
        Planned { accounts: self.accounts, problems: self.problems, jobs }
    }
}
