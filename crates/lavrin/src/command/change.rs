//! What all commands that change something share: the options, the question, what the journal is told, and how each end of
//! the work is worded.

use super::place::Work;
use crate::clock::{self, CLOCK};
use crate::command::register::OpenedRegister;
use crate::error::{CommandError, host_fault};
use crate::exit::Exit;
use crate::json::{LimitsOut, PlaceOut};
use crate::outcome::{ChangeState, ProofKind};
use crate::paths;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_reach::ssh::ConnectFault;
use lavrin_server::steps::{Steps, guard, guard_around};
use lavrin_store::database::Database;
use lavrin_store::{Keeper, State};
use lavrin_work::Heard;
use lavrin_work::change::{End, Ended, Proof, Task, Terms, Trouble, one};
use lavrin_work::pool::Pace;
use lavrin_work::ways::WayFault;
use serde::Serialize;
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// How long each look may take where there is one place only.
pub const STEP_LIMIT: Duration = Duration::from_mins(10);

/// Options of commands that change something.
#[derive(Debug, Args, Clone)]
#[command(next_help_heading = "Changing something")]
pub struct ChangeArgs {
    /// Show the steps and change nothing
    #[arg(long)]
    pub preview: bool,
    /// Carry out the steps without asking
    #[arg(long)]
    pub yes: bool,
    /// Reason, kept in the journal
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,
}

/// What `--format json` prints for a change.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ChangeOut {
    /// `lavrin/install/1` or `lavrin/remove/1`.
    pub schema: &'static str,
    /// The account.
    pub account: String,
    /// The host or tree.
    pub place: String,
    /// The key.
    pub fingerprint: String,
    /// The steps in words.
    pub steps: Vec<String>,
    /// How it ended.
    pub state: ChangeState,
    /// Where the key stands now.
    pub entry: Option<PlaceOut>,
    /// What limits it there.
    pub limits: Option<LimitsOut>,
    /// What was proven from outside.
    pub proof: Option<ProofOut>,
    /// How the login was opened that was used.
    pub login: Option<String>,
    /// Sessions of the account that are still open; `null` where they could not be counted.
    pub open_sessions: Option<usize>,
    /// What is worth knowing beside.
    pub notes: Vec<String>,
}

/// What a fresh connection showed.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ProofOut {
    /// What it is.
    pub kind: ProofKind,
    /// In words.
    pub detail: String,
}

impl ProofOut {
    /// What a server says, in words.
    pub fn of(heard: &Heard) -> Self {
        let (kind, detail) = match heard {
            Heard::LoggedIn(signed) => (
                ProofKind::LoggedIn,
                format!(
                    "a new login as {} with publickey: {} {}",
                    signed.account,
                    signed.source,
                    signed.key.map(|key| key.to_string()).unwrap_or_default()
                ),
            ),
            Heard::Accepts => (
                ProofKind::WouldAccept,
                "asked from outside, the server would accept the key (no login was made)".to_owned(),
            ),
            Heard::Refuses => (ProofKind::Refused, "asked from outside, the server refuses the key".to_owned()),
            Heard::LoginRefused(rejected) => (
                ProofKind::LoginRefused,
                format!(
                    "the server accepts the key but refuses the login: {}",
                    rejected.tried.last().map(|tried| tried.detail.clone()).unwrap_or_default()
                ),
            ),
            Heard::Nothing(why) => (ProofKind::Nothing, wording::no_proof(why)),
            Heard::LeftOut => (ProofKind::Nothing, "the server was not asked".to_owned()),
        };
        Self { kind, detail }
    }
}

/// Where backups and the journal are kept: in the register that one stands in, else in the state folder.
pub fn keeper(register: Option<&OpenedRegister>) -> Result<Arc<dyn Keeper + Send + Sync>, CommandError> {
    if let Some(opened) = register {
        return Ok(Arc::new(Mutex::new(Database::open(opened.folder.path())?)));
    }
    let folder = paths::state()
        .ok_or_else(|| CommandError::usage("neither HOME nor XDG_STATE_HOME says where backups can be kept"))?;
    Ok(Arc::new(State::at(&folder)))
}

