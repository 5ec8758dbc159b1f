//! Many hosts looked at at once, and remembered. Each has one connection; hosts behind another host share the connection to it.

use crate::change::LeftOpen;
use crate::pool::{self, Finished, Pace, crash_if_told};
use crate::scope::Scope;
use crate::site::Site;
use crate::ways::{Rights, Stop, WayFault, Ways, unspoken};
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::text::printable;
use lavrin_reach::ssh::ExecFault;
use lavrin_server::abilities::Ability;
use lavrin_server::account::Account;
use lavrin_server::audit::{AuditEntry, Auditor};
use lavrin_server::login::AccountKeys;
use lavrin_server::survey::Observation;
use lavrin_server::survey::snapshot::Snapshot;
use lavrin_server::system::System;
use lavrin_store::database::{Database, DatabaseFault, Recorded, SeenKeys, Sighted};
use lavrin_store::{Keeper, StoreFault};
use std::collections::HashMap;
use std::pin::Pin;
use std::sync::Arc;
use tokio::sync::mpsc;

/// Observations that wait to be written down; further hosts wait until there is room.
const WAITING: usize = 64;

/// The time of day, as those give it who have a clock.
#[derive(Debug, Clone, Copy)]
pub struct Clock {
    /// Now, in seconds since 1970.
    pub now: fn() -> i64,
    /// Such a moment in words (RFC 3339, in UTC).
    pub text: fn(i64) -> String,
}

/// An intent that is older than this, in seconds, and has no outcome was left open by a run that was killed: no change takes
/// that long.
const LEFT_OPEN_AFTER: i64 = 900;

impl Clock {
    /// Intents that were left open by runs which are gone.
    ///
    /// # Errors
    /// [`StoreFault`] where the journal cannot be read.
    pub fn left_open(self, keeper: &dyn Keeper) -> Result<LeftOpen, StoreFault> {
        LeftOpen::read(keeper, &(self.text)((self.now)() - LEFT_OPEN_AFTER))
    }
}

/// What was seen of a host.
#[derive(Debug)]
pub struct Looked {
    /// The observation.
    pub seen: Box<Observation>,
    /// Why root's rights were not got, where they were not.
    pub refused: Option<ExecFault>,
}

/// What a look at one host gave.
pub type LookResult = Result<Looked, WayFault>;

/// Handed each host as it is remembered, and what was seen of it.
pub type Take<'a> = &'a mut dyn FnMut(&Surveyed, Option<Box<Observation>>);

/// What came of one host, remembered already.
#[derive(Debug)]
pub struct Surveyed {
    /// The host.
    pub host: String,
    /// Why it was not seen, where it was not.
    pub fault: Option<WayFault>,
    /// How many accounts it has.
    pub accounts: usize,
    /// How many entries stand in their files.
    pub entries: usize,
    /// How many sessions are open.
    pub sessions: usize,
    /// Whether it differs from the look before.
    pub changed: bool,
    /// Why root's rights were not got, where they were not.
    pub refused: Option<ExecFault>,
    /// Accounts of which not everything was read.
    pub unread: Vec<String>,
    /// Those of them that have entries from an earlier look, which stay as they were known.
    pub kept: Vec<String>,
    /// When it was seen before this, in seconds since 1970.
    pub last_seen: Option<i64>,
    /// What cannot be done or seen there.
    pub lacks: Vec<Ability>,
}

/// Looks at every host and hands on what was seen, in the order in which it comes: exactly one result for each.
pub async fn survey(stops: Vec<(Stop, Scope)>, ways: Arc<Ways>, pace: &Pace, done: mpsc::Sender<(String, LookResult)>) {
    let jobs = stops.into_iter().map(|stop| (stop.0.host.clone(), stop)).collect();
    let limit = pace.limit;
    let (finished, mut results) = mpsc::channel(1);
    let work = pool::each(jobs, pace, |(stop, scope)| one(stop, scope, ways.clone(), limit), finished);
    let hand_on = async {
        while let Some((host, finished)) = results.recv().await {
            let _ = done.send((host, seen(finished))).await;
        }
    };
    tokio::join!(work, hand_on);
}

