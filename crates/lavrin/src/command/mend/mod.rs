//! `lavrin mend`: set modes and owners right, and repair what is certain in key files.

mod out;

use super::change::{self, ChangeArgs, UnderWay};
use super::place::Work;
use crate::account_target::{AccountTarget, parse_host};
use crate::connection::ServerArgs;
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::host::{HostArgs, NeedsRoot};
use crate::ui::{Format, Ui};
use crate::{paths, wording};
use clap::Args;
use lavrin_core::key::Fingerprint;
use lavrin_core::policy::Policy;
use lavrin_core::steps::{Change, Mending, NoSteps, guard, mend};
use lavrin_core::survey::{Observation, Want, Wanted, Who};
use lavrin_core::{audit, login};
use lavrin_store::Outcome;
use lavrin_work::{Settled, take_back};
pub use out::MendOut;
use std::path::PathBuf;

/// Set modes and owners right, and repair what is certain in key files
#[derive(Debug, Args)]
pub struct MendArgs {
    /// The account: ACCOUNT@HOST, or ACCOUNT with --root; with --all: @HOST, or nothing with --root
    #[arg(value_name = "ACCOUNT[@HOST]", required_unless_present = "all")]
    pub target: Option<String>,
    /// Mend every account
    #[arg(long)]
    pub all: bool,
    /// Work in this local tree (an image, a chroot, / itself) instead of on a host
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub root: Option<PathBuf>,
    /// Let this key come to life where a repair would make the server read it again; may be given several times
    #[arg(long, value_name = "SHA256:…", value_parser = |text: &str| Fingerprint::parse(text))]
    pub revive: Vec<Fingerprint>,
    #[command(flatten)]
    change: ChangeArgs,
    #[command(flatten)]
    server: ServerArgs,
    #[command(flatten)]
    host: HostArgs,
}

/// What became of one account.
pub(super) struct Case {
    account: String,
    found: Result<Mending, NoSteps>,
    state: State,
}

/// How it ended for one account.
#[derive(Debug, Clone, PartialEq, Eq)]
enum State {
    Nothing,
    Preview,
    Done,
    AsBefore(String),
    Unknown(String),
}

/// Runs the command.
pub async fn run(args: &MendArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let target = Target::of(args)?;
    let mut work = target.open(args, ui).await?;
    args.server.give(&mut work.seen);
    let wants = |seen: &Observation| target.wants(seen);
    work.look(wants).await?;
    let mut cases = cases(&target, &args.revive, &work)?;
    let anything = cases.iter().any(|case| changes(case).is_some());
    if args.change.preview || !anything {
        if args.change.preview {
            cases.iter_mut().filter(|case| changes(case).is_some()).for_each(|case| case.state = State::Preview);
        }
        return Ok(finish(&cases, &work, args, ui));
    }
    for case in &cases {
        show(case, &work, ui);
    }
    change::confirm(ui, &args.change)?;
    let mut under_way = Vec::new();
    for case in &mut cases {
        under_way.extend(carry(case, &work, args).await?);
    }
    work.look_again(wants).await?;
    for (name, begun) in &under_way {
        let case = cases.iter_mut().find(|case| case.account == *name);
        if let Some(case) = case {
            read_back(case, begun, &work)?;
        }
    }
    prove_login(&mut cases, &under_way, &work, args, ui).await?;
    for (name, begun) in &under_way {
        if cases.iter().any(|case| case.account == *name && case.state == State::Done) {
            begun.close(Outcome::Done, "read back")?;
        }
    }
    Ok(finish(&cases, &work, args, ui))
}

/// Whom it is about and where.
struct Target {
    account: Option<String>,
    host: Option<String>,
}

impl Target {
    fn of(args: &MendArgs) -> Result<Self, CommandError> {
        if !args.all {
            let text = args.target.as_deref().unwrap_or_default();
            let target: AccountTarget = text.parse().map_err(CommandError::usage)?;
            return Ok(Self { account: Some(target.account), host: target.host });
        }
        let host = match args.target.as_deref() {
            None => None,
            Some(text) => {
                let host = text.strip_prefix('@').ok_or_else(|| {
                    CommandError::usage(format!("--all and the account {text} were given; only one can be meant"))
                        .hint("lavrin mend --all @HOST --login NAME; or lavrin mend --all --root DIR")
                })?;
                Some(parse_host(host).map_err(CommandError::usage)?)
            }
        };
        Ok(Self { account: None, host })
    }

    async fn open(&self, args: &MendArgs, ui: &Ui) -> Result<Work, CommandError> {
        if let Some(account) = &self.account {
            let target = AccountTarget { account: account.clone(), host: self.host.clone() };
            return Work::open(ui, &target, args.root.as_deref(), &args.host, NeedsRoot::Yes).await;
        }
        match (&self.host, &args.root) {
            (None, Some(root)) => Work::open_tree(root),
            (Some(host), None) => Work::open_host(ui, host, "root", &args.host, NeedsRoot::Yes).await,
            (Some(_), Some(_)) => Err(CommandError::usage("a host and --root were given; only one place can be meant")),
            (None, None) => Err(CommandError::usage("mend every account of what?")
                .hint("lavrin mend --all @HOST --login NAME; or lavrin mend --all --root DIR")),
        }
    }

    fn wants(&self, seen: &Observation) -> Vec<Want> {
        match &self.account {
            Some(account) => login::wants(account, seen),
            None if !seen.looked => vec![Want { what: Wanted::System(Who::All), account: None }],
            None => {
                let mut wants = audit::wants(seen);
                wants.retain(|want| !matches!(want.what, Wanted::PrivateKeys(_)));
                wants
            }
        }
    }
}

