//! What is told when somebody has left.

use super::kept::KeptKnownOut;
use super::left_behind::LeftBehindOut;
use crate::command::compare::out::problem;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use lavrin_keys::text::{count, printable};
use lavrin_work::offboard::{KeyState, KeyStateReason, Leaver, Row};
use serde::Serialize;

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct OffboardOut<'a> {
    schema: &'static str,
    person: &'a str,
    /// From which day on the person is gone.
    left: String,
    /// What ties the changes of this run together.
    run: &'a str,
    keys: Vec<RowOut>,
    /// Removals that are owed from now on.
    owed: usize,
    /// Kept keys of which the person may have a copy.
    kept: &'a [KeptKnownOut],
    /// What they have left behind beside keys.
    left_behind: &'a [LeftBehindOut],
}

/// One key in one account.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RowOut {
    host: String,
    account: String,
    pub key: String,
    /// `removed`, `refused`, `still-accepted`, `not-removed`, `unreachable`, `no-answer`, `unknown`, `not-managed`, `not-shown` or
    /// `not-shut-out`.
    pub state: &'static str,
    pub why: Option<String>,
}

impl RowOut {
    /// The account and the host, or the host alone.
    pub fn place(&self) -> String {
        let place = if self.account.is_empty() { self.host.clone() } else { format!("{}@{}", self.account, self.host) };
        printable(place.as_bytes())
    }
}

/// A row as programs read it.
pub fn row_out(row: &Row) -> RowOut {
    RowOut {
        host: row.host.clone(),
        account: row.account.clone(),
        key: key(row),
        state: words(row.state).0,
        why: why(row),
    }
}

/// How the command ends because of a row.
pub fn exit_of(row: &Row) -> Exit {
    match row.state {
        KeyState::Removed | KeyState::Refused | KeyState::NotAnswered { removed: true } => Exit::Done,
        KeyState::StillAccepted => Exit::Findings,
        KeyState::NotAnswered { removed: false }
        | KeyState::NotShown
        | KeyState::Unreachable
        | KeyState::NotManaged => Exit::NotChecked,
        KeyState::NotShutOut | KeyState::NotRemoved => Exit::Stopped,
        KeyState::Unknown => Exit::Midway,
    }
}

fn words(state: KeyState) -> (&'static str, &'static str, Label) {
    match state {
        KeyState::Removed => ("removed", "removed", Label::Good),
        KeyState::Refused => ("refused", "refused", Label::Good),
        KeyState::NotAnswered { removed: true } => ("no-answer", "removed; no answer", Label::Warn),
        KeyState::NotAnswered { removed: false } => ("no-answer", "no answer", Label::Warn),
        KeyState::NotShown => ("not-shown", "not shown to be gone", Label::Warn),
        KeyState::NotManaged => ("not-managed", "still there, not managed", Label::Bad),
        KeyState::NotShutOut => ("not-shut-out", "not shut out first", Label::Warn),
        KeyState::Unreachable => ("unreachable", "not reached", Label::Bad),
        KeyState::NotRemoved => ("not-removed", "not removed", Label::Bad),
        KeyState::Unknown => ("unknown", "NOT KNOWN", Label::Bad),
        KeyState::StillAccepted => ("still-accepted", "STILL ACCEPTED", Label::Bad),
    }
}

fn why(row: &Row) -> Option<String> {
    Some(match row.why.as_ref()? {
        KeyStateReason::Change(why) => wording::trouble(why),
        KeyStateReason::Host(fault) => wording::host_fault(fault),
        KeyStateReason::NoProof(why) => wording::no_proof(why),
        KeyStateReason::NotAsked => wording::not_asked(),
        KeyStateReason::List(fault) => problem(fault, "root", &row.host),
        KeyStateReason::NotGone(why) if row.state == KeyState::NotManaged => {
            format!(
                "{}; the register does not manage this account: --everywhere removes it there too",
                wording::not_gone(why)
            )
        }
        KeyStateReason::NotGone(why) => wording::not_gone(why),
        KeyStateReason::NotRead => {
            "its files were not read, and a refusal from here says nothing about other addresses".to_owned()
        }
    })
}

fn key(row: &Row) -> String {
    row.key.map(|key| key.to_string()).unwrap_or_default()
}

fn cells(row: &Row, ui: &Ui) -> Vec<String> {
    let (_, words, label) = words(row.state);
    let place = if row.account.is_empty() { row.host.clone() } else { format!("{}@{}", row.account, row.host) };
    let place = printable(place.as_bytes());
    vec![ui.paint(label, words), ui.paint(Label::Strong, &place), key(row), why(row).unwrap_or_default()]
}

/// Prints it; the rows come in their order.
pub fn print(
    leaver: &Leaver,
    run: &str,
    rows: &[Row],
    owed: usize,
    beside: (&[KeptKnownOut], &[LeftBehindOut]),
    ui: &Ui,
) {
    let (kept, left_behind) = beside;
    let (schema, left) = ("lavrin/offboard/1", leaver.left.to_string());
    let keys = rows.iter().map(row_out).collect();
    let out = OffboardOut { schema, person: &leaver.id, left, run, keys, owed, kept, left_behind };
    ui.give(&out, || {
        text(leaver, rows, owed, ui)
            + &super::kept::text(kept, leaver, ui)
            + &super::left_behind::text(left_behind, &leaver.id, ui)
    });
}

fn text(leaver: &Leaver, rows: &[Row], owed: usize, ui: &Ui) -> String {
    let table: Vec<Vec<String>> = rows.iter().map(|row| cells(row, ui)).collect();
    let mut text: String = columns(&table, 0).into_iter().map(|line| line + "\n").collect();
    let counts = rows.chunk_by(|one, other| one.state == other.state).filter_map(|own| {
        let (_, words, label) = words(own.first()?.state);
        Some(ui.paint(label, &format!("{} {words}", own.len())))
    });
    text += &format!("{}: {}", ui.paint(Label::Strong, &leaver.id), counts.collect::<Vec<_>>().join(", "));
    if owed > 0 {
        let what = count(owed, "removal is owed and listed", "removals are owed and listed");
        text += &format!("\n{what} in owed.toml until it is done: lavrin offboard {}", leaver.id);
    }
    text
}
