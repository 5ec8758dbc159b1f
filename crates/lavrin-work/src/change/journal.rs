//! What the journal is told: the intent before a change, the outcome after it. An intent that was written is a value that
//! has to be closed.

use super::{Task, Terms};
use lavrin_server::account::Account;
use lavrin_server::steps::{Change, Effect, Guarded, Steps};
use lavrin_store::{ChangeOutcome, Event, JournalEntry, Keeper, KeptChange, StoreFault};
use std::sync::Arc;

/// What the outcome says where the program itself came to no end.
const INTERRUPTED: &str = "the program ended in the middle of it";

/// What the journal is told about the work on one account.
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

impl Record {
    /// The record of one account's steps.
    pub(super) fn of(task: &Task, place: &str, login: Option<&str>, terms: &Terms) -> Self {
        let steps = &task.steps;
        let effect = steps.effect();
        Self {
            id: terms.id(place, &steps.account.name),
            time: terms.time.clone(),
            command: terms.command,
            place: place.to_owned(),
            login: login.map(ToOwned::to_owned),
            key: the_key(steps, &effect),
            reason: terms.reason.clone(),
            run: terms.run.clone(),
            effect,
        }
    }

    fn entry(&self, event: Event) -> JournalEntry {
        JournalEntry::new(self.id.clone(), self.time.clone(), event)
    }

    /// Keeps what is replaced and what comes instead, and writes the intent down.
    fn begin(&self, state: &dyn Keeper, account: &Account, changes: &[Guarded]) -> Result<(), StoreFault> {
        let changes: Vec<Change> = changes.iter().map(|change| change.change().clone()).collect();
        let kept: Vec<KeptChange> = changes
            .iter()
            .map(|change| KeptChange::of(change, |bytes| state.back_up(bytes)))
            .collect::<Result<_, _>>()?;
        let files = kept.iter().filter_map(|change| match change {
            KeptChange::WriteFile { path, old, .. } => Some((path.to_string(), old.clone())),
            _ => None,
        });
        let prints = |keys: &[Arc<lavrin_keys::key::PublicKey>]| {
            keys.iter().map(|key| key.fingerprint().to_string()).collect::<Vec<_>>()
        };
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

/// The one key that steps are about.
fn the_key(steps: &Steps, effect: &Effect) -> Option<String> {
    if let Some(key) = steps.fingerprint {
        return Some(key.to_string());
    }
    let mut keys = effect.came.iter().chain(&effect.gone).chain(&effect.limited);
    keys.next().filter(|_| keys.next().is_none()).map(|key| key.fingerprint().to_string())
}

/// The work on one account as it goes into the journal.
pub type Intent<'a> = (Record, &'a Account, &'a [Guarded]);

/// Intents that are on record and have no outcome yet. Closing takes the value; where it is let go in any other way, as by a
/// crash, the journal says that nobody knows how it ended.
#[must_use = "an intent without an outcome says that nobody knows how it ended"]
pub struct Open {
    keeper: Arc<dyn Keeper + Send + Sync>,
    records: Vec<Record>,
}

impl Open {
    /// Keeps what is replaced and writes the intents down: all of them, or none.
    ///
    /// # Errors
    /// [`StoreFault`]; nothing should be changed then.
    pub fn write(keeper: &Arc<dyn Keeper + Send + Sync>, intents: &[Intent<'_>]) -> Result<Self, StoreFault> {
        let mut open = Self { keeper: keeper.clone(), records: Vec::new() };
        let records = &mut open.records;
        let written = keeper.at_once(&mut |state| {
            for (record, account, changes) in intents {
                record.begin(state, account, changes)?;
                records.push(record.clone());
            }
            Ok(())
        });
        match written {
            Ok(()) => Ok(open),
            Err(fault) => {
                // Where the keeper writes line by line, some stand there already.
                let _ = open.close(|_| (ChangeOutcome::AsBefore, "nothing was begun".to_owned()));
                Err(fault)
            }
        }
    }

    /// Writes down how each ended. Where nobody knows it, a later look at the place may tell.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn close(mut self, ended: impl Fn(usize) -> (ChangeOutcome, String)) -> Result<(), StoreFault> {
        let outcome = |(number, record): (usize, &Record)| {
            let (outcome, detail) = ended(number);
            record.entry(Event::Outcome { outcome, detail })
        };
        let outcomes: Vec<JournalEntry> = self.records.iter().enumerate().map(outcome).collect();
        self.keeper.write_outcomes(&outcomes)?;
        self.records.clear();
        Ok(())
    }

    /// Leaves them open on purpose: somebody carries the change to the host by hand, and its answer closes them.
    pub fn wait_for_an_answer(mut self) {
        self.records.clear();
    }
}

impl Drop for Open {
    fn drop(&mut self) {
        if self.records.is_empty() {
            return;
        }
        // Some outcomes may have been written before the rest could not be.
        let lines = self.keeper.lines().unwrap_or_default();
        for record in std::mem::take(&mut self.records) {
            let last = lines.iter().rev().find(|line| line.id == record.id).map(|line| &line.event);
            if !matches!(last, Some(Event::Outcome { .. })) {
                let event = Event::Outcome { outcome: ChangeOutcome::Unknown, detail: INTERRUPTED.to_owned() };
                let _ = self.keeper.write_down(&record.entry(event));
            }
        }
    }
}
