//! `lavrin person set`, `remove` and `rename`.

use crate::command::grant::FILE as GRANTS;
use crate::command::kept::may_have;
use crate::command::register::{OpenedRegister, RegisterArgs, change_file, edit_fault, typed_date, typed_id};
use crate::command::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::register::edit::{rename_in_grants, set_date, set_text};
use lavrin_fleet::register::edit_kept::rename_person;
use lavrin_fleet::register::{Date, Person, Whom, kept};
use lavrin_keys::text::count;
use lavrin_store::database::Database;
use lavrin_store::register::MAIN_FILE;

/// Change the name, the team or the first day of a person
#[derive(Debug, Args)]
pub struct PersonSetArgs {
    /// The person
    #[arg(value_name = "PERSON")]
    pub id: String,
    /// The full name
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// The team; '' for none
    #[arg(long, value_name = "TEAM")]
    pub team: Option<String>,
    /// First day of the person
    #[arg(long, value_name = "DATE", value_parser = typed_date)]
    pub since: Option<Date>,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Remove a person who was added by mistake; for one who leaves: lavrin offboard
#[derive(Debug, Args)]
pub struct PersonRemoveArgs {
    /// The person
    #[arg(value_name = "PERSON")]
    pub id: String,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Give a person another name in the register
#[derive(Debug, Args)]
pub struct PersonRenameArgs {
    /// The person
    #[arg(value_name = "PERSON")]
    pub id: String,
    /// The new name
    #[arg(value_name = "NEW", value_parser = typed_id)]
    pub new: String,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs `lavrin person set`.
pub fn set(args: &PersonSetArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let person = unknown::person(opened.register(), &args.id)?;
    if args.name.is_none() && args.team.is_none() && args.since.is_none() {
        return Err(CommandError::usage("nothing was given to change").hint("lavrin person set --help"));
    }
    let path = path_of(person);
    let mut text = opened.text(&path).unwrap_or_default().to_owned();
    if let Some(name) = &args.name {
        text = set_text(&text, "name", Some(name)).map_err(edit_fault(&path))?;
    }
    if let Some(team) = &args.team {
        let team = Some(team).filter(|team| !team.is_empty()).map(|team| typed_id(team)).transpose();
        let team = team.map_err(CommandError::usage)?;
        text = set_text(&text, "team", team.as_deref()).map_err(edit_fault(&path))?;
    }
    if let Some(since) = args.since {
        text = set_date(&text, "since", since).map_err(edit_fault(&path))?;
    }
    change_file(&opened, ui, &path, &text)?;
    if args.team.is_some() {
        ui.status("grants to teams may open other accounts now; no host was changed");
        ui.status(&format!("  next: {}", crate::cli::complete("lavrin compare")));
    }
    Ok(Exit::Done)
}

/// Runs `lavrin person remove`: only where nothing depends on the person.
pub fn remove(args: &PersonRemoveArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let person = unknown::person(opened.register(), &args.id)?;
    let stop = |why: String| {
        Err(CommandError::with(Exit::Stopped, format!("{} was not removed", person.id))
            .because(why)
            .hint(format!("somebody who leaves: lavrin offboard {}", person.id)))
    };
    let grants = opened.register().grants.iter();
    let grants = grants.filter(|grant| matches!(&grant.whom.value, Whom::Person(id) if *id == person.id)).count();
    if grants > 0 {
        return stop(format!("{} for {}", count(grants, "grant is", "grants are"), person.id));
    }
    let kept = opened.register().kept.iter();
    let kept = kept.filter(|kept| may_have(&opened, kept, &person.id, &[])).count();
    if kept > 0 {
        return stop(format!("they may have a copy of {}", count(kept, "kept key", "kept keys")));
    }
    let there = entries(person, &opened)?;
    if there > 0 {
        return stop(format!("their keys are in {} on the hosts", count(there, "entry", "entries")));
    }
    let path = path_of(person);
    let aside = format!("{path}.removed");
    opened.folder.rename(&path, opened.text(&path).unwrap_or_default(), &aside)?;
    ui.result(&format!("{path} is now {aside}, which the register does not read"));
    Ok(Exit::Done)
}

/// Entries with a key of theirs that the last surveys saw.
fn entries(person: &Person, opened: &OpenedRegister) -> Result<usize, CommandError> {
    let Some(store) = Database::open_existing(opened.folder.path())? else { return Ok(0) };
    let mut there = 0;
    for key in &person.keys {
        there += store.sightings_of(key.fingerprint)?.iter().filter(|seen| seen.gone.is_none()).count();
    }
    Ok(there)
}

/// Runs `lavrin person rename`.
pub fn rename(args: &PersonRenameArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let person = unknown::person(opened.register(), &args.id)?;
    if opened.register().people.contains_key(&args.new) {
        return Err(CommandError::usage(format!("{} is in the register already", args.new))
            .hint(format!("lavrin person show {}", args.new)));
    }
    let grants = opened.text(GRANTS).unwrap_or_default();
    let renamed = rename_in_grants(grants, "person", &args.id, &args.new).map_err(edit_fault(GRANTS))?;
    let (path, new_path) = (path_of(person), format!("people/{}.toml", args.new));
    opened.folder.rename(&path, opened.text(&path).unwrap_or_default(), &new_path)?;
    ui.result(&format!("{path} is now {new_path}"));
    let mut again = args.register.open()?;
    if renamed != grants {
        again = change_file(&again, ui, GRANTS, &renamed)?;
    }
    let of_kept = again.register().kept.iter().map(|kept| kept::file(&kept.account, &kept.host));
    for path in of_kept.chain([MAIN_FILE.to_owned()]).collect::<Vec<_>>() {
        let old = again.text(&path).unwrap_or_default();
        let new = rename_person(old, &args.id, &args.new).map_err(edit_fault(&path))?;
        if new != old {
            again = change_file(&again, ui, &path, &new)?;
        }
    }
    Ok(Exit::Done)
}

/// The file of a person.
pub fn path_of(person: &Person) -> String {
    format!("people/{}.toml", person.id)
}