/// What the changes of a command at one place have in common.
pub fn terms(
    command: &'static str,
    register: Option<&OpenedRegister>,
    reason: Option<String>,
    accept_lockout: bool,
    ui: &Ui,
) -> Result<Terms, CommandError> {
    Ok(Terms {
        command,
        run: None,
        part: None,
        time: clock::timestamp(),
        now: clock::now().unix_timestamp(),
        reason,
        accept_lockout,
        keeper: keeper(register)?,
        interrupt: ui.interrupt.clone(),
    })
}

/// What an earlier run left open at this place when it was killed has an end now that the place was seen.
pub fn close_left_open(work: &Work, register: Option<&OpenedRegister>) -> Result<(), CommandError> {
    let keeper: Option<Box<dyn Keeper>> = match register {
        Some(opened) => Database::open_existing(opened.folder.path())?.map(|store| Box::new(store) as Box<dyn Keeper>),
        None => paths::state().map(|folder| Box::new(State::at(&folder)) as Box<dyn Keeper>),
    };
    if let Some(keeper) = keeper {
        let mut left = CLOCK.left_open(keeper.as_ref())?;
        left.close(keeper.as_ref(), work.site.on_record(), &work.seen, &clock::timestamp())?;
    }
    Ok(())
}

/// Steps of accounts at a place, with what they were made from and what lies around them; stops where a way in would be lost,
/// before anybody is asked anything.
pub async fn guarded(
    all: Vec<Steps>,
    work: &mut Work,
    register: Option<&OpenedRegister>,
    accept_lockout: bool,
) -> Result<Vec<Task>, CommandError> {
    let seen = Arc::new(work.seen.clone());
    let around = Arc::new(work.around(&all, &seen, register).await?);
    let task = |steps| Task { steps, seen: seen.clone(), around: around.clone() };
    let tasks: Vec<Task> = all.into_iter().map(task).collect();
    let login = work.site.login();
    let steps: Vec<&Steps> = tasks.iter().map(|task| &task.steps).collect();
    guard_around(&steps, &around, login.as_ref(), clock::now().unix_timestamp(), accept_lockout)?;
    tasks.iter().try_for_each(|task| guard(&task.steps, login.as_ref(), accept_lockout).map(drop))?;
    Ok(tasks)
}

/// Prints the steps, on stderr, so that a question can follow.
pub fn show(ui: &Ui, steps: &Steps, work: &Work) {
    ui.status(&format!("Steps for {} on {}:", steps.account.name, work.name));
    for (number, line) in wording::steps::changes(steps).iter().enumerate() {
        ui.status(&format!("  {}. {line}", number + 1));
    }
    for entry in &steps.revived {
        ui.warn(&wording::steps::revived(entry));
    }
    for what in &steps.not_covered {
        ui.warn(&wording::steps::not_covered(what));
    }
}

/// Asks unless told not to.
pub fn confirm(ui: &Ui, args: &ChangeArgs) -> Result<(), CommandError> {
    if args.yes
        || ui.confirm("Carry these steps out?", &[("without asking", "--yes"), ("only to look", "--preview")])?
    {
        return Ok(());
    }
    Err(CommandError::with(Exit::Stopped, "nothing was changed"))
}

/// Carries tasks out at one place, which is given back where the work came to its end.
pub async fn carry(work: Work, tasks: Vec<Task>, proof: Proof, terms: Terms, ui: &Ui) -> (Option<Work>, Ended) {
    let pace = Pace { parallel: 1, limit: STEP_LIMIT, interrupt: ui.interrupt.clone() };
    let (name, connection) = (work.name, work.seen.connection.clone());
    let (site, ended) = one(work.site, tasks, proof, terms, &pace).await;
    let work = site.map(|site| {
        let mut seen = ended.after.as_deref().cloned().unwrap_or_default();
        seen.connection = connection;
        Work { site, seen, name }
    });
    (work, ended)
}

/// How a command ends because of how the work on an account ended.
pub fn exit_of(end: &End) -> Exit {
    match end {
        End::Done => Exit::Done,
        End::NotBegun(why) => match &**why {
            Trouble::Host(fault) if !is_changed_key(fault) => Exit::NotChecked,
            _ => Exit::Stopped,
        },
        End::AsBefore(_) => Exit::Stopped,
        End::Unknown(_) => Exit::Midway,
    }
}

