//! What somebody who leaves has left behind on hosts, beside keys that open something.

use super::Leaver;
use crate::change::{Job, Proof, Task};
use crate::plan::pairs;
use crate::scope::Scope;
use crate::ways::Ways;
use lavrin_fleet::register::{Grant, Host, Register, Whom};
use lavrin_server::abilities::Ability;
use lavrin_server::account::Account;
use lavrin_server::fs::{BytePath, Fact};
use lavrin_server::login::{self, AccountKeys};
use lavrin_server::steps::{Around, NoSteps, Steps, end_account, end_sessions};
use lavrin_server::survey::Observation;
use lavrin_server::survey::traces::{FoundTraces, KeyCopy, OpenSession, TracesQuestion};
use lavrin_server::system::System;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// On one host.
#[derive(Debug, Clone)]
pub struct HostLeftBehind {
    /// Sessions of accounts that were open to them, of which no log tells which key opened them.
    pub untold: Vec<OpenSession>,
    /// Sessions that their keys opened.
    pub sessions: Vec<OpenSession>,
    /// Files in which one of their keys stands and that no server reads, and whether a private key lies beside.
    pub copies: Vec<(KeyCopy, bool)>,
    /// Accounts that were theirs alone.
    pub accounts: Vec<OwnAccount>,
    seen: Arc<Observation>,
}

/// An account that was the leaver's alone.
#[derive(Debug, Clone)]
pub struct OwnAccount {
    /// Its name.
    pub name: String,
    /// Whether it has ended already.
    pub has_ended: bool,
    /// What runs in its name.
    pub commands: Vec<String>,
    /// What starts by itself in its name: tables of the clock daemon, services that linger.
    pub starts: Vec<&'static str>,
}

/// All of it, host by host; hosts on which there is nothing are left out.
pub struct LeftBehind<'a> {
    register: &'a Register,
    leaver: &'a Leaver,
    today: i64,
    /// What was found.
    pub hosts: BTreeMap<String, HostLeftBehind>,
    /// Hosts on which it could not be looked for.
    pub unseen: BTreeSet<String>,
}

impl<'a> LeftBehind<'a> {
    /// Nothing is known yet; `today` in days since 1970.
    #[must_use]
    pub fn new(register: &'a Register, leaver: &'a Leaver, today: i64) -> Self {
        Self { register, leaver, today, hosts: BTreeMap::new(), unseen: BTreeSet::new() }
    }

    /// How far hosts are looked at.
    #[must_use]
    pub fn scope(leaver: &Leaver) -> Scope {
        let text = |line: String| line.split(' ').nth(1).map(str::to_owned);
        let keys = leaver.keys.iter().filter_map(|key| text(key.line("")));
        Scope::Leaving(Arc::new(TracesQuestion { keys: keys.collect() }))
    }

    /// Takes in what was seen of a host.
    pub fn take(&mut self, host: &str, seen: &Observation) {
        let Some(known) = self.register.hosts.get(host) else { return };
        // A device without files has nothing of all this to show.
        if !seen.abilities.has(Ability::Files) {
            return;
        }
        let Some(Fact::Known(traces)) = &seen.traces else {
            self.unseen.insert(host.to_owned());
            return;
        };
        let theirs = |session: &&OpenSession| session.key.is_some_and(|key| self.leaver.prints.contains(&key));
        let sessions: Vec<OpenSession> = traces.sessions.iter().filter(theirs).cloned().collect();
        let system = System::of(seen);
        let open_to_them = self.open_to_them(known, &system);
        let is_untold = |session: &&OpenSession| {
            session.key.is_none() && !session.is_own && open_to_them.contains(&session.account)
        };
        let untold: Vec<OpenSession> = traces.sessions.iter().filter(is_untold).cloned().collect();
        let read: BTreeSet<BytePath> =
            seen.accounts.iter().flat_map(|account| login::key_files(account, &system)).collect();
        let is_copy = |copy: &&KeyCopy| !read.contains(&copy.path);
        let copies =
            traces.copies.iter().filter(is_copy).map(|copy| (copy.clone(), has_private_half(&copy.path, seen)));
        let copies: Vec<(KeyCopy, bool)> = copies.collect();
        let accounts: Vec<OwnAccount> =
            self.own_accounts(known).into_iter().filter_map(|name| self.own_account(name, traces, seen)).collect();
        if !(sessions.is_empty() && untold.is_empty() && copies.is_empty() && accounts.is_empty()) {
            let seen = Arc::new(seen.clone());
            self.hosts.insert(host.to_owned(), HostLeftBehind { untold, sessions, copies, accounts, seen });
        }
    }