/// What a look gave, also where it came to no end of its own.
pub(crate) fn seen<T>(finished: Finished<Result<T, WayFault>>) -> Result<T, WayFault> {
    match finished {
        Finished::Ended(result) => result,
        Finished::Crashed(said) => Err(WayFault::Crashed { said }),
        Finished::CutOff(_) => Err(WayFault::CutOff),
        Finished::NotBegun => Err(WayFault::NotBegun),
    }
}

async fn one(stop: Stop, scope: Scope, ways: Arc<Ways>, limit: std::time::Duration) -> LookResult {
    crash_if_told(&stop.host, "look");
    let mut seen = Box::<Observation>::default();
    let mut site = Site::host(stop, ways, Rights::Wanted, limit);
    // The limit is for the whole look.
    let look = async {
        let looked = site.look(&mut seen, &|seen| scope.wants(seen)).await;
        let refused = site.refused().cloned();
        site.close().await;
        looked.map(|()| refused)
    };
    match tokio::time::timeout(limit, look).await {
        Ok(looked) => looked.map(|refused| Looked { seen, refused }),
        Err(_) => Err(WayFault::Timeout { seconds: limit.as_secs() }),
    }
}

/// What is looked at.
pub struct LookAt<'a> {
    /// The hosts.
    pub hosts: &'a [&'a Host],
    /// How far.
    pub scope: Scope,
}

/// Looks at these hosts of a register and writes down what is seen, each as soon as it comes; `take` is handed each host as it
/// is remembered, and what was seen of it.
///
/// # Errors
/// [`DatabaseFault`].
pub fn look<'a>(
    store: &'a Database,
    register: &'a Register,
    at: LookAt<'a>,
    ways: &'a Arc<Ways>,
    pace: &'a Pace,
    clock: Clock,
    take: Take<'a>,
) -> Pin<Box<dyn Future<Output = Result<Vec<Surveyed>, DatabaseFault>> + 'a>> {
    Box::pin(async move {
        let (done, mut looked) = mpsc::channel(WAITING);
        let mut stops = Vec::new();
        let mut waiting: Vec<(String, LookResult)> = Vec::with_capacity(WAITING);
        let mut recorder = Recorder::new(store, clock)?;
        for host in at.hosts {
            match unspoken(register, host) {
                None => stops.push((ways.stop(host), recorder.scope(&host.id, &at.scope))),
                Some(why) => waiting.push((host.id.clone(), Err(why))),
            }
        }
        recorder.take(&mut waiting, take)?;
        let looking = survey(stops, ways.clone(), pace, done);
        let recording = async {
            let mut ended = Ok(());
            while looked.recv_many(&mut waiting, WAITING).await > 0 {
                // Where the store fails the looks come to their end all the same.
                if ended.is_ok() {
                    ended = recorder.take(&mut waiting, take);
                }
                waiting.clear();
            }
            ended
        };
        let ((), recorded) = tokio::join!(looking, recording);
        recorded?;
        Ok(recorder.end())
    })
}

/// What was written down of a host.
pub struct Remembered {
    /// What the store says.
    pub recorded: Recorded,
    /// How many entries there are.
    pub entries: usize,
    /// Accounts of which not everything was read.
    pub unread: Vec<String>,
}

/// Writes down what was seen of a host.
///
/// # Errors
/// [`DatabaseFault`].
pub fn remember(
    store: &Database,
    auditor: &Auditor,
    host: &str,
    now: i64,
    seen: &Observation,
) -> Result<Remembered, DatabaseFault> {
    let sighted = |entry: AuditEntry| Sighted {
        account: printable(entry.account.as_bytes()),
        key: entry.fingerprint,
        comment: printable(entry.comment.trim_ascii()),
    };
    let system = System::of(seen);
    let entries: Vec<Sighted> = auditor.entries(&system).into_iter().map(sighted).collect();
    let unread: Vec<String> = unread(&system);
    let keys = SeenKeys { entries, unread: unread.iter().cloned().collect() };
    let recorded = store.record(host, now, &Snapshot::of(seen), &keys, &seen.key_uses)?;
    Ok(Remembered { recorded, entries: keys.entries.len(), unread })
}

