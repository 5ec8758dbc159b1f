//! `lavrin keys-only`: a server lets nobody in by a password any more, which is proven before it stays so.

pub mod out;
mod plan;
pub mod status;

use super::change::{self, ChangeArgs, STEP_LIMIT};
use super::compare::moment;
use super::enforce::EnforceArgs;
use super::fleet_change::{ManyArgs, begin};
use super::pace::PaceArgs;
use super::place::Work;
use super::register::{OpenedRegister, RegisterArgs, check_reads};
use super::survey::{hosts_named, look_at};
use super::undo::{self, UndoArgs};
use crate::clock;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::host::HostArgs;
use crate::sign_in::SignInArgs;
use crate::ui::Ui;
use clap::{Args, ValueEnum};
use lavrin_fleet::fleet::compare::Comparer;
use lavrin_fleet::register::Host;
use lavrin_server::steps::{Around, RootLogin};
use lavrin_store::{ChangeOutcome, Event, Keeper, KeptChange};
use lavrin_work::Scope;
use lavrin_work::change::{Ended, Job, Proof, Task, one};
use lavrin_work::plan::pairs;
use lavrin_work::pool::Pace;
use lavrin_work::survey::LookAt;
use lavrin_work::ways::Rights;
use out::KeysOnlyHostOut;
use out::KeysOnlyOut;
use plan::PlannedSettings;
use std::io::IsTerminal as _;
use std::sync::Arc;
use std::time::Duration;

/// Have a server take keys only; it puts everything back itself unless that is proven in time
#[derive(Debug, Args)]
pub struct KeysOnlyArgs {
    /// The hosts, or hosts with these tags
    #[arg(value_name = "HOST|TAG", required_unless_present = "status")]
    pub hosts: Vec<String>,
    /// How root may log in afterwards
    #[arg(long, value_name = "HOW", default_value = "keys")]
    root: Root,
    /// Let the host put everything back after this time unless it is proven
    #[arg(long, value_name = "SECONDS", default_value_t = HEAL_AFTER, value_parser = clap::value_parser!(u16).range(10..=600))]
    heal_after: u16,
    /// These accounts have nothing but a password and may lose it as their way in
    #[arg(long, value_name = "ACCOUNT,…", value_delimiter = ',')]
    accept_lockout: Vec<String>,
    /// Change N hosts as a trial, then stop
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    first: Option<u32>,
    /// Take the last keys-only of these hosts back: passwords open accounts again
    #[arg(long, conflicts_with_all = ["status", "first", "accept_lockout"])]
    undo: bool,
    /// Show which hosts still take passwords, by the last survey
    #[arg(long, conflicts_with = "first")]
    status: bool,
    #[command(flatten)]
    change: ChangeArgs,
    #[command(flatten)]
    pace: PaceArgs,
    /// Start no new host after N failures
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..), help_heading = "Many hosts")]
    stop_after_failures: Option<u32>,
    #[command(flatten)]
    host: HostArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// How root may log in afterwards.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Root {
    /// With keys only.
    Keys,
    /// Not at all.
    Off,
}

impl KeysOnlyArgs {
    fn root(&self) -> RootLogin {
        match self.root {
            Root::Keys => RootLogin::Keys,
            Root::Off => RootLogin::Off,
        }
    }

    fn many(&self) -> ManyArgs {
        ManyArgs { pace: self.pace.clone(), stop_after_failures: self.stop_after_failures, accept_lockout: false }
    }

    fn asked(&self) -> AskedSettings<'_> {
        AskedSettings {
            command: "keys-only",
            root: self.root(),
            heal_after: self.heal_after,
            accept_lockout: &self.accept_lockout,
            first: self.first,
            change: &self.change,
            many: self.many(),
            sign_in: &self.host.sign_in,
        }
    }
}

/// How long a host waits for the proof, in seconds.
const HEAL_AFTER: u16 = 120;

/// What is asked for, whichever command asks.
pub struct AskedSettings<'a> {
    command: &'static str,
    root: RootLogin,
    heal_after: u16,
    accept_lockout: &'a [String],
    first: Option<u32>,
    change: &'a ChangeArgs,
    many: ManyArgs,
    sign_in: &'a SignInArgs,
}

impl AskedSettings<'_> {
    fn proof(&self) -> Proof {
        let put_back = Some(Duration::from_secs(self.heal_after.into()));
        Proof { asks: false, put_back, ..Proof::of(Scope::Settings) }
    }
}

