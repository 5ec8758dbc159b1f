//! Steps on many hosts at once: on each host all of them or none, proven from outside while the old session is open, and
//! taken back where the proof fails.

use crate::carry::{Carried, Record, Settled, carry_out, take_back};
use crate::prove::{Heard, hear};
use crate::survey::{Jumps, Open, Pace, Stop, SurveyFault, Way};
use crate::{Place, look_shell};
use lavrin_core::fleet;
use lavrin_core::key::generate::SystemSource;
use lavrin_core::key::{Fingerprint, PublicKey};
use lavrin_core::login::{self, Question};
use lavrin_core::steps::{Guarded, LockOut, Login, Steps, guard};
use lavrin_core::survey::Observation;
use lavrin_reach::CarryFault;
use lavrin_reach::ssh::Target;
use lavrin_store::{Keeper, Outcome, StoreFault};
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use thiserror::Error;
use tokio::sync::{Mutex, OwnedMutexGuard, Semaphore, mpsc};

/// A connection that was lost is tried again so often, to see what state the host is in.
const TRIES: usize = 4;

/// Time between them; what a lost connection has begun on the host ends meanwhile.
const PAUSE: Duration = Duration::from_secs(1);

/// What is to be done on one host.
pub struct Job {
    /// The host.
    pub stop: Stop,
    /// Hosts that have one of these in common are never changed at the same time.
    pub pairs: Vec<String>,
    /// What was seen of it.
    pub seen: Box<Observation>,
    /// The steps, account by account.
    pub steps: Vec<Steps>,
    /// Keys that the host should refuse for these accounts, beside those that the steps take away.
    pub refused: Vec<(String, PublicKey)>,
}

/// How the work is done.
pub struct Terms {
    /// The command.
    pub command: &'static str,
    /// What ties all changes of this run together.
    pub run: String,
    /// Now, in UTC (RFC 3339).
    pub time: String,
    /// Now, in seconds since 1970.
    pub now: i64,
    /// Why, in the user's words.
    pub reason: Option<String>,
    /// Whether the key of the login itself may be taken away.
    pub accept_lockout: bool,
    /// After so many hosts on which it failed no further one is begun.
    pub stop_after: Option<usize>,
    /// Where backups and journal are kept.
    pub keeper: Arc<dyn Keeper + Send + Sync>,
}

