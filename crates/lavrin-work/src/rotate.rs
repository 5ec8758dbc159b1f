//! A key is replaced by another one, host by host: the new one is put beside the old one, proven, and then the old one goes.
//! A host on which the new key does not prove itself keeps the old one; the others go on.

use crate::ask::{HostQuestion, ask};
use crate::change::{End, Ended, Job, Trouble};
use crate::fleet_run::FleetRun;
use crate::heard::{Heard, Holder};
use crate::plan::{Plan, Planned, Which};
use crate::survey::Surveyed;
use crate::ways::{WayFault, Ways};
use lavrin_fleet::fleet::rotation::{Rotation, RotationPlace, RotationStage};
use lavrin_fleet::fleet::{Moment, Removed};
use lavrin_fleet::register::Register;
use lavrin_server::steps::NoSteps;
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use lavrin_store::database::DatabaseFault;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// How far it is in one account, at the end of a run; the worst comes last.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum RotationState {
    /// Only the new key is there.
    Replaced,
    /// Both are there.
    Beside,
    /// Only the old key is there.
    Old,
    /// The old key is there, in an account that the register does not manage.
    NotManaged,
    /// Which keys are there could not be read.
    NotRead,
    /// The host was not reached.
    NotReached,
    /// The old key was taken out, and not everything that the server would read was read.
    NotShown,
    /// The old key was taken out, and the host still takes it.
    StillAccepted,
    /// Nobody knows.
    Unknown,
}

/// Why the old key is still there.
#[derive(Debug, Clone)]
pub enum StaysWhy {
    /// How the change ended.
    Change(Arc<Trouble>),
    /// Something is in the way of changing the account.
    NotPossible(NoSteps),
    /// The host was not reached.
    Host(WayFault),
    /// The new key did not prove itself.
    NotProven(Heard),
    /// The new key has no grant for this account.
    NoGrant,
    /// The old key is somebody else's too, who has a grant.
    OtherOwner,
    /// Another account of the host is not ready.
    OtherAccount(String),
    /// This run was to end before that.
    NotNow,
    /// It is the key of the login itself.
    OwnLogin,
}

/// One account.
#[derive(Debug, Clone)]
pub struct RotationRow {
    /// The host.
    pub host: String,
    /// The account; empty where it is about the host.
    pub account: String,
    /// How far it is.
    pub state: RotationState,
    /// Why not further.
    pub why: Option<StaysWhy>,
    /// What the host says about the new key, where it was asked in this run.
    pub new: Option<Heard>,
    /// What it says about the old one.
    pub old: Option<Heard>,
}

/// A rotation under way.
pub struct Rotating<'a> {
    /// The register with both keys in it.
    register: &'a Register,
    rotation: &'a Rotation,
    plan: Plan<'a>,
    everywhere: bool,
    holder: Option<Holder>,
    hosts: BTreeMap<String, RotatingHost>,
}

/// What is known of a host.
#[derive(Default)]
struct RotatingHost {
    stages: Vec<RotationPlace>,
    /// What it is like now, as long as the old key may have to go.
    seen: Option<Box<Observation>>,
    /// What it says about the new key, by account.
    heard: HashMap<String, Heard>,
    /// What it says about the old key, once it was taken out.
    heard_of_old: HashMap<String, Heard>,
    /// Why an account is not further.
    why: HashMap<String, StaysWhy>,
    /// Accounts of which nobody knows what they are like.
    unknown: BTreeSet<String>,
    fault: Option<WayFault>,
    not_shown: BTreeSet<String>,
    still_open: BTreeSet<String>,
    /// Whether this run works on it.
    is_chosen: bool,
    /// Whether this run changed something there, or may have.
    is_changed: bool,
}

impl<'a> Rotating<'a> {
    /// Begins with a register that holds both keys.
    #[must_use]
    pub fn new(
        register: &'a Register,
        rotation: &'a Rotation,
        now: Moment,
        removed: HashMap<String, Removed>,
        network_homes: bool,
        everywhere: bool,
    ) -> Self {
        let plan = Plan::new(register, now, removed, Which::Keys(vec![rotation.new_print()]));
        let plan = plan.with_network_homes(network_homes).everywhere(everywhere);
        Self { register, rotation, plan, everywhere, holder: None, hosts: BTreeMap::new() }
    }

    /// The private half of the new key is at hand: it proves itself by a login.
    #[must_use]
    pub fn with_holder(self, holder: Option<Holder>) -> Self {
        Self { holder, ..self }
    }