/// The hosts on which policy asks for keys only, for `enforce --only settings`.
pub async fn where_policy_asks(opened: &OpenedRegister, args: &EnforceArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let register = opened.register();
    let mut hosts = hosts_named(register, &args.hosts)?;
    hosts.retain(|host| register.rules.asks_for_keys_only(host));
    if hosts.is_empty() {
        return Err(CommandError::usage("policy asks for keys only on none of these hosts")
            .hint("in lavrin.toml, below [policy]: keys_only = [\"*\"]")
            .hint("or for one host: lavrin keys-only HOST"));
    }
    let asked = AskedSettings {
        command: "enforce",
        root: RootLogin::Keys,
        heal_after: HEAL_AFTER,
        accept_lockout: &[],
        first: args.first,
        change: &args.fleet.change,
        many: args.fleet.many.clone(),
        sign_in: &args.fleet.sign_in,
    };
    on_hosts(&asked, opened, hosts, ui).await
}

/// Runs the command.
pub async fn run(args: &KeysOnlyArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if args.status {
        return status::run(args.register.open_to_report(ui)?, &args.hosts, args.root(), ui);
    }
    let opened = args.register.here_for_host(None, ui)?;
    if args.undo {
        return take_back(args, opened.as_ref(), ui).await;
    }
    match (&opened, &args.hosts[..]) {
        (Some(opened), _) if opened.register().hosts_named(&args.hosts).is_ok() => {
            check_reads(opened)?;
            on_hosts(&args.asked(), opened, hosts_named(opened.register(), &args.hosts)?, ui).await
        }
        (_, [host]) => on_one(args, opened.as_ref(), host, ui).await,
        (Some(opened), _) => hosts_named(opened.register(), &args.hosts).map(|_| Exit::Done),
        (None, _) => Err(CommandError::usage("several hosts need a register that says how they are reached")
            .hint("one host at a time: lavrin keys-only HOST --login root")
            .hint("lavrin register begin")),
    }
}

/// On hosts of the register.
async fn on_hosts(
    asked: &AskedSettings<'_>,
    opened: &OpenedRegister,
    hosts: Vec<&Host>,
    ui: &Ui,
) -> Result<Exit, CommandError> {
    let register = opened.register();
    let ways = asked.sign_in.ways(register)?;
    let pace = asked.many.pace(register, ui)?;
    let comparer = Comparer::new(register, moment());
    let (mut jobs, mut results) = (Vec::new(), Vec::new());
    let at = LookAt { hosts: &hosts, scope: Scope::Settings };
    let looked = look_at(opened, at, &ways, &pace, ui, |host, seen| {
        let planned = PlannedSettings::of(host, &seen, asked);
        let Some(known) = register.hosts.get(host) else { return };
        if let Some(steps) = planned.steps {
            let seen = Arc::new(*seen);
            let around = Arc::new(Around { seen: seen.clone(), granted: comparer.granted(known) });
            let tasks = vec![Task { steps, seen, around }];
            jobs.push(Job { stop: ways.stop(known), pairs: pairs(known), tasks, proof: asked.proof() });
        }
        results.push(planned.out);
    });
    let looked = looked.await?;
    results.extend(looked.iter().filter_map(KeysOnlyHostOut::not_seen));
    results.sort_by(|one, other| one.host.cmp(&other.host));
    jobs.sort_by(|one, other| one.stop.host.cmp(&other.stop.host));
    out::show(&results, asked, ui);
    if jobs.is_empty() || asked.change.preview {
        return Ok(KeysOnlyOut::of(None, results).give(asked.change.preview, ui));
    }
    change::confirm(ui, asked.change)?;
    let run = begin(asked.command, opened, &asked.many, asked.change.reason.clone(), ui)?;
    let first = asked.first.map_or(jobs.len(), |first| first as usize).min(jobs.len());
    let rest = jobs.split_off(first);
    take_ends(&mut results, run.carry(jobs, &ways).await?);
    if !rest.is_empty() {
        let failed = results.iter().any(|result| result.exit > Exit::Findings);
        let asks = !failed && !ui.interrupt.is_asked() && std::io::stdin().is_terminal();
        if asks && ui.confirm("The trial is done. Go on with the other hosts?", &[])? {
            take_ends(&mut results, run.carry(rest, &ways).await?);
        } else {
            results.iter_mut().filter(|one| rest.iter().any(|job| job.stop.host == one.host)).for_each(|one| {
                one.wait();
            });
        }
    }
    Ok(KeysOnlyOut::of(run.terms.run, results).give(false, ui))
}