/// Accounts of which not everything was read, by the names under which they are shown.
#[must_use]
pub fn unread(seen: &System<'_>) -> Vec<String> {
    let is_unread = |account: &&Account| !AccountKeys::unread_of(account, seen).is_empty();
    seen.accounts.iter().filter(is_unread).map(|account| printable(account.name.as_bytes())).collect()
}

/// Writes down what comes.
pub struct Recorder<'a> {
    store: &'a Database,
    auditor: Auditor,
    clock: Clock,
    before: HashMap<String, i64>,
    left_open: LeftOpen,
    hosts: Vec<Surveyed>,
}

impl<'a> Recorder<'a> {
    /// Begins.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn new(store: &'a Database, clock: Clock) -> Result<Self, DatabaseFault> {
        let looks = store.looks()?;
        let before = looks.into_iter().filter_map(|look| Some((look.host, look.seen?))).collect();
        let left_open = clock.left_open(store)?;
        Ok(Self { store, auditor: Auditor::default(), clock, before, left_open, hosts: Vec::new() })
    }

    /// How far a look at a host goes: files of settings that a killed run left open are looked at too.
    fn scope(&self, host: &str, usual: &Scope) -> Scope {
        let files = self.left_open.settings_of(host);
        if files.is_empty() || *usual == Scope::Settings { usual.clone() } else { Scope::With(files.into()) }
    }

    /// Several at once, since each writing waits for the disk.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn take(&mut self, looked: &mut Vec<(String, LookResult)>, hand_on: Take<'_>) -> Result<(), DatabaseFault> {
        let store = self.store;
        store.together(|_| {
            for (host, seen) in looked.drain(..) {
                let surveyed = self.one(&host, seen.as_ref())?;
                hand_on(&surveyed, seen.ok().map(|looked| looked.seen));
                self.hosts.push(surveyed);
            }
            Ok(())
        })
    }

    fn one(&mut self, host: &str, seen: Result<&Looked, &WayFault>) -> Result<Surveyed, DatabaseFault> {
        let mut surveyed = Surveyed {
            host: host.to_owned(),
            fault: None,
            accounts: 0,
            entries: 0,
            sessions: 0,
            changed: false,
            refused: None,
            unread: Vec::new(),
            kept: Vec::new(),
            last_seen: self.before.get(host).copied(),
            lacks: Vec::new(),
        };
        match seen {
            Ok(Looked { seen, refused }) => {
                self.left_open.close(self.store, host, seen, &(self.clock.text)((self.clock.now)()))?;
                let kept = remember(self.store, &self.auditor, host, (self.clock.now)(), seen)?;
                (surveyed.changed, surveyed.kept) = (kept.recorded.changed, kept.recorded.kept);
                (surveyed.entries, surveyed.unread, surveyed.refused) = (kept.entries, kept.unread, refused.clone());
                surveyed.accounts = seen.accounts.len();
                surveyed.lacks = seen.abilities.lacking().collect();
                surveyed.sessions = seen.sessions.values().sum();
            }
            // Nobody has tried to look at it.
            Err(fault @ WayFault::NotBegun) => surveyed.fault = Some(fault.clone()),
            Err(fault) => {
                self.store.record_fault(host, (self.clock.now)(), &printable(fault.to_string().as_bytes()))?;
                surveyed.fault = Some(fault.clone());
            }
        }
        Ok(surveyed)
    }

    /// Every host that was taken in, in order.
    #[must_use]
    pub fn end(mut self) -> Vec<Surveyed> {
        self.hosts.sort_by(|one, other| one.host.cmp(&other.host));
        self.hosts
    }
}
