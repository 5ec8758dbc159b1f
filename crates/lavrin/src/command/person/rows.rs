//! The people of the register as rows: one for each key, and one for whoever has none.

use super::{OnePerson, PeopleOut, PersonKeyOut};
use lavrin_report::rows::TableRow;
use serde::Serialize;

/// A key and its owner.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct PersonRow<'a> {
    id: &'a str,
    name: &'a str,
    team: Option<&'a str>,
    since: Option<&'a str>,
    left: Option<&'a str>,
    label: Option<&'a str>,
    algorithm: Option<&'static str>,
    bits: Option<usize>,
    fingerprint: Option<&'a str>,
    comment: Option<&'a str>,
    purpose: Option<&'static str>,
    added: Option<&'a str>,
    retired: Option<&'a str>,
}

impl TableRow for PersonRow<'_> {
    const COLUMNS: &'static [&'static str] = &[
        "id",
        "name",
        "team",
        "since",
        "left",
        "label",
        "algorithm",
        "bits",
        "fingerprint",
        "comment",
        "purpose",
        "added",
        "retired",
    ];
}

impl<'a> PersonRow<'a> {
    /// The rows of everybody.
    pub fn all(people: &'a PeopleOut) -> Vec<Self> {
        let of = |person: &'a OnePerson| {
            let keys: Vec<Option<&PersonKeyOut>> =
                if person.keys.is_empty() { vec![None] } else { person.keys.iter().map(Some).collect() };
            keys.into_iter().map(|key| Self::of(person, key))
        };
        people.people.iter().flat_map(of).collect()
    }

    fn of(person: &'a OnePerson, key: Option<&'a PersonKeyOut>) -> Self {
        Self {
            id: &person.id,
            name: &person.name,
            team: person.team.as_deref(),
            since: person.since.as_deref(),
            left: person.left.as_deref(),
            label: key.map(|key| key.label.as_str()),
            algorithm: key.map(|key| key.algorithm),
            bits: key.map(|key| key.bits),
            fingerprint: key.map(|key| key.fingerprint.as_str()),
            comment: key.map(|key| key.comment.as_str()),
            purpose: key.map(|key| key.purpose),
            added: key.and_then(|key| key.added.as_deref()),
            retired: key.and_then(|key| key.retired.as_deref()),
        }
    }
}
