//! `lavrin host`: the hosts of the register.

mod change;
mod fields;
mod import;
pub mod profile;
mod reopen;
pub mod settings;
pub mod trust;

pub use change::file_of;

use super::register::{RegisterArgs, change_file, edit_fault, today, typed_id};
use super::sightings::{Column, SightingOut, Sightings};
use super::unknown;
use crate::cli::block_on;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::{Args, Subcommand};
use fields::HostFields;
use lavrin_fleet::register::edit::{HostField, add_host};
use lavrin_fleet::register::{GrantsFor, Host, ReachKind, Register, Whom};
use lavrin_keys::text::{count, printable, shell_word};
use lavrin_report::rows::TableRow;
use serde::Serialize;

/// The file that holds the hosts that have none of their own.
const FILE: &str = "hosts.toml";

/// The hosts of the register
#[derive(Debug, Subcommand)]
pub enum HostCommand {
    /// Add a host
    Add(HostAddArgs),
    /// Every host
    List(HostListArgs),
    /// One host: how it is reached, and who may log in
    Show(HostShowArgs),
    /// Change how a host is reached or what is managed there
    Set(change::HostSetArgs),
    /// Give a host another name in the register
    Rename(change::HostRenameArgs),
    /// Remove a host from the register; what is on it stays
    Remove(change::HostRemoveArgs),
    /// Fetch and pin the keys of a host
    Trust(trust::TrustArgs),
    /// Import hosts from a client configuration, a hosts file or a table
    Import(import::ImportArgs),
    /// Show which server settings apply to a login, each with its file and line
    Settings(settings::SettingsArgs),
    /// Lead a host that was reset through password login, keys, proof and closing again
    Reopen(reopen::ReopenArgs),
    /// Profiles of devices that have a command line of their own
    #[command(subcommand)]
    Profile(profile::ProfileCommand),
}

/// Add a host
#[derive(Debug, Args)]
pub struct HostAddArgs {
    /// Its name in the register
    #[arg(value_name = "HOST", value_parser = typed_id)]
    pub id: String,
    #[command(flatten)]
    fields: HostFields,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Every host
#[derive(Debug, Args)]
pub struct HostListArgs {
    /// Only hosts with this tag
    #[arg(long, value_name = "TAG")]
    pub tag: Option<String>,
    #[command(flatten)]
    register: RegisterArgs,
}

/// One host: how it is reached, and who may log in
#[derive(Debug, Args)]
pub struct HostShowArgs {
    /// The host
    #[arg(value_name = "HOST")]
    pub id: String,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints for all hosts.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct HostsOut {
    schema: &'static str,
    hosts: Vec<OneHost>,
}

/// What `--format json` prints for one host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct HostOut {
    schema: &'static str,
    #[serde(flatten)]
    host: OneHost,
    /// Who may enter.
    access: Vec<EntrantOut>,
    /// The entries that the last survey saw.
    seen: Vec<SightingOut>,
    /// The day of that survey.
    seen_on: Option<String>,
}

/// A host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct OneHost {
    id: String,
    address: String,
    port: u16,
    /// How it is spoken to: `shell`, `netconf`, `publickey-subsystem`, `sftp` or `dialogue`.
    reach: &'static str,
    /// Where its keys are, if it gives nothing but files.
    keys_file: Option<String>,
    /// How to work on its command line.
    profile: Option<String>,
    /// What it can bear of keys, in words.
    limits: Vec<String>,
    tags: Vec<String>,
    site: Option<String>,
    login: Option<String>,
    through: Option<String>,
    accounts: Vec<String>,
    /// Fingerprints of its pinned keys.
    host_keys: Vec<String>,
    /// How to get in when no key opens it, and when that was last tried.
    way_back: Option<String>,
    way_back_tried: Option<String>,
}

impl TableRow for &OneHost {
    const COLUMNS: &'static [&'static str] = &[
        "id",
        "address",
        "port",
        "reach",
        "keys_file",
        "profile",
        "limits",
        "tags",
        "site",
        "login",
        "through",
        "accounts",
        "host_keys",
        "way_back",
        "way_back_tried",
    ];
}

/// Somebody who may enter.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct EntrantOut {
    account: String,
    who: String,
    limits: Vec<String>,
    until: Option<String>,
    ended: bool,
}

