//! `lavrin survey`: look at many hosts at once and remember what is seen.

mod collect;
mod out;
mod progress;

#[cfg(test)]
pub use out::{SurveyOut, SurveyedHostOut};

use super::pace::PaceArgs;
use super::register::{OpenedRegister, RegisterArgs};
use crate::clock::CLOCK;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::sign_in::SignInArgs;
use crate::ui::Ui;
use crate::{input, paths};
use clap::Args;
use lavrin_fleet::fleet;
use lavrin_fleet::register::{Host, Register, near};
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::text::{count, printable};
use lavrin_reach::by_hand;
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use lavrin_store::database::Database;
use lavrin_work::Scope;
use lavrin_work::pool::Pace;
use lavrin_work::survey::{self, LookAt, Looked, Recorder, Surveyed};
use lavrin_work::ways::Ways;
use progress::Progress;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// Look at many hosts at once, and remember what is seen
#[derive(Debug, Args)]
pub struct SurveyArgs {
    /// Only these hosts, or hosts with these tags
    #[arg(value_name = "HOST|TAG")]
    pub hosts: Vec<String>,
    #[command(flatten)]
    pub pace: PaceArgs,
    /// Take hosts that are due from a store that several collectors share
    #[arg(long, conflicts_with_all = ["hosts", "script", "read"])]
    collect: bool,
    /// Only hosts of these sites, and those of none
    #[arg(long, value_name = "SITE", num_args = 1.., requires = "collect")]
    site: Vec<String>,
    /// Go on, and look at each host again after this time, as 6h or 30m
    #[arg(long, value_name = "TIME", requires = "collect", value_parser = collect::typed_time)]
    every: Option<u32>,
    /// Have the collectors look at these hosts soon
    #[arg(long, requires = "hosts", conflicts_with_all = ["collect", "script", "read"])]
    ask: bool,
    /// Print the survey script, for a host that cannot be reached from here
    #[arg(long, conflicts_with_all = ["hosts", "read"])]
    pub script: bool,
    /// Read what that script printed on the host
    #[arg(long, value_name = "FILE", value_parser = paths::typed, requires = "hosts")]
    pub read: Option<PathBuf>,
    #[command(flatten)]
    sign_in: SignInArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs the command.
pub async fn run(args: &SurveyArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if args.script {
        ui.result(&by_hand::script(args.sign_in.network_homes, &SystemSource));
        return Ok(Exit::Done);
    }
    let opened = args.register.open_for_hosts(ui)?;
    if let Some(path) = &args.read {
        return take_in(args, path, &opened, ui);
    }
    if args.collect {
        return collect::run(args, opened, ui).await;
    }
    let hosts = hosts_named(&opened.reading.register, &args.hosts)?;
    if args.ask {
        return collect::ask(&opened, &hosts, ui);
    }
    if hosts.is_empty() {
        if !opened.reading.findings.is_empty() {
            return Err(CommandError::usage("no host can be read in the register").hint("lavrin register check"));
        }
        return Err(CommandError::usage("the register has no host yet").hint("lavrin host add NAME"));
    }
    let ways = args.sign_in.ways(opened.register())?;
    let pace = args.pace.pace(opened.register(), ui)?;
    let at = LookAt { hosts: &hosts, scope: Scope::Survey };
    // Rows are told as they come: a survey of many hosts takes a while.
    out::begin_rows(ui);
    let seen = look_telling(&opened, at, &ways, &pace, ui, |one| out::row_of(one, ui), |_, _| ()).await?;
    Ok(out::print(&seen, ui))
}

/// The hosts that names stand for.
pub fn hosts_named<'a>(register: &'a Register, names: &[String]) -> Result<Vec<&'a Host>, CommandError> {
    register.hosts_named(names).map_err(|odd| {
        let said = format!("the register knows no host and no tag '{}'", printable(odd.as_bytes()));
        let tags = register.all_hosts().flat_map(|host| &host.tags);
        let error = CommandError::usage(said);
        let error = match near(&odd, register.hosts.keys().chain(tags).map(String::as_str)) {
            Some(other) => error.because(format!("near to it: {other}")),
            None => error,
        };
        error.hint("lavrin host list")
    })
}

