//! `lavrin history`: which entries came and went, what was changed, and who could log in on a day.

pub mod day;
mod kept;
mod past_row;
mod runs;
mod verify;

#[cfg(test)]
pub use runs::{RunOut, RunsOut};
#[cfg(test)]
pub use verify::VerifyOut;

use crate::clock;
use crate::command::change::keeper;
use crate::command::register::{OpenedRegister, RegisterArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::json::LimitsOut;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::{input, paths};
use clap::Args;
use lavrin_fleet::fleet::{Access, Certainty, Index, who};
use lavrin_fleet::register::{Date, Register};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::container::line::KnownKeys;
use lavrin_keys::text::{count, printable};
use lavrin_report::rows::TableRow;
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use lavrin_store::database::{Database, Seen};
use lavrin_store::{ChangeOutcome, Event, JournalEntry, Keeper};
use lavrin_work::memory::Memory;
use lavrin_work::survey::unread;
pub use past_row::PastRow;
use rayon::prelude::*;
use serde::Serialize;
use std::collections::HashMap;
use std::path::PathBuf;

/// Hosts that are held in memory at once.
const HOSTS_AT_ONCE: usize = 512;

/// The word for what was changed together.
const RUNS: &str = "runs";

/// Accounts that are named one by one.
const NAMED_MAX: usize = 6;

/// Which entries came and went, what was changed, and who could log in at a time
#[derive(Debug, Args)]
pub struct HistoryArgs {
    /// A host, ACCOUNT@HOST, person, fingerprint or public key file; runs for what was changed together
    #[arg(value_name = "WHAT")]
    pub what: Option<String>,
    /// Who could log in at the end of this day: 2026-10-10, yesterday, '3 days ago'
    #[arg(long, value_name = "DAY", value_parser = day::typed_day)]
    pub at: Option<Date>,
    /// Is this statement as it was signed?
    #[arg(long, value_name = "FILE", value_parser = paths::typed, conflicts_with_all = ["what", "at"])]
    pub verify: Option<PathBuf>,
    /// Whose signatures count (default: the register)
    #[arg(long, value_name = "FILE", value_parser = paths::typed, requires = "verify")]
    pub signers: Option<PathBuf>,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct HistoryOut {
    schema: &'static str,
    events: Vec<EventOut>,
}

/// Something that happened.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct EventOut {
    /// RFC 3339; of an entry the look that first saw it, or that did not see it any more.
    time: String,
    /// `came`, `gone`, or the name of a command.
    #[cfg_attr(test, schemars(with = "String"))]
    what: EventKind,
    host: String,
    account: String,
    key: Option<String>,
    /// Whose key it is, where the register knows.
    owner: Option<String>,
    detail: String,
    /// For a change: what `lavrin undo` takes.
    id: Option<String>,
    /// People whom it concerns, whoever's key it is about.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    people: Vec<String>,
}

impl TableRow for &EventOut {
    const COLUMNS: &'static [&'static str] =
        &["time", "what", "host", "account", "key", "owner", "detail", "id", "people"];
}

/// What happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(into = "String")]
enum EventKind {
    /// An entry was seen that was not there before.
    Came,
    /// It was not seen any more.
    Gone,
    /// A command changed something.
    Command(String),
}

impl From<EventKind> for String {
    fn from(kind: EventKind) -> Self {
        match kind {
            EventKind::Came => "came".to_owned(),
            EventKind::Gone => "gone".to_owned(),
            EventKind::Command(name) => name,
        }
    }
}

/// What `--at` with `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct AccessAtOut {
    schema: &'static str,
    /// The moment (RFC 3339).
    at: String,
    access: Vec<PastLoginOut>,
    /// Hosts of which nothing was known then.
    unknown: Vec<String>,
    /// Accounts that were not read then.
    not_read: Vec<NotReadOut>,
}

/// Accounts of one host that were not read.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct NotReadOut {
    host: String,
    accounts: Vec<String>,
}

/// Somebody who could log in.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct PastLoginOut {
    host: String,
    account: String,
    key: String,
    owner: Option<String>,
    comment: String,
    limits: LimitsOut,
    /// Whether everything that decides had been seen.
    certain: bool,
    /// The day on which the account was last read, where the look of that day could not read it.
    last_read: Option<String>,
}

/// What the history is about.
enum Subject {
    Everything,
    Host(String),
    Account(String, String),
    Keys(Vec<Fingerprint>),
    Person(String, Vec<Fingerprint>),
}