    /// Accounts that the register lets them in, or that hold one of their keys.
    fn open_to_them(&self, host: &Host, seen: &System<'_>) -> BTreeSet<String> {
        let is_here = |grant: &&Grant| grant.covers(host);
        let people = |grant: &&Grant| self.register.people_of(grant).iter().any(|person| person.id == self.leaver.id);
        let granted = self.register.grants.iter().filter(is_here).filter(people).map(|grant| grant.account.clone());
        let holds = |account: &&Account| {
            let keys = AccountKeys::of(account, seen, None);
            self.leaver.prints.iter().any(|key| keys.of_key(*key).next().is_some())
        };
        granted.chain(seen.accounts.iter().filter(holds).map(|account| account.name.clone())).collect()
    }

    /// Accounts for which nobody else has a grant on this host, and that are named after the leaver or were made for them.
    fn own_accounts(&self, host: &Host) -> Vec<&'a str> {
        let is_here = |grant: &&Grant| grant.covers(host);
        let is_theirs = |grant: &Grant| matches!(&grant.whom.value, Whom::Person(id) if *id == self.leaver.id);
        let here: Vec<&Grant> = self.register.grants.iter().filter(is_here).collect();
        let mut own: Vec<&str> =
            here.iter().filter(|grant| is_theirs(grant)).map(|grant| grant.account.as_str()).collect();
        own.sort_unstable();
        own.dedup();
        own.retain(|name| {
            let mut grants = here.iter().filter(|grant| grant.account == **name);
            let is_named = *name == self.leaver.id || grants.clone().any(|grant| grant.create.is_some());
            *name != "root"
                && is_named
                && grants.all(|grant| is_theirs(grant))
                && self.register.kept_of(name, &host.id).is_none()
        });
        own
    }

    fn own_account(&self, name: &str, traces: &FoundTraces, seen: &Observation) -> Option<OwnAccount> {
        let account = seen.account(name).filter(|account| !account.is_root())?;
        let has_ended = account.aging.is_some_and(|aging| aging.has_ended(self.today));
        let all = [
            (traces.crontabs.contains(name), "a crontab"),
            (traces.cron.contains(name), "a line of the system's crontab"),
            (traces.lingering.contains(name), "services without a session"),
        ];
        let starts = all.into_iter().filter(|(is_there, _)| *is_there).map(|(_, what)| what).collect();
        Some(OwnAccount { name: name.to_owned(), has_ended, commands: traces.commands_of(name), starts })
    }

    /// The work that ends their own accounts.
    #[must_use]
    pub fn account_jobs(&self, ways: &Ways) -> Vec<Job> {
        self.jobs(ways, |found| {
            let names = found.accounts.iter().filter(|account| !account.has_ended);
            names.map(|account| end_account(&account.name, self.today, &System::of(&found.seen))).collect()
        })
    }

    /// The work that ends sessions, on hosts where their keys are gone.
    #[must_use]
    pub fn session_jobs(&self, ways: &Ways, are_gone: &dyn Fn(&str) -> bool) -> Vec<Job> {
        let mut jobs = self.jobs(ways, |found| {
            let names: BTreeSet<&str> = found.sessions.iter().map(|session| session.account.as_str()).collect();
            let all: Vec<&OpenSession> = found.sessions.iter().collect();
            names.into_iter().map(|name| end_sessions(name, &all, &System::of(&found.seen))).collect()
        });
        jobs.retain(|job| are_gone(&job.stop.host));
        jobs
    }

    fn jobs(&self, ways: &Ways, steps: impl Fn(&HostLeftBehind) -> Vec<Result<Steps, NoSteps>>) -> Vec<Job> {
        let mut jobs = Vec::new();
        for (host, found) in &self.hosts {
            let Some(known) = self.register.hosts.get(host) else { continue };
            let around = Arc::new(Around { seen: found.seen.clone(), granted: Vec::new() });
            let task = |steps| Task { steps, seen: found.seen.clone(), around: around.clone() };
            let steps = steps(found).into_iter().filter_map(Result::ok);
            let tasks: Vec<Task> = steps.filter(|steps| !steps.changes.is_empty()).map(task).collect();
            if !tasks.is_empty() {
                let proof = Proof { asks: false, ..Proof::of(Scope::Survey) };
                jobs.push(Job { stop: ways.stop(known), pairs: pairs(known), tasks, proof });
            }
        }
        jobs
    }
}

/// Whether a private key lies beside a public half.
fn has_private_half(path: &BytePath, seen: &Observation) -> bool {
    let Some(name) = path.as_bytes().strip_suffix(b".pub") else { return false };
    let folder = path.parent().and_then(|folder| seen.private_keys.get(&folder));
    let Some(Fact::Known(keys)) = folder else { return false };
    keys.iter().any(|key| key.path.as_bytes() == name)
}
