//! What `enforce`, `offboard` and `restore` have in common: how a run begins, and how what came of it is told.

use super::change::{ChangeArgs, exit_of};
use super::compare::moment;
use super::compare::out::{AccountOut, account_text};
use super::pace::PaceArgs;
use super::register::{OpenedRegister, RegisterArgs};
use crate::clock::{self, CLOCK};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::outcome::{ChangeState, KeyAnswer};
use crate::sign_in::SignInArgs;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording::{self, heard};
use clap::Args;
use lavrin_fleet::register::Register;
use lavrin_keys::text::{count, printable};
use lavrin_server::system::System;
use lavrin_store::Keeper;
use lavrin_store::database::Database;
use lavrin_work::change::{Asked, End, Ended, NotShown, Terms, Trouble, run_name};
use lavrin_work::fleet_run::FleetRun;
use lavrin_work::pool::Pace;
use lavrin_work::survey::Surveyed;
use serde::Serialize;
use std::collections::HashMap;
use std::sync::{Arc, Mutex};

/// How many hosts at once, and when to stop.
#[derive(Debug, Args, Clone)]
#[command(next_help_heading = "Many hosts")]
pub struct ManyArgs {
    #[command(flatten)]
    pub pace: PaceArgs,
    /// Start no new host after N failures
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    pub stop_after_failures: Option<u32>,
    /// Remove even the key of this login; you may be locked out
    #[arg(long)]
    pub accept_lockout: bool,
}

/// What every command takes that changes hosts of a register.
#[derive(Debug, Args, Clone)]
pub struct FleetArgs {
    #[command(flatten)]
    pub change: ChangeArgs,
    #[command(flatten)]
    pub many: ManyArgs,
    #[command(flatten)]
    pub sign_in: SignInArgs,
    #[command(flatten)]
    pub register: RegisterArgs,
}

impl ManyArgs {
    /// How much at once, and for how long.
    pub fn pace(&self, register: &Register, ui: &Ui) -> Result<Pace, CommandError> {
        self.pace.pace(register, ui)
    }
}

/// What came of one host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ResultOut {
    /// The host.
    pub host: String,
    /// How it ended.
    pub state: ChangeState,
    /// Why it is not done.
    pub why: Option<String>,
    /// What differed when it was looked at.
    pub accounts: Vec<AccountOut>,
    /// How it ended for each account that was to be changed.
    pub ends: Vec<EndOut>,
    /// What it says from outside about each key.
    pub proofs: Vec<OutsideAnswerOut>,
    /// What differs now, where somebody changed it meanwhile.
    pub now: Vec<AccountOut>,
    #[serde(skip)]
    pub exit: Exit,
}

/// How it ended for one account.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct EndOut {
    pub account: String,
    /// How it ended.
    pub state: ChangeState,
    /// Why it is not done.
    pub why: Option<String>,
}

/// What a host says from outside about a key.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct OutsideAnswerOut {
    pub account: String,
    pub key: String,
    /// What it says.
    pub answer: KeyAnswer,
    /// Whether it should open the account.
    pub should_open: bool,
    /// What is worth knowing about the answer.
    pub note: Option<String>,
}

impl OutsideAnswerOut {
    fn of(asked: &Asked) -> Self {
        let (answer, why) = heard(&asked.heard);
        let explained = "the entry or the settings say why it is refused from here";
        let still = "this key comes from another source than the account's files";
        let note = if !asked.explained.is_empty() && answer == KeyAnswer::Refused {
            Some(explained.to_owned())
        } else if asked.still_open() {
            Some(still.to_owned())
        } else {
            why
        };
        let (account, key) = (asked.account.clone(), asked.fingerprint.to_string());
        Self { account, key, answer, should_open: asked.should_open, note }
    }
}

/// Begins a run over the hosts of a register.
pub fn begin(
    command: &'static str,
    opened: &OpenedRegister,
    many: &ManyArgs,
    reason: Option<String>,
    ui: &Ui,
) -> Result<FleetRun, CommandError> {
    let store = Arc::new(Mutex::new(Database::open(opened.folder.path())?));
    let terms = Terms {
        command,
        run: Some(run_name(&clock::for_file_name())),
        part: None,
        time: clock::timestamp(),
        now: clock::now().unix_timestamp(),
        reason,
        accept_lockout: many.accept_lockout,
        keeper: store.clone() as Arc<dyn Keeper + Send + Sync>,
        interrupt: ui.interrupt.clone(),
    };
    let stop_after = many.stop_after_failures.map(|limit| limit as usize);
    Ok(FleetRun { store, terms, pace: many.pace(opened.register(), ui)?, stop_after, clock: CLOCK })
}

