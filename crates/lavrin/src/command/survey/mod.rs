//! `lavrin survey`: look at many hosts at once and remember what is seen.

mod out;
mod progress;

#[cfg(test)]
pub use out::SurveyOut;

use super::register::{OpenedRegister, RegisterArgs};
use crate::clock::CLOCK;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::sign_in::SignInArgs;
use crate::ui::Ui;
use crate::{input, paths};
use clap::Args;
use lavrin_fleet::fleet;
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::text::printable;
use lavrin_reach::by_hand;
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use lavrin_store::database::Database;
use lavrin_work::pool::Pace;
use lavrin_work::survey::{self, Recorder, Surveyed};
use lavrin_work::ways::Ways;
use progress::Progress;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// Look at many hosts at once, and remember what is seen
#[derive(Debug, Args)]
pub struct SurveyArgs {
    /// Only these hosts, or hosts with these tags
    #[arg(value_name = "HOST|TAG")]
    pub hosts: Vec<String>,
    /// Hosts that are looked at at once
    #[arg(long, value_name = "N", default_value_t = 32, value_parser = clap::value_parser!(u16).range(1..=1024))]
    pub parallel: u16,
    /// Seconds that one host may take
    #[arg(long, value_name = "SECONDS", default_value_t = 60, value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub time: u64,
    /// Print the script that looks, for a host that cannot be reached from here
    #[arg(long, conflicts_with_all = ["hosts", "read"])]
    pub script: bool,
    /// Take in what that script printed on the one host named
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
    let hosts = hosts_named(&opened.reading.register, &args.hosts)?;
    if hosts.is_empty() {
        return Err(CommandError::usage("there is no host in the register yet").hint("lavrin host add NAME"));
    }
    let ways = args.sign_in.ways(opened.register())?;
    let seen = look(&opened, &hosts, &ways, &args.pace(ui), ui, |_, _| ()).await?;
    out::print(&seen, ui);
    Ok(if seen.iter().any(|host| host.fault.is_some()) { Exit::NotChecked } else { Exit::Done })
}

impl SurveyArgs {
    fn pace(&self, ui: &Ui) -> Pace {
        let limit = Duration::from_secs(self.time);
        Pace { parallel: self.parallel.into(), limit, interrupt: ui.interrupt.clone() }
    }
}

/// The hosts that names stand for.
pub fn hosts_named<'a>(register: &'a Register, names: &[String]) -> Result<Vec<&'a Host>, CommandError> {
    register.hosts_named(names).map_err(|odd| {
        CommandError::usage(format!("the register knows no host and no tag '{}'", printable(odd.as_bytes())))
            .hint("lavrin host list")
    })
}

/// The pace of commands that look first and have no options for it: hosts at once, and the time for each.
pub fn usual_pace(ui: &Ui) -> Pace {
    Pace { parallel: 32, limit: Duration::from_mins(1), interrupt: ui.interrupt.clone() }
}

/// Looks at these hosts and writes down what is seen, each as soon as it comes; `take` is handed what was seen of each.
pub async fn look(
    opened: &OpenedRegister,
    hosts: &[&Host],
    ways: &Arc<Ways>,
    pace: &Pace,
    ui: &Ui,
    mut take: impl FnMut(&str, Box<Observation>),
) -> Result<Vec<Surveyed>, CommandError> {
    let store = Database::open(opened.folder.path())?;
    let mut progress = Progress::of(hosts.len(), ui);
    let mut handed = |surveyed: &Surveyed, seen: Option<Box<Observation>>| {
        progress.one(surveyed.fault.is_none());
        if let Some(seen) = seen {
            take(&surveyed.host, seen);
        }
    };
    let looked = survey::look(&store, opened.register(), hosts, ways, pace, CLOCK, &mut handed).await;
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
    recorder.take(&mut vec![(host.clone(), Ok(Box::new(seen)))], &mut |_, _| ())?;
    out::print(&recorder.end(), ui);
    Ok(Exit::Done)
}
