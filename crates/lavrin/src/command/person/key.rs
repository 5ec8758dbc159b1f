//! `lavrin person key retire` and `rename`.

use super::change::path_of;
use crate::command::grant::FILE as GRANTS;
use crate::command::register::{RegisterArgs, change_file, edit_fault, today, typed_date};
use crate::command::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::{Args, Subcommand};
use lavrin_fleet::register::edit::{KeyField, set_grant_key, set_key};
use lavrin_fleet::register::{Date, OwnedKey, Person, Whom};

/// The keys of a person
#[derive(Debug, Subcommand)]
pub enum PersonKeyCommand {
    /// Record that a key is not used any more; the next enforce removes it
    Retire(RetireArgs),
    /// Give a key another label
    Rename(RenameArgs),
}

/// Record that a key is not used any more; the next enforce removes it from the hosts
#[derive(Debug, Args)]
pub struct RetireArgs {
    /// The person
    #[arg(value_name = "PERSON")]
    pub id: String,
    /// The label of the key
    #[arg(value_name = "LABEL")]
    pub label: String,
    /// The day from which it is not used (default: today)
    #[arg(long, value_name = "DATE", value_parser = typed_date)]
    pub from_date: Option<Date>,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Give a key another label
#[derive(Debug, Args)]
pub struct RenameArgs {
    /// The person
    #[arg(value_name = "PERSON")]
    pub id: String,
    /// The label of the key
    #[arg(value_name = "LABEL")]
    pub label: String,
    /// The new label
    #[arg(value_name = "NEW")]
    pub new: String,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs one of them.
pub fn run(command: &PersonKeyCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        PersonKeyCommand::Retire(args) => retire(args, ui),
        PersonKeyCommand::Rename(args) => rename(args, ui),
    }
}

fn retire(args: &RetireArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let person = unknown::person(opened.register(), &args.id)?;
    let key = labelled(person, &args.label)?;
    let day = args.from_date.unwrap_or_else(today);
    let path = path_of(person);
    let text = set_key(opened.text(&path).unwrap_or_default(), None, &key.label, "retired", &KeyField::Day(day));
    change_file(&opened, ui, &path, &text.map_err(edit_fault(&path))?)?;
    let others = person.keys.iter().filter(|other| other.label != key.label && other.is_active(day)).count();
    if others == 0 {
        ui.warn(&format!("{} has no other key in use, and no grant opens anything to them from {day} on", person.id));
    }
    ui.status("no host was changed");
    ui.status(&format!("  next: {}", crate::cli::complete("lavrin compare")));
    Ok(Exit::Done)
}

fn rename(args: &RenameArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let person = unknown::person(opened.register(), &args.id)?;
    let key = labelled(person, &args.label)?;
    if person.keys.iter().any(|other| other.label == args.new) {
        return Err(CommandError::usage(format!("{} has a key '{}' already", person.id, args.new)));
    }
    let path = path_of(person);
    let text = set_key(opened.text(&path).unwrap_or_default(), None, &key.label, "label", &KeyField::Text(&args.new));
    let mut grants = opened.text(GRANTS).unwrap_or_default().to_owned();
    // Grants that name the key go on to name it.
    for grant in &opened.register().grants {
        let is_theirs = matches!(&grant.whom.value, Whom::Person(id) if *id == person.id);
        if is_theirs && grant.key.as_ref().is_some_and(|label| label.value == key.label) {
            grants = set_grant_key(&grants, grant.number, &args.new).map_err(edit_fault(GRANTS))?;
        }
    }
    let after = change_file(&opened, ui, &path, &text.map_err(edit_fault(&path))?)?;
    if opened.text(GRANTS).is_some_and(|old| old != grants) {
        change_file(&after, ui, GRANTS, &grants)?;
    }
    Ok(Exit::Done)
}

fn labelled<'a>(person: &'a Person, label: &str) -> Result<&'a OwnedKey, CommandError> {
    person.keys.iter().find(|key| key.label == label).ok_or_else(|| {
        let labels: Vec<&str> = person.keys.iter().map(|key| key.label.as_str()).collect();
        CommandError::usage(format!("{} has no key '{}'", person.id, lavrin_keys::text::printable(label.as_bytes())))
            .because(if labels.is_empty() {
                "there is no key at all".to_owned()
            } else {
                format!("there is: {}", labels.join(", "))
            })
            .hint(format!("lavrin person show {}", person.id))
    })
}
