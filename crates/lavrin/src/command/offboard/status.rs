//! `lavrin offboard --status`: what is open of everybody who left. Nothing counts as gone that no survey has looked at since.

use super::kept::known_to;
use crate::command::register::{OpenedRegister, today};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use lavrin_fleet::register::{Date, Person, Register};
use lavrin_keys::text::{count, printable};
use lavrin_store::database::{Database, Look, Seen};
use lavrin_work::offboard::Leaver;
use serde::Serialize;

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct OffboardStatusOut {
    schema: &'static str,
    people: Vec<LeaverOut>,
}

/// Somebody who left.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LeaverOut {
    person: String,
    left: String,
    /// Removals that are owed.
    owed: Vec<KeyPlaceOut>,
    /// Entries with a key of theirs that the last surveys saw.
    seen: Vec<KeyPlaceOut>,
    /// Kept keys of which they may have a copy: `ACCOUNT@HOST`.
    kept: Vec<String>,
    /// Hosts that no survey has looked at since they left.
    not_looked_at: Vec<String>,
}

/// A key in an account.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct KeyPlaceOut {
    host: String,
    account: String,
    key: String,
}

impl KeyPlaceOut {
    fn words(&self) -> String {
        printable(format!("{}@{}", self.account, self.host).as_bytes())
    }
}

/// Runs it; of one person, or of all who left.
pub fn run(opened: &OpenedRegister, id: Option<&str>, ui: &Ui) -> Result<Exit, CommandError> {
    let register = opened.register();
    if let Some(id) = id {
        crate::command::unknown::person(register, id)?;
    }
    let store = Database::open_existing(opened.folder.path())?;
    let sightings = store.as_ref().map(Database::sightings).transpose()?.unwrap_or_default();
    let looks = store.as_ref().map(Database::looks).transpose()?.unwrap_or_default();
    let left = register.people.values().filter(|person| id.is_none_or(|id| id == person.id));
    let left = left.filter_map(|person| Some((person, person.left.as_ref()?.value)));
    let people: Vec<LeaverOut> = left
        .filter(|(_, day)| *day <= today())
        .map(|(person, day)| one(person, day, opened, &sightings, &looks))
        .collect();
    let out = OffboardStatusOut { schema: "lavrin/offboard-status/1", people };
    ui.give(&out, || text(&out, ui));
    Ok(out.people.iter().map(LeaverOut::exit).max().unwrap_or(Exit::Done))
}

fn one(person: &Person, day: Date, opened: &OpenedRegister, sightings: &[Seen], looks: &[Look]) -> LeaverOut {
    let (register, leaver) = (opened.register(), Leaver::of(person, day));
    let owed = register.owed.iter().filter(|owed| owed.person.as_ref() == Some(&person.id));
    let owed = owed.map(|owed| KeyPlaceOut {
        host: owed.host.clone(),
        account: owed.account.clone(),
        key: owed.fingerprint.clone(),
    });
    let theirs = sightings.iter().filter(|seen| seen.gone.is_none() && leaver.prints.contains(&seen.key));
    let seen = theirs.map(|seen| KeyPlaceOut {
        host: seen.host.clone(),
        account: seen.account.clone(),
        key: seen.key.to_string(),
    });
    let (mut owed, mut seen): (Vec<_>, Vec<_>) = (owed.collect(), seen.collect());
    owed.sort();
    seen.sort();
    seen.dedup();
    LeaverOut {
        person: person.id.clone(),
        left: day.to_string(),
        owed,
        seen,
        kept: known_to(opened, &leaver).iter().map(ToString::to_string).collect(),
        not_looked_at: not_looked_at(register, day, looks),
    }
}

/// Hosts that were not seen since the beginning of that day.
fn not_looked_at(register: &Register, day: Date, looks: &[Look]) -> Vec<String> {
    let since = day.number() * 86_400;
    let is_seen =
        |host: &String| looks.iter().any(|look| look.host == *host && look.seen.is_some_and(|seen| seen >= since));
    register.hosts.keys().filter(|host| !is_seen(host)).cloned().collect()
}

impl LeaverOut {
    fn exit(&self) -> Exit {
        if !(self.owed.is_empty() && self.seen.is_empty() && self.kept.is_empty()) {
            return Exit::Findings;
        }
        if self.not_looked_at.is_empty() { Exit::Done } else { Exit::NotChecked }
    }

    fn open(&self) -> Vec<String> {
        let places = |list: &[KeyPlaceOut]| list.iter().map(KeyPlaceOut::words).collect::<Vec<_>>().join(", ");
        let mut parts = Vec::new();
        if !self.owed.is_empty() {
            let what = count(self.owed.len(), "removal is owed", "removals are owed");
            parts.push(format!("{what}: {}", places(&self.owed)));
        }
        if !self.seen.is_empty() {
            parts.push(format!("still there at the last look: {}", places(&self.seen)));
        }
        if !self.kept.is_empty() {
            parts.push(format!("may have a copy of kept keys: {}", self.kept.join(", ")));
        }
        if !self.not_looked_at.is_empty() {
            parts.push(format!("not looked at since: {}", self.not_looked_at.join(", ")));
        }
        parts
    }
}

fn text(out: &OffboardStatusOut, ui: &Ui) -> String {
    let mut rows = Vec::new();
    for one in &out.people {
        let label = match one.exit() {
            Exit::Done => Label::Good,
            Exit::NotChecked => Label::Warn,
            _ => Label::Bad,
        };
        let mut open = one.open();
        if open.is_empty() {
            open.push("nothing is open".to_owned());
        }
        for (number, part) in open.iter().enumerate() {
            let name = if number == 0 { ui.paint(Label::Strong, &one.person) } else { String::new() };
            let day = if number == 0 { format!("left on {}", one.left) } else { String::new() };
            rows.push(vec![name, day, ui.paint(label, part)]);
        }
    }
    let mut text: String = columns(&rows, 0).into_iter().map(|line| line + "\n").collect();
    let open = out.people.iter().filter(|one| one.exit() != Exit::Done).count();
    text += &format!("{} left, {open} of them with something open", count(out.people.len(), "person", "people"));
    if let Some(one) = out.people.iter().find(|one| one.exit() != Exit::Done) {
        let next = crate::cli::complete(&format!("lavrin offboard {}", one.person));
        text += &format!("\nto go on: {}", ui.paint(Label::Type, &next));
    }
    text
}
