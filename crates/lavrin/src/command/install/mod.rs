//! `lavrin install`: put a public key into an account, and prove that it opens it.

mod by_hand;

use super::change::{self, ChangeArgs, ChangeOut, ProofOut, UnderWay};
use super::place::Work;
use crate::account_target::AccountTarget;
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::host::{HostArgs, NeedsRoot};
use crate::input::{self, GivenKey};
use crate::json::{LimitsOut, PlaceOut};
use crate::ui::{Label, Ui};
use crate::{clock, paths, wording};
use clap::Args;
use lavrin_core::finding::Fault;
use lavrin_core::key::{PrivateKey, strength};
use lavrin_core::login::{self, Outcome as Verdict, Question, Reason};
use lavrin_core::policy::Policy;
use lavrin_core::steps::{Steps, guard, install};
use lavrin_core::text::shell_word;
use lavrin_reach::ssh::Connection;
use lavrin_store::Outcome;
use lavrin_work::{Proof, Settled, take_back};
use std::path::PathBuf;
use std::time::Duration;

/// How long the command given with --run may take.
const RUN_TIMEOUT: Duration = Duration::from_mins(1);

/// Put a public key into an account, and prove that it opens it
#[derive(Debug, Args)]
pub struct InstallArgs {
    /// File with one public key; - reads a paste from standard input
    #[arg(value_name = "KEY.pub", value_parser = paths::typed)]
    pub key: PathBuf,
    /// The account: ACCOUNT@HOST, or ACCOUNT with --root
    #[arg(value_name = "ACCOUNT[@HOST]")]
    pub target: AccountTarget,
    /// Work in this local tree (an image, a chroot, / itself) instead of on a host
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub root: Option<PathBuf>,
    /// Install a key below policy all the same; the reason goes on record
    #[arg(long, value_name = "REASON")]
    pub accept_weak: Option<String>,
    /// Run this command through the new login
    #[arg(long, value_name = "COMMAND")]
    pub run: Option<String>,
    /// Print the change, to be pasted into a root shell on a host that is reached only by a console
    #[arg(long, conflicts_with_all = ["root", "run", "read"])]
    pub script: bool,
    /// Take in what that printed on the host
    #[arg(long, value_name = "FILE", value_parser = paths::typed, conflicts_with_all = ["root", "run"])]
    pub read: Option<PathBuf>,
    #[command(flatten)]
    change: ChangeArgs,
    #[command(flatten)]
    host: HostArgs,
}

/// Runs the command.
pub async fn run(args: &InstallArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if args.script {
        return by_hand::script(args, ui);
    }
    if let Some(path) = &args.read {
        return by_hand::read(args, path, ui);
    }
    let policy = Policy::default();
    let given = input::public_key(&args.key)?;
    check_policy(args, &given, &policy, ui)?;
    check_text(&given, ui)?;
    let account = &args.target.account;
    let mut work = Work::open(ui, &args.target, args.root.as_deref(), &args.host, NeedsRoot::Yes).await?;
    work.look(|seen| login::wants(account, seen)).await?;
    let steps = install(account, &given.key, &given.entry(), &work.seen, &policy)
        .map_err(|fault| no_steps(&fault, account, &work.name))?;
    let mut out = out_of(args, &given, &steps, &work);
    if args.change.preview || steps.changes.is_empty() {
        return without_change(args, ui, &mut work, &given, &steps, out).await;
    }
    change::show(ui, &steps, &work);
    change::confirm(ui, &args.change)?;
    let login = work.remote.as_ref().map(|remote| remote.login.clone());
    let changes = guard(&steps, login.as_ref(), false)?;
    let reason = args.accept_weak.clone().or_else(|| args.change.reason.clone());
    let under_way = UnderWay::new("install", &work, &steps, changes, reason)?;
    under_way.carry(&work, &steps).await?;
    conclude(args, ui, &mut work, &given, &steps, &under_way, &mut out).await
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
    let shown = lavrin_core::text::printable(&given.options);
    if shown.to_ascii_lowercase().contains("cert-authority") {
        return Err(CommandError::with(
            Exit::Stopped,
            "the line is marked cert-authority: everyone whom that key certifies would get in",
        )
        .because("nothing was changed")
        .hint("take the option out of the file"));
    }
    if !shown.is_empty() {
        ui.warn(&format!("the entry carries options that go along with it: {shown}"));
    }
    Ok(())
}

fn out_of(args: &InstallArgs, given: &GivenKey, steps: &Steps, work: &Work) -> ChangeOut {
    let present = steps.present.first();
    ChangeOut {
        schema: "lavrin/install/1",
        account: args.target.account.clone(),
        place: work.name.clone(),
        fingerprint: given.key.fingerprint().to_string(),
        steps: wording::steps::changes(steps),
        state: if args.change.preview { "preview" } else { "nothing-to-do" },
        entry: present.map(|(place, _)| place).or(steps.target.as_ref()).map(PlaceOut::from),
        limits: present.map(|(_, limits)| LimitsOut::from(limits)),
        proof: None,
        login: work.remote.as_ref().map(|remote| wording::signed_in(&remote.signed, &work.name)),
        open_sessions: None,
        notes: notes(steps),
    }
}

fn notes(steps: &Steps) -> Vec<String> {
    let mut notes = Vec::new();
    for (place, limits) in &steps.present {
        let limits = wording::limits(limits);
        let what =
            if limits.is_empty() { "without limits".to_owned() } else { format!("restricted: {}", limits.join("; ")) };
        notes.push(format!("{} line {} holds the key already, {what}", place.path, place.line));
    }
    notes.extend(
        steps.dead.iter().map(|place| {
            format!("{} line {} holds the key too, but the server skips that line", place.path, place.line)
        }),
    );
    notes.extend(steps.revived.iter().map(wording::steps::revived));
    notes.extend(steps.not_covered.iter().map(wording::steps::not_covered));
    notes
}

