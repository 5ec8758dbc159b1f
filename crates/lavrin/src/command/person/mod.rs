//! `lavrin person`: the people of the register and their keys.

mod change;
mod key;
pub mod request;
mod rows;

use crate::cli::block_on;
use crate::command::kept::may_have;
use crate::command::register::{OpenedRegister, RegisterArgs, change_file, edit_fault, today, typed_date, typed_id};
use crate::command::sightings::{Column, SightingOut, Sightings};
use crate::command::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::input::GivenKey;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::{input, paths, wording};
use clap::{Args, Subcommand, ValueEnum};
use lavrin_fleet::register::edit::{NewKey, add_key, set_date, set_text};
use lavrin_fleet::register::{Date, Grant, GrantsFor, KeptAccount, OwnedKey, Person, Purpose, Register, Whom};
use lavrin_keys::key::{PublicKey, strength};
use lavrin_keys::text::{count, printable};
use lavrin_server::finding::Fault;
use request::Received;
pub use rows::PersonRow;
use serde::Serialize;
use std::path::PathBuf;

/// The people of the register and their keys
#[derive(Debug, Subcommand)]
pub enum PersonCommand {
    /// Add a person, or a key to one
    Add(PersonAddArgs),
    /// For newcomers: write what the administrator needs from you
    Request(request::PersonRequestArgs),
    /// List the people with their keys
    List(PersonListArgs),
    /// One person: keys, and where they may log in
    Show(PersonShowArgs),
    /// Change the name, the team or the first day of a person
    Set(change::PersonSetArgs),
    /// Give a person another name in the register
    Rename(change::PersonRenameArgs),
    /// Remove a person who was added by mistake
    Remove(change::PersonRemoveArgs),
    /// Retire a key, or give it another label
    #[command(subcommand)]
    Key(key::PersonKeyCommand),
}

/// Add a person, or a key to one
#[derive(Debug, Args)]
pub struct PersonAddArgs {
    /// The person's name in the register (default: from the request)
    #[arg(value_name = "PERSON", value_parser = typed_id, required_unless_present = "request")]
    pub id: Option<String>,
    /// The full name
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// The team
    #[arg(long, value_name = "TEAM", value_parser = typed_id)]
    pub team: Option<String>,
    /// File with a public key; - for a paste on standard input
    #[arg(long, value_name = "KEY.pub", value_parser = paths::typed)]
    pub key: Option<PathBuf>,
    /// File with a request that they made; - for standard input
    #[arg(long, value_name = "FILE", value_parser = paths::typed, conflicts_with = "key")]
    pub request: Option<PathBuf>,
    /// What the request has to answer
    #[arg(long, value_name = "TEXT", requires = "request")]
    pub challenge: Option<String>,
    /// They have read out the words of their key
    #[arg(long, requires = "request")]
    pub yes: bool,
    /// Label of the key
    #[arg(long, value_name = "LABEL", default_value = "main")]
    pub label: String,
    /// Purpose of the key
    #[arg(long, value_name = "PURPOSE", default_value = "person")]
    pub purpose: PurposeArg,
    /// First day of the person (default: today)
    #[arg(long, value_name = "DATE", value_parser = typed_date)]
    pub since: Option<Date>,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What a key is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum PurposeArg {
    /// A person at a keyboard
    Person,
    /// A program that runs by itself
    Automation,
    /// For the day on which nothing else works
    BreakGlass,
}

impl PurposeArg {
    fn name(self) -> &'static str {
        match self {
            Self::Person => Purpose::Person,
            Self::Automation => Purpose::Automation,
            Self::BreakGlass => Purpose::BreakGlass,
        }
        .name()
    }
}

/// List the people with their keys
#[derive(Debug, Args)]
pub struct PersonListArgs {
    #[command(flatten)]
    register: RegisterArgs,
}

/// One person: keys, and where they may log in
#[derive(Debug, Args)]
pub struct PersonShowArgs {
    /// The person
    #[arg(value_name = "PERSON")]
    pub id: String,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints for one person.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct PersonOut {
    schema: &'static str,
    #[serde(flatten)]
    person: OnePerson,
    /// What they may enter.
    access: Vec<AccessOut>,
    /// Where surveys saw their keys.
    seen: Vec<SightingOut>,
    /// Kept keys of which they may have a copy: `ACCOUNT@HOST`.
    kept: Vec<String>,
}

/// What `--format json` prints for all people.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct PeopleOut {
    schema: &'static str,
    people: Vec<OnePerson>,
}

