//! Changes at many places at once: pairs apart, no further host where too many failed, and none forgotten.

use super::run::run;
use super::{End, Ended, Proof, Task, Terms, Trouble};
use crate::pool::{self, Finished, Pace};
use crate::site::Site;
use crate::ways::{Rights, Stop, Ways};
use lavrin_reach::Boxed;
use std::collections::HashMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use tokio::sync::{Mutex, OwnedMutexGuard, mpsc};

/// What is to be done on one host.
#[derive(Clone)]
pub struct Job {
    /// The host.
    pub stop: Stop,
    /// Hosts that have one of these in common are never changed at the same time.
    pub pairs: Vec<String>,
    /// The steps, account by account.
    pub tasks: Vec<Task>,
    /// How they are proven.
    pub proof: Proof,
}

/// Hosts that belong together: who is at work, and whether one of them failed.
type Pairs = HashMap<String, Arc<Mutex<bool>>>;

/// What the hosts of a run have in common.
struct Common {
    ways: Arc<Ways>,
    pace: Pace,
    terms: Terms,
    /// After so many hosts on which it failed no further one is begun.
    stop_after: Option<usize>,
    failed: AtomicUsize,
    pairs: Pairs,
}

/// Carries the jobs out and hands on how each ended, in the order in which that comes: exactly one end for each host.
pub async fn run_all(
    jobs: Vec<Job>,
    ways: Arc<Ways>,
    pace: Pace,
    terms: Terms,
    stop_after: Option<usize>,
    done: mpsc::Sender<(String, Ended)>,
) {
    let mut pairs = Pairs::new();
    for tag in jobs.iter().flat_map(|job| &job.pairs) {
        pairs.entry(tag.clone()).or_default();
    }
    let accounts: HashMap<String, Vec<String>> =
        jobs.iter().map(|job| (job.stop.host.clone(), names(&job.tasks))).collect();
    let jobs = jobs.into_iter().map(|job| (job.stop.host.clone(), job)).collect();
    let common = Common { ways, pace: pace.clone(), terms, stop_after, failed: AtomicUsize::new(0), pairs };
    let common = Arc::new(common);
    let (finished, mut results) = mpsc::channel(1);
    let work = pool::each(jobs, &pace, |job| in_turn(job, common.clone()), finished);
    let hand_on = async {
        while let Some((host, finished)) = results.recv().await {
            let accounts = accounts.get(&host).cloned().unwrap_or_default();
            let _ = done.send((host, ended(accounts, finished))).await;
        }
    };
    tokio::join!(work, hand_on);
}

/// The same at one place that is open already; it is given back where the work came to an end.
#[must_use]
pub fn one(site: Site, tasks: Vec<Task>, proof: Proof, terms: Terms, pace: &Pace) -> Boxed<'_, (Option<Site>, Ended)> {
    Box::pin(async move {
        let (name, accounts) = (site.name().to_owned(), names(&tasks));
        let work = |(mut site, tasks, proof, terms): (Site, Vec<Task>, Proof, Terms)| async move {
            let ended = run(&mut site, tasks, &proof, &terms).await;
            (site, ended)
        };
        let mut finished = pool::all(vec![(name, (site, tasks, proof, terms))], pace, work).await;
        match finished.pop() {
            Some((_, Finished::Ended((site, ended)))) => (Some(site), ended),
            Some((_, Finished::Crashed(said))) => (None, ended(accounts, Finished::Crashed(said))),
            Some((_, Finished::CutOff(stage))) => (None, ended(accounts, Finished::CutOff(stage))),
            Some((_, Finished::NotBegun)) | None => (None, ended(accounts, Finished::NotBegun)),
        }
    })
}

fn names(tasks: &[Task]) -> Vec<String> {
    tasks.iter().map(|task| task.steps.account.name.clone()).collect()
}

/// What came of the work on one host, also where it came to no end of its own.
fn ended(accounts: Vec<String>, finished: Finished<Ended>) -> Ended {
    let end = match finished {
        Finished::Ended(ended) => return ended,
        Finished::Crashed(said) => End::Unknown(Arc::new(Trouble::Crashed(said))),
        Finished::CutOff(stage) => End::Unknown(Arc::new(Trouble::CutOff(stage))),
        Finished::NotBegun => End::NotBegun(Arc::new(Trouble::NotBegun)),
    };
    Ended::all(accounts, &end)
}

/// Waits until no host that belongs together with this one is at work.
async fn in_turn(job: Job, common: Arc<Common>) -> Ended {
    let mut held: Vec<(String, OwnedMutexGuard<bool>)> = Vec::new();
    let mut tags = job.pairs.clone();
    // Always in the same order, so that no two wait for each other.
    tags.sort();
    tags.dedup();
    for tag in tags {
        if let Some(pair) = common.pairs.get(&tag) {
            held.push((tag, pair.clone().lock_owned().await));
        }
    }
    let not_begun = |why: Trouble| Ended::all(names(&job.tasks), &End::NotBegun(Arc::new(why)));
    if let Some((tag, _)) = held.iter().find(|(_, failed)| **failed) {
        return not_begun(Trouble::PairFailed(tag.clone()));
    }
    let so_far = common.failed.load(Ordering::SeqCst);
    if common.stop_after.is_some_and(|limit| so_far >= limit) {
        return not_begun(Trouble::Stopped(so_far));
    }
    if common.pace.interrupt.is_asked() {
        return not_begun(Trouble::NotBegun);
    }
    let failure = Failure { common: &common, held, is_one: true };
    let mut site = Site::host(job.stop, common.ways.clone(), Rights::Wanted, common.pace.limit);
    let ended = run(&mut site, job.tasks, &job.proof, &common.terms).await;
    site.close().await;
    if ended.worst().is_done() {
        failure.did_not_happen();
    }
    ended
}

/// Counts as a failure when it is let go, by a crash too, unless all went well.
struct Failure<'a> {
    common: &'a Common,
    held: Vec<(String, OwnedMutexGuard<bool>)>,
    is_one: bool,
}

impl Failure<'_> {
    fn did_not_happen(mut self) {
        self.is_one = false;
    }
}

impl Drop for Failure<'_> {
    fn drop(&mut self) {
        if self.is_one {
            self.common.failed.fetch_add(1, Ordering::SeqCst);
            self.held.iter_mut().for_each(|(_, failed)| **failed = true);
        }
    }
}
