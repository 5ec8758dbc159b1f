//! `lavrin adopt`: build the register from what surveys found, asking once for each key whose it is.

use super::register::{OpenedRegister, RegisterArgs, change_file, edit_fault, today, typed_id};
use super::survey::hosts_named;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::input::typed_fingerprint;
use crate::ui::{Label, Ui};
use clap::Args;
use lavrin_fleet::fleet::adopt::{UnknownKey, unknown_keys};
use lavrin_fleet::register::Host;
use lavrin_fleet::register::edit::{NewGrant, NewKey, add_grant, add_key, set_date, set_text};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::{count, printable};
use lavrin_server::audit::Auditor;
use lavrin_server::system::System;
use lavrin_store::database::Database;
use lavrin_work::fleet::Memory;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::io::IsTerminal as _;

/// Hosts that are held in memory at once.
const HOSTS_AT_ONCE: usize = 512;

/// Places of a key that are told.
const PLACES_TOLD: usize = 6;

/// Build the register from what surveys found, asking once for each key whose it is; changes nothing on any host
#[derive(Debug, Args)]
pub struct AdoptArgs {
    /// Only keys on these hosts, or on hosts with these tags
    #[arg(value_name = "HOST|TAG")]
    pub hosts: Vec<String>,
    /// Whose a key is; may be given several times, for scripts
    #[arg(long, value_name = "SHA256:…=PERSON", value_parser = typed_answer)]
    pub key: Vec<(Fingerprint, String)>,
    /// Take every proposal that a comment gives
    #[arg(long)]
    pub take_proposals: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

fn typed_answer(text: &str) -> Result<(Fingerprint, String), String> {
    let (key, person) = text.rsplit_once('=').ok_or("write it as SHA256:…=PERSON")?;
    // Base64 may end with a filler of its own.
    let key = typed_fingerprint(key)?;
    Ok((key, typed_id(person)?))
}

/// What `--format json` prints: keys that nobody in the register has, before anything is adopted.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct AdoptOut {
    schema: &'static str,
    keys: Vec<UnknownKeyOut>,
}

/// A key that nobody in the register has.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct UnknownKeyOut {
    key: String,
    algorithm: &'static str,
    comments: Vec<String>,
    /// The accounts that it opens, as `ACCOUNT@HOST`.
    opens: Vec<String>,
    /// Whose it may be, by its comments.
    proposal: Option<String>,
    /// Whose it is from now on.
    adopted: Option<String>,
}

/// Runs the command.
pub fn run(args: &AdoptArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let hosts = hosts_named(&opened.reading.register, &args.hosts)?;
    let keys = look(&opened, &hosts)?;
    let answers: HashMap<Fingerprint, &str> = args.key.iter().map(|(key, person)| (*key, person.as_str())).collect();
    if let Some((odd, _)) = args.key.iter().find(|(key, _)| !keys.iter().any(|found| found.key.fingerprint() == *key)) {
        return Err(CommandError::usage(format!("no survey found a key {odd} that nobody has")).hint("lavrin adopt"));
    }
    let asks = args.key.is_empty() && !args.take_proposals && !ui.is_json() && std::io::stdin().is_terminal();
    let mut adopted: Vec<(&UnknownKey, String)> = Vec::new();
    for found in &keys {
        let answer = match answers.get(&found.key.fingerprint()) {
            Some(person) => Some((*person).to_owned()),
            None if args.take_proposals => found.proposal.clone(),
            None if asks => ask(found, ui)?,
            None => None,
        };
        adopted.extend(answer.map(|person| (found, person)));
    }
    if ui.is_json() || !asks {
        ui.give(&out_of(&keys, &adopted), || table(&keys, &adopted, ui));
    }
    write(opened, &adopted, ui)?;
    let left = keys.len() - adopted.len();
    if !ui.is_json() {
        ui.status(&format!(
            "{} adopted; {} left unknown and untouched",
            count(adopted.len(), "key", "keys"),
            count(left, "key", "keys")
        ));
    }
    Ok(if left > 0 { Exit::Findings } else { Exit::Done })
}

/// Every key on these hosts that nobody in the register has.
fn look(opened: &OpenedRegister, hosts: &[&Host]) -> Result<Vec<UnknownKey>, CommandError> {
    let store = Database::open_existing(opened.folder.path())?.ok_or_else(|| {
        CommandError::with(Exit::NotChecked, "nothing was seen yet that could be adopted").hint("lavrin survey")
    })?;
    let auditor = Auditor::default();
    let mut memory = Memory::of(&store);
    let mut entries = Vec::new();
    for some in hosts.chunks(HOSTS_AT_ONCE) {
        let names: Vec<&str> = some.iter().map(|host| host.id.as_str()).collect();
        for (host, seen) in names.iter().zip(memory.observations(&names, i64::MAX)?) {
            let found = seen.map(|seen| auditor.entries(&System::of(&seen))).unwrap_or_default();
            entries.extend(found.into_iter().map(|entry| ((*host).to_owned(), entry)));
        }
    }
    Ok(unknown_keys(&opened.reading.register, &entries))
}

fn opens(found: &UnknownKey) -> Vec<String> {
    found.places.iter().map(|(account, host)| format!("{account}@{host}")).collect()
}

