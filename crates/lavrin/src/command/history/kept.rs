//! What was done with kept keys, as events of the history.

use super::{EventKind, EventOut};
use crate::clock;
use lavrin_keys::text::printable;
use lavrin_store::{Event, JournalEntry, KeptKeyDeed};

/// A line of the journal that is about a kept key, with its moment.
pub fn event(entry: &JournalEntry) -> Option<(i64, EventOut)> {
    let Event::Kept { deed, account, host, version, key, people, reason } = &entry.event else { return None };
    let names = people.iter().map(|person| printable(person.as_bytes())).collect::<Vec<_>>().join(", ");
    let (command, what) = match deed {
        KeptKeyDeed::Made => ("kept make", format!("made and sealed for {names}")),
        KeptKeyDeed::TakenIn => ("kept take-in", format!("imported and sealed for {names}")),
        KeptKeyDeed::SealedAgain => ("kept seal", format!("sealed again, for {names}")),
        KeptKeyDeed::HandedOut => ("kept hand-out", format!("handed out to {names}")),
        KeptKeyDeed::Proven => ("kept prove", "opened the account".to_owned()),
        KeptKeyDeed::Retired => ("rotate", "retired; its private half is removed".to_owned()),
    };
    let reason = reason.as_ref().map(|reason| format!("; reason: {}", printable(reason.as_bytes())));
    let event = EventOut {
        time: entry.time.clone(),
        what: EventKind::Command(command.to_owned()),
        host: host.clone(),
        account: account.clone(),
        key: Some(key.clone()),
        owner: None,
        detail: format!("version {version} {what}{}", reason.unwrap_or_default()),
        id: None,
        people: people.clone(),
    };
    Some((clock::seconds_of(&entry.time).unwrap_or_default(), event))
}
