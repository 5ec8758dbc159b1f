//! What is told of a rotation.

use crate::error::exit_of_no_steps;
use crate::exit::Exit;
use crate::outcome::KeyAnswer;
use crate::paths;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use lavrin_fleet::fleet::Owner;
use lavrin_fleet::fleet::rotation::{Rotation, RotationStage};
use lavrin_keys::text::{printable, shell_word};
use lavrin_work::Heard;
use lavrin_work::rotate::{Besides, KeptWhy, RotationRow, RotationState};
use serde::Serialize;
use std::path::{Path, PathBuf};

/// What `--format json` prints, also for `--status`: one object for each key that is replaced.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RotateOut {
    schema: &'static str,
    /// What ties the changes of this run together; `lavrin undo --run` takes it.
    run: Option<String>,
    rotations: Vec<RotationOut>,
}

/// A key that is replaced.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RotationOut {
    /// Whose it is.
    owner: String,
    old: String,
    /// The label of the new key.
    label: String,
    new: String,
    /// Since when the new key is known.
    since: Option<String>,
    /// Since when the old key is not used any more; none while it is still to be replaced somewhere.
    retired: Option<String>,
    accounts: Vec<RotatedAccountOut>,
}

/// How far it is in one account; of a host that was not reached there is no account.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RotatedAccountOut {
    host: String,
    account: Option<String>,
    /// `replaced`, `both`, `old`, `not-managed`, `not-reached`, `not-shown`, `still-accepted` or `unknown`.
    state: &'static str,
    why: Option<String>,
    /// What the host says of the new key and of the old one, where it was asked in this run.
    new_key: Option<KeyAnswer>,
    old_key: Option<KeyAnswer>,
}

impl RotationOut {
    /// By rows.
    pub fn of(rotation: &Rotation, rows: &[RotationRow], retired_now: bool) -> Self {
        let today = retired_now.then(crate::command::register::today);
        let retired = rotation.retired.or(today);
        let account = |row: &RotationRow| RotatedAccountOut {
            host: row.host.clone(),
            account: (!row.account.is_empty()).then(|| row.account.clone()),
            state: words(row.state).0,
            why: why(row),
            new_key: row.new.as_ref().map(|heard| wording::heard(heard).0),
            old_key: row.old.as_ref().map(|heard| wording::heard(heard).0),
        };
        Self {
            owner: rotation.owner.name(),
            old: rotation.old_print().to_string(),
            label: rotation.label.clone(),
            new: rotation.new_print().to_string(),
            since: rotation.begun.map(|day| day.to_string()),
            retired: retired.map(|day| day.to_string()),
            accounts: rows.iter().map(account).collect(),
        }
    }
}

/// All of them, as they are printed.
pub fn object(run: Option<&str>, rotations: Vec<RotationOut>) -> RotateOut {
    RotateOut { schema: "lavrin/rotate/1", run: run.map(str::to_owned), rotations }
}

fn words(state: RotationState) -> (&'static str, &'static str, Label) {
    match state {
        RotationState::Replaced => ("replaced", "replaced", Label::Good),
        RotationState::Beside => ("both", "both keys", Label::Warn),
        RotationState::Old => ("old", "old key only", Label::Warn),
        RotationState::NotManaged => ("not-managed", "old key, not managed", Label::Warn),
        RotationState::NotReached => ("not-reached", "not reached", Label::Warn),
        RotationState::NotShown => ("not-shown", "not shown to be gone", Label::Warn),
        RotationState::StillAccepted => ("still-accepted", "STILL ACCEPTED", Label::Bad),
        RotationState::Unknown => ("unknown", "NOT KNOWN", Label::Bad),
    }
}

