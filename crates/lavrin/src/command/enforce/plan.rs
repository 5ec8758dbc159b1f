//! From what was seen to what is to be done, host by host.

use crate::command::compare::out::AccountOut;
use crate::command::fleet_change::pairs;
use crate::command::survey::Ways;
use crate::error::no_steps;
use crate::exit::Exit;
use lavrin_core::fleet::compare::{AccountComparison, Comparer, Part};
use lavrin_core::fleet::{Moment, Removed};
use lavrin_core::key::Fingerprint;
use lavrin_core::register::Register;
use lavrin_core::server_config::Prepared;
use lavrin_core::steps::{NoSteps, Steps};
use lavrin_core::survey::Observation;
use lavrin_work::enforce::Job;
use std::collections::{BTreeMap, HashMap};

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
    accounts: BTreeMap<String, Vec<AccountOut>>,
    problems: HashMap<String, Exit>,
    work: BTreeMap<String, (Box<Observation>, Vec<Steps>)>,
}

/// What is to be done.
pub struct Planned {
    /// What differs on each host that was seen.
    pub accounts: BTreeMap<String, Vec<AccountOut>>,
    /// Hosts with accounts that cannot be brought into line, and how that ends.
    pub problems: HashMap<String, Exit>,
    /// The work, in the order of the hosts.
    pub jobs: Vec<Job>,
}

impl<'a> Plan<'a> {
    /// Begins one.
    pub fn new(register: &'a Register, now: Moment, removed: HashMap<String, Removed>, which: Which) -> Self {
        Self {
            register,
            comparer: Comparer::new(register, now),
            removed,
            which,
            network_homes: false,
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

    /// Takes in what was seen of a host. It is kept only where there is something to do.
    pub fn take(&mut self, host: &str, mut seen: Box<Observation>) {
        let Some(known) = self.register.hosts.get(host) else { return };
        let none = Removed::default();
        seen.prepared = Some(Prepared::new(&seen));
        let mut found = self.comparer.host(known, &seen, self.removed.get(host).unwrap_or(&none));
        let mut all = Vec::new();
        for account in &mut found {
            match &self.which {
                Which::All => {}
                Which::Part(part) => account.only(*part),
                Which::Keys(keys) => account.only_keys(keys),
            }
            all.extend(self.steps(host, account, &seen).filter(|steps| !steps.changes.is_empty()));
        }
        found.retain(|account| account.fault.is_some() || !account.differences.is_empty());
        let out = found.iter().map(|account| AccountOut::of(account, host)).collect();
        self.accounts.insert(host.to_owned(), out);
        if !all.is_empty() {
            seen.prepared = None;
            self.work.insert(host.to_owned(), (seen, all));
        }
    }

    fn steps(&mut self, host: &str, account: &mut AccountComparison, seen: &Observation) -> Option<Steps> {
        match account.steps(seen, &self.register.rules.policy) {
            Ok(steps) => Some(steps),
            Err(fault) => {
                let exit = match &fault {
                    // It is worked on where it was looked at, once for all hosts that share it.
                    NoSteps::HomeOnNetwork(_) if self.network_homes => return None,
                    NoSteps::HomeOnNetwork(_) => Exit::NotChecked,
                    fault => no_steps(fault, &account.account, host).exit,
                };
                let worst = self.problems.entry(host.to_owned()).or_insert(exit);
                *worst = exit.max(*worst);
                account.fault = Some(fault);
                None
            }
        }
    }

    /// What differs on a host.
    pub fn accounts(&self, host: &str) -> &[AccountOut] {
        self.accounts.get(host).map(Vec::as_slice).unwrap_or_default()
    }

    /// What is to be done on a host, and what was seen of it.
    pub fn work(&mut self, host: &str) -> Option<(Box<Observation>, Vec<Steps>)> {
        self.work.remove(host)
    }

    /// The plan.
    pub fn end(self, ways: &Ways) -> Planned {
        let job = |(host, (seen, steps)): (String, (Box<Observation>, Vec<Steps>))| {
            let known = self.register.hosts.get(&host)?;
            Some(Job { stop: ways.stop(known), pairs: pairs(known), seen, steps, refused: Vec::new() })
        };
        let jobs = self.work.into_iter().filter_map(job).collect();
        Planned { accounts: self.accounts, problems: self.problems, jobs }
    }
}