/// Looks at these hosts as a survey does.
pub async fn look(
    opened: &OpenedRegister,
    hosts: &[&Host],
    ways: &Arc<Ways>,
    pace: &Pace,
    ui: &Ui,
    take: impl FnMut(&str, Box<Observation>),
) -> Result<Vec<Surveyed>, CommandError> {
    look_at(opened, LookAt { hosts, scope: Scope::Survey }, ways, pace, ui, take).await
}

/// Looks and writes down what is seen, each host as soon as it comes; `take` is handed what was seen of each.
pub async fn look_at(
    opened: &OpenedRegister,
    at: LookAt<'_>,
    ways: &Arc<Ways>,
    pace: &Pace,
    ui: &Ui,
    take: impl FnMut(&str, Box<Observation>),
) -> Result<Vec<Surveyed>, CommandError> {
    look_telling(opened, at, ways, pace, ui, |_| (), take).await
}

/// The same, and `tell` is told of each host.
async fn look_telling(
    opened: &OpenedRegister,
    at: LookAt<'_>,
    ways: &Arc<Ways>,
    pace: &Pace,
    ui: &Ui,
    tell: impl FnMut(&Surveyed),
    take: impl FnMut(&str, Box<Observation>),
) -> Result<Vec<Surveyed>, CommandError> {
    let store = Database::open_for_looks(opened.folder.path())?;
    let seen = look_into(&store, opened, at, ways, pace, ui, tell, take).await?;
    tell_what_waits(&store, ui)?;
    Ok(seen)
}

/// Where the store is away, what was seen waits here.
fn tell_what_waits(store: &Database, ui: &Ui) -> Result<(), CommandError> {
    let waiting = store.waiting()?;
    if waiting > 0 {
        let waits = count(waiting, "look waits", "looks wait");
        ui.status(&format!(
            "{} does not answer: {waits} here and will be delivered",
            printable(store.place().as_bytes())
        ));
    }
    Ok(())
}

/// Looks, into an open store.
#[expect(clippy::too_many_arguments, reason = "what a look takes, and whom to tell")]
async fn look_into(
    store: &Database,
    opened: &OpenedRegister,
    at: LookAt<'_>,
    ways: &Arc<Ways>,
    pace: &Pace,
    ui: &Ui,
    mut tell: impl FnMut(&Surveyed),
    mut take: impl FnMut(&str, Box<Observation>),
) -> Result<Vec<Surveyed>, CommandError> {
    let mut progress = Progress::of(at.hosts.len(), ui);
    let mut handed = |surveyed: &Surveyed, seen: Option<Box<Observation>>| {
        progress.one(surveyed.fault.is_none());
        tell(surveyed);
        if let Some(seen) = seen {
            take(&surveyed.host, seen);
        }
    };
    let looked = survey::look(store, opened.register(), at, ways, pace, CLOCK, &mut handed).await;
    progress.end();
    Ok(looked?)
}

/// Takes in the answer that somebody brought from a host.
fn take_in(args: &SurveyArgs, path: &Path, opened: &OpenedRegister, ui: &Ui) -> Result<Exit, CommandError> {
    let host = match &args.hosts[..] {
        [host] if opened.reading.register.hosts.contains_key(host) => host,
        _ => {
            return Err(CommandError::usage("of which host is this the answer? Name one host of the register")
                .hint("lavrin host list"));
        }
    };
    let answer = input::bytes(path)?;
    let seen = by_hand::read(&answer, |seen| fleet::wants(&System::of(seen))).map_err(|fault| {
        CommandError::usage(format!("{} cannot be used", paths::shown(path)))
            .because(fault.to_string())
            .hint("lavrin survey --script >look.sh, then on the host, as root: sh look.sh >answer")
    })?;
    let store = Database::open(opened.folder.path())?;
    let mut recorder = Recorder::new(&store, CLOCK)?;
    let looked = Looked { seen: Box::new(seen), refused: None };
    recorder.take(&mut vec![(host.clone(), Ok(looked))], &mut |_, _| ())?;
    let seen = recorder.end();
    out::begin_rows(ui);
    for one in &seen {
        out::row_of(one, ui);
    }
    Ok(out::print(&seen, ui))
}