    /// Takes in what was seen of a host.
    pub fn take(&mut self, host: &str, seen: Box<Observation>) {
        let stages = stages(self.rotation, self.register, host, &seen, self.everywhere);
        let mut one = RotatingHost { stages, ..RotatingHost::default() };
        if one.has(RotationStage::Beside) {
            one.seen = Some(seen.clone());
        }
        self.hosts.insert(host.to_owned(), one);
        self.plan.take(host, seen);
    }

    /// What is to be put beside the old key; hosts that were not seen are remembered as such. At most `first` hosts are
    /// worked on.
    #[must_use]
    pub fn plan(self, looked: &[Surveyed], ways: &Ways, first: Option<usize>) -> (Besides<'a>, Planned) {
        let Self { register, rotation, plan, everywhere, holder, mut hosts } = self;
        let mut planned = plan.end(ways);
        for one in looked {
            if let Some(fault) = &one.fault {
                hosts.entry(one.host.clone()).or_default().fault = Some(fault.clone());
            }
        }
        for (host, faults) in &planned.problems {
            let faults = faults.iter().map(|(account, fault)| (account.clone(), StaysWhy::NotPossible(fault.clone())));
            hosts.entry(host.clone()).or_default().why.extend(faults);
        }
        let has_work = |name: &String, one: &RotatingHost| {
            one.stages.iter().any(|one| one.managed && is_open(one.stage, holder.is_some()))
                || planned.jobs.iter().any(|job| job.stop.host == *name)
        };
        let with_work: Vec<String> =
            hosts.iter().filter(|(name, one)| has_work(name, one)).map(|(name, _)| name.clone()).collect();
        for name in with_work.iter().take(first.unwrap_or(usize::MAX)) {
            hosts.entry(name.clone()).or_default().is_chosen = true;
        }
        planned.jobs.retain(|job| hosts.get(&job.stop.host).is_some_and(|one| one.is_chosen));
        for job in &mut planned.jobs {
            job.proof.holder.clone_from(&holder);
        }
        (Besides { register, rotation, everywhere, holder, hosts }, planned)
    }
}

/// The hosts of a rotation, from the first change on.
pub struct Besides<'a> {
    register: &'a Register,
    rotation: &'a Rotation,
    everywhere: bool,
    holder: Option<Holder>,
    hosts: BTreeMap<String, RotatingHost>,
}

/// Whether something is to be done: where the private half is at hand, the new key proves itself in any case.
fn is_open(stage: RotationStage, is_held: bool) -> bool {
    matches!(stage, RotationStage::Old | RotationStage::Beside) || (is_held && stage == RotationStage::New)
}

/// How far it is in each account of a host; with `everywhere` accounts are worked on that are not managed.
fn stages(
    rotation: &Rotation,
    register: &Register,
    host: &str,
    seen: &Observation,
    everywhere: bool,
) -> Vec<RotationPlace> {
    let stages = rotation.on(register, host, &System::of(seen)).into_iter();
    let stages = stages.map(|one| RotationPlace { managed: one.managed || everywhere, ..one });
    // What nobody manages was not asked about.
    stages.filter(|one| one.managed || one.stage != RotationStage::Unread).collect()
}