/// A person.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct OnePerson {
    id: String,
    name: String,
    team: Option<String>,
    since: Option<String>,
    left: Option<String>,
    keys: Vec<PersonKeyOut>,
}

/// A key of theirs.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct PersonKeyOut {
    label: String,
    algorithm: &'static str,
    bits: usize,
    fingerprint: String,
    comment: String,
    purpose: &'static str,
    added: Option<String>,
    retired: Option<String>,
}

/// An account that a grant opens.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct AccessOut {
    /// The number of the grant, counted from 1 in the order of access.toml.
    number: usize,
    account: String,
    hosts: Vec<String>,
    /// Over which team, where not by name.
    team: Option<String>,
    until: Option<String>,
    /// Whether the grant is over.
    ended: bool,
    limits: Vec<String>,
    reason: Option<String>,
}

/// Runs the command.
pub fn run(command: &PersonCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        PersonCommand::Add(args) => add(args, ui),
        PersonCommand::Request(args) => block_on(ui, request::run(args, ui)),
        PersonCommand::List(args) => list(args, ui),
        PersonCommand::Show(args) => show(args, ui),
        PersonCommand::Set(args) => change::set(args, ui),
        PersonCommand::Rename(args) => change::rename(args, ui),
        PersonCommand::Remove(args) => change::remove(args, ui),
        PersonCommand::Key(command) => key::run(command, ui),
    }
}

fn add(args: &PersonAddArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let received = args.request.as_ref().map(|path| Received::read(path, args.challenge.as_deref())).transpose()?;
    let id = id_of(args, received.as_ref())?;
    let full = args.name.as_deref().or(received.as_ref().map(|received| received.request.name.as_str()));
    let path = format!("people/{id}.toml");
    let fault = || edit_fault(&path);
    let known = opened.text(&path);
    let mut text = if let Some(text) = known {
        text.to_owned()
    } else {
        let text = set_text("", "name", Some(full.unwrap_or(id))).map_err(fault())?;
        set_date(&text, "since", args.since.unwrap_or_else(today)).map_err(fault())?
    };
    if let Some(name) = args.name.as_deref().filter(|_| known.is_some()) {
        text = set_text(&text, "name", Some(name)).map_err(fault())?;
    }
    if let Some(team) = &args.team {
        text = set_text(&text, "team", Some(team)).map_err(fault())?;
    }
    let given = match &args.key {
        Some(file) => Some(input::public_key(file)?),
        None => received.as_ref().map(|received| received.given.clone()),
    };
    if let Some(given) = given {
        let line = new_key(args, id, &given, &opened, ui)?;
        received.iter().try_for_each(|received| received.confirm(ui, args.yes))?;
        let key = NewKey {
            label: &args.label,
            line: &line,
            purpose: args.purpose.name(),
            added: today(),
            replaces: None,
            machine: None,
        };
        text = add_key(&text, None, &key).map_err(fault())?;
    }
    if known == Some(&text) {
        return Err(CommandError::usage(format!("{id} is in the register already, and nothing new was given"))
            .hint(format!("to add a key: lavrin person add {id} --key KEY.pub")));
    }
    change_file(&opened, ui, &path, &text)?;
    Ok(Exit::Done)
}

/// Who it is: as typed, which has to be as the request says.
fn id_of<'a>(args: &'a PersonAddArgs, received: Option<&'a Received>) -> Result<&'a str, CommandError> {
    let asked = received.map(|received| received.request.person.as_str());
    match (args.id.as_deref(), asked) {
        (Some(id), Some(asked)) if id != asked => {
            Err(CommandError::with(Exit::Stopped, format!("the request is of {asked}, not of {id}"))
                .because("nothing was changed")
                .hint("lavrin person add --help"))
        }
        (id, asked) => Ok(id.or(asked).unwrap_or_default()),
    }
}

/// The public line of a key that may come in: sound, and nobody else's.
fn new_key(
    args: &PersonAddArgs,
    id: &str,
    given: &GivenKey,
    opened: &OpenedRegister,
    ui: &Ui,
) -> Result<String, CommandError> {
    let register = opened.register();
    may_come_in(given, register, ui)?;
    let keys = register.people.get(id).map(|person| person.keys.as_slice()).unwrap_or_default();
    if keys.iter().any(|key| key.label == args.label) {
        return Err(refused(given)
            .because(format!("{id} has a key called '{}' already", args.label))
            .again("", "--label OTHER"));
    }
    Ok(given.key.line(&given.comment))
}

