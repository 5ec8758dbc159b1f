//! `lavrin install`: put a public key into an account, and prove that it opens it.

mod by_hand;
mod new_account;

use super::change::{self, ChangeArgs, ChangeOut, ProofOut};
use super::place::Work;
use super::register::{OpenedRegister, RegisterArgs, policy};
use crate::account_target::AccountTarget;
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::host::HostArgs;
use crate::input::{self, GivenKey};
use crate::json::{LimitsOut, PlaceOut};
use crate::outcome::{ChangeState, ProofKind};
use crate::ui::{Label, Ui};
use crate::{clock, paths, wording};
use clap::Args;
use lavrin_keys::key::policy::Policy;
use lavrin_keys::key::strength;
use lavrin_keys::text::shell_word;
use lavrin_reach::ssh::Connection;
use lavrin_server::device::LimitBroken;
use lavrin_server::finding::Fault;
use lavrin_server::login::{self, Outcome as Verdict, Question};
use lavrin_server::steps::{Installation, Steps, install};
use lavrin_server::system::System;
use lavrin_work::change::{Ended, Proof};
use lavrin_work::ways::Rights;
use lavrin_work::{Heard, Holder, Scope};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

/// How long the command given with --try-command may take.
const RUN_TIMEOUT: Duration = Duration::from_mins(1);

