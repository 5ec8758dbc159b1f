//! `lavrin register adopt`: build the register from what surveys found, asking once for each key whose it is.

use super::{OpenedRegister, RegisterArgs, change_file, edit_fault, today, typed_id};
use crate::command::compare::moment;
use crate::command::grant::FILE as GRANTS;
use crate::command::survey::hosts_named;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::input::typed_fingerprint;
use crate::ui::{Label, Ui};
use clap::Args;
use lavrin_fleet::fleet::adopt::{Ungranted, UnknownKey, ungranted, unknown_keys};
use lavrin_fleet::register::Host;
use lavrin_fleet::register::edit::{NewGrant, NewKey, add_grant, add_key, set_date, set_text};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::{count, printable, shell_word};
use lavrin_server::audit::{AuditEntry, Auditor};
use lavrin_server::system::System;
use lavrin_store::database::Database;
use lavrin_work::memory::Memory;
use serde::Serialize;
use std::collections::{BTreeSet, HashMap};
use std::io::IsTerminal as _;

/// Hosts that are held in memory at once.
const HOSTS_AT_ONCE: usize = 512;

/// Places of a key that are listed.
const PLACES_TOLD: usize = 6;

/// Build the register from what surveys found, asking once for each key whose it is; changes nothing on any host
#[derive(Debug, Args)]
pub struct AdoptArgs {
    /// Only keys on these hosts, or on hosts with these tags
    #[arg(value_name = "HOST|TAG")]
    pub hosts: Vec<String>,
    /// The owner of a key (repeatable), for scripts
    #[arg(long, value_name = "SHA256:…=PERSON", value_parser = typed_answer)]
    pub owner: Vec<(Fingerprint, String)>,
    /// Accept every proposal that a comment gives
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
    /// Entries of known people that no grant asks for.
    grants: Vec<UngrantedOut>,
}

/// Entries of one person for one account, alike in their options, that no grant asks for.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct UngrantedOut {
    person: String,
    account: String,
    /// Tags whose hosts all have such an entry.
    tags: Vec<String>,
    /// The other hosts that have one.
    hosts: Vec<String>,
    from: Option<String>,
    command: Option<String>,
    options: Vec<String>,
    /// Whether a grant is written now.
    granted: bool,
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
    let hosts = hosts_named(opened.register(), &args.hosts)?;
    let entries = look(&opened, &hosts)?;
    let keys = unknown_keys(opened.register(), &entries);
    let answers: HashMap<Fingerprint, &str> = args.owner.iter().map(|(key, person)| (*key, person.as_str())).collect();
    if let Some((odd, _)) = args.owner.iter().find(|(key, _)| !keys.iter().any(|found| found.key.fingerprint() == *key))
    {
        return Err(CommandError::usage(format!("no survey found an unknown key {odd}")).hint("lavrin register adopt"));
    }
    let asks = args.owner.is_empty() && !args.take_proposals && !ui.is_for_programs() && std::io::stdin().is_terminal();
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
    let owners: std::collections::HashMap<_, _> =
        adopted.iter().map(|(found, person)| (found.key.fingerprint(), person.clone())).collect();
    let mut grants: Vec<(Ungranted, bool)> = Vec::new();
    for found in ungranted(opened.register(), &entries, &owners, moment()) {
        // Who says whose a key is lets it stay; what known people have is offered.
        let is_taken = found.is_adopted || args.take_proposals || asks && ask_grant(&found, ui)?;
        grants.push((found, is_taken));
    }
    if ui.is_for_programs() || !asks {
        ui.give(&out_of(&keys, &adopted, &grants), || table(&keys, &adopted, ui) + &grants_table(&grants, ui));
    }
    let taken: Vec<&Ungranted> = grants.iter().filter(|(_, is_taken)| *is_taken).map(|(found, _)| found).collect();
    write(opened, &adopted, &taken, ui)?;
    let (left, open) = (keys.len() - adopted.len(), grants.len() - taken.len());
    if !ui.is_for_programs() {
        let mut said = format!(
            "{} adopted, {} written",
            count(adopted.len(), "key", "keys"),
            count(taken.len(), "grant", "grants")
        );
        if left > 0 {
            said += &format!("; {} unknown, left in place", count(left, "key", "keys"));
        }
        if open > 0 {
            said += &format!("; {} without a grant", count(open, "way in", "ways in"));
        }
        ui.status(&said);
    }
    Ok(if left + open > 0 { Exit::Findings } else { Exit::Done })
}