impl ResultOut {
    /// A host on which nothing was tried.
    pub fn still(host: &str, state: ChangeState, why: Option<String>, exit: Exit) -> Self {
        let host = host.to_owned();
        let (accounts, ends, proofs, now) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
        Self { host, state, why, accounts, ends, proofs, now, exit }
    }

    /// A host that was not seen; none where it was.
    pub fn not_seen(seen: &Surveyed) -> Option<Self> {
        let fault = seen.fault.as_ref()?;
        let state = if fault.is_connected() { ChangeState::NotSeen } else { ChangeState::NotReached };
        Some(Self::still(&seen.host, state, Some(wording::host_fault(fault)), Exit::NotChecked))
    }

    /// How it ended on a host. `now` tells what differs there at present.
    pub fn of(host: &str, ended: &Ended, now: impl FnOnce(&Ended) -> Vec<AccountOut>) -> Self {
        let worst = ended.worst();
        let still_open = ended.asked.iter().any(Asked::still_open);
        let exit = exit_of(worst).max(if still_open { Exit::Findings } else { Exit::Done });
        let exit = exit.max(if ended.not_shown.is_empty() { Exit::Done } else { Exit::NotChecked });
        let ends: Vec<EndOut> = ended.accounts.iter().map(EndOut::of).collect();
        let is_mixed = ended.accounts.iter().any(|(_, end)| end.is_done()) && !worst.is_done();
        let why = worst.trouble().map(|why| match ended.accounts.iter().find(|(_, end)| !end.is_done()) {
            Some((account, _)) if is_mixed => {
                format!("{}: {}; {}", printable(account.as_bytes()), wording::trouble(why), rest_done(ended))
            }
            _ => wording::trouble(why),
        });
        let why = why.or_else(|| ended.not_shown.first().map(|one| not_shown(one, ended.not_shown.len())));
        Self {
            ends,
            proofs: ended.asked.iter().map(OutsideAnswerOut::of).collect(),
            now: now(ended),
            ..Self::still(host, state_of(worst), why, exit)
        }
    }

    fn row(&self, ui: &Ui) -> Vec<String> {
        let (word, label) = match self.state {
            ChangeState::Done if self.exit == Exit::Findings => ("done", Label::Bad),
            ChangeState::Done if self.exit == Exit::NotChecked => ("done, not shown", Label::Warn),
            state => state_label(state),
        };
        vec![
            ui.paint(Label::Strong, &self.host),
            ui.paint(label, word),
            self.why.clone().unwrap_or_else(|| self.proven()),
        ]
    }

    /// What was proven, in a few words.
    fn proven(&self) -> String {
        let number = |answer: KeyAnswer| self.proofs.iter().filter(|proof| proof.answer == answer).count();
        let mut parts = Vec::new();
        if self.state == ChangeState::Done {
            parts.push("read back, a new login works".to_owned());
        }
        let told = [
            (KeyAnswer::Accepted, "accepted"),
            (KeyAnswer::Refused, "refused"),
            (KeyAnswer::NoAnswer, "without an answer"),
        ];
        let told = told.into_iter().map(|(answer, words)| (number(answer), words)).filter(|(number, _)| *number > 0);
        let told: Vec<String> =
            told.map(|(number, words)| format!("{} {words}", count(number, "key", "keys"))).collect();
        if !told.is_empty() {
            parts.push(format!("asked from outside: {}", told.join(", ")));
        }
        parts.join("; ")
    }
}

impl EndOut {
    fn of((account, end): &(String, End)) -> Self {
        let why = end.trouble().map(wording::trouble);
        Self { account: printable(account.as_bytes()), state: state_of(end), why }
    }
}

/// A state in words, and how it is painted.
pub fn state_label(state: ChangeState) -> (&'static str, Label) {
    match state {
        ChangeState::Done => ("done", Label::Good),
        ChangeState::NothingToDo => ("nothing to do", Label::Good),
        ChangeState::NotPossible => ("not changed", Label::Warn),
        ChangeState::AsBefore => ("as before", Label::Warn),
        ChangeState::Unknown => ("not known", Label::Bad),
        ChangeState::NotBegun => ("not started", Label::Warn),
        ChangeState::NotReached => ("not reached", Label::Warn),
        ChangeState::NotSeen => ("not seen", Label::Warn),
        ChangeState::Waiting => ("waiting", Label::Warn),
        ChangeState::Preview => ("to be changed", Label::Strong),
    }
}

