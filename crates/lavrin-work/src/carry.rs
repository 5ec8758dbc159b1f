//! Carrying steps out: backup and intent first, each change in order, and all of it taken back where one fails.

use crate::Place;
use lavrin_core::account::Account;
use lavrin_core::key::PublicKey;
use lavrin_core::steps::{Change, Effect, Guarded};
use lavrin_core::survey::Observation;
use lavrin_reach::CarryFault;
use lavrin_store::{Entry, Event, Keeper, KeptChange, Outcome, StoreFault};
use std::sync::Arc;

/// What the journal is told about a piece of work.
#[derive(Debug, Clone)]
pub struct Record {
    /// Ties intent and outcome together.
    pub id: String,
    /// Now, in UTC (RFC 3339).
    pub time: String,
    /// The command.
    pub command: &'static str,
    /// The host or tree.
    pub place: String,
    /// The login used.
    pub login: Option<String>,
    /// The key, by its fingerprint, where it is about one.
    pub key: Option<String>,
    /// Why, in the user's words.
    pub reason: Option<String>,
    /// What ties the changes of one command on many hosts together.
    pub run: Option<String>,
    /// What becomes of keys.
    pub effect: Effect,
}

/// What became of the steps.
#[derive(Debug)]
pub enum Carried {
    /// All are done.
    Done,
    /// One failed.
    Failed {
        /// Why.
        fault: CarryFault,
        /// What state things are in.
        settled: Settled,
    },
}

/// The state after a failure.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Settled {
    /// Everything is as it was.
    AsBefore,
    /// Something could not be put back, or is not known.
    Unknown,
}

impl Record {
    fn entry(&self, event: Event) -> Entry {
        Entry { id: self.id.clone(), time: self.time.clone(), event }
    }

    /// Writes the outcome down.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn close<K: Keeper + ?Sized>(&self, state: &K, outcome: Outcome, detail: &str) -> Result<(), StoreFault> {
        state.write_down(&self.entry(Event::Outcome { outcome, detail: detail.to_owned() }))
    }

    /// Keeps what is replaced and what comes instead, and writes the intent down.
    ///
    /// # Errors
    /// [`StoreFault`]; nothing should be changed then.
    pub fn open<K: Keeper + ?Sized>(
        &self,
        state: &K,
        account: &Account,
        changes: &[Guarded],
    ) -> Result<(), StoreFault> {
        state.at_once(&mut |state| self.open_in(state, account, changes))
    }

    fn open_in(&self, state: &dyn Keeper, account: &Account, changes: &[Guarded]) -> Result<(), StoreFault> {
        let changes: Vec<Change> = changes.iter().map(|change| change.change().clone()).collect();
        let kept: Vec<KeptChange> = changes
            .iter()
            .map(|change| KeptChange::of(change, |bytes| state.back_up(bytes)))
            .collect::<Result<_, _>>()?;
        let files = kept.iter().filter_map(|change| match change {
            KeptChange::WriteFile { path, old, .. } => Some((path.to_string(), old.clone())),
            _ => None,
        });
        let prints = |keys: &[Arc<PublicKey>]| keys.iter().map(|key| key.fingerprint().to_string()).collect();
        state.write_down(&self.entry(Event::Intent {
            command: self.command.to_owned(),
            place: self.place.clone(),
            account: account.name.clone(),
            login: self.login.clone(),
            key: self.key.clone(),
            files: files.collect(),
            reason: self.reason.clone(),
            run: self.run.clone(),
            came: prints(&self.effect.came),
            gone: prints(&self.effect.gone),
            changes: kept,
        }))
    }
}

/// Backs up, writes the intent down and makes the changes. Where one fails, those before it are taken back.
///
/// # Errors
/// [`StoreFault`] where backup or journal could not be written; nothing was changed then.
pub async fn carry_out<K: Keeper + ?Sized>(
    place: &Place,
    changes: &[Guarded],
    account: &Account,
    seen: &Observation,
    record: &Record,
    state: &K,
) -> Result<Carried, StoreFault> {
    record.open(state, account, changes)?;
    for (done, change) in changes.iter().enumerate() {
        let Err(fault) = carry_one(place, change, account, seen).await else { continue };
        let certain = fault.nothing_changed() || matches!(fault, CarryFault::ModeDidNotHold { .. });
        let back = take_back(place, &changes[..done], account, seen).await;
        let settled = if certain && back == Settled::AsBefore { Settled::AsBefore } else { Settled::Unknown };
        return Ok(Carried::Failed { fault, settled });
    }
    Ok(Carried::Done)
}

/// Takes changes back, the last one first.
pub async fn take_back(place: &Place, changes: &[Guarded], account: &Account, seen: &Observation) -> Settled {
    let mut settled = Settled::AsBefore;
    for change in changes.iter().rev() {
        if carry_one(place, &change.inverse(), account, seen).await.is_err() {
            settled = Settled::Unknown;
        }
    }
    settled
}

async fn carry_one(place: &Place, change: &Guarded, account: &Account, seen: &Observation) -> Result<(), CarryFault> {
    match place {
        Place::Local(tree) => tree.carry(change),
        Place::Shell(host) => host.carry(change, account, seen).await,
    }
}