fn why(row: &RotationRow) -> Option<String> {
    if row.state == RotationState::NotManaged {
        return Some("the register does not manage this account: --everywhere replaces it there too".to_owned());
    }
    let text = match row.why.as_ref()? {
        KeptWhy::Change(why) => wording::trouble(why),
        KeptWhy::NotPossible(why) => crate::command::compare::out::problem(why, &row.account, &row.host),
        KeptWhy::Host(fault) => wording::host_fault(fault),
        KeptWhy::NotProven(heard) => {
            let (answer, why) = wording::heard(heard);
            let why = why.map(|why| format!(" ({why})")).unwrap_or_default();
            format!("the new key is {} from here{why}, so the old one stays", answer.word())
        }
        KeptWhy::NoGrant => format!(
            "no grant of the new key covers {}: lavrin grant PERSON {} --host {}",
            printable(row.account.as_bytes()),
            shell_word(&row.account),
            row.host
        ),
        KeptWhy::OtherOwner => "the old key is somebody else's too, who has a grant: lavrin register check".to_owned(),
        KeptWhy::OtherAccount(other) => format!("waits for {} on this host", printable(other.as_bytes())),
        KeptWhy::NotNow => "waits for the next run".to_owned(),
        KeptWhy::OwnLogin => {
            "the old key is that of this login: run it again with --identity and the new key".to_owned()
        }
    };
    Some(text)
}

/// What the host said in this run.
fn proof(row: &RotationRow) -> Option<String> {
    let said = |heard: &Heard| wording::heard(heard).0.word();
    let new = row.new.as_ref().map(|heard| format!("new key {}", said(heard)));
    let old = row.old.as_ref().map(|heard| format!("old key {}", said(heard)));
    let told: Vec<String> = new.into_iter().chain(old).collect();
    (!told.is_empty()).then(|| told.join(", "))
}

fn exit_of(row: &RotationRow) -> Exit {
    let by_state = match row.state {
        RotationState::Replaced => Exit::Done,
        RotationState::Beside | RotationState::Old | RotationState::NotManaged | RotationState::StillAccepted => {
            Exit::Findings
        }
        RotationState::NotReached | RotationState::NotShown => Exit::NotChecked,
        RotationState::Unknown => Exit::Midway,
    };
    let by_why = match &row.why {
        Some(KeptWhy::Change(_)) if row.state != RotationState::Unknown => Exit::Stopped,
        Some(KeptWhy::NotPossible(why)) => exit_of_no_steps(why),
        Some(KeptWhy::Host(_)) => Exit::NotChecked,
        _ => Exit::Done,
    };
    by_state.max(by_why)
}

/// Which key is replaced by which.
pub fn heading(rotation: &Rotation, ui: &Ui) -> String {
    let (Owner::Person { label, .. } | Owner::Machine { label, .. }) = &rotation.owner;
    let since = rotation.begun.map(|day| format!(", since {day}")).unwrap_or_default();
    format!(
        "{}: a new key replaces the old one{since}\n  old  {}  {}\n  new  {}  {}\n",
        ui.paint_status(Label::Strong, &rotation.owner.name()),
        rotation.old_print(),
        printable(label.as_bytes()),
        rotation.new_print(),
        printable(rotation.label.as_bytes()),
    )
}

/// What is about to be done.
pub fn intent(rotation: &Rotation, besides: &Besides<'_>, ui: &Ui) -> String {
    let count_of = |stage: RotationStage| besides.stages().filter(|(_, one)| one.managed && one.stage == stage).count();
    let (old, both, new) =
        (count_of(RotationStage::Old), count_of(RotationStage::Beside), count_of(RotationStage::New));
    let mut text = heading(rotation, ui);
    let told = [(old, "with the old key"), (both, "with both"), (new, "with the new key")];
    let told = told.into_iter().filter(|(number, _)| *number > 0).map(|(number, what)| format!("{number} {what}"));
    let told: Vec<String> = told.collect();
    if !told.is_empty() {
        text += &format!("managed accounts: {}\n", told.join(", "));
    }
    text += "steps on each host: add the new key, ask the server about it from outside, then remove the old key";
    text
}

