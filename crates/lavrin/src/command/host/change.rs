//! `lavrin host set`, `remove` and `rename`.

use super::fields::HostFields;
use super::{FILE, find};
use crate::command::grant::FILE as GRANTS;
use crate::command::register::{OpenedRegister, RegisterArgs, change_file, edit_fault, typed_id};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::register::edit::{HostField, remove_host, rename_host, rename_in_grants, set_host};
use lavrin_fleet::register::{Host, Whom, kept};
use lavrin_keys::text::count;
use lavrin_store::database::Database;

/// Change how a host is reached or what is managed there
#[derive(Debug, Args)]
pub struct HostSetArgs {
    /// The host
    #[arg(value_name = "HOST")]
    pub id: String,
    #[command(flatten)]
    fields: HostFields,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Remove a host from the register; what is on it stays as it is
#[derive(Debug, Args)]
pub struct HostRemoveArgs {
    /// The host
    #[arg(value_name = "HOST")]
    pub id: String,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Give a host another name in the register
#[derive(Debug, Args)]
pub struct HostRenameArgs {
    /// The host
    #[arg(value_name = "HOST")]
    pub id: String,
    /// The new name
    #[arg(value_name = "NEW", value_parser = typed_id)]
    pub new: String,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs `lavrin host set`.
pub fn set(args: &HostSetArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let host = find(opened.register(), &args.id)?;
    let fields = args.fields.given();
    if fields.is_empty() {
        return Err(CommandError::usage("nothing was given to change").hint("lavrin host set --help"));
    }
    let (path, id) = file_of(&opened, host);
    let mut text = opened.text(&path).unwrap_or_default().to_owned();
    for (name, field) in &fields {
        text = set_host(&text, id, name, field).map_err(edit_fault(&path))?;
    }
    change_file(&opened, ui, &path, &text)?;
    Ok(Exit::Done)
}

/// The file that holds a host, and its name in it where the file holds all of them.
pub fn file_of<'a>(opened: &OpenedRegister, host: &'a Host) -> (String, Option<&'a str>) {
    let own = format!("hosts/{}.toml", host.id);
    if opened.text(&own).is_some() { (own, None) } else { (FILE.to_owned(), Some(host.id.as_str())) }
}

/// Runs `lavrin host remove`: only where no other host is reached through it.
pub fn remove(args: &HostRemoveArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let register = opened.register();
    let host = find(register, &args.id)?;
    let stop = |why: String| CommandError::with(Exit::Stopped, format!("{} was not removed", host.id)).because(why);
    let through = |other: &&Host| other.through.as_ref().is_some_and(|through| through.value == host.id);
    if let Some(other) = register.all_hosts().find(through) {
        return Err(stop(format!("{} is reached through it", other.id))
            .hint(format!("lavrin host set {} --through OTHER", other.id)));
    }
    let names = |hosts: &[lavrin_fleet::register::Placed<String>]| hosts.iter().any(|name| name.value == host.id);
    let is_machine = |whom: &Whom| matches!(whom, Whom::Machine { host: of, .. } if *of == host.id);
    let grants = register.grants.iter().filter(|grant| names(&grant.hosts) || is_machine(&grant.whom.value)).count();
    if grants > 0 {
        return Err(stop(format!("{} it", count(grants, "grant names", "grants name")))
            .hint(format!("to see them: lavrin host show {}", host.id)));
    }
    if let Some(kept) = register.kept.iter().find(|kept| kept.host == host.id) {
        let file = kept::file(&kept.account, &kept.host);
        return Err(stop(format!("a key is kept for {}", kept.name()))
            .hint(format!("if it is not needed any more, move {file} and its sealed file away")));
    }
    let owed = register.owed.iter().filter(|owed| owed.host == host.id).count();
    if owed > 0 {
        return Err(stop(format!("{} owed there", count(owed, "removal is", "removals are"))).hint("lavrin audit"));
    }
    let (path, id) = file_of(&opened, host);
    let old = opened.text(&path).unwrap_or_default();
    if let Some(id) = id {
        change_file(&opened, ui, &path, &remove_host(old, id).map_err(edit_fault(&path))?)?;
    } else {
        let aside = format!("{path}.removed");
        opened.folder.rename(&path, old, &aside)?;
        ui.result(&format!("{path} is now {aside}, which the register does not read"));
    }
    ui.status("no host was changed: keys that are there stay there");
    Ok(Exit::Done)
}

/// Runs `lavrin host rename`: in the register, and in what is remembered of the host.
pub fn rename(args: &HostRenameArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let mut opened = args.register.open()?;
    let host = find(opened.register(), &args.id)?.clone();
    if opened.register().hosts.contains_key(&args.new) {
        return Err(CommandError::usage(format!("{} is in the register already", args.new))
            .hint(format!("lavrin host show {}", args.new)));
    }
    let store = Database::open_existing(opened.folder.path())?;
    let looks = store.as_ref().map(Database::looks).transpose()?.unwrap_or_default();
    if looks.iter().any(|look| look.host == args.new) {
        // What was seen of the two would be mixed up.
        return Err(CommandError::with(Exit::Stopped, format!("the surveys remember another host {}", args.new))
            .because("nothing was changed")
            .hint("choose a name that no host had before"));
    }
    let mut grants = opened.text(GRANTS).unwrap_or_default().to_owned();
    for field in ["hosts", "machine"] {
        grants = rename_in_grants(&grants, field, &args.id, &args.new).map_err(edit_fault(GRANTS))?;
    }
    // Connected to by its old name where it has no address of its own.
    let (path, id) = file_of(&opened, &host);
    let text = set_host(opened.text(&path).unwrap_or_default(), id, "address", &HostField::Text(&host.address));
    let text = text.map_err(edit_fault(&path))?;
    if let Some(id) = id {
        let text = rename_host(&text, id, &args.new).map_err(edit_fault(&path))?;
        opened.folder.save(&path, opened.text(&path), &text)?;
        ui.result(&format!("[{}] is now [{}] in {path}", args.id, args.new));
    } else {
        let new_path = format!("hosts/{}.toml", args.new);
        opened = change_file(&opened, ui, &path, &text)?;
        opened.folder.rename(&path, opened.text(&path).unwrap_or_default(), &new_path)?;
        ui.result(&format!("{path} is now {new_path}"));
    }
    opened = args.register.open()?;
    if opened.text(GRANTS).is_some_and(|old| old != grants) {
        opened = change_file(&opened, ui, GRANTS, &grants)?;
    }
    let reached: Vec<Host> =
        opened.register().all_hosts().filter(|other| is_through(other, &args.id)).cloned().collect();
    for other in reached {
        let (path, id) = file_of(&opened, &other);
        let text = set_host(opened.text(&path).unwrap_or_default(), id, "through", &HostField::Text(&args.new));
        opened = change_file(&opened, ui, &path, &text.map_err(edit_fault(&path))?)?;
    }
    rename_kept(&opened, &args.id, &args.new, ui)?;
    if let Some(store) = store {
        store.rename_host(&args.id, &args.new)?;
    }
    Ok(Exit::Done)
}

/// The files of kept keys go by the name of their host.
fn rename_kept(opened: &OpenedRegister, old: &str, new: &str, ui: &Ui) -> Result<(), CommandError> {
    for name in opened.folder.names_in(kept::FOLDER)? {
        let Some((account, rest)) = name.split_once('@') else { continue };
        let Some(ending) = rest.strip_prefix(old).filter(|ending| is_ending(ending)) else { continue };
        let (path, new_path) =
            (format!("{}/{name}", kept::FOLDER), format!("{}/{account}@{new}{ending}", kept::FOLDER));
        let text = opened.folder.text(&path)?.unwrap_or_default();
        opened.folder.rename(&path, &text, &new_path)?;
        ui.result(&format!("{path} is now {new_path}"));
    }
    Ok(())
}

/// What follows the name of a host in the name of such a file: `.toml`, or a version and `.age`.
fn is_ending(text: &str) -> bool {
    let version = text.strip_prefix('.').and_then(|text| text.strip_suffix(".age"));
    text == ".toml" || version.is_some_and(|number| number.parse::<u32>().is_ok())
}

fn is_through(host: &Host, id: &str) -> bool {
    host.through.as_ref().is_some_and(|through| through.value == id)
}