/// Put a public key into an account, and prove that it opens it
#[derive(Debug, Args)]
pub struct InstallArgs {
    /// File with one public key; - for a paste on standard input
    #[arg(value_name = "KEY.pub", value_parser = paths::typed)]
    pub key: PathBuf,
    /// The account: ACCOUNT@HOST, or ACCOUNT with --tree
    #[arg(value_name = "ACCOUNT[@HOST]")]
    pub target: AccountTarget,
    /// A local tree (an image, a chroot, / itself) instead of a host
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub tree: Option<PathBuf>,
    /// Make the account where it is not there, without a password
    #[arg(long, conflicts_with_all = ["tree", "script", "read"])]
    pub create_account: bool,
    /// Put the account that is made into this group (repeatable)
    #[arg(long, value_name = "GROUP", requires = "create_account")]
    pub group: Vec<String>,
    /// Shell of the account that is made
    #[arg(long, value_name = "PATH", requires = "create_account")]
    pub shell: Option<String>,
    /// Home of the account that is made
    #[arg(long, value_name = "PATH", requires = "create_account")]
    pub home: Option<String>,
    /// Install a key below policy; the reason is kept
    #[arg(long, value_name = "REASON")]
    pub accept_weak: Option<String>,
    /// Run this command over the new login
    #[arg(long, value_name = "COMMAND")]
    pub try_command: Option<String>,
    /// Print the change, to paste into a root shell on the host
    #[arg(long, conflicts_with_all = ["tree", "try_command", "read"])]
    pub script: bool,
    /// Read what that printed on the host
    #[arg(long, value_name = "FILE", value_parser = paths::typed, conflicts_with_all = ["tree", "try_command"])]
    pub read: Option<PathBuf>,
    #[command(flatten)]
    change: ChangeArgs,
    #[command(flatten)]
    host: HostArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs the command.
pub async fn run(args: &InstallArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let register = args.register.here_for_host(args.tree.as_deref(), ui)?;
    if args.script {
        return by_hand::script(args, register.as_ref(), ui);
    }
    if let Some(path) = &args.read {
        return by_hand::read(args, path, register.as_ref(), ui);
    }
    let policy = policy(register.as_ref());
    let given = input::public_key(&args.key)?;
    check_policy(args, &given, &policy, ui)?;
    check_limits(args, &given, register.as_ref())?;
    check_text(&given, ui)?;
    let account = &args.target.account;
    let (root, needed) = (args.tree.as_deref(), Rights::Needed);
    let mut work = Work::open(ui, register.as_ref(), &args.target, root, &args.host, needed).await?;
    let scope = Scope::Account(account.clone());
    work.look(&|seen| scope.wants(seen)).await?;
    change::close_left_open(&work, register.as_ref())?;
    if args.create_account && work.seen.account(account).is_none() {
        match new_account::make(args, work, register.as_ref(), ui).await? {
            Some(made) => work = made,
            None => return Ok(Exit::Done),
        }
        work.look_again(&|seen| scope.wants(seen)).await?;
    }
    let plan = install(account, &given.key, &given.entry(), &System::of(&work.seen), &policy)
        .map_err(|fault| no_steps(&fault, account, &work.name))?;
    let mut out = out_of(args, &given, &plan, &work);
    let steps = &plan.steps;
    if args.change.preview || steps.changes.is_empty() {
        return without_change(args, ui, &work, &given, steps, out).await;
    }
    let tasks = change::guarded(vec![steps.clone()], &mut work, register.as_ref(), false).await?;
    change::show(ui, steps, &work);
    change::confirm(ui, &args.change)?;
    let reason = args.accept_weak.clone().or_else(|| args.change.reason.clone());
    let terms = change::terms("install", register.as_ref(), reason, false, ui)?;
    let proof = Proof { holder: private_half(args, ui, &given), ..Proof::of(scope) };
    let (work, ended) = change::carry(work, tasks, proof.clone(), terms, ui).await;
    let end = ended.worst();
    match (change::error_of(end, account, &out.place), work) {
        (None, Some(work)) => conclude(args, ui, &work, &given, &ended, &proof, &mut out).await,
        (Some(error), _) => Err(error),
        (None, None) => Err(CommandError::with(Exit::Midway, "the program failed")),
    }
}

/// What the register says that the host can bear.
fn check_limits(args: &InstallArgs, given: &GivenKey, register: Option<&OpenedRegister>) -> Result<(), CommandError> {
    let id = args.target.host.as_deref().unwrap_or_default();
    let host = register.and_then(|opened| opened.register().hosts.get(id));
    let broken = host.and_then(|host| host.limits.against_entry(&given.key, &given.comment, &given.entry()));
    let Some(broken) = broken else { return Ok(()) };
    let error =
        CommandError::with(Exit::Stopped, format!("{id} does not take this key: {}", wording::compare::taken(&broken)))
            .because("nothing was changed");
    Err(match broken {
        LimitBroken::Algorithm(_) | LimitBroken::RsaBits(_) => error.hint(format!("lavrin key generate --for {id}")),
        _ => error.hint(format!("lavrin host show {id}")),
    })
}

fn check_policy(args: &InstallArgs, given: &GivenKey, policy: &Policy, ui: &Ui) -> Result<(), CommandError> {
    let fingerprint = given.key.fingerprint();
    let objections = strength::objections(&given.key, policy);
    let words: Vec<String> = objections
        .iter()
        .map(|weakness| wording::finding::message(&Fault::WeakKey { weakness: weakness.clone(), fingerprint }))
        .collect();
    if words.is_empty() {
        return Ok(());
    }
    if args.accept_weak.as_ref().is_some_and(|reason| !reason.trim().is_empty()) {
        ui.warn(&format!("installed against policy, which goes on record: {}", words.join("; ")));
        return Ok(());
    }
    let refused =
        CommandError::with(Exit::Stopped, format!("the key {fingerprint} is below policy and was not installed"));
    let refused = words.into_iter().fold(refused, CommandError::because);
    Err(refused.hint("have a better one made: lavrin key generate").hint("or put it on record: --accept-weak REASON"))
}

/// What was repaired is told. Options in front of the key go along with it, so they are shown; one that makes it an
/// authority is refused.
fn check_text(given: &GivenKey, ui: &Ui) -> Result<(), CommandError> {
    if !given.repairs.is_empty() {
        ui.warn(&format!("the key was put together from a damaged text: {}", given.repairs.join("; ")));
    }
    let shown = lavrin_keys::text::printable(&given.options);
    if shown.to_ascii_lowercase().contains("cert-authority") {
        return Err(CommandError::with(
            Exit::Stopped,
            "the line is marked cert-authority: everyone with a certificate signed by that key could log in",
        )
        .because("nothing was changed")
        .hint("take the option out of the file"));
    }
    if !shown.is_empty() {
        ui.warn(&format!("the entry carries options that go along with it: {shown}"));
    }
    Ok(())
}

fn out_of(args: &InstallArgs, given: &GivenKey, plan: &Installation, work: &Work) -> ChangeOut {
    let present = plan.present.first();
    ChangeOut {
        schema: "lavrin/install/1",
        account: args.target.account.clone(),
        place: work.name.clone(),
        fingerprint: given.key.fingerprint().to_string(),
        steps: wording::steps::changes(&plan.steps),
        state: if args.change.preview { ChangeState::Preview } else { ChangeState::NothingToDo },
        entry: present.map(|(place, _)| place).or(plan.target.as_ref()).map(PlaceOut::from),
        limits: present.map(|(_, limits)| LimitsOut::from(limits)),
        proof: None,
        login: work.login_words(),
        open_sessions: None,
        notes: notes(plan),
    }
}

fn notes(plan: &Installation) -> Vec<String> {
    let mut notes = Vec::new();
    for (place, limits) in &plan.present {
        let limits = wording::limits(limits);
        let what =
            if limits.is_empty() { "without limits".to_owned() } else { format!("restricted: {}", limits.join("; ")) };
        notes.push(format!("{} has the key already, {what}", wording::place(place)));
    }
    notes.extend(
        plan.dead
            .iter()
            .map(|place| format!("{} has the key too, but the server skips that line", wording::place(place))),
    );
    notes.extend(plan.steps.revived.iter().map(wording::steps::revived));
    notes.extend(plan.steps.not_covered.iter().map(wording::steps::not_covered));
    notes
}

/// The key is there already, or only a preview was asked for.
async fn without_change(
    args: &InstallArgs,
    ui: &Ui,
    work: &Work,
    given: &GivenKey,
    steps: &Steps,
    mut out: ChangeOut,
) -> Result<Exit, CommandError> {
    let target = format!("{} on {}", args.target.account, work.name);
    if args.change.preview {
        let what = if steps.changes.is_empty() { "Nothing would be changed for" } else { "This would be done for" };
        change::finish(ui, &out, (Label::Strong, format!("{what} {target}; nothing was changed")));
        return Ok(Exit::Done);
    }
    let mut exit = Exit::Done;
    if work.site.is_host() {
        let holder = private_half(args, ui, given);
        let keys = std::slice::from_ref(&given.key);
        let heard = work.site.hear(&args.target.account, keys, holder.as_ref()).await;
        out.proof = heard.first().map(ProofOut::of);
        if !heard.first().is_some_and(Heard::opens) {
            exit = Exit::Findings;
        }
    }
    change::finish(ui, &out, (Label::Good, format!("Nothing to do: the key is already installed for {target}")));
    Ok(exit)
}

/// The private half, where it lies beside the public one or is the identity; a real login proves more than a question.
fn private_half(args: &InstallArgs, ui: &Ui, given: &GivenKey) -> Option<Holder> {
    let path = input::private_beside(&args.key)?;
    let key = input::private_key_if_possible(&path, &args.host.sign_in.passphrase())?;
    if *key.public() == given.key {
        return Some(Holder { key: Arc::new(key), source: paths::shown(&path) });
    }
    ui.warn(&format!("{} is not the private half of {}", paths::shown(&path), paths::shown(&args.key)));
    None
}

/// Tells what was proven.
async fn conclude(
    args: &InstallArgs,
    ui: &Ui,
    work: &Work,
    given: &GivenKey,
    ended: &Ended,
    proof: &Proof,
    out: &mut ChangeOut,
) -> Result<Exit, CommandError> {
    let account = &args.target.account;
    out.state = ChangeState::Done;
    let fingerprint = given.key.fingerprint();
    let asked = ended.asked.iter().find(|asked| asked.fingerprint == fingerprint);
    let Some(asked) = asked else { return Ok(read_back(args, ui, work, given, out)) };
    out.proof = Some(ProofOut::of(&asked.heard));
    let opens = asked.heard.opens();
    for reason in asked.explained.iter().filter(|_| !opens) {
        out.notes.push(format!("kept although refused from here: {}", wording::reason::message(reason, account)));
    }
    if let Some(command) = &args.try_command {
        let connection = match (&proof.holder, &asked.heard) {
            (Some(holder), Heard::LoggedIn(_)) => work.site.log_in(account, holder).await,
            _ => None,
        };
        out.notes.push(run_note(command, connection.as_ref()).await);
    }
    let headline = if opens {
        (Label::Good, format!("Installed: the key opens {account} on {}", work.name))
    } else {
        (Label::Warn, format!("Installed for {account} on {}; from here the server refuses it", work.name))
    };
    change::finish(ui, out, headline);
    Ok(if opens { Exit::Done } else { Exit::Findings })
}

/// Runs the user's own command through the new login and tells how it went.
async fn run_note(command: &str, connection: Option<&Connection>) -> String {
    let shown = shell_word(command);
    let Some(connection) = connection else {
        return format!("{shown} was not run: that needs the private half, and it is not at hand");
    };
    match connection.run(command, RUN_TIMEOUT).await {
        Err(fault) => format!("{shown} was not run: {fault}"),
        Ok(ran) => {
            let status = ran.status.map_or_else(|| "none".to_owned(), |status| status.to_string());
            let said = lavrin_keys::text::printable(ran.output.trim_ascii());
            format!("{shown} ended with status {status}: {said}")
        }
    }
}

/// In a local tree no server can be asked: the file is read back and judged by the server's rules.
fn read_back(args: &InstallArgs, ui: &Ui, work: &Work, given: &GivenKey, out: &mut ChangeOut) -> Exit {
    let account = &args.target.account;
    let question = Question::plain(account, &given.key, clock::now().unix_timestamp());
    let verdict = login::judge(&question, &System::of(&work.seen));
    let judged = match (verdict.outcome, &verdict.deciding) {
        (Verdict::Accepted, _) => "by the server's rules the key opens the account".to_owned(),
        (_, Some(reason)) => wording::reason::message(reason, account),
        (_, None) => "undecided".to_owned(),
    };
    out.proof = Some(ProofOut {
        kind: ProofKind::ReadBack,
        detail: format!("read back from the file; {judged}; no server was asked"),
    });
    let headline = if verdict.outcome == Verdict::Refused {
        (Label::Warn, format!("Installed for {account} in {}, but a server would refuse it", work.name))
    } else {
        (Label::Good, format!("Installed for {account} in {}", work.name))
    };
    change::finish(ui, out, headline);
    if verdict.outcome == Verdict::Refused { Exit::Findings } else { Exit::Done }
}