/// The key is there already, or only a preview was asked for.
async fn without_change(
    args: &InstallArgs,
    ui: &Ui,
    work: &mut Work,
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
    let private = private_half(args, ui, given);
    let mut exit = Exit::Done;
    if let Some((proof, _)) = change::proof(work, &args.target.account, &given.key, private).await {
        out.proof = Some(ProofOut::of(&proof));
        if !matches!(proof, Proof::LoggedIn(_) | Proof::WouldAccept) {
            exit = Exit::Findings;
        }
    }
    change::finish(ui, &out, (Label::Good, format!("Nothing to do: the key is already installed for {target}")));
    Ok(exit)
}

/// The private half, where it lies beside the public one or is the identity; a real login proves more than a question.
fn private_half(args: &InstallArgs, ui: &Ui, given: &GivenKey) -> Option<(Box<PrivateKey>, String)> {
    let path = input::private_beside(&args.key)?;
    let key = input::private_key_if_possible(&path, &args.host.sign_in.passphrase());
    match key {
        Some(key) if *key.public() == given.key => Some((Box::new(key), paths::shown(&path))),
        Some(_) => {
            ui.warn(&format!("{} is not the private half of {}", paths::shown(&path), paths::shown(&args.key)));
            None
        }
        None => None,
    }
}

/// Reads back, proves, and either keeps the change or takes it back.
async fn conclude(
    args: &InstallArgs,
    ui: &Ui,
    work: &mut Work,
    given: &GivenKey,
    steps: &Steps,
    under_way: &UnderWay,
    out: &mut ChangeOut,
) -> Result<Exit, CommandError> {
    let account = &args.target.account;
    work.look_again(|seen| login::wants(account, seen)).await?;
    let verdict = login::judge(&question(given, account), &work.seen);
    out.entry = steps.target.as_ref().or_else(|| steps.present.first().map(|(place, _)| place)).map(PlaceOut::from);
    out.state = "done";
    let private = private_half(args, ui, given);
    let Some((proof, connection)) = change::proof(work, account, &given.key, private).await else {
        return read_back(args, ui, work, &verdict, under_way, out);
    };
    out.proof = Some(ProofOut::of(&proof));
    let detail = out.proof.as_ref().map(|proof| proof.detail.clone()).unwrap_or_default();
    let opens = matches!(proof, Proof::LoggedIn(_) | Proof::WouldAccept);
    let explained: Vec<&Reason> =
        verdict.deciding.iter().chain(&verdict.also).filter(|reason| reason.kind.refuses_only_from_here()).collect();
    if !opens && explained.is_empty() {
        return undo(work, steps, under_way, verdict.deciding.as_ref(), &detail, account).await;
    }
    for reason in explained {
        out.notes.push(format!("kept although refused from here: {}", wording::reason::message(reason, account)));
    }
    under_way.close(Outcome::Done, &detail)?;
    if let Some(command) = &args.run {
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
            let said = lavrin_core::text::printable(ran.output.trim_ascii());
            format!("{shown} ended with status {status}: {said}")
        }
    }
}

fn question(given: &GivenKey, account: &str) -> Question {
    Question::plain(account, &given.key, clock::now().unix_timestamp())
}

/// In a local tree no server can be asked: the file is read back and judged by the server's rules.
fn read_back(
    args: &InstallArgs,
    ui: &Ui,
    work: &Work,
    verdict: &login::Verdict,
    under_way: &UnderWay,
    out: &mut ChangeOut,
) -> Result<Exit, CommandError> {
    let account = &args.target.account;
    let judged = match (verdict.outcome, &verdict.deciding) {
        (Verdict::Accepted, _) => "by the server's rules the key opens the account".to_owned(),
        (_, Some(reason)) => wording::reason::message(reason, account),
        (_, None) => "undecided".to_owned(),
    };
    out.proof =
        Some(ProofOut { kind: "read-back", detail: format!("read back from the file; {judged}; no server was asked") });
    under_way.close(Outcome::Done, &judged)?;
    let headline = if verdict.outcome == Verdict::Refused {
        (Label::Warn, format!("Installed for {account} in {}, but a server would refuse it", work.name))
    } else {
        (Label::Good, format!("Installed for {account} in {}", work.name))
    };
    change::finish(ui, out, headline);
    Ok(if verdict.outcome == Verdict::Refused { Exit::Findings } else { Exit::Done })
}

async fn undo(
    work: &Work,
    steps: &Steps,
    under_way: &UnderWay,
    reason: Option<&Reason>,
    detail: &str,
    account: &str,
) -> Result<Exit, CommandError> {
    let settled = take_back(&work.place, &under_way.changes, &steps.account, &work.seen).await;
    let mut error =
        CommandError::with(Exit::Stopped, format!("the key was put in place and did not prove itself: {detail}"));
    if let Some(reason) = reason {
        let finding = wording::reason::message(reason, account);
        let place = reason.path.as_ref().map(|path| format!(" ({path})")).unwrap_or_default();
        error = error.because(format!("by the files: {finding}{place}"));
    }
    error = error.hint(format!("lavrin why {account}@{} --key KEY.pub", work.name));
    if settled == Settled::AsBefore {
        under_way.close(Outcome::AsBefore, detail)?;
        Err(error.because("the change was taken back over the session that was still open; everything is as it was"))
    } else {
        under_way.close(Outcome::Unknown, detail)?;
        error.exit = Exit::Midway;
        Err(error.because("it could not be taken back; the backup is in the state folder"))
    }
}
