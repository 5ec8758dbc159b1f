//! What really is beside what should be: the entries that surveys saw, for `person show` and `host show`.

use super::register::OpenedRegister;
use crate::clock;
use crate::error::CommandError;
use crate::table::columns;
use crate::ui::{Label, Ui};
use lavrin_fleet::fleet::{Owner, owners_of};
use lavrin_keys::key::Fingerprint;
use lavrin_store::database::{Database, Look, Seen};
use serde::Serialize;

/// An entry that the last look saw.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct SightingOut {
    host: String,
    account: String,
    key: String,
    /// Whose key it is, where the register knows.
    owner: Option<String>,
    comment: String,
    /// The look that first saw it (a day).
    since: String,
    /// When its key last opened the account, where the logs tell (a day).
    last_used: Option<String>,
    /// From where that was.
    last_used_from: Option<String>,
    /// When the logs of the host begin (a day).
    logs_since: Option<String>,
}

/// Entries and how old they are.
#[derive(Debug, Default)]
pub struct Sightings {
    /// The entries.
    pub entries: Vec<SightingOut>,
    /// The day of the last look at a host, of the oldest where there are several.
    pub seen: Option<String>,
}

/// Which part of a sighting is known from where it is told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Column {
    Host,
    Owner,
}

impl Sightings {
    /// Those on a host.
    pub fn on(host: &str, opened: &OpenedRegister) -> Result<Self, CommandError> {
        let Some(store) = Database::open_existing(opened.folder.path())? else { return Ok(Self::default()) };
        let last = store.looks_at(&[host])?.pop().and_then(|look| look.seen);
        let seen = Self::of(store.sightings_on(host)?, &store, opened)?;
        Ok(Self { seen: last.map(clock::day_of), ..seen })
    }

    /// Those of keys.
    pub fn of_keys(keys: impl Iterator<Item = Fingerprint>, opened: &OpenedRegister) -> Result<Self, CommandError> {
        let Some(store) = Database::open_existing(opened.folder.path())? else { return Ok(Self::default()) };
        let mut seen = Vec::new();
        for key in keys {
            seen.extend(store.sightings_of(key)?);
        }
        Self::of(seen, &store, opened)
    }

    fn of(seen: Vec<Seen>, store: &Database, opened: &OpenedRegister) -> Result<Self, CommandError> {
        let there: Vec<Seen> = seen.into_iter().filter(|seen| seen.gone.is_none()).collect();
        let owners = owners_of(&opened.reading.register, &there.iter().map(|seen| seen.key).collect());
        let looks = store.looks_at(&there.iter().map(|seen| seen.host.as_str()).collect::<Vec<_>>())?;
        let look = |host: &str| -> Option<&Look> {
            looks.binary_search_by(|look| look.host.as_str().cmp(host)).ok().map(|at| &looks[at])
        };
        let oldest = there.iter().filter_map(|seen| look(&seen.host)?.seen).min();
        let entries = there.into_iter().map(|seen| SightingOut {
            key: seen.key.to_string(),
            owner: owners.get(&seen.key).map(Owner::name),
            comment: seen.comment,
            since: clock::day_of(seen.first),
            last_used: seen.used.as_ref().map(|(time, _)| clock::day_of(*time)),
            last_used_from: seen.used.map(|(_, from)| from),
            logs_since: look(&seen.host).and_then(|look| look.logs_since).map(clock::day_of),
            host: seen.host,
            account: seen.account,
        });
        Ok(Self { entries: entries.collect(), seen: oldest.map(clock::day_of) })
    }

    /// The lines under their heading; nothing where no survey has seen anything.
    pub fn text(&self, column: Column, ui: &Ui) -> String {
        let Some(seen) = &self.seen else { return String::new() };
        let heading = format!("Found on the host (survey of {seen})");
        let rows: Vec<Vec<String>> = self.entries.iter().map(|entry| entry.row(column, ui)).collect();
        let times = self.entries.iter().map(|entry| ui.paint(Label::Faint, &entry.times()));
        let lines: String =
            columns(&rows, 2).into_iter().zip(times).map(|(line, times)| format!("{line}\n      {times}\n")).collect();
        format!("\n{}\n{lines}", ui.paint(Label::Strong, &heading))
    }
}

impl SightingOut {
    fn times(&self) -> String {
        let used = match (&self.last_used, &self.last_used_from, &self.logs_since) {
            (Some(day), Some(from), _) => format!("used {day} from {from}"),
            (_, _, Some(since)) => format!("not seen since the logs begin on {since}"),
            _ => "no log shows its use".to_owned(),
        };
        format!("since {}, {used}", self.since)
    }

    fn row(&self, column: Column, ui: &Ui) -> Vec<String> {
        let owner = || self.owner.clone().unwrap_or_else(|| ui.paint(Label::Warn, "no known owner"));
        let place =
            if column == Column::Host { format!("{}@{}", self.account, self.host) } else { self.account.clone() };
        let mut row = vec![ui.paint(Label::Strong, &place)];
        if column == Column::Owner {
            row.push(owner());
        }
        row.extend([self.key.clone(), self.comment.clone()]);
        row
    }
}