fn refused(given: &GivenKey) -> CommandError {
    CommandError::with(Exit::Stopped, format!("the key {} was not taken", given.key.fingerprint()))
}

/// Whether a key may come into the register: sound, allowed, and nobody's so far. Warns of what had to be left out.
pub fn may_come_in(given: &GivenKey, register: &Register, ui: &Ui) -> Result<(), CommandError> {
    if !given.repairs.is_empty() {
        ui.warn(&format!("the key was put together from a damaged text: {}", given.repairs.join("; ")));
    }
    if !given.options.is_empty() {
        ui.warn(&format!(
            "left out: the options in front of it; they belong to a grant: {}",
            printable(&given.options)
        ));
    }
    let fingerprint = given.key.fingerprint();
    if let Some(weakness) = strength::objections(&given.key, &register.rules.policy).into_iter().next() {
        let words = wording::finding::message(&Fault::WeakKey { weakness, fingerprint });
        return Err(refused(given).because(words).hint("have a better one made: lavrin key generate"));
    }
    let algorithm = given.key.algorithm();
    if !register.rules.policy.algorithms.contains(&algorithm) {
        return Err(refused(given)
            .because(format!("keys of the kind {algorithm} are not allowed here (lavrin.toml, algorithms)")));
    }
    let people = register.people.values().map(|person| (&person.id, &person.keys));
    let hosts = register.all_hosts().map(|host| (&host.id, &host.keys));
    if let Some((owner, _)) =
        people.chain(hosts).find(|(_, keys)| keys.iter().any(|key| key.fingerprint == fingerprint))
    {
        return Err(refused(given)
            .because(format!("{owner} has it already"))
            .hint(format!("lavrin person show {owner}")));
    }
    Ok(())
}

fn one_person(person: &Person) -> OnePerson {
    let day = |date: Option<Date>| date.map(|date| date.to_string());
    OnePerson {
        id: person.id.clone(),
        name: person.name.clone(),
        team: person.team.clone(),
        since: day(person.since),
        left: day(person.left.as_ref().map(|left| left.value)),
        keys: person
            .keys
            .iter()
            .map(|key| PersonKeyOut {
                label: key.label.clone(),
                algorithm: key.key.algorithm().name(),
                bits: key.key.bits(),
                fingerprint: key.fingerprint.to_string(),
                comment: key.comment.clone(),
                purpose: key.purpose.name(),
                added: day(key.added),
                retired: day(key.retired),
            })
            .collect(),
    }
}

fn list(args: &PersonListArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_to_report(ui)?;
    let people = &opened.reading.register.people;
    let out = PeopleOut { schema: "lavrin/person-list/1", people: people.values().map(one_person).collect() };
    ui.give_rows(
        &out,
        || PersonRow::all(&out),
        || {
            let rows: Vec<Vec<String>> = people.values().map(|person| row(person, ui)).collect();
            let lines: String = columns(&rows, 0).into_iter().map(|line| line + "\n").collect();
            format!("{lines}{}", count(rows.len(), "person", "people"))
        },
    );
    Ok(Exit::Done)
}

fn row(person: &Person, ui: &Ui) -> Vec<String> {
    let state = if person.has_left(today()) {
        ui.paint(Label::Bad, &person.left.as_ref().map(|left| format!("left {}", left.value)).unwrap_or_default())
    } else {
        String::new()
    };
    let active = person.keys.iter().filter(|key| key.is_active(today()));
    let keys: Vec<String> = active.map(|key| format!("{} {}", key.label, key.key.algorithm().name())).collect();
    let keys = if keys.is_empty() { ui.paint(Label::Warn, "no key in use") } else { keys.join(", ") };
    vec![
        ui.paint(Label::Strong, &person.id),
        printable(person.name.as_bytes()),
        person.team.clone().unwrap_or_default(),
        keys,
        state,
    ]
}

fn show(args: &PersonShowArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_for(GrantsFor::Person(&args.id), ui)?;
    let register = &opened.reading.register;
    let person = unknown::person(register, &args.id)?;
    let access = access(person, register);
    let seen = Sightings::of_keys(person.keys.iter().map(|key| key.fingerprint), opened)?;
    let keys: Vec<PublicKey> = person.keys.iter().map(|key| key.key.clone()).collect();
    let kept = register.kept.iter().filter(|kept| may_have(opened, kept, &person.id, &keys));
    let kept: Vec<String> = kept.map(KeptAccount::name).collect();
    let mut words = text_of(person, &access, ui) + &seen.text(Column::Host, ui);
    if !kept.is_empty() {
        words += &format!("\nmay have a copy of kept keys: {}", kept.join(", "));
    }
    let person = one_person(person);
    ui.give(&PersonOut { schema: "lavrin/person-show/1", person, access, seen: seen.entries, kept }, || words);
    Ok(Exit::Done)
}