/// Why the steps of a host were not carried out, or not for certain.
#[derive(Debug, Error)]
pub enum Trouble {
    /// The host was not reached, or let nobody in.
    #[error(transparent)]
    Survey(#[from] SurveyFault),
    /// The last proven way in would go.
    #[error("{} is the key of this login; without it {} may be locked out", .0.fingerprint, .0.account)]
    LockOut(LockOut),
    /// A change was not made.
    #[error(transparent)]
    Carry(#[from] CarryFault),
    /// Backup or journal could not be written.
    #[error(transparent)]
    Store(#[from] StoreFault),
    /// Read back, something is not as it was written.
    #[error("read back, {path} is not as it was written: something else writes it")]
    NotHeld {
        /// Which file.
        path: String,
    },
    /// Nobody could sign in any more.
    #[error("a fresh login failed while the old session was open: {0}")]
    NoLogin(SurveyFault),
    /// A key that was added did not prove itself.
    #[error("{fingerprint} was added to {account} and did not prove itself: {heard}")]
    NoProof {
        /// The account.
        account: String,
        /// The key.
        fingerprint: Fingerprint,
        /// What the server says.
        heard: Heard,
    },
    /// A host that belongs together with this one failed.
    #[error("left alone, since another host with the tag {0} failed")]
    PairFailed(String),
    /// Too many hosts failed.
    #[error("not begun, since {0} hosts failed")]
    Stopped(usize),
}

/// What a host says about a key after the change.
#[derive(Debug, Clone)]
pub struct Asked {
    /// The account.
    pub account: String,
    /// The key.
    pub fingerprint: Fingerprint,
    /// Whether it should open the account.
    pub should_open: bool,
    /// What the server says.
    pub heard: Heard,
    /// Whether a refusal has a reason that the entry or the settings give themselves.
    pub explained: bool,
}

/// How it ended on one host.
#[derive(Debug)]
pub enum Ended {
    /// Everything is done and read back, and a fresh login worked.
    Done {
        /// What the host says about the keys.
        asked: Vec<Asked>,
        /// What it is like now.
        after: Box<Observation>,
    },
    /// Everything is as it was.
    AsBefore {
        /// Why.
        why: Trouble,
        /// What it is like now, where it was looked at again.
        after: Option<Box<Observation>>,
    },
    /// Something is neither as it was nor as asked, or nobody knows.
    Unknown {
        /// Why.
        why: Trouble,
    },
    /// Nothing was tried.
    NotBegun {
        /// Why.
        why: Trouble,
    },
}

/// Hosts that belong together: who is at work, and whether one of them failed.
type Pairs = HashMap<String, Arc<Mutex<bool>>>;

/// Carries out the jobs and hands on how each ended, in the order in which that comes.
pub async fn enforce(
    jobs: Vec<Job>,
    jumps: Vec<Stop>,
    way: Arc<Way>,
    pace: Pace,
    terms: Arc<Terms>,
    done: mpsc::Sender<(String, Ended)>,
) {
    let jumps = Arc::new(Jumps::new(jumps));
    let places = Arc::new(Semaphore::new(pace.parallel.max(1)));
    let failed = Arc::new(AtomicUsize::new(0));
    let mut pairs = Pairs::new();
    for tag in jobs.iter().flat_map(|job| &job.pairs) {
        pairs.entry(tag.clone()).or_default();
    }
    let pairs = Arc::new(pairs);
    for job in jobs {
        let Ok(place) = places.clone().acquire_owned().await else { return };
        let (jumps, way, terms, done) = (jumps.clone(), way.clone(), terms.clone(), done.clone());
        let (failed, pairs) = (failed.clone(), pairs.clone());
        tokio::spawn(async move {
            let host = job.stop.host.clone();
            let ended = in_turn(job, &Work { jumps, way, pace, terms }, &failed, &pairs).await;
            let _ = done.send((host, ended)).await;
            drop(place);
        });
    }
}

/// Waits until no host that belongs together with this one is at work.
async fn in_turn(job: Job, work: &Work, failed: &AtomicUsize, pairs: &Pairs) -> Ended {
    let mut held: Vec<(String, OwnedMutexGuard<bool>)> = Vec::new();
    let mut tags = job.pairs.clone();
    // Always in the same order, so that no two wait for each other.
    tags.sort();
    tags.dedup();
    for tag in tags {
        if let Some(pair) = pairs.get(&tag) {
            held.push((tag, pair.clone().lock_owned().await));
        }
    }
    if let Some((tag, _)) = held.iter().find(|(_, failed)| **failed) {
        return Ended::NotBegun { why: Trouble::PairFailed(tag.clone()) };
    }
    let so_far = failed.load(Ordering::SeqCst);
    if work.terms.stop_after.is_some_and(|limit| so_far >= limit) {
        return Ended::NotBegun { why: Trouble::Stopped(so_far) };
    }
    let ended = work.one(&job).await;
    if !matches!(ended, Ended::Done { .. }) {
        failed.fetch_add(1, Ordering::SeqCst);
        for (_, failed) in &mut held {
            **failed = true;
        }
    }
    ended
}

/// What all hosts have in common.
struct Work {
    jumps: Arc<Jumps>,
    way: Arc<Way>,
    pace: Pace,
    terms: Arc<Terms>,
}

/// Steps of one account that are under way.
struct Begun<'a> {
    steps: &'a Steps,
    changes: Vec<Guarded>,
    record: Record,
}

impl Work {
    async fn one(&self, job: &Job) -> Ended {
        let Open { shell, signed, target } = match self.open(job).await {
            Ok(open) => open,
            Err(fault) => return Ended::NotBegun { why: fault.into() },
        };
        let login = Login { account: signed.account.clone(), key: signed.key };
        let mut all = Vec::new();
        for steps in &job.steps {
            match guard(steps, Some(&login), self.terms.accept_lockout) {
                Ok(changes) => all.push(Begun { steps, changes, record: self.record(job, steps, &signed.account) }),
                Err(lock_out) => return Ended::AsBefore { why: Trouble::LockOut(lock_out), after: None },
            }
        }
        let place = Place::Shell(Box::new(shell));
        for number in 0..all.len() {
            let Begun { steps, changes, record } = &all[number];
            let keeper = self.terms.keeper.as_ref();
            let trouble = match carry_out(&place, changes, &steps.account, &job.seen, record, keeper).await {
                Ok(Carried::Done) => continue,
                Err(fault) => {
                    let settled = back(&place, &all[..number], &job.seen).await;
                    return self.close(job, &all[..number], settled, fault.into(), Some(place)).await;
                }
                Ok(Carried::Failed { fault, settled: Settled::AsBefore }) => {
                    let settled = back(&place, &all[..number], &job.seen).await;
                    return self.close(job, &all[..=number], settled, fault.into(), Some(place)).await;
                }
                Ok(Carried::Failed { fault, settled: Settled::Unknown }) => fault.into(),
            };
            return self.settle(job, &all[..=number], trouble).await;
        }
        self.prove(job, &all, place, &target).await
    }

    /// Signs in. Homes on a network are looked at where that was asked for; the steps say on which host they are worked on.
    async fn open(&self, job: &Job) -> Result<Open, SurveyFault> {
        let mut open = self.in_time(self.jumps.open(&job.stop, &self.way)).await?;
        open.shell.network_homes = self.way.network_homes.is_some().then(Arc::default);
        Ok(open)
    }

    /// Reads back, signs in anew and asks; what does not prove itself is taken back over the open session.
    async fn prove(&self, job: &Job, all: &[Begun<'_>], mut place: Place, target: &Target) -> Ended {
        let mut after = Box::<Observation>::default();
        if let Err(fault) = self.in_time(async { Ok(place.look(&mut after, fleet::wants).await?) }).await {
            return self.settle(job, all, fault.into()).await;
        }
        let changes = all.iter().flat_map(|begun| last_of_each(&begun.changes));
        if let Some(path) = changes.into_iter().find(|change| !change.change().holds(&after)) {
            let why = Trouble::NotHeld { path: path.change().path().to_string() };
            return self.close(job, all, Settled::Unknown, why, None).await;
        }
        let trouble = match self.in_time(self.jumps.sign_in(&job.stop, &self.way)).await {
            Err(fault) => Some(Trouble::NoLogin(fault)),
            Ok((connection, ..)) => {
                connection.close().await;
                None
            }
        };
        let asked = if trouble.is_none() { self.ask(job, all, target, &after).await } else { Vec::new() };
        let unproven = asked.iter().find(|asked| asked.fails()).map(Asked::trouble);
        if let Some(why) = trouble.or(unproven) {
            let settled = back(&place, all, &job.seen).await;
            return self.close(job, all, settled, why, Some(place)).await;
        }
        if let (Some(reason), Place::Shell(shell)) = (&self.terms.reason, &place) {
            shell.log(&format!("{}: {reason}", self.terms.command)).await;
        }
        for begun in all {
            let detail = detail(&asked, &begun.steps.account.name);
            if let Err(fault) = begun.record.close(self.terms.keeper.as_ref(), Outcome::Done, &detail) {
                return Ended::Unknown { why: fault.into() };
            }
        }
        close(place).await;
        Ended::Done { asked, after }
    }

    /// Asks the host about every key that came or went.
    async fn ask(&self, job: &Job, all: &[Begun<'_>], target: &Target, after: &Observation) -> Vec<Asked> {
        let mut questions: Vec<(String, Vec<(PublicKey, bool)>)> = Vec::new();
        let mut add = |account: &str, key: PublicKey, should_open: bool| {
            let number = questions.iter().position(|(name, _)| name == account).unwrap_or_else(|| {
                questions.push((account.to_owned(), Vec::new()));
                questions.len() - 1
            });
            if !questions[number].1.iter().any(|(other, _)| *other == key) {
                questions[number].1.push((key, should_open));
            }
        };
        for begun in all {
            let (effect, account) = (begun.steps.effect(), &begun.steps.account.name);
            let comes = effect.came.iter().chain(&effect.limited).map(|key| (key, true));
            for (key, should_open) in comes.chain(effect.gone.iter().map(|key| (key, false))) {
                add(account, (**key).clone(), should_open);
            }
        }
        for (account, key) in &job.refused {
            add(account, key.clone(), false);
        }
        let mut asked = Vec::new();
        for (account, keys) in questions {
            let only: Vec<PublicKey> = keys.iter().map(|(key, _)| key.clone()).collect();
            let heard = hear(target, &account, &only, &SystemSource).await;
            for ((key, should_open), heard) in keys.into_iter().zip(heard) {
                let explained = should_open && self.explained(&account, &key, after);
                let (account, fingerprint) = (account.clone(), key.fingerprint());
                asked.push(Asked { account, fingerprint, should_open, heard, explained });
            }
        }
        asked
    }

    /// Whether the file itself says why a key is refused from here.
    fn explained(&self, account: &str, key: &PublicKey, after: &Observation) -> bool {
        let verdict = login::judge(&Question::plain(account, key, self.terms.now), after);
        verdict.deciding.iter().chain(&verdict.also).any(|reason| reason.kind.refuses_only_from_here())
    }

    /// The connection was lost: looks what state the host is in, and takes back what was done.
    async fn settle(&self, job: &Job, all: &[Begun<'_>], why: Trouble) -> Ended {
        for _ in 0..TRIES {
            tokio::time::sleep(PAUSE).await;
            let Ok(Open { mut shell, .. }) = self.open(job).await else {
                continue;
            };
            let mut now = Observation::default();
            let looked = self.in_time(async { Ok(look_shell(&mut shell, &mut now, fleet::wants).await?) }).await;
            if looked.is_err() {
                continue;
            }
            let place = Place::Shell(Box::new(shell));
            let mut settled = Settled::AsBefore;
            for begun in all.iter().rev() {
                let done: Vec<Guarded> =
                    begun.changes.iter().filter(|change| change.change().holds(&now)).cloned().collect();
                if take_back(&place, &done, &begun.steps.account, &now).await == Settled::Unknown {
                    settled = Settled::Unknown;
                }
            }
            return self.close(job, all, settled, why, Some(place)).await;
        }
        self.close(job, all, Settled::Unknown, why, None).await
    }

    /// Writes the outcome down. Where everything is as before the host is looked at again: it may differ from what was seen.
    async fn close(&self, _: &Job, all: &[Begun<'_>], settled: Settled, why: Trouble, place: Option<Place>) -> Ended {
        let outcome = if settled == Settled::AsBefore { Outcome::AsBefore } else { Outcome::Unknown };
        for begun in all {
            if let Err(fault) = begun.record.close(self.terms.keeper.as_ref(), outcome, &why.to_string()) {
                return Ended::Unknown { why: fault.into() };
            }
        }
        let mut after = None;
        if let Some(mut place) = place {
            let mut seen = Box::<Observation>::default();
            if self.in_time(async { Ok(place.look(&mut seen, fleet::wants).await?) }).await.is_ok() {
                after = Some(seen);
            }
            close(place).await;
        }
        match settled {
            Settled::AsBefore => Ended::AsBefore { why, after },
            Settled::Unknown => Ended::Unknown { why },
        }
    }

    fn record(&self, job: &Job, steps: &Steps, login: &str) -> Record {
        let effect = steps.effect();
        let mut keys = effect.came.iter().chain(&effect.gone).chain(&effect.limited);
        let only = keys.next().filter(|_| keys.next().is_none()).map(|key| key.fingerprint().to_string());
        Record {
            id: format!("{}-{}-{}", self.terms.run, job.stop.host, steps.account.name),
            time: self.terms.time.clone(),
            command: self.terms.command,
            place: job.stop.host.clone(),
            login: Some(login.to_owned()),
            key: only,
            reason: self.terms.reason.clone(),
            run: Some(self.terms.run.clone()),
            effect,
        }
    }

    async fn in_time<T>(&self, work: impl Future<Output = Result<T, SurveyFault>>) -> Result<T, SurveyFault> {
        let seconds = self.pace.time.as_secs();
        tokio::time::timeout(self.pace.time, work).await.unwrap_or(Err(SurveyFault::Timeout { seconds }))
    }
}

/// Of several changes of one path only the last says how it is left.
fn last_of_each(changes: &[Guarded]) -> Vec<&Guarded> {
    let path = |change: &Guarded| change.change().path().clone();
    let is_last = |number: usize| changes[number + 1..].iter().all(|later| path(later) != path(&changes[number]));
    (0..changes.len()).filter(|number| is_last(*number)).map(|number| &changes[number]).collect()
}

/// Takes everything back, the last account first.
async fn back(place: &Place, all: &[Begun<'_>], seen: &Observation) -> Settled {
    let mut settled = Settled::AsBefore;
    for begun in all.iter().rev() {
        if take_back(place, &begun.changes, &begun.steps.account, seen).await == Settled::Unknown {
            settled = Settled::Unknown;
        }
    }
    settled
}

async fn close(place: Place) {
    if let Place::Shell(shell) = place {
        shell.connection.close().await;
    }
}

/// What was proven, for the journal.
fn detail(asked: &[Asked], account: &str) -> String {
    let own = || asked.iter().filter(|asked| asked.account == account);
    let count = |fits: fn(&Heard) -> bool| own().filter(|asked| fits(&asked.heard)).count();
    format!(
        "read back; a fresh login worked; asked from outside: {} accepted, {} refused, {} without an answer",
        count(|heard| matches!(heard, Heard::Accepts)),
        count(|heard| matches!(heard, Heard::Refuses)),
        count(|heard| matches!(heard, Heard::Nothing(_) | Heard::LeftOut)),
    )
}

impl Asked {
    /// Whether a key that should open the account does not, and nothing explains it.
    fn fails(&self) -> bool {
        self.should_open && !self.explained && matches!(self.heard, Heard::Refuses | Heard::Nothing(_))
    }

    /// Whether a key still opens an account that it should not open any more.
    #[must_use]
    pub fn still_open(&self) -> bool {
        !self.should_open && matches!(self.heard, Heard::Accepts)
    }

    fn trouble(&self) -> Trouble {
        let (account, fingerprint, heard) = (self.account.clone(), self.fingerprint, self.heard.clone());
        Trouble::NoProof { account, fingerprint, heard }
    }
}