/// How it ended, as results carry it.
pub fn state_of(end: &End) -> ChangeState {
    match end {
        End::Done => ChangeState::Done,
        End::NotBegun(_) => ChangeState::NotBegun,
        End::AsBefore(_) => ChangeState::AsBefore,
        End::Unknown(_) => ChangeState::Unknown,
    }
}

/// Of a host on which not all accounts ended well.
fn rest_done(ended: &Ended) -> String {
    let done = ended.accounts.iter().filter(|(_, end)| end.is_done()).count();
    format!("{} done", count(done, "other account is", "other accounts are"))
}

/// The results as text: each host, what differs now where that is news, and how many ended how.
pub fn text(results: &[ResultOut], ui: &Ui) -> String {
    let rows: Vec<Vec<String>> = results.iter().map(|result| result.row(ui)).collect();
    let mut text = String::new();
    for (line, result) in columns(&rows, 0).into_iter().zip(results) {
        text += &format!("{line}\n");
        for proof in result.proofs.iter().filter(|proof| is_news(proof)) {
            let label = if proof.answer == KeyAnswer::Accepted { Label::Bad } else { Label::Warn };
            let note = proof.note.as_ref().map(|note| format!(" ({note})")).unwrap_or_default();
            let what = if proof.answer == KeyAnswer::Accepted { "STILL ACCEPTED" } else { proof.answer.word() };
            text += &format!("    {} {} {}{note}\n", proof.account, proof.key, ui.paint(label, what));
        }
        if !result.now.is_empty() {
            text += "    differs now:\n";
            text += &result.now.iter().map(|account| account_text(account, ui)).collect::<String>();
        }
    }
    text + &summary(results, ui)
}

/// Whether an answer is not the one that was wanted.
fn is_news(proof: &OutsideAnswerOut) -> bool {
    match proof.answer {
        KeyAnswer::NoAnswer => true,
        KeyAnswer::NotAsked => false,
        KeyAnswer::Accepted => !proof.should_open,
        KeyAnswer::Refused => proof.should_open,
    }
}

fn summary(results: &[ResultOut], ui: &Ui) -> String {
    let all = [
        (ChangeState::Done, "done", Label::Good),
        (ChangeState::NothingToDo, "with nothing to do", Label::Good),
        (ChangeState::Preview, "to be changed", Label::Strong),
        (ChangeState::Waiting, "waiting for the next run", Label::Warn),
        (ChangeState::NotPossible, "not changed", Label::Warn),
        (ChangeState::AsBefore, "as before", Label::Warn),
        (ChangeState::NotBegun, "not started", Label::Warn),
        (ChangeState::NotReached, "not reached", Label::Warn),
        (ChangeState::NotSeen, "not seen", Label::Warn),
        (ChangeState::Unknown, "in a state that is not known", Label::Bad),
    ];
    let told = all.into_iter().filter_map(|(state, words, label)| {
        let number = results.iter().filter(|result| result.state == state).count();
        (number > 0).then(|| ui.paint(label, &format!("{number} {words}")))
    });
    format!("{}: {}", count(results.len(), "host", "hosts"), told.collect::<Vec<_>>().join(", "))
}

/// What differs on a host now, where somebody changed it while it was worked on.
pub fn differs_now(opened: &OpenedRegister, host: &str, ended: &Ended) -> Vec<AccountOut> {
    let register = opened.register();
    let written = |end: &End| matches!(end.trouble(), Some(Trouble::Carry(_)));
    let somebody_wrote = ended.accounts.iter().any(|(_, end)| written(end));
    let (Some(after), Some(known)) = (ended.after.as_ref().filter(|_| somebody_wrote), register.hosts.get(host)) else {
        return Vec::new();
    };
    let comparer = lavrin_fleet::fleet::compare::Comparer::new(register, moment());
    let found = comparer.host(known, &System::of(after), &HashMap::new());
    found.iter().map(|account| AccountOut::of(account, host)).collect()
}

/// Why a key that was taken out is not shown to be gone.
fn not_shown(one: &NotShown, of: usize) -> String {
    let more = if of > 1 { format!("; so it is with {of} keys") } else { String::new() };
    let (key, account) = (one.key, printable(one.account.as_bytes()));
    format!("{key} is not shown to be gone from {account}: {}{more}", wording::not_gone(&one.why))
}