/// Runs the command.
pub fn run(command: &HostCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        HostCommand::Add(args) => add(args, ui),
        HostCommand::List(args) => list(args, ui),
        HostCommand::Show(args) => show(args, ui),
        HostCommand::Set(args) => change::set(args, ui),
        HostCommand::Rename(args) => change::rename(args, ui),
        HostCommand::Remove(args) => change::remove(args, ui),
        HostCommand::Trust(args) => trust::run(args, ui),
        HostCommand::Import(args) => import::run(args, ui),
        HostCommand::Settings(args) => block_on(ui, settings::run(args, ui)),
        HostCommand::Reopen(args) => reopen::run(args, ui),
        HostCommand::Profile(command) => profile::run(command, ui),
    }
}

fn add(args: &HostAddArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    if opened.reading.register.hosts.contains_key(&args.id) {
        return Err(CommandError::usage(format!("the host {} is in the register already", args.id))
            .hint(format!("lavrin host show {}", args.id)));
    }
    let mut fields = args.fields.given();
    if args.fields.address.is_none() {
        fields.insert(0, ("address", HostField::Text(&args.id)));
    }
    let text = add_host(opened.text(FILE).unwrap_or_default(), &args.id, &fields).map_err(edit_fault(FILE))?;
    change_file(&opened, ui, FILE, &text)?;
    ui.status(&format!("Its keys are not pinned yet: lavrin host trust {}", args.id));
    Ok(Exit::Done)
}

fn one_host(host: &Host) -> OneHost {
    OneHost {
        id: host.id.clone(),
        address: host.address.clone(),
        port: host.port,
        reach: host.reach.name(),
        keys_file: host.places.file.clone(),
        profile: host.profile.as_ref().map(|profile| profile.value.clone()),
        limits: wording::limits_of_host(&host.limits),
        tags: host.tags.clone(),
        site: host.site.clone(),
        login: host.login.clone(),
        through: host.through.as_ref().map(|through| through.value.clone()),
        accounts: host.accounts.iter().map(|account| account.value.clone()).collect(),
        host_keys: host.host_keys.iter().map(|key| key.value.fingerprint().to_string()).collect(),
        way_back: host.way_back.clone(),
        way_back_tried: host.way_back_tried.as_ref().map(|tried| tried.value.to_string()),
    }
}

fn list(args: &HostListArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_to_report(ui)?;
    let tagged = |host: &&Host| args.tag.as_ref().is_none_or(|tag| host.tags.contains(tag));
    let hosts = opened.reading.register.all_hosts().filter(tagged);
    let hosts: Vec<&Host> = hosts.collect();
    let out = HostsOut { schema: "lavrin/host-list/1", hosts: hosts.iter().map(|host| one_host(host)).collect() };
    ui.give_rows(&out, || out.hosts.iter().collect::<Vec<&OneHost>>(), || list_text(&hosts, ui));
    Ok(Exit::Done)
}

fn list_text(hosts: &[&Host], ui: &Ui) -> String {
    let row = |host: &Host| {
        let pinned = if host.host_keys.is_empty() { ui.paint(Label::Warn, "not pinned") } else { "pinned".to_owned() };
        let port = if host.port == host.reach.port() { String::new() } else { format!(" port {}", host.port) };
        vec![
            ui.paint(Label::Strong, &host.id),
            printable(format!("{}{port}", host.address).as_bytes()),
            reach_words(host),
            host.site.as_deref().map(|site| printable(site.as_bytes())).unwrap_or_default(),
            host.tags.join(", "),
            pinned,
        ]
    };
    let rows: Vec<Vec<String>> = hosts.iter().map(|host| row(host)).collect();
    let lines: String = columns(&rows, 0).into_iter().map(|line| line + "\n").collect();
    format!("{lines}{}", count(rows.len(), "host", "hosts"))
}

/// How it is spoken to, where that is not a shell as on most.
fn reach_words(host: &Host) -> String {
    if host.reach == ReachKind::Shell { String::new() } else { host.reach.name().to_owned() }
}

/// The host of this name.
pub fn find<'a>(register: &'a Register, id: &str) -> Result<&'a Host, CommandError> {
    let host = register.hosts.get(id).map(Box::as_ref);
    host.ok_or_else(|| unknown::host(register, id).hint("lavrin host list"))
}

