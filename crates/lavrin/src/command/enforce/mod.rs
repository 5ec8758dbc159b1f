//! `lavrin enforce`: make the hosts match the register, provably.

mod by_hand;

use super::compare::moment;
use super::compare::out::{AccountOut, account_text, problem};
use super::fleet_change::{FleetArgs, ResultOut, begin, differs_now, text};
use super::keys_only;
use super::register::{OpenedRegister, today};
use super::survey::{hosts_named, look};
use crate::error::{CommandError, exit_of_no_steps};
use crate::exit::Exit;
use crate::outcome::ChangeState;
use crate::ui::{Label, Ui};
use clap::{Args, ValueEnum};
use lavrin_fleet::fleet::compare::Part;
use lavrin_fleet::fleet::{Index, Owner};
use lavrin_fleet::register::Host;
use lavrin_server::steps::{AccountChange, Change};
use lavrin_store::database::Database;
use lavrin_work::change::{Ended, Job};
use lavrin_work::fleet::removed;
use lavrin_work::fleet_run::FleetRun;
use lavrin_work::owed::{self, NewDebt};
use lavrin_work::plan::{Plan, Planned, Which};
use lavrin_work::ways::Ways;
use serde::Serialize;
use std::collections::{BTreeMap, HashMap};
use std::io::IsTerminal as _;
use std::path::PathBuf;
use std::sync::Arc;

/// Make the hosts match the register, each account as a whole and each host proven from outside
#[derive(Debug, Args)]
pub struct EnforceArgs {
    /// Only these hosts, or hosts with these tags
    #[arg(value_name = "HOST|TAG")]
    pub hosts: Vec<String>,
    /// Make only changes of this kind
    #[arg(long, value_name = "KIND")]
    pub only: Option<Only>,
    /// Change N hosts as a trial, then stop
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub first: Option<u32>,
    /// Print the change for one host, to paste into a root shell there (from the last survey)
    #[arg(long, conflicts_with_all = ["first", "read"])]
    pub script: bool,
    /// Read what that printed on the host
    #[arg(long, value_name = "FILE", value_parser = crate::paths::typed, conflicts_with = "first")]
    pub read: Option<PathBuf>,
    #[command(flatten)]
    pub fleet: FleetArgs,
}

/// Kinds of differences.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Only {
    /// Missing entries, and options
    Add,
    /// Entries that should not be there
    Remove,
    /// Modes and owners
    Modes,
    /// Passwords, where policy asks for keys only
    Settings,
}

impl EnforceArgs {
    fn which(&self) -> Which {
        self.only.and_then(Only::part).map_or(Which::All, Which::Part)
    }
}

