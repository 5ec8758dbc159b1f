//! `lavrin mend`: set modes and owners right, and repair what is certain in key files.

mod out;

use super::change::{self, ChangeArgs};
use super::place::Work;
use super::register::{OpenedRegister, RegisterArgs, policy};
use crate::account_target::{AccountTarget, parse_host};
use crate::connection::ServerArgs;
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::host::HostArgs;
use crate::input::typed_fingerprint;
use crate::ui::Ui;
use crate::{paths, wording};
use clap::Args;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::policy::Policy;
use lavrin_server::steps::{Mending, NoSteps, Steps, mend};
use lavrin_server::system::System;
use lavrin_work::Scope;
use lavrin_work::change::{End, Proof};
use lavrin_work::ways::Rights;
pub use out::MendOut;
use std::path::PathBuf;

/// Repair modes, owners and broken lines of key files
#[derive(Debug, Args)]
pub struct MendArgs {
    /// The account: ACCOUNT@HOST, or ACCOUNT with --tree; with --all: @HOST, or nothing with --tree
    #[arg(value_name = "ACCOUNT[@HOST]", required_unless_present = "all")]
    pub target: Option<String>,
    /// Every account
    #[arg(long)]
    pub all: bool,
    /// A local tree (an image, a chroot, / itself) instead of a host
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub tree: Option<PathBuf>,
    /// Allow a repair that makes this key active, where the server ignores it today; may be given several times
    #[arg(long, value_name = "SHA256:…", value_parser = typed_fingerprint)]
    pub revive: Vec<Fingerprint>,
    #[command(flatten)]
    change: ChangeArgs,
    #[command(flatten)]
    server: ServerArgs,
    #[command(flatten)]
    host: HostArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What became of one account.
pub(super) struct MendedAccount {
    account: String,
    found: Result<Mending, NoSteps>,
    state: MendState,
}

/// How it ended for one account.
#[derive(Debug, Clone, PartialEq, Eq)]
enum MendState {
    Nothing,
    Preview,
    Done,
    AsBefore(String),
    Unknown(String),
}

/// Runs the command.
pub async fn run(args: &MendArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let target = MendTarget::of(args)?;
    let register = args.register.here_for_host(args.tree.as_deref(), ui)?;
    let mut work = target.open(args, register.as_ref(), ui).await?;
    args.server.give(&mut work.seen);
    let scope = target.scope();
    work.look(&|seen| scope.wants(seen)).await?;
    change::close_left_open(&work, register.as_ref())?;
    let mut cases = cases(&target, &args.revive, &policy(register.as_ref()), &work)?;
    let all: Vec<Steps> = cases.iter().filter_map(changes).map(|found| found.steps.clone()).collect();
    if args.change.preview || all.is_empty() {
        if args.change.preview {
            cases.iter_mut().filter(|case| changes(case).is_some()).for_each(|case| case.state = MendState::Preview);
        }
        return Ok(finish(&cases, &work, args, ui));
    }
    let tasks = change::guarded(all, &mut work, register.as_ref(), false).await?;
    for case in &cases {
        show(case, &work, ui);
    }
    change::confirm(ui, &args.change)?;
    let terms = change::terms("mend", register.as_ref(), args.change.reason.clone(), false, ui)?;
    // What a repair brings to life may be kept out by something that is left alone: only the login itself is tried.
    let proof = Proof { asks: false, ..Proof::of(scope) };
    let name = work.name.clone();
    let (work, ended) = change::carry(work, tasks, proof, terms, ui).await;
    for case in &mut cases {
        if let Some(end) = ended.of(&case.account) {
            case.state = MendState::of(end);
        }
    }
    match (work, change::error_of(ended.worst(), &target.whom(), &name)) {
        (Some(work), _) => Ok(finish(&cases, &work, args, ui)),
        (None, Some(error)) => Err(error),
        (None, None) => Err(CommandError::with(Exit::Midway, "the program failed")),
    }
}

impl MendState {
    fn of(end: &End) -> Self {
        let said = || end.trouble().map(wording::trouble).unwrap_or_default();
        match end {
            End::Done => Self::Done,
            End::NotBegun(_) | End::AsBefore(_) => Self::AsBefore(said()),
            End::Unknown(_) => Self::Unknown(said()),
        }
    }
}

/// Whom it is about and where.
struct MendTarget {
    account: Option<String>,
    host: Option<String>,
}

impl MendTarget {
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
                        .hint("lavrin mend --all @HOST --login NAME; or lavrin mend --all --tree DIR")
                })?;
                Some(parse_host(host).map_err(CommandError::usage)?)
            }
        };
        Ok(Self { account: None, host })
    }

    async fn open(&self, args: &MendArgs, register: Option<&OpenedRegister>, ui: &Ui) -> Result<Work, CommandError> {
        let rights = Rights::Needed;
        if let Some(account) = &self.account {
            let target = AccountTarget { account: account.clone(), host: self.host.clone() };
            return Work::open(ui, register, &target, args.tree.as_deref(), &args.host, rights).await;
        }
        match (&self.host, &args.tree) {
            (None, Some(root)) => Work::open_tree(root),
            (Some(host), None) => Work::open_host(ui, register, host, "root", &args.host, rights).await,
            (Some(_), Some(_)) => Err(CommandError::usage("a host and --tree were given; only one place can be meant")),
            (None, None) => Err(CommandError::usage("mend every account of what?")
                .hint("lavrin mend --all @HOST --login NAME; or lavrin mend --all --tree DIR")),
        }
    }

    fn scope(&self) -> Scope {
        self.account.clone().map_or(Scope::Accounts, Scope::Account)
    }

    /// The account it is about, as far as it is about one.
    fn whom(&self) -> String {
        self.account.clone().unwrap_or_else(|| "ACCOUNT".to_owned())
    }
}