/// One case for each account there is something to say about.
fn cases(target: &Target, consent: &[Fingerprint], work: &Work) -> Result<Vec<Case>, CommandError> {
    let policy = Policy::default();
    let case = |account: &str| Case {
        account: account.to_owned(),
        found: mend(account, consent, &work.seen, &policy),
        state: State::Nothing,
    };
    if let Some(account) = &target.account {
        let case = case(account);
        return match case.found {
            Err(fault) => Err(no_steps(&fault, account, &work.name)),
            Ok(_) => Ok(vec![case]),
        };
    }
    let cases = work.seen.accounts.iter().map(|account| case(&account.name));
    // Most accounts of a system are for services: they have no home of their own and no keys.
    let speaks = |case: &Case| match &case.found {
        Ok(found) => !found.steps.changes.is_empty() || !found.withheld.is_empty() || !found.left.is_empty(),
        Err(NoSteps::HomeMissing(_) | NoSteps::HomeOwner { .. } | NoSteps::WrongKind(_)) => false,
        Err(_) => true,
    };
    Ok(cases.filter(speaks).collect())
}

fn changes(case: &Case) -> Option<&Mending> {
    case.found.as_ref().ok().filter(|found| !found.steps.changes.is_empty())
}

/// The steps of one account, on stderr, so that a question can follow.
fn show(case: &Case, work: &Work, ui: &Ui) {
    let Some(found) = changes(case) else { return };
    ui.status(&format!("Steps for {} on {}:", case.account, work.name));
    for (number, line) in wording::steps::mending(found).iter().enumerate() {
        ui.status(&format!("  {}. {line}", number + 1));
    }
    for entry in &found.steps.revived {
        ui.warn(&wording::steps::revived(entry));
    }
}

/// Carries out the steps of one account. A failure ends this account's work and leaves the others going.
async fn carry(case: &mut Case, work: &Work, args: &MendArgs) -> Result<Option<(String, UnderWay)>, CommandError> {
    let Some(found) = changes(case) else { return Ok(None) };
    let login = work.remote.as_ref().map(|remote| remote.login.clone());
    let steps = found.steps.clone();
    let begun = UnderWay::new("mend", work, &steps, guard(&steps, login.as_ref(), false)?, args.change.reason.clone())?;
    match begun.carry(work, &steps).await {
        Ok(()) => {
            case.state = State::Done;
            Ok(Some((case.account.clone(), begun)))
        }
        Err(error) => {
            let said = error.message.clone();
            case.state = if error.exit == Exit::Midway { State::Unknown(said) } else { State::AsBefore(said) };
            Ok(None)
        }
    }
}

/// Every change must be what a fresh look finds.
fn read_back(case: &mut Case, begun: &UnderWay, work: &Work) -> Result<(), CommandError> {
    let last = |change: &Change| {
        let later = begun.changes.iter().rev().find(|other| other.change().path() == change.path());
        later.is_some_and(|later| later.change() == change)
    };
    let missed = begun.changes.iter().map(lavrin_core::steps::Guarded::change).filter(|change| last(change));
    let Some(missed) = missed.filter(|change| !change.holds(&work.seen)).map(Change::path).next() else {
        return Ok(());
    };
    let said = format!("{missed} was set right, and read back it is something else again");
    begun.close(Outcome::Unknown, &said)?;
    case.state = State::Unknown(said);
    Ok(())
}

/// On a host the login itself is tried again, over a new connection, while the old one is still open.
async fn prove_login(
    cases: &mut [Case],
    under_way: &[(String, UnderWay)],
    work: &Work,
    args: &MendArgs,
    ui: &Ui,
) -> Result<(), CommandError> {
    let Some(remote) = work.remote.as_ref().filter(|remote| remote.login.key.is_some()) else { return Ok(()) };
    let account = &remote.signed.account;
    let Some((_, begun)) = under_way.iter().find(|(name, _)| name == account) else { return Ok(()) };
    let quiet = Ui::new(crate::ui::Color::Never, ui.format, true);
    let Err(error) = args.host.open(&quiet, &work.name, account, NeedsRoot::No).await else { return Ok(()) };
    let Some(case) = cases.iter_mut().find(|case| case.account == *account) else { return Ok(()) };
    let Some(owner) = work.seen.account(account) else { return Ok(()) };
    let said = format!("a fresh login as {account} failed afterwards: {}", error.message);
    if take_back(&work.place, &begun.changes, owner, &work.seen).await == Settled::AsBefore {
        begun.close(Outcome::AsBefore, &said)?;
        case.state = State::AsBefore(format!("{said}; the change was taken back"));
    } else {
        begun.close(Outcome::Unknown, &said)?;
        case.state = State::Unknown(format!("{said}; it could not be taken back, the backup is in the state folder"));
    }
    Ok(())
}

fn finish(cases: &[Case], work: &Work, args: &MendArgs, ui: &Ui) -> Exit {
    let out = MendOut::of(cases, work, args);
    ui.result(&if ui.format == Format::Json { crate::json::print(&out) } else { out.text(ui) });
    cases.iter().map(exit_of).max().unwrap_or(Exit::Done)
}

fn exit_of(case: &Case) -> Exit {
    let done = match &case.found {
        Err(NoSteps::HomeOnNetwork(_) | NoSteps::Unseen(..)) => Exit::NotChecked,
        Err(_) => Exit::Findings,
        Ok(found) if !found.withheld.is_empty() || !found.left.is_empty() => Exit::Findings,
        Ok(_) => Exit::Done,
    };
    match case.state {
        State::AsBefore(_) => Exit::Stopped,
        State::Unknown(_) => Exit::Midway,
        State::Nothing | State::Preview | State::Done => done,
    }
}
