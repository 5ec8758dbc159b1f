//! `lavrin survey --collect`: one of several collectors that share the work. Which host is looked at by whom is decided in the store,
//! so that no two look at one host at once and a collector that died loses what it had taken.

use super::{LookAt, SurveyArgs, look_into, out, tell_what_waits};
use crate::clock;
use crate::command::register::OpenedRegister;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use lavrin_fleet::register::{Host, Register, near};
use lavrin_keys::text::{count, printable};
use lavrin_store::database::{Database, DatabaseFault, HostToCollect};
use lavrin_work::Scope;
use lavrin_work::pool::Pace;
use lavrin_work::survey::Surveyed;
use lavrin_work::ways::WayFault;
use std::time::Duration;

/// After this time a host is due again, where nothing else is said: six hours.
const EVERY: u32 = 6 * 3600;

/// How many hosts are taken at once, for each that is looked at at the same time.
const ROUNDS: usize = 2;

/// What a lease has beyond the time that its looks may take, in seconds.
const MARGIN: i64 = 10;

/// How long is slept between two looks into the store: whoever ends this waits that long.
const PAUSE: Duration = Duration::from_secs(3);

/// A time as it is typed: `6h`, `30m`, `45s`, `1d`; in seconds.
pub fn typed_time(text: &str) -> Result<u32, String> {
    let (number, unit) = text.split_at(text.len() - text.chars().last().map_or(0, char::len_utf8));
    let seconds: u32 = match unit {
        "s" => 1,
        "m" => 60,
        "h" => 3600,
        "d" => 86_400,
        _ => 0,
    };
    let time = number.parse::<u32>().ok().and_then(|number| number.checked_mul(seconds));
    time.filter(|time| (1..=31_536_000).contains(time)).ok_or_else(|| "a time is written as 30m, 6h or 1d".to_owned())
}

/// Collects what is due, once or for ever.
pub async fn run(args: &SurveyArgs, opened: OpenedRegister, ui: &Ui) -> Result<Exit, CommandError> {
    check_sites(&args.site, opened.register())?;
    let mut opened = opened;
    let mut ended = Exit::Done;
    out::begin_rows(ui);
    loop {
        match round(args, &opened, ui).await {
            Ok(exit) => ended = ended.max(exit),
            // One who goes on waits until the store is back.
            Err(fault) if args.every.is_some() && fault.is_away() => ui.status(&fault.into_error().in_one_line()),
            Err(fault) => return Err(fault.into_error()),
        }
        if args.every.is_none() || ui.interrupt.is_asked() {
            return Ok(ended);
        }
        wait(args, &opened).await;
        if ui.interrupt.is_asked() {
            return Ok(ended);
        }
        // The register may be a newer one by now.
        opened = args.register.open_to_report(ui)?;
    }
}

/// Why a round ended early.
enum RoundFault {
    Store(DatabaseFault),
    Other(CommandError),
}

impl RoundFault {
    fn is_away(&self) -> bool {
        matches!(self, Self::Store(DatabaseFault::Away { .. }))
    }

    fn into_error(self) -> CommandError {
        match self {
            Self::Store(fault) => fault.into(),
            Self::Other(error) => error,
        }
    }
}

impl From<DatabaseFault> for RoundFault {
    fn from(fault: DatabaseFault) -> Self {
        Self::Store(fault)
    }
}

impl From<CommandError> for RoundFault {
    fn from(error: CommandError) -> Self {
        Self::Other(error)
    }
}