/// Whether a host shows another key than the known one, which always stops.
fn is_changed_key(fault: &WayFault) -> bool {
    matches!(fault, WayFault::Connect(ConnectFault::HostKeyChanged { .. } | ConnectFault::HostKeyRevoked { .. }))
}

/// Why the work on an account of one place is not done; none where it is.
pub fn error_of(end: &End, account: &str, place: &str) -> Option<CommandError> {
    let why = end.trouble()?;
    let error = match why {
        Trouble::Host(fault) if matches!(end, End::NotBegun(_)) => host_fault(place, fault),
        Trouble::LockOut(lock_out) => lock_out.clone().into(),
        Trouble::Store(fault) => CommandError::with(exit_of(end), fault.to_string()),
        Trouble::NoProof { heard, by_files, .. } => {
            let proof = ProofOut::of(heard).detail;
            let said = format!("the key was put in place and did not prove itself: {proof}");
            let error = CommandError::with(Exit::Stopped, said);
            match by_files {
                Some(reason) => {
                    let finding = wording::reason::message(reason, account);
                    let path = reason.path.as_ref().map(|path| format!(" ({path})")).unwrap_or_default();
                    error.because(format!("by the files: {finding}{path}"))
                }
                None => error,
            }
        }
        Trouble::StandsAgain(_) => CommandError::with(Exit::Midway, "the key was removed, but it is there again")
            .because("something else writes this file: an agent or a configuration management"),
        Trouble::NoPrivateHalf { .. } => CommandError::with(Exit::Stopped, wording::trouble(why))
            .because("if that key did not work, nobody would get in any more")
            .again("with the private half of the new key", "--identity FILE"),
        why => CommandError::with(Exit::Stopped, format!("the change could not be made: {}", wording::trouble(why))),
    };
    Some(state_told(CommandError { exit: exit_of(end), ..error }, end, why, account, place))
}

/// Adds what state things are in, and what to type next.
fn state_told(error: CommandError, end: &End, why: &Trouble, account: &str, place: &str) -> CommandError {
    let look = format!("lavrin why {}", account_at(account, place));
    match (end, why) {
        (_, Trouble::LockOut(_)) => error,
        (End::AsBefore(_), Trouble::NoProof { .. } | Trouble::NoLogin(_)) => error
            .because("the change was taken back over the session that was still open; everything is as it was")
            .hint(look),
        (End::AsBefore(_), _) => error.because("everything is as it was").again("it looks at the host again first", ""),
        (End::NotBegun(_), _) => error.because("nothing was changed"),
        (End::Unknown(_), Trouble::StandsAgain(_)) => error.hint(look),
        (End::Unknown(_), _) => error
            .because(format!(
                "what state {account} is in there is not known; the backup is in the store: lavrin history"
            ))
            .hint(look),
        (End::Done, _) => error,
    }
}

/// An account as it is typed: `ACCOUNT@HOST`, or with the tree.
pub fn account_at(account: &str, place: &str) -> String {
    if place.starts_with(['/', '~', '.']) {
        format!("{account} --tree {}", lavrin_keys::text::shell_word(place))
    } else {
        format!("{account}@{place}")
    }
}

/// Prints how it ended.
pub fn finish(ui: &Ui, out: &ChangeOut, headline: (Label, String)) {
    ui.give(out, || finish_text(ui, out, &headline));
}

fn finish_text(ui: &Ui, out: &ChangeOut, headline: &(Label, String)) -> String {
    let mut text = format!("{}\n", ui.paint(headline.0, &headline.1));
    if out.state == ChangeState::Preview {
        for (number, step) in out.steps.iter().enumerate() {
            text += &format!(
                "  {}. {step}
",
                number + 1
            );
        }
    }
    if let Some(entry) = &out.entry {
        text += &format!("  entry   {}\n", entry.words());
    }
    text += &format!("  key     {}\n", out.fingerprint);
    if let Some(proof) = &out.proof {
        let label =
            if matches!(proof.kind, ProofKind::Nothing | ProofKind::LoginRefused) { Label::Warn } else { Label::Good };
        text += &format!("  proof   {}\n", ui.paint(label, &proof.detail));
    }
    for note in &out.notes {
        text += &format!("  note    {note}\n");
    }
    text
}