impl Besides<'_> {
    /// How far it is in each account, by what was seen: host, account, stage.
    pub fn stages(&self) -> impl Iterator<Item = (&str, &RotationPlace)> {
        self.hosts.iter().flat_map(|(name, one)| one.stages.iter().map(move |stage| (name.as_str(), stage)))
    }

    /// Whether there is a host on which something is to be done.
    #[must_use]
    pub fn has_work(&self) -> bool {
        self.hosts.values().any(|one| one.is_chosen)
    }

    /// Puts the new key beside the old one, and asks the hosts that have both already.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub async fn put(&mut self, jobs: Vec<Job>, run: &FleetRun, ways: &Arc<Ways>) -> Result<(), DatabaseFault> {
        let ended = run.part("beside").carry(jobs, ways).await?;
        let new = self.rotation.new_print();
        for (host, ended) in ended {
            let said = ended.asked.iter().filter(|asked| asked.fingerprint == new);
            let said: Vec<(String, Heard)> = said.map(|asked| (asked.account.clone(), asked.heard.clone())).collect();
            self.one(&host).heard.extend(said);
            self.took(&host, ended);
        }
        let questions = self.questions(ways);
        for (question, said) in ask(questions, ways, &run.pace).await {
            let one = self.one(&question.stop.host);
            match said {
                Ok(accounts) => one.heard.extend(
                    accounts
                        .into_iter()
                        .filter_map(|(account, heard)| heard.into_iter().next().map(|heard| (account, heard))),
                ),
                Err(fault) => one
                    .why
                    .extend(question.accounts.into_iter().map(|(account, _)| (account, StaysWhy::Host(fault.clone())))),
            }
        }
        Ok(())
    }

    fn one(&mut self, host: &str) -> &mut RotatingHost {
        self.hosts.entry(host.to_owned()).or_default()
    }

    /// Remembers how a change ended on a host, and what it is like now.
    fn took(&mut self, host: &str, ended: Ended) {
        let after = ended.after.as_ref();
        let now = after.map(|after| stages(self.rotation, self.register, host, after, self.everywhere));
        let old = self.rotation.old_print();
        let one = self.one(host);
        for (account, end) in &ended.accounts {
            if let Some(why) = end.why() {
                if matches!(end, End::Unknown(_)) {
                    one.unknown.insert(account.clone());
                }
                one.why.insert(account.clone(), StaysWhy::Change(why));
            }
        }
        for asked in ended.asked.iter().filter(|asked| asked.fingerprint == old) {
            one.heard_of_old.insert(asked.account.clone(), asked.heard.clone());
            if asked.still_open() {
                one.still_open.insert(asked.account.clone());
            }
        }
        one.is_changed |= ended.accounts.iter().any(|(_, end)| !matches!(end, End::NotBegun(_) | End::AsBefore(_)));
        let hidden = ended.not_shown.iter().filter(|hidden| hidden.key == old);
        one.not_shown.extend(hidden.map(|hidden| hidden.account.clone()));
        if let Some(now) = now {
            one.stages = now;
        }
        one.seen = ended.after.or(one.seen.take());
    }

    /// Accounts that have both keys and were not asked about the new one.
    fn questions(&self, ways: &Ways) -> Vec<HostQuestion> {
        let open = |one: &RotatingHost| -> Vec<_> {
            let new = one.managed(RotationStage::New).filter(|_| self.holder.is_some());
            let beside = one.managed(RotationStage::Beside).chain(new);
            let beside = beside.filter(|account| !one.heard.contains_key(*account));
            beside.map(|account| (account.to_owned(), vec![self.rotation.new.clone()])).collect()
        };
        let of = |(name, one): (&String, &RotatingHost)| {
            let accounts = open(one);
            let known = self.register.hosts.get(name).filter(|_| one.is_chosen && !accounts.is_empty())?;
            let holders = self.holder.iter().cloned().collect();
            Some(HostQuestion { holders, ..HostQuestion::of(ways.stop(known), accounts) })
        };
        self.hosts.iter().filter_map(of).collect()
    }

    /// Takes the old key out where the new one has proven itself in every account of the host. `after` is the register as it is
    /// once the old key is retired.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub async fn take_out_old(
        &mut self,
        after: &Register,
        now: Moment,
        run: &FleetRun,
        ways: &Arc<Ways>,
    ) -> Result<(), DatabaseFault> {
        let plan = Plan::new(after, now, HashMap::new(), Which::Keys(vec![self.rotation.old_print()]));
        let mut plan = plan.everywhere(self.everywhere);
        let mut ready = Vec::new();
        for (name, one) in &mut self.hosts {
            one.hold_back();
            if one.is_ready()
                && let Some(seen) = one.seen.take()
            {
                plan.take(name, seen);
                ready.push(name.clone());
            }
        }
        let planned = plan.end(ways);
        for (host, faults) in planned.problems {
            for (account, fault) in faults {
                self.one(&host).why.insert(account, StaysWhy::NotPossible(fault));
            }
        }
        let ended = run.part("old").carry(planned.jobs, ways).await?;
        for (host, ended) in ended {
            self.took(&host, ended);
        }
        // The register asks for the old key all the same.
        for host in ready {
            self.one(&host).keep(&StaysWhy::OtherOwner);
        }
        Ok(())
    }

    /// The old key stays for now wherever it is.
    pub fn keep_old(&mut self) {
        self.keep(&StaysWhy::NotNow);
    }

    /// The old key is that of the login, and nothing else is at hand to sign in with.
    pub fn keep_login(&mut self) {
        self.keep(&StaysWhy::OwnLogin);
    }

    fn keep(&mut self, why: &StaysWhy) {
        for one in self.hosts.values_mut() {
            one.hold_back();
            one.keep(why);
        }
    }

    /// Whether this run changed something, or may have.
    #[must_use]
    pub fn is_changed(&self) -> bool {
        self.hosts.values().any(|one| one.is_changed)
    }

    /// How far it is everywhere, in the order of the hosts.
    #[must_use]
    pub fn rows(&self) -> Vec<RotationRow> {
        self.hosts.iter().flat_map(|(host, one)| one.rows(host)).collect()
    }
}

