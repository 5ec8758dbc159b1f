//! `lavrin survey`: look at many hosts at once and remember what is seen.

mod out;
mod progress;

#[cfg(test)]
pub use out::SurveyOut;

use super::register::{Opened, RegisterArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::host::{USUAL_LOGIN, pinned_target};
use crate::sign_in::SignInArgs;
use crate::ui::Ui;
use crate::{clock, input, paths};
use clap::Args;
use lavrin_core::audit::{AuditEntry, Auditor};
use lavrin_core::fleet;
use lavrin_core::key::generate::SystemSource;
use lavrin_core::register::{Host, Register};
use lavrin_core::survey::Observation;
use lavrin_core::survey::snapshot::Snapshot;
use lavrin_core::text::printable;
use lavrin_reach::shell::by_hand;
use lavrin_store::database::{Database, DatabaseFault, Sighted};
use lavrin_work::survey::{Looked, Pace, Stop, Way, survey};
use out::HostOut;
use progress::Progress;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;

/// Observations that wait to be written down; further hosts wait until there is room.
const WAITING: usize = 64;

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
    let opened = args.register.open()?;
    if let Some(path) = &args.read {
        return take_in(args, path, &opened, ui);
    }
    let hosts = hosts_named(&opened.reading.register, &args.hosts)?;
    if hosts.is_empty() {
        return Err(CommandError::usage("there is no host in the register yet").hint("lavrin host add NAME"));
    }
    let seen = look(&opened, &hosts, &args.sign_in, args.pace(), ui).await?;
    out::print(&seen, ui);
    Ok(if seen.iter().any(|host| host.fault.is_some()) { Exit::NotChecked } else { Exit::Done })
}

impl SurveyArgs {
    fn pace(&self) -> Pace {
        Pace { parallel: self.parallel.into(), time: Duration::from_secs(self.time) }
    }
}

/// The hosts that names stand for.
pub fn hosts_named<'a>(register: &'a Register, names: &[String]) -> Result<Vec<&'a Host>, CommandError> {
    register.hosts_named(names).map_err(|odd| {
        CommandError::usage(format!("the register knows no host and no tag '{}'", printable(odd.as_bytes())))
            .hint("lavrin host list")
    })
}

/// Looks at these hosts and writes down what is seen, each as soon as it comes.
pub async fn look(
    opened: &Opened,
    hosts: &[&Host],
    sign_in: &SignInArgs,
    pace: Pace,
    ui: &Ui,
) -> Result<Vec<HostOut>, CommandError> {
    let ways = Ways::of(&opened.reading.register, sign_in)?;
    look_and(opened, hosts, &ways, pace, ui, |_, _| ()).await
}

/// The same; `take` is handed what was seen of each host.
pub async fn look_and(
    opened: &Opened,
    hosts: &[&Host],
    ways: &Ways,
    pace: Pace,
    ui: &Ui,
    mut take: impl FnMut(&str, Box<Observation>),
) -> Result<Vec<HostOut>, CommandError> {
    let store = Database::open(opened.folder.path())?;
    let register = &opened.reading.register;
    // Whose key is not pinned is not spoken to: anybody could answer for it.
    let (pinned, unpinned): (Vec<&Host>, Vec<&Host>) = hosts.iter().partition(|host| !host.host_keys.is_empty());
    let (endless, pinned): (Vec<&Host>, Vec<&Host>) = pinned.into_iter().partition(|host| register.goes_round(host));
    let (done, mut looked) = mpsc::channel(WAITING);
    let stops = pinned.iter().map(|host| ways.stop(host)).collect();
    let looking = survey(stops, ways.jumps.clone(), ways.way.clone(), pace, done);
    let looking = tokio::spawn(looking);
    let mut recorder = Recorder::new(&store, Progress::of(hosts.len(), ui))?;
    let unpinned =
        unpinned.into_iter().map(|host| (host, format!("its keys are not pinned: lavrin host trust {}", host.id)));
    let endless =
        endless.into_iter().map(|host| (host, "the way to it goes round in circles: lavrin check".to_owned()));
    recorder.leave_out(unpinned.chain(endless))?;
    let mut waiting = Vec::with_capacity(WAITING);
    while looked.recv_many(&mut waiting, WAITING).await > 0 {
        recorder.take(std::mem::take(&mut waiting), &mut take)?;
    }
    let _ = looking.await;
    Ok(recorder.end())
}

/// Takes in the answer that somebody brought from a host.
fn take_in(args: &SurveyArgs, path: &Path, opened: &Opened, ui: &Ui) -> Result<Exit, CommandError> {
    let host = match &args.hosts[..] {
        [host] if opened.reading.register.hosts.contains_key(host) => host,
        _ => {
            return Err(CommandError::usage("of which host is this the answer? Name one host of the register")
                .hint("lavrin host list"));
        }
    };
    let answer = input::bytes(path)?;
    let seen = by_hand::read(&answer, fleet::wants).map_err(|fault| {
        CommandError::usage(format!("{} cannot be used", paths::shown(path)))
            .because(fault.to_string())
            .hint("lavrin survey --script >look.sh, then on the host, as root: sh look.sh >answer")
    })?;
    let store = Database::open(opened.folder.path())?;
    let mut recorder = Recorder::new(&store, Progress::of(1, ui))?;
    recorder.seen(host, &seen)?;
    out::print(&recorder.end(), ui);
    Ok(Exit::Done)
}

