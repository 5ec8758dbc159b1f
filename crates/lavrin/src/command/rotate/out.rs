//! What a rotation prints.

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
use lavrin_work::rotate::{Besides, RotationRow, RotationState, StaysWhy};
use serde::Serialize;
use std::path::{Path, PathBuf};

/// What `--format json` prints, also for `--status`: one object for each key that is replaced.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RotateOut<'a> {
    schema: &'static str,
    rotations: Vec<RotationOut>,
    /// Keys that are older than policy allows, and for which there is no new one.
    due: Vec<&'a DueKeyOut>,
}

const SCHEMA: &str = "lavrin/rotate/1";

/// A key that is replaced.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RotationOut {
    /// Whose it is.
    owner: String,
    /// What ties the changes of this run together; `lavrin undo --run` takes it.
    run: Option<String>,
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
    /// `replaced`, `both`, `old`, `not-managed`, `not-read`, `not-reached`, `not-shown`, `still-accepted` or `unknown`.
    state: &'static str,
    why: Option<String>,
    /// What the host says of the new key and of the old one, where it was asked in this run.
    new_key: Option<KeyAnswer>,
    old_key: Option<KeyAnswer>,
}

impl RotationOut {
    /// By rows.
    pub fn of(rotation: &Rotation, rows: &[RotationRow], retired_now: bool, run: Option<&str>) -> Self {
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
            run: run.map(str::to_owned),
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
pub fn object(rotations: Vec<RotationOut>) -> RotateOut<'static> {
    RotateOut { schema: SCHEMA, rotations, due: Vec::new() }
}

fn words(state: RotationState) -> (&'static str, &'static str, Label) {
    match state {
        RotationState::Replaced => ("replaced", "replaced", Label::Good),
        RotationState::Beside => ("both", "both keys", Label::Warn),
        RotationState::Old => ("old", "old key only", Label::Warn),
        RotationState::NotManaged => ("not-managed", "old key, not managed", Label::Warn),
        RotationState::NotRead => ("not-read", "not read", Label::Warn),
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
    if row.why.is_none() && matches!(row.state, RotationState::NotRead | RotationState::NotShown) {
        return Some("not everything that the server reads for this account was read: lavrin audit".to_owned());
    }
    let text = match row.why.as_ref()? {
        StaysWhy::Change(why) => wording::trouble(why),
        StaysWhy::NotPossible(why) => crate::command::compare::out::problem(why, &row.account, &row.host),
        StaysWhy::Host(fault) => wording::host_fault(fault),
        StaysWhy::NotProven(heard) => {
            let (answer, why) = wording::heard(heard);
            let why = why.map(|why| format!(" ({why})")).unwrap_or_default();
            format!("the new key is {} from here{why}, so the old one stays", answer.word())
        }
        StaysWhy::NoGrant => format!(
            "no grant of the new key covers {}: lavrin grant PERSON {} --host {}",
            printable(row.account.as_bytes()),
            shell_word(&row.account),
            row.host
        ),
        StaysWhy::OtherOwner => "the old key is somebody else's too, who has a grant: lavrin register check".to_owned(),
        StaysWhy::OtherAccount(other) => format!("waits for {} on this host", printable(other.as_bytes())),
        StaysWhy::NotNow => "waits for the next run".to_owned(),
        StaysWhy::OwnLogin => {
            "the old key is that of this login: run it again with --identity and the new key".to_owned()
        }
    };
    Some(text)
}

/// What the host said in this run.
fn proof(row: &RotationRow) -> Option<String> {
    let said = |heard: &Heard| wording::heard(heard).0.word();
    let new = row.new.as_ref().map(|heard| match heard {
        Heard::LoggedIn(_) => "a login with the new key worked".to_owned(),
        heard => format!("new key {}", said(heard)),
    });
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
        RotationState::NotRead | RotationState::NotReached | RotationState::NotShown => Exit::NotChecked,
        RotationState::Unknown => Exit::Midway,
    };
    let by_why = match &row.why {
        Some(StaysWhy::Change(_)) if row.state != RotationState::Unknown => Exit::Stopped,
        Some(StaysWhy::NotPossible(why)) if row.state != RotationState::NotRead => exit_of_no_steps(why),
        Some(StaysWhy::Host(_)) => Exit::NotChecked,
        _ => Exit::Done,
    };
    by_state.max(by_why)
}

/// Which key is replaced by which.
pub fn heading(rotation: &Rotation, ui: &Ui) -> String {
    let version = if matches!(rotation.owner, Owner::Kept { .. }) { "version " } else { "" };
    let label = rotation.owner.label();
    let since = rotation.begun.map(|day| format!(", since {day}")).unwrap_or_default();
    format!(
        "{}: a new key replaces the old one{since}\n  old  {}  {version}{}\n  new  {}  {version}{}\n",
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
        let proof = proof(row).filter(|_| matches!(row.why, None | Some(StaysWhy::NotNow | StaysWhy::OwnLogin)));
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
        Owner::Person { id, .. } => shell_word(id),
        Owner::Machine { .. } => rotation.old_print().to_string(),
        Owner::Kept { account, host, .. } => format!("--account {}", shell_word(&format!("{account}@{host}"))),
    };
    let from = from.map(|path| format!(" --from-file {}", shell_word(&paths::shown(path)))).unwrap_or_default();
    let everywhere = if everywhere { " --everywhere" } else { "" };
    crate::cli::complete(&format!("lavrin rotate {who}{from}{everywhere}"))
}

/// What became of one key.
pub struct RotationEnd {
    /// The two keys.
    pub rotation: Rotation,
    /// How far it is everywhere.
    pub rows: Vec<RotationRow>,
    /// What ties the changes of the run together; none where nothing was changed.
    pub run: Option<String>,
    /// Whether the register says now that the old key is retired.
    pub is_retired: bool,
    /// The private half of the new key, where the old one was that of the login.
    pub identity: Option<PathBuf>,
    /// The command that goes on.
    pub next: String,
    /// Whether it was only looked at.
    pub is_preview: bool,
}

impl RotationEnd {
    fn text(&self, ui: &Ui) -> String {
        let mut text = table(&self.rows, ui);
        if self.is_preview {
            return text + "\nnothing was changed";
        }
        if self.is_retired {
            let missing = self.rows.iter().any(|row| row.state == RotationState::NotReached);
            let rest = if missing { "; the next enforce replaces it on hosts that were not reached" } else { "" };
            text += &format!("\nthe old key is retired in the register{rest}");
        }
        if let Some(identity) = self.identity.as_ref().filter(|_| self.is_retired) {
            let option = format!("--identity {}", shell_word(&paths::shown(identity)));
            text += &format!("\nfrom now on: {}", ui.paint(Label::Type, &option));
        }
        if self.rows.iter().any(|row| row.state != RotationState::Replaced) {
            text += &format!("\nto go on: {}", ui.paint(Label::Type, &self.next));
        }
        match &self.run {
            Some(run) if !self.is_retired => text += &format!("\nto take all of it back: lavrin undo --run {run}"),
            None if !self.is_retired => text += "\nno host was changed",
            _ => {}
        }
        text
    }