fn take_ends(results: &mut [KeysOnlyHostOut], ended: impl IntoIterator<Item = (String, Ended)>) {
    for (host, ended) in ended {
        if let Some(result) = results.iter_mut().find(|result| result.host == host) {
            result.end(&ended);
        }
    }
}

/// On a host that no register knows.
async fn on_one(
    args: &KeysOnlyArgs,
    register: Option<&OpenedRegister>,
    host: &str,
    ui: &Ui,
) -> Result<Exit, CommandError> {
    let (login, host) = host.rsplit_once('@').map_or((None, host), |(login, host)| (Some(login), host));
    let mut host_args = args.host.clone();
    host_args.sign_in.login = host_args.sign_in.login.or_else(|| login.map(str::to_owned));
    let mut work = Work::open_host(ui, register, host, "root", &host_args, Rights::Needed).await?;
    work.look(&|seen| Scope::Settings.wants(seen)).await?;
    change::close_left_open(&work, register)?;
    let asked = args.asked();
    let planned = PlannedSettings::of(host, &work.seen, &asked);
    let mut results = vec![planned.out];
    out::show(&results, &asked, ui);
    let Some(steps) = planned.steps.filter(|_| !args.change.preview) else {
        return Ok(KeysOnlyOut::of(None, results).give(args.change.preview, ui));
    };
    if work.site.login().is_none_or(|login| login.key.is_none()) {
        return Err(CommandError::with(Exit::Stopped, "this login was opened by a password, so no key is proven yet")
            .because("nothing was changed")
            .again("with a key", "--identity FILE"));
    }
    let tasks = change::guarded(vec![steps], &mut work, register, false).await?;
    change::confirm(ui, &args.change)?;
    let terms = change::terms("keys-only", register, args.change.reason.clone(), false, ui)?;
    let pace = Pace { parallel: 1, limit: STEP_LIMIT, interrupt: ui.interrupt.clone() };
    let (_, ended) = one(work.site, tasks, asked.proof(), terms, &pace).await;
    results[0].end(&ended);
    Ok(KeysOnlyOut::of(None, results).give(false, ui))
}

/// Takes the last keys-only of each host back.
async fn take_back(args: &KeysOnlyArgs, register: Option<&OpenedRegister>, ui: &Ui) -> Result<Exit, CommandError> {
    let places: Vec<String> = match register.and_then(|opened| opened.register().hosts_named(&args.hosts).ok()) {
        Some(hosts) => hosts.iter().map(|host| host.id.clone()).collect(),
        None => args.hosts.iter().map(|host| host.rsplit('@').next().unwrap_or(host).to_owned()).collect(),
    };
    let keeper = change::keeper(register)?;
    let mut ids = Vec::new();
    for place in &places {
        ids.extend(last_of(keeper.as_ref(), place)?);
    }
    if ids.is_empty() {
        return Err(CommandError::usage("the journal knows no keys-only of these hosts that stands")
            .hint(format!("what was done there: lavrin history {}", places[0])));
    }
    let undo = UndoArgs {
        id: None,
        run: None,
        last: false,
        even_leavers: false,
        change: args.change.clone(),
        many: args.many(),
        host: args.host.clone(),
        register: args.register.clone(),
    };
    undo::these(&undo, &ids, ui).await
}

/// The last change of the settings of a place, where that was one to keys only and was not taken back.
fn last_of(keeper: &dyn Keeper, place: &str) -> Result<Option<String>, CommandError> {
    let lines = keeper.lines()?;
    let outcome = |id: &str| {
        lines.iter().rev().find_map(|line| match &line.event {
            Event::Outcome { outcome, .. } if line.id == *id => Some(*outcome),
            _ => None,
        })
    };
    let mut own = lines.iter().rev().filter_map(|line| match &line.event {
        Event::Intent { command, place: own, changes, .. } if own == place => {
            let reloads = changes.iter().any(|change| matches!(change, KeptChange::Reload));
            (reloads && outcome(&line.id) != Some(ChangeOutcome::AsBefore)).then_some((command, &line.id))
        }
        _ => None,
    });
    Ok(own.next().filter(|(command, _)| *command != "undo").map(|(_, id)| id.clone()))
}

/// Now, as the core takes it.
fn now() -> i64 {
    clock::now().unix_timestamp()
}