fn access(person: &Person, register: &Register) -> Vec<AccessOut> {
    let concerns = |grant: &&Grant| match &grant.whom.value {
        Whom::Person(id) => *id == person.id,
        Whom::Team(team) => person.team.as_ref() == Some(team),
        Whom::Machine { .. } | Whom::Kept { .. } => false,
    };
    let out = |grant: &Grant| AccessOut {
        number: grant.number as usize,
        account: grant.account.clone(),
        hosts: register.hosts_of(grant).map(|host| host.id.clone()).collect(),
        team: if let Whom::Team(team) = &grant.whom.value { Some(team.clone()) } else { None },
        until: grant.until.as_ref().map(|until| until.value.to_string()),
        ended: grant.has_ended(today()),
        limits: limits(grant),
        reason: grant.reason.clone(),
    };
    register.grants.iter().filter(concerns).map(out).collect()
}

/// What limits a grant, in short phrases.
pub fn limits(grant: &Grant) -> Vec<String> {
    let mut list = Vec::new();
    list.extend(grant.key.as_ref().map(|key| format!("only key {}", key.value)));
    list.extend(grant.from().map(|from| format!("only from {from}")));
    list.extend(grant.command().map(|command| format!("only the command: {command}")));
    list.extend(grant.options().iter().cloned());
    list.iter().map(|phrase| printable(phrase.as_bytes())).collect()
}

fn text_of(person: &Person, access: &[AccessOut], ui: &Ui) -> String {
    let team = person.team.as_ref().map(|team| format!(", {team}")).unwrap_or_default();
    let since = person.since.map(|since| format!(", since {since}")).unwrap_or_default();
    let mut text =
        format!("{}  {}{team}{since}\n", ui.paint(Label::Strong, &person.id), printable(person.name.as_bytes()));
    if let Some(left) = person.left.as_ref().filter(|_| person.has_left(today())) {
        text += &format!("  {}\n", ui.paint(Label::Bad, &format!("left on {}", left.value)));
    }
    text += &format!("\n{}\n", ui.paint(Label::Strong, "Keys"));
    let rows: Vec<Vec<String>> = person.keys.iter().map(|key| key_row(key, &person.keys, ui)).collect();
    text += &columns(&rows, 2).into_iter().map(|line| line + "\n").collect::<String>();
    if rows.is_empty() {
        text += &format!("  {}\n", ui.paint(Label::Warn, "none"));
    }
    text += &format!("\n{}\n", ui.paint(Label::Strong, "Allowed by the register"));
    for grant in access {
        let hosts = if grant.hosts.is_empty() { ui.paint(Label::Warn, "no host") } else { grant.hosts.join(", ") };
        let mut notes: Vec<String> = grant.team.iter().map(|team| format!("as one of {team}")).collect();
        notes.extend(grant.until.iter().map(|until| {
            if grant.ended { ui.paint(Label::Bad, &format!("ended on {until}")) } else { format!("until {until}") }
        }));
        notes.extend(grant.limits.clone());
        notes.extend(grant.reason.iter().map(|reason| printable(reason.as_bytes())));
        text += &format!("  grant {}  {} on {hosts}", grant.number, ui.paint(Label::Strong, &grant.account));
        text += &if notes.is_empty() { "\n".to_owned() } else { format!("  ({})\n", notes.join("; ")) };
    }
    if access.is_empty() {
        text += "  nothing\n";
    }
    text
}

fn key_row(key: &OwnedKey, all: &[OwnedKey], ui: &Ui) -> Vec<String> {
    let new = key.successor(all).filter(|new| new.is_active(today()));
    let state = match key.retired {
        Some(retired) if retired <= today() => ui.paint(Label::Faint, &format!("retired {retired}")),
        _ if let Some(new) = new => ui.paint(Label::Warn, &format!("{} replaces it", printable(new.label.as_bytes()))),
        _ => key.added.map(|added| format!("added {added}")).unwrap_or_default(),
    };
    vec![
        ui.paint(Label::Strong, &key.label),
        key.key.algorithm().name().to_owned(),
        key.key.bits().to_string(),
        key.fingerprint.to_string(),
        wording::comment(key.comment.as_bytes()),
        key.purpose.name().to_owned(),
        state,
    ]
}