    /// Why it is not done, by its worst account.
    pub fn why(&self) -> Option<String> {
        let worst = self.rows.iter().filter(|row| row.state != RotationState::Replaced).max_by_key(|row| row.state)?;
        let (_, words, _) = words(worst.state);
        Some(why(worst).map_or_else(|| words.to_owned(), |why| format!("{words}: {why}")))
    }

    fn exit(&self) -> Exit {
        if self.is_preview {
            let missing = self.rows.iter().any(|row| row.state == RotationState::NotReached);
            return if missing { Exit::NotChecked } else { Exit::Done };
        }
        self.rows.iter().map(exit_of).max().unwrap_or(Exit::Done)
    }
}

/// A key that should be replaced, and for which no new one is there.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct DueKeyOut {
    /// Whose it is.
    pub owner: String,
    /// Its label.
    pub label: String,
    pub key: String,
    /// Its age in days.
    pub days: i64,
    /// What begins its rotation.
    pub next: String,
}

/// Prints how it ended for each key, and the keys for which there is no new one; gives the exit code.
pub fn print(ends: &[RotationEnd], due: &[DueKeyOut], ui: &Ui) -> Exit {
    let of = |end: &RotationEnd| RotationOut::of(&end.rotation, &end.rows, end.is_retired, end.run.as_deref());
    let out = RotateOut { schema: SCHEMA, rotations: ends.iter().map(of).collect(), due: due.iter().collect() };
    ui.give(&out, || {
        let mut parts: Vec<String> = ends.iter().map(|end| end.text(ui)).collect();
        let row = |one: &DueKeyOut| {
            let age = format!("{} days old", one.days);
            vec![
                ui.paint(Label::Strong, &one.owner),
                one.label.clone(),
                one.key.clone(),
                age,
                ui.paint(Label::Type, &one.next),
            ]
        };
        let rows: Vec<Vec<String>> = due.iter().map(row).collect();
        if !rows.is_empty() {
            let lines: String = columns(&rows, 2).into_iter().map(|line| line + "\n").collect();
            parts.push(format!("no new key yet for:\n{}", lines.trim_end()));
        }
        if parts.is_empty() {
            parts.push("no key is older than policy allows".to_owned());
        }
        parts.join("\n\n")
    });
    let open = if due.is_empty() { Exit::Done } else { Exit::Findings };
    ends.iter().map(RotationEnd::exit).max().unwrap_or(Exit::Done).max(open)
}