impl Only {
    /// What of the differences; settings are ended by a path of their own.
    fn part(self) -> Option<Part> {
        match self {
            Self::Add => Some(Part::Add),
            Self::Remove => Some(Part::Remove),
            Self::Modes => Some(Part::Modes),
            Self::Settings => None,
        }
    }
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct EnforceOut {
    schema: &'static str,
    /// What ties the changes of this run together; `lavrin undo --run` takes it.
    run: Option<String>,
    hosts: Vec<ResultOut>,
}

/// Runs the command.
pub async fn run(args: &EnforceArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let mut opened = args.fleet.register.open_to_change_hosts(ui)?;
    if args.script {
        return by_hand::script(args, &opened, ui);
    }
    if let Some(path) = &args.read {
        return by_hand::read(args, path, &mut opened, ui);
    }
    if args.only == Some(Only::Settings) {
        return keys_only::where_policy_asks(&opened, args, ui).await;
    }
    let register = opened.register();
    let hosts = hosts_named(register, &args.hosts)?;
    let removed = Database::open_existing(opened.folder.path())?.as_ref().map(removed).transpose()?;
    let ways = args.fleet.sign_in.ways(register)?;
    let mut plan = Plan::new(register, moment(), removed.unwrap_or_default(), args.which())
        .with_network_homes(args.fleet.sign_in.network_homes);
    let pace = args.fleet.many.pace(register, ui)?;
    let looked = look(&opened, &hosts, &ways, &pace, ui, |host, seen| plan.take(host, seen)).await?;
    let mut planned = plan.end(&ways);
    let mut results: Vec<ResultOut> = looked.iter().filter_map(ResultOut::not_seen).collect();
    show(&planned, ui);
    let jobs = std::mem::take(&mut planned.jobs);
    let made = hosts_with_new_accounts(&jobs);
    let mut run_id = None;
    if jobs.is_empty() || args.fleet.change.preview {
        let state = if args.fleet.change.preview { ChangeState::Preview } else { ChangeState::NothingToDo };
        results.extend(jobs.iter().map(|job| ResultOut::still(&job.stop.host, state, None, Exit::Done)));
    } else {
        super::change::confirm(ui, &args.fleet.change)?;
        let run = begin("enforce", &opened, &args.fleet.many, args.fleet.change.reason.clone(), ui)?;
        let (told, mut ended) = carry(args, &opened, &run, jobs, &ways, ui).await?;
        results.extend(told);
        // An account has to be there before its keys can be: its home is where the system put it.
        let made: Vec<&Host> = hosts.iter().filter(|host| is_made(&made, &ended, host)).copied().collect();
        if !made.is_empty() {
            let mut plan = Plan::new(opened.register(), moment(), HashMap::new(), args.which());
            let looked = look(&opened, &made, &ways, &pace, ui, |host, seen| plan.take(host, seen)).await?;
            let keys = plan.end(&ways);
            show(&keys, ui);
            let more = run.part("keys").carry(keys.jobs, &ways).await?;
            results.retain(|result| !more.contains_key(&result.host));
            results.extend(self::results(&opened, &more));
            results.extend(looked.iter().filter_map(ResultOut::not_seen));
            planned.problems.extend(keys.problems);
            ended.extend(more);
        }
        run_id = run.terms.run;
        // What is done is not owed any more.
        owed::settle(&mut opened, &ended)?;
        let debts = not_shown(&opened, &ended);
        owed::add(&mut opened, &debts, today())?;
    }
    finish(args, planned, results, run_id, ui)
}

/// Everything that differs in managed accounts, on stderr, so that a question can follow; `compare` tells the rest too.
fn show(planned: &Planned, ui: &Ui) {
    for (host, accounts) in &planned.accounts {
        let mut managed = accounts.iter().filter(|account| account.managed || account.fault.is_some()).peekable();
        if managed.peek().is_some() {
            ui.status(&ui.paint_status(Label::Strong, host));
        }
        managed.for_each(|account| ui.status(account_text(&AccountOut::of(account, host), ui).trim_end()));
    }
}

/// Hosts on which an account is made.
fn hosts_with_new_accounts(jobs: &[Job]) -> Vec<String> {
    let is_new = |change: &Change| matches!(change, Change::Account(AccountChange::Make(_)));
    let makes = |job: &&Job| job.tasks.iter().flat_map(|task| &task.steps.changes).any(is_new);
    jobs.iter().filter(makes).map(|job| job.stop.host.clone()).collect()
}

/// Whether the accounts of a host were made.
fn is_made(made: &[String], ended: &BTreeMap<String, Ended>, host: &Host) -> bool {
    made.contains(&host.id) && ended.get(&host.id).is_some_and(|ended| ended.worst().is_done())
}

/// The trial first, then the rest.
async fn carry(
    args: &EnforceArgs,
    opened: &OpenedRegister,
    run: &FleetRun,
    mut jobs: Vec<Job>,
    ways: &Arc<Ways>,
    ui: &Ui,
) -> Result<(Vec<ResultOut>, BTreeMap<String, Ended>), CommandError> {
    let first = args.first.map_or(jobs.len(), |first| first as usize).min(jobs.len());
    let rest = jobs.split_off(first);
    let mut ended = run.carry(jobs, ways).await?;
    let mut results = results(opened, &ended);
    if !rest.is_empty() {
        let failed = results.iter().any(|result| result.exit > Exit::Findings);
        let asks = !failed && !ui.interrupt.is_asked() && std::io::stdin().is_terminal();
        if asks {
            ui.status(&text(&results, ui));
        }
        if asks && ui.confirm("Go on with the other hosts?", &[])? {
            let more = run.carry(rest, ways).await?;
            results.extend(self::results(opened, &more));
            ended.extend(more);
        } else {
            let why = "the trial is done: check these hosts, then run the command again without --first".to_owned();
            let left =
                |job: &Job| ResultOut::still(&job.stop.host, ChangeState::Waiting, Some(why.clone()), Exit::Findings);
            results.extend(rest.iter().map(left));
        }
    }
    Ok((results, ended))
}

/// Keys of people that were taken out and are not shown to be gone: their removal is owed.
fn not_shown(opened: &OpenedRegister, ended: &BTreeMap<String, Ended>) -> Vec<NewDebt> {
    let index = Index::of(opened.register());
    let mut debts = Vec::new();
    for (host, ended) in ended {
        for one in &ended.not_shown {
            if let Some(Owner::Person { id, .. }) = index.owner(one.key) {
                let (account, host) = (one.account.clone(), host.clone());
                debts.push(NewDebt { key: one.key, person: id.clone(), account, host });
            }
        }
    }
    debts
}

/// How it ended on each host.
fn results(opened: &OpenedRegister, ended: &BTreeMap<String, Ended>) -> Vec<ResultOut> {
    let one = |(host, ended): (&String, &Ended)| ResultOut::of(host, ended, |ended| differs_now(opened, host, ended));
    ended.iter().map(one).collect()
}

/// The worst that keeps accounts of a host from being brought into line.
fn problems(planned: &Planned, host: &str) -> Option<Exit> {
    planned.problems.get(host)?.iter().map(|(_, fault)| exit_of_no_steps(fault)).max()
}

fn finish(
    args: &EnforceArgs,
    planned: Planned,
    mut results: Vec<ResultOut>,
    run: Option<String>,
    ui: &Ui,
) -> Result<Exit, CommandError> {
    for (host, found) in &planned.accounts {
        let accounts: Vec<AccountOut> = found.iter().map(|account| AccountOut::of(account, host)).collect();
        if let Some(result) = results.iter_mut().find(|result| result.host == *host) {
            result.accounts = accounts;
        } else {
            let exit = problems(&planned, host).unwrap_or(Exit::Done);
            let first = planned.problems.get(host).and_then(|all| all.first());
            let why = accounts.iter().find_map(|account| account.problem.clone());
            let why = why.or_else(|| first.map(|(account, fault)| problem(fault, account, host)));
            let state = if why.is_some() { ChangeState::NotPossible } else { ChangeState::NothingToDo };
            results.push(ResultOut { accounts, ..ResultOut::still(host, state, why, exit) });
        }
    }
    results.sort_by(|one, other| one.host.cmp(&other.host));
    let worst = planned.problems.keys().filter_map(|host| problems(&planned, host)).max();
    let exit = results.iter().map(|result| result.exit).chain(worst).max();
    let out = EnforceOut { schema: "lavrin/enforce/1", run, hosts: results };
    ui.give(&out, || {
        let (results, run) = (&out.hosts, out.run.as_ref());
        let mut said = text(results, ui);
        if let Some(run) = run
            .filter(|_| results.iter().any(|result| matches!(result.state, ChangeState::Done | ChangeState::Unknown)))
        {
            said += &format!("\nto take all of it back: lavrin undo --run {run}");
        } else if args.fleet.change.preview {
            said += "\nnothing was changed";
        }
        said
    });
    Ok(exit.unwrap_or(Exit::Done))
}