/// Looks at all that is due now.
async fn round(args: &SurveyArgs, opened: &OpenedRegister, ui: &Ui) -> Result<Exit, RoundFault> {
    let register = opened.register();
    let store = Database::open(opened.folder.path())?;
    let hosts = register.all_hosts().map(|host| HostToCollect { host: &host.id, site: host.site.as_deref() });
    store.put_work(&hosts.collect::<Vec<_>>(), clock::unix())?;
    let (ways, pace) = (args.sign_in.ways(register)?, args.pace.pace(register, ui)?);
    let every = i64::from(args.every.unwrap_or(EVERY));
    let me = store.collector();
    let mut all: Vec<Surveyed> = Vec::new();
    loop {
        let began = clock::unix();
        let due = store.take_work(&me, &args.site, pace.parallel * ROUNDS, began, lease(&pace))?;
        if due.is_empty() || ui.interrupt.is_asked() {
            break;
        }
        let hosts: Vec<&Host> = due.iter().filter_map(|due| register.hosts.get(&due.host)).map(Box::as_ref).collect();
        let at = LookAt { hosts: &hosts, scope: Scope::Survey };
        let seen = look_into(&store, opened, at, &ways, &pace, ui, |one| out::row_of(one, ui), |_, _| ()).await?;
        let is_begun = |one: &&Surveyed| !matches!(one.fault, Some(WayFault::NotBegun));
        let (done, left): (Vec<&Surveyed>, Vec<&Surveyed>) = seen.iter().partition(is_begun);
        let names = |some: &[&Surveyed]| some.iter().map(|one| one.host.clone()).collect::<Vec<_>>();
        for (some, due) in [(names(&done), clock::unix() + every), (names(&left), began)] {
            let some: Vec<&str> = some.iter().map(String::as_str).collect();
            // Where the store went away meanwhile the lease ends by itself, and what was seen waits here.
            match store.end_work(&me, &some, due, began) {
                Err(DatabaseFault::Away { .. }) => {}
                ended => ended?,
            }
        }
        all.extend(seen);
    }
    tell_what_waits(&store, ui)?;
    Ok(out::print(&all, ui))
}

/// As long as the looks may take that are taken at once, in seconds.
fn lease(pace: &Pace) -> i64 {
    let limit = i64::try_from(pace.limit.as_secs()).unwrap_or(i64::MAX / 4);
    limit * i64::try_from(ROUNDS).unwrap_or(1) + MARGIN
}

/// Sleeps until something is due or somebody asks, or somebody wants an end.
async fn wait(args: &SurveyArgs, opened: &OpenedRegister) {
    let until_due = || {
        let store = Database::open(opened.folder.path()).ok()?;
        let due = store.next_due(&args.site).ok()??;
        let time = u64::try_from(due - clock::unix()).unwrap_or_default();
        let _ = store.wait_for_questions(PAUSE.min(Duration::from_secs(time)));
        Some(())
    };
    if until_due().is_none() {
        tokio::time::sleep(PAUSE).await;
    }
}

fn check_sites(sites: &[String], register: &Register) -> Result<(), CommandError> {
    let known = || register.all_hosts().filter_map(|host| host.site.as_deref());
    let Some(odd) = sites.iter().find(|site| !known().any(|known| known == site.as_str())) else { return Ok(()) };
    let said = CommandError::usage(format!("no host of the register is at a site '{}'", printable(odd.as_bytes())));
    let said = match near(odd, known()) {
        Some(other) => said.because(format!("near to it: {other}")),
        None => said,
    };
    Err(said.hint("lavrin host list"))
}

/// Asks the collectors for a look at hosts.
pub fn ask(opened: &OpenedRegister, hosts: &[&Host], ui: &Ui) -> Result<Exit, CommandError> {
    let store = Database::open(opened.folder.path())?;
    let all = opened.register().all_hosts().map(|host| HostToCollect { host: &host.id, site: host.site.as_deref() });
    let now = clock::unix();
    store.put_work(&all.collect::<Vec<_>>(), now)?;
    let names: Vec<&str> = hosts.iter().map(|host| host.id.as_str()).collect();
    store.ask_for_look(&names, now)?;
    ui.result(&format!(
        "asked for a look at {}; a collector that reaches it looks as soon as it can\n  next: lavrin host list",
        count(names.len(), "host", "hosts")
    ));
    Ok(Exit::Done)
}