/// One case for each account there is something to say about.
fn cases(
    target: &MendTarget,
    consent: &[Fingerprint],
    policy: &Policy,
    work: &Work,
) -> Result<Vec<MendedAccount>, CommandError> {
    let case = |account: &str| MendedAccount {
        account: account.to_owned(),
        found: mend(account, consent, &System::of(&work.seen), policy),
        state: MendState::Nothing,
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
    let speaks = |case: &MendedAccount| match &case.found {
        Ok(found) => !found.steps.changes.is_empty() || !found.withheld.is_empty() || !found.left.is_empty(),
        Err(NoSteps::HomeMissing(_) | NoSteps::HomeOwner { .. } | NoSteps::WrongKind(_)) => false,
        Err(_) => true,
    };
    Ok(cases.filter(speaks).collect())
}

fn changes(case: &MendedAccount) -> Option<&Mending> {
    case.found.as_ref().ok().filter(|found| !found.steps.changes.is_empty())
}

/// The steps of one account, on stderr, so that a question can follow.
fn show(case: &MendedAccount, work: &Work, ui: &Ui) {
    let Some(found) = changes(case) else { return };
    ui.status(&format!("Steps for {} on {}:", case.account, work.name));
    for (number, line) in wording::steps::mending(found).iter().enumerate() {
        ui.status(&format!("  {}. {line}", number + 1));
    }
    for entry in &found.steps.revived {
        ui.warn(&wording::steps::revived(entry));
    }
}

fn finish(cases: &[MendedAccount], work: &Work, args: &MendArgs, ui: &Ui) -> Exit {
    let out = MendOut::of(cases, work, args);
    ui.give(&out, || out.text(ui));
    cases.iter().map(exit_of).max().unwrap_or(Exit::Done)
}

fn exit_of(case: &MendedAccount) -> Exit {
    let done = match &case.found {
        Err(NoSteps::HomeOnNetwork(_) | NoSteps::Unread(..)) => Exit::NotChecked,
        Err(_) => Exit::Findings,
        Ok(found) if !found.withheld.is_empty() || !found.left.is_empty() => Exit::Findings,
        Ok(_) => Exit::Done,
    };
    match case.state {
        MendState::AsBefore(_) => Exit::Stopped,
        MendState::Unknown(_) => Exit::Midway,
        MendState::Nothing | MendState::Preview | MendState::Done => done,
    }
}