fn show(args: &HostShowArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_for(GrantsFor::Host(&args.id), ui)?;
    let register = &opened.reading.register;
    let host = find(register, &args.id)?;
    let access = entrants(register, host);
    let seen = Sightings::on(&host.id, opened)?;
    let words = text_of(host, &access, ui) + &seen.text(Column::Owner, ui);
    let (host, seen_on) = (one_host(host), seen.seen);
    ui.give(&HostOut { schema: "lavrin/host-show/1", host, access, seen: seen.entries, seen_on }, || words);
    Ok(Exit::Done)
}

fn entrants(register: &Register, host: &Host) -> Vec<EntrantOut> {
    let grants = register.all_grants().filter(|grant| grant.covers(host));
    let mut found = Vec::new();
    for grant in grants {
        let who: Vec<String> = match &grant.whom.value {
            Whom::Machine { .. } | Whom::Kept { .. } => vec![crate::command::grant::whom_text(&grant.whom.value)],
            Whom::Person(_) | Whom::Team(_) => {
                let there = |person: &&&lavrin_fleet::register::Person| !person.has_left(today());
                register.people_of(grant).iter().filter(there).map(|person| person.id.clone()).collect()
            }
        };
        found.extend(who.into_iter().map(|who| EntrantOut {
            account: grant.account.clone(),
            who,
            limits: super::person::limits(grant),
            until: grant.until.as_ref().map(|until| until.value.to_string()),
            ended: grant.has_ended(today()),
        }));
    }
    found.sort_by(|one, other| (&one.account, &one.who).cmp(&(&other.account, &other.who)));
    found
}

fn text_of(host: &Host, access: &[EntrantOut], ui: &Ui) -> String {
    let site = host.site.as_ref().map(|site| format!(", {}", printable(site.as_bytes()))).unwrap_or_default();
    let mut text = format!("{}  {} port {}{site}\n", ui.paint(Label::Strong, &host.id), host.address, host.port);
    let mut line = |name: &str, value: String| {
        if !value.is_empty() {
            text += &format!("  {name:<10}{value}\n");
        }
    };
    line("tags", host.tags.join(", "));
    line("reach", reach_words(host));
    line("keys in", host.places.file.as_deref().map(|file| printable(file.as_bytes())).unwrap_or_default());
    line("profile", host.profile.as_ref().map(|profile| profile.value.clone()).unwrap_or_default());
    let after: Vec<String> = host.after_change.iter().map(|word| shell_word(&word.value)).collect();
    line(
        "after",
        if after.is_empty() { String::new() } else { format!("{} (runs there after each change)", after.join(" ")) },
    );
    line("takes", wording::limits_of_host(&host.limits).join("; "));
    line("login", host.login.clone().unwrap_or_default());
    line("through", host.through.as_ref().map(|through| through.value.clone()).unwrap_or_default());
    line("accounts", host.accounts.iter().map(|account| account.value.clone()).collect::<Vec<_>>().join(", "));
    let tried = host.way_back_tried.as_ref().map(|tried| format!(" (tried on {})", tried.value)).unwrap_or_default();
    let way = host.way_back.as_ref().map(|way| printable(way.as_bytes()) + &tried);
    line("way back", way.unwrap_or_default());
    for key in &host.host_keys {
        line("host key", format!("{} {}", key.value.algorithm().name(), key.value.fingerprint()));
    }
    if host.host_keys.is_empty() {
        line("host key", ui.paint(Label::Warn, "none pinned"));
    }
    text += &format!("\n{}\n", ui.paint(Label::Strong, "Allowed by the register"));
    let row = |one: &EntrantOut| {
        let mut notes = one.limits.clone();
        notes.extend(one.until.iter().map(|until| {
            if one.ended { ui.paint(Label::Bad, &format!("ended on {until}")) } else { format!("until {until}") }
        }));
        vec![ui.paint(Label::Strong, &one.account), one.who.clone(), notes.join("; ")]
    };
    let rows: Vec<Vec<String>> = access.iter().map(row).collect();
    text += &columns(&rows, 2).into_iter().map(|line| line + "\n").collect::<String>();
    if rows.is_empty() {
        text += "  nobody\n";
    }
    text
}