/// Every entry that the last surveys saw on these hosts.
fn look(opened: &OpenedRegister, hosts: &[&Host]) -> Result<Vec<(String, AuditEntry)>, CommandError> {
    let store = Database::open_existing(opened.folder.path())?.ok_or_else(|| {
        CommandError::with(Exit::NotChecked, "no host was surveyed yet, so there is nothing to adopt")
            .hint("lavrin survey")
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
    Ok(entries)
}

/// What a grant would say, in words.
fn grant_words(found: &Ungranted) -> String {
    let hosts = (!found.hosts.is_empty()).then(|| found.hosts.join(", "));
    let tags = found.tags.iter().map(|tag| format!("every host with the tag {tag}"));
    let places: Vec<String> = hosts.into_iter().chain(tags).collect();
    let mut words = format!("{} uses {} on {}", found.person, found.account, places.join(" and "));
    let limits = found.from.iter().map(|from| format!("only from {from}"));
    let limits = limits.chain(found.command.iter().map(|command| format!("only the command {command}")));
    for limit in limits.chain(found.options.iter().cloned()) {
        words += &format!("; {limit}");
    }
    printable(words.as_bytes())
}

/// Asks whether what is there is to be granted.
fn ask_grant(found: &Ungranted, ui: &Ui) -> Result<bool, CommandError> {
    let answer = ui.ask(&format!("{}. Write a grant for it? [yes/no]", grant_words(found)))?;
    Ok(matches!(answer.unwrap_or_default().to_ascii_lowercase().as_str(), "yes" | "y"))
}

/// The command that writes such a grant.
fn grant_command(found: &Ungranted) -> String {
    let option = |name: &str, value: &str| format!(" {name} {}", shell_word(value));
    let mut command = format!("lavrin grant {} {}", shell_word(&found.person), shell_word(&found.account));
    found.tags.iter().for_each(|tag| command += &option("--tag", tag));
    found.hosts.iter().for_each(|host| command += &option("--host", host));
    found.from.iter().for_each(|from| command += &option("--from", from));
    found.command.iter().for_each(|text| command += &option("--command", text));
    found.options.iter().for_each(|text| command += &option("--option", text));
    command
}

fn grants_table(grants: &[(Ungranted, bool)], ui: &Ui) -> String {
    let mut text = String::new();
    for (found, is_taken) in grants {
        text += &format!("\n{}\n", grant_words(found));
        text += &if *is_taken {
            format!("  {}\n", ui.paint(Label::Good, "granted from now on"))
        } else {
            format!("  no grant; next: {}\n", ui.paint(Label::Type, &crate::cli::complete(&grant_command(found))))
        };
    }
    text
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
        let Some(line) = ui.ask(&format!("Whose is it? [{hint}; - for unknown]"))? else { return Ok(None) };
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
    let mut text = format!("{} not in the register\n", count(keys.len(), "key is", "keys are"));
    for found in keys {
        text += "\n";
        text += &described(found, ui);
        let whose = adopted.iter().find(|(other, _)| other.key == found.key);
        text += &match (whose, &found.proposal) {
            (Some((_, person)), _) => format!("  {}\n", ui.paint(Label::Good, &format!("is {person}'s from now on"))),
            (None, Some(person)) => {
                let print = found.key.fingerprint();
                let command = format!("lavrin register adopt --owner {print}={person}");
                format!("  perhaps  {person}; next: {}\n", ui.paint(Label::Type, &crate::cli::complete(&command)))
            }
            (None, None) => String::new(),
        };
    }
    text
}

fn out_of(keys: &[UnknownKey], adopted: &[(&UnknownKey, String)], grants: &[(Ungranted, bool)]) -> AdoptOut {
    let grant = |(found, granted): &(Ungranted, bool)| UngrantedOut {
        person: found.person.clone(),
        account: found.account.clone(),
        tags: found.tags.clone(),
        hosts: found.hosts.clone(),
        from: found.from.clone(),
        command: found.command.clone(),
        options: found.options.clone(),
        granted: *granted,
    };
    let out = |found: &UnknownKey| UnknownKeyOut {
        key: found.key.fingerprint().to_string(),
        algorithm: found.key.algorithm().name(),
        comments: found.comments.iter().cloned().collect(),
        opens: opens(found),
        proposal: found.proposal.clone(),
        adopted: adopted.iter().find(|(other, _)| other.key == found.key).map(|(_, person)| person.clone()),
    };
    AdoptOut {
        schema: "lavrin/register-adopt/1",
        keys: keys.iter().map(out).collect(),
        grants: grants.iter().map(grant).collect(),
    }
}

/// Writes people and grants; each change stands on the one before.
fn write(
    mut opened: OpenedRegister,
    adopted: &[(&UnknownKey, String)],
    grants: &[&Ungranted],
    ui: &Ui,
) -> Result<(), CommandError> {
    for (found, person) in adopted {
        opened = person_file(&opened, found, person, ui)?;
    }
    if grants.is_empty() {
        return Ok(());
    }
    let mut text = opened.text(GRANTS).unwrap_or_default().to_owned();
    let reason = format!("adopted on {}", today());
    for found in grants {
        let grant = NewGrant {
            kind: "person",
            whom: &found.person,
            account: &found.account,
            hosts: &found.hosts,
            tags: &found.tags,
            from: found.from.as_deref(),
            command: found.command.as_deref(),
            options: &found.options,
            reason: Some(&reason),
            ..NewGrant::default()
        };
        text = add_grant(&text, &grant).map_err(edit_fault(GRANTS))?;
    }
    change_file(&opened, ui, GRANTS, &text).map(drop)
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
    let new = NewKey { label: &label, line: &line, purpose: "person", added: today(), replaces: None, machine: None };
    let text = add_key(&text, None, &new).map_err(edit_fault(&path))?;
    change_file(opened, ui, &path, &text)
}
