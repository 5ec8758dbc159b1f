//! `lavrin withdraw`: takes a grant out of the register. It changes the register only.

use super::grant::{FILE, whom_text};
use super::person::limits;
use super::register::{RegisterArgs, change_file, edit_fault, typed_date};
use super::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::register::edit::remove_grants;
use lavrin_fleet::register::{Date, Grant, Placed, Register, Whom};
use lavrin_keys::text::count;

/// Take a grant out of the register (changes the register only)
#[derive(Debug, Args)]
pub struct WithdrawArgs {
    /// A person, a team, or ACCOUNT@HOST for a machine
    #[arg(value_name = "WHO")]
    pub whom: String,
    /// The account
    #[arg(value_name = "ACCOUNT")]
    pub account: String,
    /// Only grants for this host
    #[arg(long, value_name = "HOST")]
    pub host: Option<String>,
    /// Only grants for this tag
    #[arg(long, value_name = "TAG")]
    pub tag: Option<String>,
    /// Only grants with this last day
    #[arg(long, value_name = "DATE", value_parser = typed_date)]
    pub until: Option<Date>,
    /// Only the grant with this number, as person show lists it
    #[arg(long, value_name = "N")]
    pub number: Option<u32>,
    /// All grants that fit, where there are several
    #[arg(long)]
    pub all: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs `lavrin withdraw`.
pub fn run(args: &WithdrawArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let register = opened.register();
    let of_them = |grant: &&Grant| whom_text(&grant.whom.value) == args.whom && grant.account == args.account;
    let found: Vec<&Grant> = register.grants.iter().filter(of_them).filter(|grant| fits(args, grant)).collect();
    match &found[..] {
        [] => return Err(none_fits(args, register)),
        [_] => {}
        several if args.all => {
            ui.status(&format!("{} are withdrawn", count(several.len(), "grant", "grants")));
        }
        several => {
            let error = CommandError::usage(format!(
                "{} let {} use {}; which one?",
                count(several.len(), "grant", "grants"),
                args.whom,
                args.account
            ));
            let error = several
                .iter()
                .fold(error, |error, grant| error.because(format!("grant {}: {}", grant.number, described(grant))));
            let (whom, account) = (&args.whom, &args.account);
            let first = several.first().map_or(1, |grant| grant.number);
            return Err(error
                .hint(format!("lavrin withdraw {whom} {account} --number {first}"))
                .hint(format!("all of them: lavrin withdraw {whom} {account} --all")));
        }
    }
    for grant in &found {
        ui.status(&format!("withdrawn: {} {}, {}", args.whom, args.account, described(grant)));
    }
    let numbers: Vec<u32> = found.iter().map(|grant| grant.number).collect();
    let text = remove_grants(opened.text(FILE).unwrap_or_default(), &numbers).map_err(edit_fault(FILE))?;
    change_file(&opened, ui, FILE, &text)?;
    ui.status("no host was changed");
    ui.status(&format!("  next: {}", crate::cli::complete("lavrin compare")));
    Ok(Exit::Done)
}

fn fits(args: &WithdrawArgs, grant: &Grant) -> bool {
    let named = |list: &[Placed<String>], wanted: &Option<String>| {
        wanted.as_ref().is_none_or(|wanted| list.iter().any(|item| item.value == *wanted))
    };
    named(&grant.hosts, &args.host)
        && named(&grant.tags, &args.tag)
        && args.until.is_none_or(|until| grant.until.as_ref().is_some_and(|found| found.value == until))
        && args.number.is_none_or(|wanted| wanted == grant.number)
}

/// Where and how long a grant holds, in words.
fn described(grant: &Grant) -> String {
    let names = |list: &[Placed<String>]| list.iter().map(|item| item.value.clone()).collect::<Vec<_>>().join(", ");
    let mut parts = Vec::new();
    parts.extend((!grant.hosts.is_empty()).then(|| format!("on {}", names(&grant.hosts))));
    parts.extend((!grant.tags.is_empty()).then(|| format!("on hosts with the tag {}", names(&grant.tags))));
    parts.extend(grant.until.as_ref().map(|until| format!("until {}", until.value)));
    parts.extend(limits(grant));
    parts.join(", ")
}

/// Why there is no such grant, and what there is.
fn none_fits(args: &WithdrawArgs, register: &Register) -> CommandError {
    let no = |what: String| CommandError::with(Exit::Findings, what);
    let of_them: Vec<&Grant> =
        register.grants.iter().filter(|grant| whom_text(&grant.whom.value) == args.whom).collect();
    let here: Vec<&&Grant> = of_them.iter().filter(|grant| grant.account == args.account).collect();
    if !here.is_empty() {
        let error = no(format!("no grant that lets {} use {} fits exactly", args.whom, args.account));
        return here.iter().fold(error, |error, grant| {
            let hint = format!("lavrin withdraw {} {} --number {}", args.whom, args.account, grant.number);
            error.because(format!("grant {}: {}", grant.number, described(grant))).hint(hint)
        });
    }
    let team = register.people.get(&args.whom).and_then(|person| person.team.clone());
    let over_team = register.grants.iter().any(|grant| {
        grant.account == args.account
            && matches!((&grant.whom.value, &team), (Whom::Team(one), Some(other)) if one == other)
    });
    let error = no(format!("no grant lets {} use {}", args.whom, args.account));
    let error = match team.filter(|_| over_team) {
        Some(team) => error
            .because(format!("the team {team}, to which {} belongs, has one", args.whom))
            .hint(format!("for the whole team: lavrin withdraw {team} {}", args.account)),
        None => error,
    };
    let is_known = register.people.contains_key(&args.whom) || !of_them.is_empty() || args.whom.contains('@');
    if is_known {
        let accounts: Vec<&str> = of_them.iter().map(|grant| grant.account.as_str()).collect();
        return unknown::with_near(
            error,
            &args.account,
            accounts.into_iter(),
            &format!("lavrin withdraw {} ", args.whom),
        )
        .hint(format!("lavrin person show {}", args.whom));
    }
    unknown::with_near(error, &args.whom, register.people.keys().map(String::as_str), "lavrin person show ")
        .hint("lavrin person list")
}
