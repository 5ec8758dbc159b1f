//! What a look says of changes that were made, or begun.

use lavrin_server::steps::Change;
use lavrin_server::survey::Observation;

/// What a look says of an account's changes.
pub(super) enum TaskState {
    /// Nothing of them is there.
    Old,
    /// All of them are there.
    New,
    /// Some are there.
    Half,
    /// Something is there that is neither.
    Other,
}

/// What a look says of changes that were made, or begun, in this order.
pub(super) fn state_of(changes: &[&Change], now: &Observation) -> TaskState {
    let changes: Vec<&Change> = changes.iter().copied().filter(|change| change.leaves_traces()).collect();
    if last_of_each(&changes).all(|change| change.holds(now)) {
        return TaskState::New;
    }
    let (new, rest): (Vec<&Change>, Vec<&Change>) = changes.iter().partition(|change| change.holds(now));
    match (new.is_empty(), rest.iter().all(|change| change.is_undone(now))) {
        (true, true) => TaskState::Old,
        (false, true) => TaskState::Half,
        (_, false) => TaskState::Other,
    }
}

/// Of several changes of one thing only the last says how it is left.
pub(super) fn last_of_each<'a>(changes: &[&'a Change]) -> impl Iterator<Item = &'a Change> {
    let is_last = |number: usize| changes[number + 1..].iter().all(|later| !later.is_about_what(changes[number]));
    (0..changes.len()).filter(move |number| is_last(*number)).map(|number| changes[number])
}
