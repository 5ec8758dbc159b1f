//! `lavrin offboard`: a person leaves. Their keys go from every managed account, and every host is asked whether it still
//! takes them.

mod kept;
mod left_behind;
mod out;
mod preview;
mod statement;
mod status;

#[cfg(test)]
pub use out::OffboardOut;
pub use preview::OffboardPreviewOut;
#[cfg(test)]
pub use statement::StatementOut;
pub use statement::{HASH_MARK, NAMESPACE, beside, hex};
#[cfg(test)]
pub use status::OffboardStatusOut;

use super::change;
use super::compare::moment;
use super::compare::out::problem;
use super::fleet_change::{FleetArgs, begin};
use super::kept::{KeptName, OpenerArgs};
use super::register::{OpenedRegister, edit_fault, today, typed_date};
use super::survey::look_at;
use crate::defaults;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::register::edit::set_date;
use lavrin_fleet::register::{Date, Host, Person, Placed, Register};
use lavrin_keys::text::count;
use lavrin_store::database::Database;
use lavrin_work::ask::ask;
use lavrin_work::fleet::removed;
use lavrin_work::fleet_run::FleetRun;
use lavrin_work::offboard::{Leaver, LeftBehind, NotShownByHost, Rest, Row, ShutOut, sort};
use lavrin_work::owed::{self, NewDebt};
use lavrin_work::plan::{Plan, Planned, Which};
use lavrin_work::survey::LookAt;
use lavrin_work::ways::Ways;
use statement::{Prepared, StatedLeaving, StatementArgs, prepare};
use std::sync::{Arc, PoisonError};

/// Take all keys of a person who leaves from every host, and ask each host whether it still takes them
#[derive(Debug, Args)]
pub struct OffboardArgs {
    /// The person
    #[arg(value_name = "PERSON", required_unless_present = "status")]
    pub person: Option<String>,
    /// What is open of everybody who left
    #[arg(long, conflicts_with_all = ["from_date", "revoke_first", "everywhere", "rotate_kept", "end_sessions", "end_accounts", "statement"])]
    pub status: bool,
    /// The day from which they are gone (default: today)
    #[arg(long, value_name = "DATE", value_parser = typed_date)]
    pub from_date: Option<Date>,
    /// First put the keys on the server's own revoked list
    #[arg(long)]
    pub revoke_first: bool,
    /// Remove the keys from unmanaged accounts too
    #[arg(long)]
    pub everywhere: bool,
    /// End the sessions that their keys opened
    #[arg(long)]
    pub end_sessions: bool,
    /// Let accounts end that were theirs alone
    #[arg(long)]
    pub end_accounts: bool,
    /// Replace kept keys of which the person may have a copy
    #[arg(long)]
    pub rotate_kept: bool,
    #[command(flatten)]
    statement: StatementArgs,
    #[command(flatten)]
    opener: OpenerArgs,
    #[command(flatten)]
    fleet: FleetArgs,
}

impl OffboardArgs {
    /// Who leaves.
    fn id(&self) -> &str {
        self.person.as_deref().unwrap_or_default()
    }
}

/// What is known when the steps are about to be carried out.
struct Case<'a> {
    leaver: &'a Leaver,
    ways: &'a Arc<Ways>,
    planned: Planned,
    shut_out: ShutOut<'a>,
    /// Hosts that could not be looked at.
    unseen: Vec<String>,
    /// What the files of the others show.
    shown: NotShownByHost,
    /// Kept keys of which the leaver may have a copy, and whether they are replaced.
    kept: (Vec<KeptName>, bool),
    /// What they have left behind beside keys.
    left_behind: LeftBehind<'a>,
    /// What is told in the end, where a statement is asked for.
    statement: Option<Prepared>,
}

