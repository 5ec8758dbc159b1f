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
use lavrin_store::database::{Database, DatabaseFault, HostRecord, SeenKeys, Sighted};
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

impl Surveyed {
    /// Before anything is known of it.
    fn nothing(host: &str, last_seen: Option<i64>) -> Self {
        Self {
            host: host.to_owned(),
            fault: None,
            accounts: 0,
            entries: 0,
            sessions: 0,
            changed: false,
            refused: None,
            unread: Vec::new(),
            kept: Vec::new(),
            last_seen,
            lacks: Vec::new(),
        }
    }

    fn fill(&mut self, seen: &Observation, keys: &SeenKeys) {
        self.accounts = seen.accounts.len();
        self.entries = keys.entries.len();
        self.lacks = seen.abilities.lacking().collect();
        self.sessions = seen.sessions.values().sum();
        let names = seen.accounts.iter().map(|account| printable(account.name.as_bytes()));
        self.unread = names.filter(|name| keys.unread.contains(name)).collect();
    }
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

/// What was seen of a host, as it is written down.
#[must_use]
pub fn record_of(auditor: &Auditor, host: &str, time: i64, seen: &Observation) -> HostRecord {
    let sighted = |entry: AuditEntry| Sighted {
        account: printable(entry.account.as_bytes()),
        key: entry.fingerprint,
        comment: printable(entry.comment.trim_ascii()),
    };
    let system = System::of(seen);
    let entries: Vec<Sighted> = auditor.entries(&system).into_iter().map(sighted).collect();
    let keys = SeenKeys { entries, unread: unread(&system).into_iter().collect() };
    HostRecord {
        host: host.to_owned(),
        time,
        snapshot: Snapshot::of(seen),
        keys,
        uses: seen.key_uses.clone(),
        register: None,
    }
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
        // Whoever may not write into the journal leaves open intents to somebody who may.
        let left_open = if store.may_change()? { clock.left_open(store)? } else { LeftOpen::default() };
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
        let now = (self.clock.now)();
        let (mut all, mut records) = (Vec::with_capacity(looked.len()), Vec::new());
        for (host, seen) in looked.drain(..) {
            let mut surveyed = Surveyed::nothing(&host, self.before.get(&host).copied());
            let seen = match seen {
                Ok(Looked { seen, refused }) => {
                    self.left_open.close(self.store, &host, &seen, &(self.clock.text)(now))?;
                    let record = record_of(&self.auditor, &host, now, &seen);
                    surveyed.refused = refused;
                    surveyed.fill(&seen, &record.keys);
                    records.push(record);
                    Some(seen)
                }
                Err(fault) => {
                    // Where it was not begun nobody has tried to look at it.
                    if !matches!(fault, WayFault::NotBegun) {
                        self.store.record_fault(&host, now, &printable(fault.to_string().as_bytes()))?;
                    }
                    surveyed.fault = Some(fault);
                    None
                }
            };
            all.push((surveyed, seen));
        }
        let mut recorded = self.store.record_all(records)?.into_iter();
        for (mut surveyed, seen) in all {
            if seen.is_some()
                && let Some(recorded) = recorded.next()
            {
                (surveyed.changed, surveyed.kept) = (recorded.changed, recorded.kept);
            }
            hand_on(&surveyed, seen);
            self.hosts.push(surveyed);
        }
        Ok(())
    }

    /// Every host that was taken in, in order.
    #[must_use]
    pub fn end(mut self) -> Vec<Surveyed> {
        self.hosts.sort_by(|one, other| one.host.cmp(&other.host));
        self.hosts
    }
}
