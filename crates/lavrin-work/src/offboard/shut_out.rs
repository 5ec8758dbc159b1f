//! Keys put into the servers' own lists of revoked keys, before anything else is done.

use super::{KeyState, KeyStateReason, Leaver, Row};
use crate::change::{Ended, Job, Proof, Task};
use crate::plan::pairs;
use crate::scope::Scope;
use crate::ways::Ways;
use lavrin_fleet::register::{Placed, Register};
use lavrin_keys::key::PublicKey;
use lavrin_server::steps::{Around, NoSteps, revoke};
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use std::collections::BTreeMap;
use std::sync::Arc;

/// What is to be written into which list.
pub struct ShutOut<'a> {
    register: &'a Register,
    leaver: &'a Leaver,
    tasks: Vec<(String, Task)>,
    /// Hosts whose list cannot be written, and why.
    pub problems: Vec<(String, NoSteps)>,
    /// How many hosts use no list.
    pub without: usize,
}

impl<'a> ShutOut<'a> {
    /// Nothing yet.
    #[must_use]
    pub fn new(register: &'a Register, leaver: &'a Leaver) -> Self {
        Self { register, leaver, tasks: Vec::new(), problems: Vec::new(), without: 0 }
    }

    /// Takes in what was seen of a host.
    pub fn take(&mut self, host: &str, seen: &Observation) {
        match revoke(&self.leaver.keys, &System::of(seen)) {
            None => self.without += 1,
            Some(Ok(steps)) if steps.changes.is_empty() => {}
            Some(Ok(steps)) => {
                let seen = Arc::new(seen.clone());
                let around = Arc::new(Around { seen: seen.clone(), granted: Vec::new() });
                self.tasks.push((host.to_owned(), Task { steps, seen, around }));
            }
            Some(Err(fault)) => self.problems.push((host.to_owned(), fault)),
        }
    }

    /// The hosts whose list will be written.
    #[must_use]
    pub fn hosts(&self) -> Vec<&str> {
        self.tasks.iter().map(|(host, _)| host.as_str()).collect()
    }

    /// The work.
    #[must_use]
    pub fn jobs(&self, ways: &Ways) -> Vec<Job> {
        let job = |(host, task): &(String, Task)| {
            let known = self.register.hosts.get(host)?;
            let keys = |account: &Placed<String>| -> Vec<(String, PublicKey)> {
                self.leaver.keys.iter().map(|key| (account.value.clone(), key.clone())).collect()
            };
            let refused = known.accounts.iter().flat_map(keys).collect();
            let proof = Proof { refused, ..Proof::of(Scope::Survey) };
            Some(Job { stop: ways.stop(known), pairs: pairs(known), tasks: vec![task.clone()], proof })
        };
        self.tasks.iter().filter_map(job).collect()
    }

    /// Hosts on which it did not work.
    #[must_use]
    pub fn rows(&self, ended: &BTreeMap<String, Ended>) -> Vec<Row> {
        let row = |host: &String, why: KeyStateReason| {
            let (host, account) = (host.clone(), String::new());
            Row { state: KeyState::NotShutOut, host, account, key: None, why: Some(why) }
        };
        let failed =
            ended.iter().filter_map(|(host, ended)| Some(row(host, KeyStateReason::Change(ended.worst().why()?))));
        self.problems.iter().map(|(host, fault)| row(host, KeyStateReason::List(fault.clone()))).chain(failed).collect()
    }
}