/// Runs the command.
pub async fn run(args: &OffboardArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if args.status {
        return status::run(&args.fleet.register.open_to_report(ui)?, args.person.as_deref(), ui);
    }
    let mut opened = args.fleet.register.open_to_change_hosts(ui)?;
    let person = opened.register().people.get(args.id()).ok_or_else(|| {
        CommandError::usage(format!("there is no person '{}' in the register", args.id())).hint("lavrin person list")
    })?;
    let left = leaving_day(args, person);
    if left > today() {
        return only_mark(args, &mut opened, left, ui);
    }
    let sign_in = &args.fleet.sign_in;
    let identity = sign_in.identity(&defaults::of(Some(opened.register()))?);
    let statement = prepare(&args.statement, identity.as_ref(), &sign_in.passphrase(), &opened, args.id()).await?;
    // The register as it will be, so that the plan follows from it.
    let leaver = Leaver::of(person, left);
    let mut register = opened.register().clone();
    if let Some(person) = register.people.get_mut(args.id()) {
        person.left = Some(Placed { value: left, place: person.place });
    }
    let store = Database::open_existing(opened.folder.path())?;
    let removed = store.as_ref().map(removed).transpose()?.unwrap_or_default();
    drop(store);
    let ways = args.fleet.sign_in.ways(&register)?;
    let hosts: Vec<&Host> = register.all_hosts().collect();
    let mut plan = Plan::new(&register, moment(), removed, Which::Keys(leaver.prints.clone()))
        .with_network_homes(args.fleet.sign_in.network_homes)
        .everywhere(args.everywhere);
    let mut shown = NotShownByHost::default();
    let mut shut_out = ShutOut::new(&register, &leaver);
    let pace = args.fleet.many.pace(&register, ui)?;
    let mut left_behind = LeftBehind::new(&register, &leaver, today().number());
    let at = LookAt { hosts: &hosts, scope: LeftBehind::scope(&leaver) };
    let looked = look_at(&opened, at, &ways, &pace, ui, |host, seen| {
        left_behind.take(host, &seen);
        if args.revoke_first {
            shut_out.take(host, &seen);
        }
        shown.take(host, &seen, &leaver);
        plan.take(host, seen);
    });
    let looked = looked.await?;
    let planned = plan.end(&ways);
    let store = Database::open_existing(opened.folder.path())?;
    let known = kept::known_to(&opened, &leaver);
    let preview = OffboardPreviewOut::of(&leaver, &planned, &looked, store.as_ref(), &known)?
        .with(left_behind::all(&left_behind), shared_with(&register, &leaver));
    drop(store);
    if !(args.fleet.change.preview && ui.is_json()) {
        ui.status(preview.text(ui).trim_end());
    }
    if args.revoke_first {
        show_lists(&shut_out, ui);
    }
    if args.fleet.change.preview {
        ui.give(&preview, || "nothing was changed".to_owned());
        return Ok(preview.exit());
    }
    let unseen = looked.into_iter().filter(|host| host.fault.is_some()).map(|host| host.host).collect();
    change::confirm(ui, &args.fleet.change)?;
    let are_replaced = kept::are_replaced(args, &known, ui)?;
    let kept = (known, are_replaced);
    mark(args, &mut opened, left, ui)?;
    carry(
        args,
        &mut opened,
        Case { leaver: &leaver, ways: &ways, planned, shut_out, unseen, shown, kept, left_behind, statement },
        ui,
    )
    .await
}

/// A day that stands in the register already counts, unless another one is given.
fn leaving_day(args: &OffboardArgs, person: &Person) -> Date {
    args.from_date.or(person.left.as_ref().map(|left| left.value)).unwrap_or_else(today)
}

fn only_mark(args: &OffboardArgs, opened: &mut OpenedRegister, left: Date, ui: &Ui) -> Result<Exit, CommandError> {
    if args.fleet.change.preview {
        ui.result(&format!("{} would be marked as gone from {left} on; nothing was changed", args.id()));
        return Ok(Exit::Done);
    }
    mark(args, opened, left, ui)?;
    ui.result(&format!("{} is marked as gone from {left}. On that day: lavrin offboard {}", args.id(), args.id()));
    Ok(Exit::Done)
}

/// Writes the day into the person's file.
fn mark(args: &OffboardArgs, opened: &mut OpenedRegister, left: Date, ui: &Ui) -> Result<(), CommandError> {
    let path = format!("people/{}.toml", args.id());
    let old = opened.text(&path).unwrap_or_default();
    let new = set_date(old, "left", left).map_err(edit_fault(&path))?;
    if new != old {
        opened.save(&path, &new)?;
        ui.status(&format!("{} is marked as gone from {left} ({path})", args.id()));
    }
    Ok(())
}

/// What would be written into the servers' own lists.
fn show_lists(shut_out: &ShutOut<'_>, ui: &Ui) {
    let hosts = shut_out.hosts();
    if !hosts.is_empty() {
        ui.status(&format!("First, into the server's own list of revoked keys: {}", hosts.join(", ")));
    }
    if shut_out.without > 0 {
        ui.status(&format!("No such list (RevokedKeys) is in use on {}", count(shut_out.without, "host", "hosts")));
    }
    shut_out.problems.iter().for_each(|(host, why)| ui.warn(&format!("{host}: {}", problem(why, "root", host))));
}