/// Runs the command.
pub fn run(args: &HistoryArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if let Some(path) = &args.verify {
        return verify::run(path, args.signers.as_deref(), &args.register, ui);
    }
    let is_here = args.register.folder().is_some() || args.register.register.is_some();
    let wants_runs = args.what.as_deref() == Some(RUNS) && args.at.is_none();
    if !is_here && args.at.is_none() && (wants_runs || args.what.is_none()) {
        return if wants_runs { runs::run(keeper(None)?.as_ref(), ui) } else { without_register(ui) };
    }
    let opened = args.register.open_without_grants(ui)?;
    let store = Database::open_existing(opened.folder.path())?.ok_or_else(|| {
        CommandError::with(Exit::NotChecked, "nothing is remembered yet: no host was surveyed").hint("lavrin survey")
    })?;
    if wants_runs && !is_a_name(RUNS, opened.register()) {
        return runs::run(&store, ui);
    }
    let subject = Subject::of(args.what.as_deref(), &opened, &store)?;
    match args.at {
        Some(day) => access_at(day, &subject, &opened, &store, ui),
        None => events(&subject, &opened, &store, ui),
    }
}

/// Whether the register has a host or a person of this name.
fn is_a_name(word: &str, register: &Register) -> bool {
    register.hosts.contains_key(word) || register.people.contains_key(word)
}

impl Subject {
    fn of(what: Option<&str>, opened: &OpenedRegister, store: &Database) -> Result<Self, CommandError> {
        let Some(what) = what else { return Ok(Self::Everything) };
        let register = &opened.reading.register;
        if let Some(person) = register.people.get(what) {
            return Ok(Self::Person(what.to_owned(), person.keys.iter().map(|key| key.fingerprint).collect()));
        }
        if let Some((account, host)) = what.split_once('@') {
            return Ok(Self::Account(account.to_owned(), host.to_owned()));
        }
        if what.starts_with("SHA256:") {
            return Ok(Self::Keys(vec![Fingerprint::parse(what)?]));
        }
        // A host that the register has dropped is still remembered.
        if register.hosts.contains_key(what) || !store.looks_at(&[what])?.is_empty() {
            return Ok(Self::Host(what.to_owned()));
        }
        let Ok(path) = paths::typed(what);
        if path.is_file() {
            return Ok(Self::Keys(vec![input::public_key(&path)?.key.fingerprint()]));
        }
        Err(CommandError::usage(format!("'{}' is not a host, account, person or key here", printable(what.as_bytes())))
            .hint("lavrin host list")
            .hint("lavrin person list"))
    }

    /// Whether it is about this account, by whatever key.
    fn concerns(&self, host: &str, account: &str) -> bool {
        matches!(self, Self::Keys(_) | Self::Person(..)) || self.covers(host, account, None)
    }

    fn is_one_of(&self, people: &[String]) -> bool {
        matches!(self, Self::Person(id, _) if people.contains(id))
    }

    fn covers(&self, host: &str, account: &str, key: Option<Fingerprint>) -> bool {
        match self {
            Self::Everything => true,
            Self::Host(name) => name == host,
            Self::Account(name, of) => name == account && of == host,
            Self::Keys(keys) | Self::Person(_, keys) => key.is_some_and(|key| keys.contains(&key)),
        }
    }

    /// What was seen of it, and no more than that: there may be very much of everything.
    fn sightings(&self, store: &Database) -> Result<Vec<Seen>, CommandError> {
        let keys = match self {
            Self::Everything => return Ok(store.sightings()?),
            Self::Host(host) | Self::Account(_, host) => return Ok(store.sightings_on(host)?),
            Self::Keys(keys) | Self::Person(_, keys) => keys,
        };
        let mut seen: Vec<Seen> = Vec::new();
        for key in keys {
            seen.extend(store.sightings_of(*key)?);
        }
        // In the order in which everything comes.
        seen.sort_by(|one, other| {
            let order = |seen: &Seen| (seen.first, seen.key.to_string(), seen.gone.is_none(), seen.gone);
            (&one.host, &one.account).cmp(&(&other.host, &other.account)).then_with(|| order(one).cmp(&order(other)))
        });
        Ok(seen)
    }
}