/// The rows of one rotation.
pub fn table(rows: &[RotationRow], ui: &Ui) -> String {
    let cells = |row: &RotationRow| {
        let (_, words, label) = words(row.state);
        let place = if row.account.is_empty() { row.host.clone() } else { format!("{}@{}", row.account, row.host) };
        let place = printable(place.as_bytes());
        // What was shown stands before what is still to come.
        let proof = proof(row).filter(|_| matches!(row.why, None | Some(KeptWhy::NotNow | KeptWhy::OwnLogin)));
        let told: Vec<String> = proof.into_iter().chain(why(row)).collect();
        let told = told.join("; ");
        vec![ui.paint(label, words), ui.paint(Label::Strong, &place), told]
    };
    let table: Vec<Vec<String>> = rows.iter().map(cells).collect();
    let mut text: String = columns(&table, 2).into_iter().map(|line| line + "\n").collect();
    let mut states: Vec<RotationState> = rows.iter().map(|row| row.state).collect();
    states.sort();
    let counts = states.chunk_by(|one, other| one == other).filter_map(|own| {
        let (_, words, label) = words(*own.first()?);
        Some(ui.paint(label, &format!("{} {words}", own.len())))
    });
    let counts = counts.collect::<Vec<_>>().join(", ");
    text += &if counts.is_empty() { "neither key is on any host".to_owned() } else { counts };
    text
}

/// How the command that goes on is typed. `from`: the public half of the new key, where its private half is needed again.
pub fn next(rotation: &Rotation, from: Option<&Path>, everywhere: bool) -> String {
    let who = match &rotation.owner {
        Owner::Person { id, .. } => id.clone(),
        Owner::Machine { .. } => rotation.old_print().to_string(),
    };
    let from = from.map(|path| format!(" --from-file {}", shell_word(&paths::shown(path)))).unwrap_or_default();
    let everywhere = if everywhere { " --everywhere" } else { "" };
    crate::cli::complete(&format!("lavrin rotate {}{from}{everywhere}", shell_word(&who)))
}

/// A run that came to its end, or that changed nothing.
pub struct RotationEnd<'a> {
    /// What ties its changes together; none where nothing was changed.
    pub run: Option<&'a str>,
    /// Whether the register says now that the old key is retired.
    pub is_retired: bool,
    /// The private half of the new key, where the old one was that of the login.
    pub identity: Option<PathBuf>,
    /// The command that goes on.
    pub next: String,
}

/// Prints how it ended, and gives the exit code.
pub fn print(rotation: &Rotation, rows: &[RotationRow], told: &RotationEnd<'_>, ui: &Ui) -> Exit {
    let out = object(told.run, vec![RotationOut::of(rotation, rows, told.is_retired)]);
    ui.give(&out, || {
        let mut text = table(rows, ui);
        if told.is_retired {
            let missing = rows.iter().any(|row| row.state == RotationState::NotReached);
            let rest = if missing { "; the next enforce replaces it on hosts that were not reached" } else { "" };
            text += &format!("\nthe old key is retired in the register{rest}");
        }
        if let Some(identity) = told.identity.as_ref().filter(|_| told.is_retired) {
            let option = format!("--identity {}", shell_word(&paths::shown(identity)));
            text += &format!("\nfrom now on: {}", ui.paint(Label::Type, &option));
        }
        if rows.iter().any(|row| row.state != RotationState::Replaced) {
            text += &format!("\nto go on: {}", ui.paint(Label::Type, &told.next));
        }
        match told.run {
            Some(run) if !told.is_retired => text += &format!("\nto take all of it back: lavrin undo --run {run}"),
            None if !told.is_retired => text += "\nno host was changed",
            _ => {}
        }
        text
    });
    rows.iter().map(exit_of).max().unwrap_or(Exit::Done)
}

/// Prints what a run would do.
pub fn preview(rotation: &Rotation, rows: &[RotationRow], ui: &Ui) -> Exit {
    ui.give(&object(None, vec![RotationOut::of(rotation, rows, false)]), || table(rows, ui) + "\nnothing was changed");
    let missing = rows.iter().any(|row| row.state == RotationState::NotReached);
    if missing { Exit::NotChecked } else { Exit::Done }
}