async fn carry(
    args: &OffboardArgs,
    opened: &mut OpenedRegister,
    case: Case<'_>,
    ui: &Ui,
) -> Result<Exit, CommandError> {
    let Case {
        leaver,
        ways,
        planned,
        shut_out,
        unseen,
        mut shown,
        kept: (known, are_replaced),
        left_behind,
        statement,
    } = case;
    let reason = args.fleet.change.reason.clone().or_else(|| Some(format!("{} left on {}", leaver.id, leaver.left)));
    let run = begin("offboard", opened, &args.fleet.many, reason, ui)?;
    let first = run.part("revoked-keys").carry(shut_out.jobs(ways), ways).await?;
    let mut rows = shut_out.rows(&first);
    let ended = run.carry(planned.jobs, ways).await?;
    for (host, ended) in &ended {
        match &ended.after {
            Some(after) => shown.take(host, after, leaver),
            None => shown.forget(host),
        }
    }
    let rest = Rest { register: opened.register(), leaver, ended: &ended, unseen: &unseen, shown: &shown };
    let (questions, mut answers) = {
        let store = run.store.lock().unwrap_or_else(PoisonError::into_inner);
        rest.questions(Some(&store), ways)?
    };
    answers.extend(ask(questions, ways, &run.pace).await);
    rows.extend(rest.rows(&answers));
    sort(&mut rows);
    let owing: Vec<NewDebt> = rows.iter().filter_map(|row| row.debt(leaver)).collect();
    let is_owed = |host: &str, account: &str, key: &str| {
        owing.iter().any(|debt| debt.host == host && debt.account == account && debt.key.to_string() == key)
    };
    owed::settle_where(opened, |host, account, key| {
        let done = rows.iter().any(|row| row.is_done() && row.is_about(host, account, key));
        (done || shown.is_gone(host, account, key)) && !is_owed(host, account, key)
    })?;
    owed::add(opened, &owing, today())?;
    let left_behind = end_what_is_left(args, &left_behind, &run, ways, &rows).await?;
    let kept = if are_replaced { kept::replace(args, &known, ui).await } else { kept::left(&known) };
    let run_id = run.terms.run.clone().unwrap_or_default();
    if let Some(statement) = statement {
        let rows = rows.iter().map(out::row_out).collect();
        let told =
            StatedLeaving { leaver, run: &run_id, rows, kept: &kept, left_behind: &left_behind, owed: owing.len() };
        statement.write(told, &args.fleet.register.open()?, ui).await?;
    }
    out::print(leaver, run.terms.run.as_deref().unwrap_or_default(), &rows, owing.len(), (&kept, &left_behind), ui);
    let exits = rows.iter().map(out::exit_of).chain(kept.iter().map(kept::KeptKnownOut::exit));
    let exits = exits.chain(left_behind.iter().map(left_behind::LeftBehindOut::exit));
    Ok(exits.max().unwrap_or(Exit::Done))
}

/// Ends what was asked for: accounts of their own, and sessions where their keys are gone.
async fn end_what_is_left(
    args: &OffboardArgs,
    found: &LeftBehind<'_>,
    run: &FleetRun,
    ways: &Arc<Ways>,
    rows: &[Row],
) -> Result<Vec<left_behind::LeftBehindOut>, CommandError> {
    let mut told = left_behind::all(found);
    if args.end_accounts {
        let ended = run.part("accounts").carry(found.account_jobs(ways), ways).await?;
        for host in &mut told {
            host.end_accounts(&ended);
        }
    }
    if args.end_sessions {
        let are_gone = |host: &str| rows.iter().filter(|row| row.host == host).all(Row::is_done);
        let ended = run.part("sessions").carry(found.session_jobs(ways, &are_gone), ways).await?;
        for host in &mut told {
            host.end_sessions(&ended);
        }
    }
    Ok(told)
}

/// Keys of theirs that somebody else has too, and who: they lose their access with them.
fn shared_with(register: &Register, leaver: &Leaver) -> Vec<(String, String)> {
    let others = register.people.values().filter(|person| person.id != leaver.id);
    let shared = others.flat_map(|person| {
        let theirs = person.keys.iter().filter(|key| leaver.prints.contains(&key.fingerprint));
        theirs.map(|key| (key.fingerprint.to_string(), person.id.clone()))
    });
    shared.collect()
}
