//! Intents that a run left open when it was killed: the next look at their place says how they ended.

use super::state::{TaskState, state_of};
use lavrin_server::fs::BytePath;
use lavrin_server::steps::Change;
use lavrin_server::survey::Observation;
use lavrin_store::{ChangeOutcome, Event, JournalEntry, Keeper, StoreFault};
use std::collections::{HashMap, HashSet};

/// Who signs in where a change is carried to the host by hand: its answer ends it, and nothing else.
pub const BY_HAND: &str = "console";

/// The changes of one intent.
struct LeftOpenIntent {
    id: String,
    account: String,
    changes: Vec<Change>,
    /// Whether it has an end already, by which nobody knows what became of it.
    has_end: bool,
    /// Whether that was a moment ago: what is changed may still change.
    is_young: bool,
}

impl LeftOpenIntent {
    fn is_of_settings(&self) -> bool {
        self.changes.iter().any(Change::is_of_settings)
    }
}

/// Intents without an outcome, or with one that says nothing, by place.
#[derive(Default)]
pub struct LeftOpen(HashMap<String, Vec<LeftOpenIntent>>);

impl LeftOpen {
    /// Those that were begun before this moment (RFC 3339, in UTC): what is younger may be under way elsewhere, unless it has an end.
    ///
    /// # Errors
    /// [`StoreFault`] where the journal cannot be read.
    pub fn read(keeper: &dyn Keeper, before: &str) -> Result<Self, StoreFault> {
        let mut open: HashMap<String, JournalEntry> = HashMap::new();
        let mut unknown: HashSet<String> = HashSet::new();
        for line in keeper.lines()? {
            match &line.event {
                Event::Intent { login, .. } if login.as_deref() != Some(BY_HAND) => {
                    open.insert(line.id.clone(), line);
                }
                Event::Intent { .. } | Event::Kept { .. } => {}
                // Where nobody knew how it ended a later look may still tell.
                Event::Outcome { outcome: ChangeOutcome::Unknown, .. } => drop(unknown.insert(line.id)),
                Event::Outcome { .. } => drop(open.remove(&line.id)),
            }
        }
        let mut by_place: HashMap<String, Vec<LeftOpenIntent>> = HashMap::new();
        for (id, line) in open {
            let (has_end, is_young) = (unknown.contains(&id), line.time.as_str() >= before);
            if is_young && !has_end {
                continue;
            }
            let Event::Intent { place, account, changes, .. } = line.event else { continue };
            let content = |name: &str| keeper.kept(name).ok().flatten();
            let whole: Option<Vec<Change>> = changes.iter().map(|change| change.whole(content)).collect();
            // What an older version did not keep whole stays as it is told today.
            if let Some(changes) = whole.filter(|changes| !changes.is_empty()) {
                by_place.entry(place).or_default().push(LeftOpenIntent { id, account, changes, has_end, is_young });
            }
        }
        Ok(Self(by_place))
    }

    /// The files of the server's settings that are open at a place: no survey looks at them by itself.
    #[must_use]
    pub fn settings_of(&self, place: &str) -> Vec<BytePath> {
        let changes = self.0.get(place).into_iter().flatten().flat_map(|intent| &intent.changes);
        changes.filter(|change| change.is_of_settings()).filter_map(Change::path).cloned().collect()
    }

    /// Writes down how those of a place ended, by what was seen of it at this moment (RFC 3339, in UTC). Gives how many.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn close(
        &mut self,
        keeper: &dyn Keeper,
        place: &str,
        seen: &Observation,
        time: &str,
    ) -> Result<usize, StoreFault> {
        let Some(intents) = self.0.remove(place) else { return Ok(0) };
        let mut closed = 0;
        for intent in intents {
            let Some((outcome, detail)) = told(&intent, seen) else { continue };
            if intent.has_end && outcome == ChangeOutcome::Unknown {
                continue;
            }
            // Settings that the host itself puts back are back once they are as before; all else may still be on its way.
            if intent.is_young && !(outcome == ChangeOutcome::AsBefore && intent.is_of_settings()) {
                continue;
            }
            let event = Event::Outcome { outcome, detail: detail.to_owned() };
            keeper.write_down(&JournalEntry::new(intent.id, time, event))?;
            closed += 1;
        }
        Ok(closed)
    }
}

/// How an intent ended, by what was seen later; `None`: that was not looked at.
fn told(intent: &LeftOpenIntent, seen: &Observation) -> Option<(ChangeOutcome, &'static str)> {
    seen.account(&intent.account)?;
    let changes: Vec<&Change> = intent.changes.iter().collect();
    if changes.iter().any(|change| !change.is_seen(seen)) {
        return None;
    }
    Some(match state_of(&changes, seen) {
        TaskState::New => {
            (ChangeOutcome::Done, "the run did not come to its end; a later look found the change made, but not proven")
        }
        TaskState::Old => {
            (ChangeOutcome::AsBefore, "the run did not come to its end; a later look found everything as before")
        }
        TaskState::Half => {
            (ChangeOutcome::Unknown, "the run did not come to its end; a later look found a part of it made")
        }
        TaskState::Other => (
            ChangeOutcome::Unknown,
            "the run did not come to its end; a later look found neither the old nor the new state",
        ),
    })
}