fn events(subject: &Subject, opened: &OpenedRegister, store: &Database, ui: &Ui) -> Result<Exit, CommandError> {
    let index = Index::of(&opened.reading.register);
    let owner = |key: Fingerprint| index.owner(key).map(lavrin_fleet::fleet::Owner::name);
    let mut list: Vec<(i64, EventOut)> = Vec::new();
    let seen = subject.sightings(store)?;
    for seen in seen.into_iter().filter(|seen| subject.covers(&seen.host, &seen.account, Some(seen.key))) {
        let times = [(Some(seen.first), EventKind::Came), (seen.gone, EventKind::Gone)];
        let told = times.into_iter().filter_map(|(time, what)| Some((time?, what)));
        list.extend(told.map(|(time, what)| (time, sighting(&seen, time, what, owner(seen.key)))));
    }
    for (time, event) in journal(store)? {
        let key = event.key.as_ref().and_then(|key| Fingerprint::parse(key).ok());
        if subject.covers(&event.host, &event.account, key) || subject.is_one_of(&event.people) {
            list.push((time, EventOut { owner: key.and_then(owner), ..event }));
        }
    }
    list.sort_by_key(|(time, _)| *time);
    Ok(print(list.into_iter().map(|(_, event)| event).collect(), ui))
}

/// Without a register there is the journal of single changes in the state folder.
fn without_register(ui: &Ui) -> Result<Exit, CommandError> {
    let events = journal(keeper(None)?.as_ref())?;
    Ok(print(events.into_iter().map(|(_, event)| event).collect(), ui))
}

fn print(events: Vec<EventOut>, ui: &Ui) -> Exit {
    let out = HistoryOut { schema: "lavrin/history/1", events };
    ui.give_rows(
        &out,
        || out.events.iter().collect::<Vec<&EventOut>>(),
        || {
            let rows: Vec<Vec<String>> = out.events.iter().map(|event| row(event, ui)).collect();
            let lines: String = columns(&rows, 0).into_iter().map(|line| line + "\n").collect();
            format!("{lines}{}", count(out.events.len(), "event", "events"))
        },
    );
    Exit::Done
}

fn moment(time: i64) -> String {
    clock::date_of(u64::try_from(time).unwrap_or_default())
}

fn sighting(seen: &Seen, time: i64, what: EventKind, owner: Option<String>) -> EventOut {
    EventOut {
        time: moment(time),
        what,
        host: seen.host.clone(),
        account: seen.account.clone(),
        key: Some(seen.key.to_string()),
        owner,
        detail: seen.comment.clone(),
        id: None,
        people: Vec::new(),
    }
}

/// Every change in the journal: its intent with the outcome that belongs to it.
fn journal(store: &dyn Keeper) -> Result<Vec<(i64, EventOut)>, CommandError> {
    let entries = store.lines()?;
    let mut outcomes: HashMap<&str, (ChangeOutcome, &str)> = HashMap::new();
    for JournalEntry { id, event, .. } in &entries {
        if let Event::Outcome { outcome, detail } = event {
            outcomes.insert(id, (*outcome, detail));
        }
    }
    let change = |entry: &JournalEntry| {
        if let Event::Kept { .. } = &entry.event {
            return kept::event(entry);
        }
        let Event::Intent { command, place, account, key, reason, .. } = &entry.event else { return None };
        let outcome = match outcomes.get(entry.id.as_str()) {
            Some((ChangeOutcome::Done, detail)) => format!("done: {detail}"),
            Some((ChangeOutcome::AsBefore, detail)) => format!("everything as before: {detail}"),
            Some((ChangeOutcome::Unknown, detail)) => format!("its end is not known: {detail}"),
            None => "begun; how it ended is not recorded".to_owned(),
        };
        let reason = reason.as_ref().map(|reason| format!("; reason: {}", printable(reason.as_bytes())));
        let reason = reason.unwrap_or_default();
        let event = EventOut {
            time: entry.time.clone(),
            what: EventKind::Command(command.clone()),
            host: place.clone(),
            account: account.clone(),
            key: key.clone(),
            owner: None,
            detail: format!("{outcome}{reason}"),
            id: Some(entry.id.clone()),
            people: Vec::new(),
        };
        Some((clock::seconds_of(&entry.time).unwrap_or_default(), event))
    };
    Ok(entries.iter().filter_map(change).collect())
}

fn row(event: &EventOut, ui: &Ui) -> Vec<String> {
    let label = match &event.what {
        EventKind::Came => Label::Good,
        EventKind::Gone => Label::Bad,
        EventKind::Command(_) => Label::Strong,
    };
    vec![
        event.time.get(..16).unwrap_or(&event.time).replace('T', " "),
        ui.paint(label, &String::from(event.what.clone())),
        ui.paint(Label::Strong, &format!("{}@{}", event.account, event.host)),
        event
            .owner
            .clone()
            .unwrap_or_else(|| if event.key.is_some() { "no known owner".to_owned() } else { String::new() }),
        event.key.clone().unwrap_or_default(),
        format!("{}{}", event.detail, event.id.as_ref().map(|id| format!("; undo: {id}")).unwrap_or_default()),
    ]
}

