//! `lavrin grant` and `lavrin withdraw`: who may use which account where.

use super::person::limits;
use super::register::{RegisterArgs, change_file, edit_fault, typed_date, typed_id};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use crate::wording;
use clap::Args;
use lavrin_fleet::register::edit::{NewGrant, add_grant, remove_grants};
use lavrin_fleet::register::{Date, Grant, Whom, entry_options};

/// The file that holds the grants.
const FILE: &str = "access.toml";

/// Let a person, a team or a machine use an account
#[derive(Debug, Args)]
pub struct GrantArgs {
    /// A person, a team with --team, or ACCOUNT@HOST for a machine
    #[arg(value_name = "WHO")]
    pub whom: String,
    /// The account they may use
    #[arg(value_name = "ACCOUNT")]
    pub account: String,
    /// WHO is a team
    #[arg(long)]
    pub team: bool,
    /// On this host; may be given several times, '*' stands for all
    #[arg(long, value_name = "HOST")]
    pub on: Vec<String>,
    /// On every host with this tag; may be given several times
    #[arg(long, value_name = "TAG", value_parser = typed_id)]
    pub tag: Vec<String>,
    /// Only with the key of this label
    #[arg(long, value_name = "LABEL")]
    pub key: Option<String>,
    /// The last day
    #[arg(long, value_name = "DATE", value_parser = typed_date)]
    pub until: Option<Date>,
    /// Only from these addresses, as in a key file's from=
    #[arg(long, value_name = "ADDRESSES")]
    pub from: Option<String>,
    /// Only for this command
    #[arg(long, value_name = "COMMAND")]
    pub command: Option<String>,
    /// A further option of the entry, as no-pty; may be given several times
    #[arg(long = "option", value_name = "OPTION")]
    pub options: Vec<String>,
    /// Why
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Take a grant back
#[derive(Debug, Args)]
pub struct WithdrawArgs {
    /// A person, a team, or ACCOUNT@HOST for a machine
    #[arg(value_name = "WHO")]
    pub whom: String,
    /// The account
    #[arg(value_name = "ACCOUNT")]
    pub account: String,
    /// Only grants that name this host
    #[arg(long, value_name = "HOST")]
    pub on: Option<String>,
    /// Only grants that name this tag
    #[arg(long, value_name = "TAG")]
    pub tag: Option<String>,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs `lavrin grant`.
pub fn grant(args: &GrantArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if args.on.is_empty() && args.tag.is_empty() {
        return Err(CommandError::usage("on which hosts?").hint("--on HOST, --tag TAG, or --on '*' for all"));
    }
    let opened = args.register.open()?;
    let register = &opened.reading.register;
    let is_machine = args.whom.contains('@');
    let is_person = !args.team && !is_machine;
    let kind = match (args.team, is_machine) {
        (true, _) => "team",
        (false, true) => "machine",
        (false, false) => "person",
    };
    if is_person && !register.people.contains_key(&args.whom) {
        let error = CommandError::usage(format!("there is no person '{}' in the register", args.whom));
        let is_team = register.team(&args.whom).next().is_some();
        let hint = if is_team {
            "it is a team: --team".to_owned()
        } else {
            format!("lavrin person add {} --key KEY.pub", args.whom)
        };
        return Err(error.hint(hint));
    }
    for host in args.on.iter().filter(|host| *host != "*") {
        if !register.hosts.contains_key(host) {
            return Err(CommandError::usage(format!("there is no host '{host}' in the register"))
                .hint(format!("lavrin host add {host} --address ADDRESS")));
        }
    }
    check_options(args)?;
    let new = NewGrant {
        kind,
        whom: &args.whom,
        key: args.key.as_deref(),
        account: &args.account,
        hosts: &args.on,
        tags: &args.tag,
        until: args.until,
        from: args.from.as_deref(),
        command: args.command.as_deref(),
        options: &args.options,
        reason: args.reason.as_deref(),
    };
    let text = add_grant(opened.text(FILE).unwrap_or_default(), &new).map_err(edit_fault(FILE))?;
    change_file(&opened, ui, FILE, &text)?;
    Ok(Exit::Done)
}

/// What will stand in front of the key has to be something that a server takes.
fn check_options(args: &GrantArgs) -> Result<(), CommandError> {
    match entry_options(args.from.as_deref(), args.command.as_deref(), &args.options) {
        Ok(_) => Ok(()),
        Err(fault) => Err(CommandError::usage(wording::key::option(&fault)).because("nothing was changed")),
    }
}

/// Runs `lavrin withdraw`.
pub fn withdraw(args: &WithdrawArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let named = |list: &[lavrin_fleet::register::Placed<String>], wanted: &Option<String>| {
        wanted.as_ref().is_none_or(|wanted| list.iter().any(|item| item.value == *wanted))
    };
    let fits = |grant: &Grant| {
        whom_text(&grant.whom.value) == args.whom
            && grant.account == args.account
            && named(&grant.hosts, &args.on)
            && named(&grant.tags, &args.tag)
    };
    let grants = &opened.reading.register.grants;
    let numbers: Vec<usize> = (0..grants.len()).filter(|number| fits(&grants[*number])).collect();
    if numbers.is_empty() {
        return Err(CommandError::with(Exit::Findings, format!("no grant lets {} use {}", args.whom, args.account))
            .hint(format!("lavrin person show {}", args.whom)));
    }
    for grant in numbers.iter().filter_map(|number| grants.get(*number)) {
        let limits = limits(grant);
        if !limits.is_empty() {
            ui.status(&format!("a grant with limits goes: {}", limits.join("; ")));
        }
    }
    let text = remove_grants(opened.text(FILE).unwrap_or_default(), &numbers).map_err(edit_fault(FILE))?;
    change_file(&opened, ui, FILE, &text)?;
    Ok(Exit::Done)
}

fn whom_text(whom: &Whom) -> String {
    match whom {
        Whom::Person(name) | Whom::Team(name) => name.clone(),
        Whom::Machine { account, host } => format!("{account}@{host}"),
    }
}