impl RotatingHost {
    fn has(&self, stage: RotationStage) -> bool {
        self.stages.iter().any(|one| one.stage == stage)
    }

    /// The managed accounts that are so far.
    fn managed(&self, stage: RotationStage) -> impl Iterator<Item = &str> {
        self.stages.iter().filter(move |one| one.managed && one.stage == stage).map(|one| one.account.as_str())
    }

    /// Says why the old key stays in accounts of this host.
    fn hold_back(&mut self) {
        if !self.is_chosen {
            return;
        }
        let old: Vec<String> = self.managed(RotationStage::Old).map(str::to_owned).collect();
        for account in old {
            self.why.entry(account).or_insert(StaysWhy::NoGrant);
        }
        let beside: Vec<String> = self.managed(RotationStage::Beside).map(str::to_owned).collect();
        for account in beside {
            let heard = self.heard.get(&account).cloned().unwrap_or(Heard::LeftOut);
            if !heard.opens() {
                self.why.entry(account).or_insert(StaysWhy::NotProven(heard));
            }
        }
        let Some(first) = self.why.keys().min().cloned() else { return };
        let beside: Vec<String> = self.managed(RotationStage::Beside).map(str::to_owned).collect();
        for account in beside {
            self.why.entry(account).or_insert_with(|| StaysWhy::OtherAccount(first.clone()));
        }
    }

    /// Says why the old key stays, where nothing else says it.
    fn keep(&mut self, why: &StaysWhy) {
        let beside: Vec<String> = self.managed(RotationStage::Beside).map(str::to_owned).collect();
        for account in beside {
            self.why.entry(account).or_insert_with(|| why.clone());
        }
    }

    /// Whether the new key has proven itself in every managed account that has the old one.
    fn is_ready(&self) -> bool {
        self.is_chosen && self.why.is_empty() && self.managed(RotationStage::Beside).next().is_some()
    }

    fn rows(&self, host: &str) -> Vec<RotationRow> {
        let row = |account: &str, state, why| RotationRow {
            host: host.to_owned(),
            account: account.to_owned(),
            state,
            why,
            new: self.heard.get(account).cloned(),
            old: self.heard_of_old.get(account).cloned(),
        };
        if let Some(fault) = &self.fault {
            return vec![row("", RotationState::NotReached, Some(StaysWhy::Host(fault.clone())))];
        }
        let not_now = || (!self.is_chosen).then_some(StaysWhy::NotNow);
        let of = |one: &RotationPlace| {
            let account = one.account.as_str();
            let why = self.why.get(account).cloned();
            let state = match one.stage {
                _ if self.unknown.contains(account) => RotationState::Unknown,
                RotationStage::New if self.still_open.contains(account) => RotationState::StillAccepted,
                RotationStage::New if self.not_shown.contains(account) => RotationState::NotShown,
                RotationStage::New => return row(account, RotationState::Replaced, None),
                RotationStage::Unread if self.not_shown.contains(account) => RotationState::NotShown,
                RotationStage::Unread => RotationState::NotRead,
                _ if !one.managed => return row(account, RotationState::NotManaged, None),
                RotationStage::Beside => RotationState::Beside,
                RotationStage::Old => RotationState::Old,
            };
            row(account, state, why.or_else(not_now))
        };
        let mut rows: Vec<RotationRow> = self.stages.iter().map(of).collect();
        let told = |account: &String, rows: &[RotationRow]| rows.iter().any(|row| row.account == *account);
        // An account in which neither key is known to stand, and in which the new one is wanted.
        for account in self.why.keys().collect::<BTreeSet<_>>() {
            if !told(account, &rows) {
                let is_unknown = self.unknown.contains(account);
                let state = if is_unknown { RotationState::Unknown } else { RotationState::NotRead };
                rows.push(row(account, state, self.why.get(account).cloned()));
            }
        }
        rows
    }
}
