//! `lavrin grant`: who may use which account where. It changes the register only.

use super::register::{OpenedRegister, RegisterArgs, change_file, edit_fault, today, typed_date, typed_id};
use super::unknown::{self, perhaps};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use crate::wording;
use clap::Args;
use lavrin_fleet::register::edit::{NewGrant, add_grant, set_grant};
use lavrin_fleet::register::{Date, Grant, Host, Placed, Register, Whom, entry_options};
use lavrin_server::steps::gives_root;
use lavrin_store::database::Database;
use lavrin_work::memory::Memory;
use std::collections::BTreeSet;

/// The file that holds the grants.
pub const FILE: &str = "access.toml";

/// Hosts whose accounts are looked up, so that a slip in a name is reported at once.
const LOOKED_UP_MAX: usize = 64;

/// Record who may use which account (changes the register only)
#[derive(Debug, Args)]
pub struct GrantArgs {
    /// A person, a team with --team, or ACCOUNT@HOST for a machine
    #[arg(value_name = "WHO")]
    pub whom: String,
    /// The account they may use
    #[arg(value_name = "ACCOUNT")]
    pub account: String,
    /// WHO is the name of a team
    #[arg(long)]
    pub team: bool,
    /// On this host (repeatable); '*' for all
    #[arg(long, value_name = "HOST")]
    pub host: Vec<String>,
    /// On every host with this tag (repeatable)
    #[arg(long, value_name = "TAG", value_parser = typed_id)]
    pub tag: Vec<String>,
    /// Only with the key that has this label
    #[arg(long, value_name = "LABEL")]
    pub label: Option<String>,
    /// The last day; changes that of a grant that is there
    #[arg(long, value_name = "DATE", value_parser = typed_date)]
    pub until: Option<Date>,
    /// Only from these addresses, as in from= of a key file
    #[arg(long, value_name = "ADDRESSES")]
    pub from: Option<String>,
    /// Only for this command
    #[arg(long, value_name = "COMMAND")]
    pub command: Option<String>,
    /// Another option of the entry, such as no-pty (repeatable)
    #[arg(long = "option", value_name = "OPTION")]
    pub options: Vec<String>,
    /// Make the account where it is not there, without a password
    #[arg(long)]
    pub create: bool,
    /// Put the account that is made into this group (repeatable)
    #[arg(long, value_name = "GROUP", requires = "create")]
    pub group: Vec<String>,
    /// Shell of the account that is made
    #[arg(long, value_name = "PATH", requires = "create")]
    pub shell: Option<String>,
    /// Home of the account that is made
    #[arg(long, value_name = "PATH", requires = "create")]
    pub home: Option<String>,
    /// Reason, kept in the register
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs `lavrin grant`.
pub fn run(args: &GrantArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if args.host.is_empty() && args.tag.is_empty() {
        return Err(CommandError::usage("on which hosts?")
            .again("", "--host HOST")
            .again("", "--tag TAG")
            .again("everywhere", "--host '*'"));
    }
    let opened = args.register.open()?;
    let register = opened.register();
    check_names(args, register)?;
    check_options(args)?;
    let kind = match (args.team, args.whom.contains('@')) {
        (true, _) => "team",
        (false, true) => "machine",
        (false, false) => "person",
    };
    let new = NewGrant {
        kind,
        whom: &args.whom,
        key: args.label.as_deref(),
        account: &args.account,
        hosts: &args.host,
        tags: &args.tag,
        until: args.until,
        from: args.from.as_deref(),
        command: args.command.as_deref(),
        options: &args.options,
        create: args.create,
        groups: &args.group,
        shell: args.shell.as_deref(),
        home: args.home.as_deref(),
        reason: args.reason.as_deref(),
    };
    let old = opened.text(FILE).unwrap_or_default();
    let changed = register.grants.iter().find(|grant| is_same(grant, args)).map(|grant| grant.number);
    let text = changed.map_or_else(|| add_grant(old, &new), |number| set_grant(old, number, &new));
    let text = text.map_err(edit_fault(FILE))?;
    if text == old {
        ui.status("this grant is there already; nothing was changed");
        return Ok(Exit::Done);
    }
    let after = change_file(&opened, ui, FILE, &text)?;
    warn(args, &after, ui)?;
    let added = || after.register().grants.last().map_or(1, |grant| grant.number);
    let done = changed.map_or_else(|| format!("grant {} added", added()), |number| format!("grant {number} changed"));
    ui.status(&format!("{done}; no host was changed"));
    ui.status(&format!("  next: {}", crate::cli::complete("lavrin compare")));
    Ok(Exit::Done)
}

/// The name of whom a grant is for.
pub fn whom_text(whom: &Whom) -> String {
    match whom {
        Whom::Person(name) | Whom::Team(name) => name.clone(),
        Whom::Kept { account, host } => format!("kept for {account}@{host}"),
        Whom::Machine { account, host } => format!("{account}@{host}"),
    }
}

/// People and hosts have to be there.
fn check_names(args: &GrantArgs, register: &Register) -> Result<(), CommandError> {
    let is_person = !args.team && !args.whom.contains('@');
    if is_person && !register.people.contains_key(&args.whom) {
        if register.team(&args.whom).next().is_some() {
            let error = CommandError::usage(format!("there is no person '{}' in the register", args.whom));
            return Err(error.again("it is a team", "--team"));
        }
        let error = unknown::person(register, &args.whom).err();
        return Err(error.unwrap_or_else(|| CommandError::usage("there is no such person")))
            .map_err(|error| error.hint(format!("lavrin person add {} --key KEY.pub", args.whom)));
    }
    for host in args.host.iter().filter(|host| *host != "*") {
        if !register.hosts.contains_key(host) {
            return Err(unknown::host(register, host).hint(format!("lavrin host add {host} --address ADDRESS")));
        }
    }
    Ok(())
}

/// What will stand in front of the key has to be something that a server takes.
fn check_options(args: &GrantArgs) -> Result<(), CommandError> {
    match entry_options(args.from.as_deref(), args.command.as_deref(), &args.options) {
        Ok(_) => Ok(()),
        Err(fault) => Err(CommandError::usage(wording::key::option(&fault)).because("nothing was changed")),
    }
}

/// Whether a grant is for the same people and the same places; then it is changed instead of written twice.
fn is_same(grant: &Grant, args: &GrantArgs) -> bool {
    let values = |list: &[Placed<String>]| list.iter().map(|item| item.value.clone()).collect::<BTreeSet<_>>();
    let is_team = matches!(grant.whom.value, Whom::Team(_));
    whom_text(&grant.whom.value) == args.whom
        && is_team == args.team
        && grant.account == args.account
        && grant.key.as_ref().map(|label| &label.value) == args.label.as_ref()
        && values(&grant.hosts) == args.host.iter().cloned().collect()
        && values(&grant.tags) == args.tag.iter().cloned().collect()
}

/// What is allowed and probably not meant.
fn warn(args: &GrantArgs, opened: &OpenedRegister, ui: &Ui) -> Result<(), CommandError> {
    let register = opened.register();
    let tags: BTreeSet<&str> = register.all_hosts().flat_map(|host| &host.tags).map(String::as_str).collect();
    for tag in args.tag.iter().filter(|tag| !tags.contains(tag.as_str())) {
        ui.warn(&format!("no host has the tag '{tag}'{}", perhaps(tag, tags.iter().copied())));
    }
    if args.team && register.team(&args.whom).next().is_none() {
        let teams: BTreeSet<&str> = register.people.values().filter_map(|person| person.team.as_deref()).collect();
        ui.warn(&format!("nobody is in the team '{}'{}", args.whom, perhaps(&args.whom, teams.into_iter())));
    }
    let person = register.people.get(&args.whom).filter(|_| !args.team);
    if let Some(left) = person.and_then(|person| person.left.as_ref()).filter(|left| left.value <= today()) {
        ui.warn(&format!("{} left on {}, so this grant opens nothing", args.whom, left.value));
    }
    if let Some(label) = &args.label
        && let Some(person) = person.filter(|person| !person.keys.iter().any(|key| key.label == *label))
    {
        let labels = person.keys.iter().map(|key| key.label.as_str());
        ui.warn(&format!("{} has no key '{label}'{}", args.whom, perhaps(label, labels)));
    }
    for group in args.group.iter().filter(|group| gives_root(group)) {
        ui.warn(&format!("whoever is in the group {group} can become root"));
    }
    if let Some(until) = args.until.filter(|until| *until < today()) {
        ui.warn(&format!("{until} is past, so this grant opens nothing"));
    }
    let Some(grant) = register.grants.iter().find(|grant| is_same(grant, args)) else { return Ok(()) };
    let hosts: Vec<&Host> = register.hosts_of(grant).collect();
    unseen_accounts(args, &hosts, opened, ui)?;
    not_taken(grant, &hosts, register, ui);
    beside(grant, register, ui);
    Ok(())
}

/// Hosts that take no key of somebody whom the grant is for.
fn not_taken(grant: &Grant, hosts: &[&Host], register: &Register, ui: &Ui) {
    for host in hosts {
        for person in register.people_of(grant) {
            let mut keys = person.keys.iter().filter(|key| key.is_active(today()) && grant.is_for(key, &person.keys));
            let first = keys.clone().next().and_then(|key| host.limits.against_key(&key.key));
            if let Some(limit) = first.filter(|_| keys.all(|key| host.limits.against_key(&key.key).is_some())) {
                let taken = wording::compare::taken(&limit);
                ui.warn(&format!(
                    "{} has no key that {} takes ({taken}): lavrin key generate --for {}",
                    person.id, host.id, host.id
                ));
            }
        }
    }
}

/// Hosts on which no survey saw the account.
fn unseen_accounts(args: &GrantArgs, hosts: &[&Host], opened: &OpenedRegister, ui: &Ui) -> Result<(), CommandError> {
    let Some(store) = Database::open_existing(opened.folder.path())? else { return Ok(()) };
    let names: Vec<&str> = hosts.iter().take(LOOKED_UP_MAX).map(|host| host.id.as_str()).collect();
    for (host, seen) in names.iter().zip(Memory::of(&store).observations(&names, i64::MAX)?) {
        if let Some(seen) = seen.filter(|seen| !args.create && seen.account(&args.account).is_none()) {
            let accounts = seen.accounts.iter().map(|account| account.name.as_str());
            let near = perhaps(&args.account, accounts);
            ui.warn(&format!("the last survey of {host} saw no account {}{near}", args.account));
        }
    }
    Ok(())
}

/// Other grants that open the same account to the same people on one of the same hosts.
fn beside(grant: &Grant, register: &Register, ui: &Ui) {
    let people = |grant: &Grant| -> BTreeSet<String> {
        let people = register.people_of(grant).into_iter().map(|person| person.id.clone());
        people.chain(matches!(grant.whom.value, Whom::Machine { .. }).then(|| whom_text(&grant.whom.value))).collect()
    };
    let hosts = |grant: &Grant| register.hosts_of(grant).map(|host| host.id.clone()).collect::<BTreeSet<_>>();
    let (own_people, own_hosts) = (people(grant), hosts(grant));
    for other in &register.grants {
        let is_other = !std::ptr::eq(other, grant) && other.account == grant.account && !other.has_ended(today());
        if is_other && !own_people.is_disjoint(&people(other)) && !own_hosts.is_disjoint(&hosts(other)) {
            ui.warn(&format!(
                "grant {} opens the same account on some of these hosts; the one without limits counts, else the first one, \
                 and the later last day",
                other.number
            ));
        }
    }
}