fn described(found: &UnknownKey, ui: &Ui) -> String {
    let places = opens(found);
    let more = places.len().saturating_sub(PLACES_TOLD);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let told: Vec<String> = places.into_iter().take(PLACES_TOLD).collect();
    let comments: Vec<&str> = found.comments.iter().map(String::as_str).collect();
    let comments = if comments.is_empty() { "no comment".to_owned() } else { comments.join(", ") };
    format!(
        "{} {}\n  comment  {comments}\n  opens    {}{more}\n",
        ui.paint(Label::Strong, &found.key.fingerprint().to_string()),
        found.key.algorithm(),
        told.join(", ")
    )
}

/// Asks once; an empty answer takes the proposal, a dash leaves the key unknown.
fn ask(found: &UnknownKey, ui: &Ui) -> Result<Option<String>, CommandError> {
    loop {
        ui.status(&described(found, ui));
        let hint = found.proposal.as_ref().map_or("leave unknown".to_owned(), Clone::clone);
        let Some(line) = ui.ask(&format!("Whose is it? [{hint}; - leaves it unknown]"))? else { return Ok(None) };
        match line.as_str() {
            "-" => return Ok(None),
            "" => return Ok(found.proposal.clone()),
            name => match typed_id(name) {
                Ok(name) => return Ok(Some(name)),
                Err(fault) => ui.warn(&fault),
            },
        }
    }
}

fn table(keys: &[UnknownKey], adopted: &[(&UnknownKey, String)], ui: &Ui) -> String {
    let mut text = String::new();
    for found in keys {
        text += &described(found, ui);
        let whose = adopted.iter().find(|(other, _)| other.key == found.key);
        text += &match (whose, &found.proposal) {
            (Some((_, person)), _) => format!("  {}\n", ui.paint(Label::Good, &format!("is {person}'s from now on"))),
            (None, Some(person)) => {
                let print = found.key.fingerprint();
                let command = format!("lavrin adopt --key {print}={person}");
                format!("  perhaps  {person}    {}\n", ui.paint(Label::Type, &command))
            }
            (None, None) => String::new(),
        };
    }
    text + &format!("{} that nobody in the register has", count(keys.len(), "key", "keys"))
}

fn out_of(keys: &[UnknownKey], adopted: &[(&UnknownKey, String)]) -> AdoptOut {
    let out = |found: &UnknownKey| UnknownKeyOut {
        key: found.key.fingerprint().to_string(),
        algorithm: found.key.algorithm().name(),
        comments: found.comments.iter().cloned().collect(),
        opens: opens(found),
        proposal: found.proposal.clone(),
        adopted: adopted.iter().find(|(other, _)| other.key == found.key).map(|(_, person)| person.clone()),
    };
    AdoptOut { schema: "lavrin/adopt/1", keys: keys.iter().map(out).collect() }
}

/// Writes people and grants; each change stands on the one before.
fn write(mut opened: OpenedRegister, adopted: &[(&UnknownKey, String)], ui: &Ui) -> Result<(), CommandError> {
    let mut wanted: BTreeMap<(&str, &str), BTreeSet<&str>> = BTreeMap::new();
    for (found, person) in adopted {
        opened = person_file(&opened, found, person, ui)?;
        for (account, host) in &found.places {
            wanted.entry((person, account)).or_default().insert(host);
        }
    }
    if wanted.is_empty() {
        return Ok(());
    }
    let mut text = opened.text("access.toml").unwrap_or_default().to_owned();
    for ((person, account), hosts) in wanted {
        let hosts: Vec<String> = hosts.into_iter().map(str::to_owned).collect();
        let reason = format!("adopted on {}", today());
        let grant = NewGrant {
            kind: "person",
            whom: person,
            account,
            hosts: &hosts,
            reason: Some(&reason),
            ..NewGrant::default()
        };
        text = add_grant(&text, &grant).map_err(edit_fault("access.toml"))?;
    }
    change_file(&opened, ui, "access.toml", &text).map(drop)
}

fn person_file(
    opened: &OpenedRegister,
    found: &UnknownKey,
    person: &str,
    ui: &Ui,
) -> Result<OpenedRegister, CommandError> {
    let path = format!("people/{person}.toml");
    let known = opened.reading.register.people.get(person);
    let mut text = opened.text(&path).unwrap_or_default().to_owned();
    if known.is_none() {
        text = set_text(&text, "name", Some(person)).map_err(edit_fault(&path))?;
        text = set_date(&text, "since", today()).map_err(edit_fault(&path))?;
    }
    let taken: BTreeSet<&str> =
        known.map(|known| known.keys.iter().map(|key| key.label.as_str()).collect()).unwrap_or_default();
    let labels = std::iter::once("main".to_owned()).chain((2..).map(|number| format!("key-{number}")));
    let label = labels.into_iter().find(|label| !taken.contains(label.as_str())).unwrap_or_default();
    let comment = found.comments.first().map(String::as_str).unwrap_or_default();
    let line = found.key.line(&printable(comment.as_bytes()));
    let new = NewKey { label: &label, line: &line, purpose: "person", added: today() };
    let text = add_key(&text, &new).map_err(edit_fault(&path))?;
    change_file(opened, ui, &path, &text)
}