/// How the hosts of a register are signed in to.
pub struct Ways {
    /// The hosts over which others are reached.
    pub jumps: Vec<Stop>,
    /// With what to sign in.
    pub way: Arc<Way>,
    login: Option<String>,
}

impl Ways {
    /// Asks for what is needed to sign in.
    pub fn of(register: &Register, sign_in: &SignInArgs) -> Result<Self, CommandError> {
        let jumps = register.hosts.values().filter_map(|host| host.through.as_ref());
        let jumps = jumps.filter_map(|through| register.hosts.get(&through.value));
        let way = Way {
            credentials: sign_in.credentials("the logins on these hosts")?,
            rises: sign_in.rise_ways()?,
            network_homes: sign_in.network_homes.then(Arc::default),
        };
        let login = sign_in.login.clone();
        let mut ways = Self { jumps: Vec::new(), way: Arc::new(way), login };
        ways.jumps = jumps.map(|host| ways.stop(host)).collect();
        Ok(ways)
    }

    /// A host as a survey or a change comes by it.
    pub fn stop(&self, host: &Host) -> Stop {
        let login = host.login.as_ref().or(self.login.as_ref());
        Stop {
            host: host.id.clone(),
            target: pinned_target(host),
            login: login.map_or(USUAL_LOGIN, String::as_str).to_owned(),
            through: host.through.as_ref().map(|through| through.value.clone()),
        }
    }
}

/// Writes down what was seen of a host. Gives whether it differs from the look before, and how many entries there are.
pub fn remember(
    store: &Database,
    auditor: &Auditor,
    host: &str,
    seen: &Observation,
) -> Result<(bool, usize), DatabaseFault> {
    let sighted = |entry: AuditEntry| Sighted {
        account: printable(entry.account.as_bytes()),
        key: entry.fingerprint,
        comment: printable(entry.comment.trim_ascii()),
    };
    let entries: Vec<Sighted> = auditor.entries(seen).into_iter().map(sighted).collect();
    let now = clock::now().unix_timestamp();
    let changed = store.record(host, now, &Snapshot::of(seen), &entries, &seen.key_uses)?;
    Ok((changed, entries.len()))
}

/// Writes down what comes.
struct Recorder<'a> {
    store: &'a Database,
    auditor: Auditor,
    progress: Progress,
    before: HashMap<String, i64>,
    hosts: Vec<HostOut>,
}

impl<'a> Recorder<'a> {
    fn new(store: &'a Database, progress: Progress) -> Result<Self, DatabaseFault> {
        let looks = store.looks()?;
        let before = looks.into_iter().filter_map(|look| Some((look.host, look.seen?))).collect();
        Ok(Self { store, auditor: Auditor::default(), progress, before, hosts: Vec::new() })
    }

    /// Several at once, since each writing waits for the disk.
    fn take(
        &mut self,
        looked: Vec<Looked>,
        hand_on: &mut impl FnMut(&str, Box<Observation>),
    ) -> Result<(), DatabaseFault> {
        let store = self.store;
        store.together(|_| {
            for (host, result) in looked {
                match result {
                    Ok(seen) => {
                        self.seen(&host, &seen)?;
                        hand_on(&host, seen);
                    }
                    Err(fault) => self.failed(&host, fault.to_string())?,
                }
            }
            Ok(())
        })
    }

    /// Hosts that are not spoken to.
    fn leave_out<'b>(&mut self, hosts: impl Iterator<Item = (&'b Host, String)>) -> Result<(), DatabaseFault> {
        let store = self.store;
        store.together(|_| {
            for (host, why) in hosts {
                self.failed(&host.id, why)?;
            }
            Ok(())
        })
    }

    fn seen(&mut self, host: &str, seen: &Observation) -> Result<(), DatabaseFault> {
        let (changed, entries) = remember(self.store, &self.auditor, host, seen)?;
        self.progress.seen();
        self.hosts.push(HostOut {
            host: host.to_owned(),
            fault: None,
            accounts: seen.accounts.len(),
            entries,
            sessions: seen.sessions.values().sum(),
            changed,
            last_seen: self.before.get(host).copied().map(clock::day_of),
        });
        Ok(())
    }

    fn failed(&mut self, host: &str, fault: String) -> Result<(), DatabaseFault> {
        let fault = printable(fault.as_bytes());
        self.store.record_fault(host, clock::now().unix_timestamp(), &fault)?;
        self.progress.failed();
        self.hosts.push(HostOut {
            host: host.to_owned(),
            fault: Some(fault),
            accounts: 0,
            entries: 0,
            sessions: 0,
            changed: false,
            last_seen: self.before.get(host).copied().map(clock::day_of),
        });
        Ok(())
    }

    fn end(mut self) -> Vec<HostOut> {
        self.progress.end();
        self.hosts.sort_by(|one, other| one.host.cmp(&other.host));
        self.hosts
    }
}