/// Who could log in at the end of a day, by what had been seen until then.
fn access_at(
    day: Date,
    subject: &Subject,
    opened: &OpenedRegister,
    store: &Database,
    ui: &Ui,
) -> Result<Exit, CommandError> {
    let end = day::end_of_day(day);
    let mut hosts: Vec<String> = store.looks()?.into_iter().map(|look| look.host).collect();
    if let Subject::Host(name) | Subject::Account(_, name) = subject {
        hosts.retain(|host| host == name);
    }
    let index = Index::of(&opened.reading.register);
    let (mut access, mut unknown, mut not_read) = (Vec::new(), Vec::new(), Vec::new());
    let (mut memory, known) = (Memory::of(store), KnownKeys::default());
    for some in hosts.chunks(HOSTS_AT_ONCE) {
        let names: Vec<&str> = some.iter().map(String::as_str).collect();
        let seen = memory.observations(&names, end)?;
        let judge = |seen: Option<Observation>| {
            let seen = seen?;
            let system = System::of(&seen).knowing(&known);
            Some((who(&system, end), unread(&system)))
        };
        let found: Vec<Option<(Vec<Access>, Vec<String>)>> = seen.into_par_iter().map(judge).collect();
        for (host, found) in some.iter().zip(found) {
            let Some((found, unread)) = found else {
                unknown.push(host.clone());
                continue;
            };
            let is_covered = |one: &Access| subject.covers(host, &one.account, Some(one.key));
            access.extend(found.into_iter().filter(is_covered).map(|one| access_out(host, one, None, &index)));
            // Unread is not gone: what an earlier look read is shown with its age.
            for earlier in memory.last_read(host, unread.clone(), end)? {
                let of_these = |one: &Access| earlier.accounts.contains(&printable(one.account.as_bytes()));
                let found = who(&System::of(&earlier.seen), end).into_iter().filter(of_these).filter(is_covered);
                access.extend(found.map(|one| access_out(host, one, Some(earlier.time), &index)));
            }
            let concerned = unread.into_iter().filter(|account| subject.concerns(host, account));
            let accounts: Vec<String> = concerned.collect();
            if !accounts.is_empty() {
                not_read.push(NotReadOut { host: host.clone(), accounts });
            }
        }
    }
    let out = AccessAtOut { schema: "lavrin/history-at/1", at: moment(end), access, unknown, not_read };
    ui.give_rows(&out, || PastRow::all(&out), || access_text(&out, ui));
    Ok(if out.unknown.is_empty() && out.not_read.is_empty() { Exit::Done } else { Exit::NotChecked })
}

fn access_out(host: &str, access: Access, read: Option<i64>, index: &Index<'_>) -> PastLoginOut {
    PastLoginOut {
        host: host.to_owned(),
        account: printable(access.account.as_bytes()),
        key: access.key.to_string(),
        owner: index.owner(access.key).map(lavrin_fleet::fleet::Owner::name),
        comment: access.comment,
        limits: LimitsOut::from(&access.limits),
        certain: access.certainty == Certainty::Certain && read.is_none(),
        last_read: read.map(clock::day_of),
    }
}

fn access_text(out: &AccessAtOut, ui: &Ui) -> String {
    let row = |one: &PastLoginOut| {
        let who = one.owner.clone().unwrap_or_else(|| ui.paint(Label::Warn, "no known owner"));
        let doubt = match &one.last_read {
            _ if one.certain => String::new(),
            Some(day) => ui.paint(Label::Warn, &format!("last read on {day}")),
            None => ui.paint(Label::Warn, "perhaps: a condition could not be checked"),
        };
        vec![
            ui.paint(Label::Strong, &format!("{}@{}", one.account, one.host)),
            who,
            one.key.clone(),
            one.comment.clone(),
            doubt,
        ]
    };
    let rows: Vec<Vec<String>> = out.access.iter().map(row).collect();
    let at = out.at.trim_end_matches('Z').replace('T', " ");
    let mut text = format!("Who could log in at {at} UTC\n");
    text += &columns(&rows, 2).into_iter().map(|line| line + "\n").collect::<String>();
    for host in &out.unknown {
        text += &format!("  {}\n", ui.paint(Label::Warn, &format!("{host}: nothing was known of it then")));
    }
    for NotReadOut { host, accounts } in &out.not_read {
        let accounts = match &accounts[..] {
            few if few.len() <= NAMED_MAX => few.join(", "),
            many => count(many.len(), "account", "accounts"),
        };
        text += &format!("  {}\n", ui.paint(Label::Warn, &format!("{host}: not read then: {accounts}")));
    }
    text + &count(out.access.len(), "way in", "ways in")
}
