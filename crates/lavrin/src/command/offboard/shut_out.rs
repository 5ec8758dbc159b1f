//! Keys put into the servers' own lists of revoked keys, before anything else is done.

use super::out::Row;
use super::{Leaver, rest};
use crate::command::compare::out::problem;
use crate::command::fleet_change::pairs;
use crate::command::survey::Ways;
use crate::ui::Ui;
use lavrin_core::key::PublicKey;
use lavrin_core::register::{Placed, Register};
use lavrin_core::steps::{Steps, revoke};
use lavrin_core::survey::Observation;
use lavrin_core::text::count;
use lavrin_work::enforce::{Ended, Job};
use std::collections::HashMap;

/// What is to be written into which list.
pub struct ShutOut<'a> {
    wanted: bool,
    register: &'a Register,
    leaver: &'a Leaver<'a>,
    steps: Vec<(String, Box<Observation>, Steps)>,
    /// Hosts whose list cannot be written, and why.
    problems: Vec<(String, String)>,
    /// How many hosts use no list.
    without: usize,
}

impl<'a> ShutOut<'a> {
    /// Nothing yet; only where it is `wanted` anything will be.
    pub fn new(wanted: bool, register: &'a Register, leaver: &'a Leaver<'a>) -> Self {
        Self { wanted, register, leaver, steps: Vec::new(), problems: Vec::new(), without: 0 }
    }

    /// Takes in what was seen of a host.
    pub fn take(&mut self, host: &str, seen: &Observation) {
        if !self.wanted {
            return;
        }
        match revoke(&self.leaver.keys, seen) {
            None => self.without += 1,
            Some(Ok(steps)) if steps.changes.is_empty() => {}
            Some(Ok(steps)) => self.steps.push((host.to_owned(), Box::new(seen.clone()), steps)),
            Some(Err(fault)) => self.problems.push((host.to_owned(), problem(&fault, "root", host))),
        }
    }

    /// Tells what would be done.
    pub fn show(&self, ui: &Ui) {
        if !self.wanted {
            return;
        }
        let hosts: Vec<&str> = self.steps.iter().map(|(host, ..)| host.as_str()).collect();
        if !hosts.is_empty() {
            ui.status(&format!("First, into the server's own list of revoked keys: {}", hosts.join(", ")));
        }
        if self.without > 0 {
            ui.status(&format!("No such list (RevokedKeys) is in use on {}", count(self.without, "host", "hosts")));
        }
        self.problems.iter().for_each(|(host, why)| ui.warn(&format!("{host}: {why}")));
    }

    /// The work.
    pub fn jobs(&mut self, ways: &Ways) -> Vec<Job> {
        let mut jobs = Vec::new();
        for (host, seen, steps) in std::mem::take(&mut self.steps) {
            let Some(known) = self.register.hosts.get(&host) else { continue };
            let keys = |account: &Placed<String>| -> Vec<(String, PublicKey)> {
                self.leaver.keys.iter().map(|key| (account.value.clone(), key.clone())).collect()
            };
            let refused = known.accounts.iter().flat_map(keys).collect();
            jobs.push(Job { stop: ways.stop(known), pairs: pairs(known), seen, steps: vec![steps], refused });
        }
        jobs
    }

    /// Hosts on which it did not work.
    pub fn rows(&self, ended: &HashMap<String, Ended>) -> Vec<Row> {
        let failed = ended.iter().filter(|(_, ended)| !matches!(ended, Ended::Done { .. }));
        let failed = failed.map(|(host, ended)| (host.clone(), rest::why(host, ended)));
        let problems = self.problems.iter().cloned().chain(failed);
        problems.map(|(host, why)| Row::not_shut_out(host, why)).collect()
    }
}
