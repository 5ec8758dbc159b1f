//! What is told when somebody has left.

use super::Leaver;
use crate::command::owed::NewDebt;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Format, Label, Ui};
use lavrin_core::key::Fingerprint;
use lavrin_core::text::count;
use schemars::JsonSchema;
use serde::Serialize;

/// What `--format json` prints.
#[derive(Debug, Serialize, JsonSchema)]
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
}

/// One key in one account.
#[derive(Debug, Serialize, JsonSchema)]
struct RowOut {
    host: String,
    account: String,
    key: String,
    /// `removed`, `refused`, `still-accepted`, `not-removed`, `unreachable`, `no-answer`, `unknown`, `not-managed` or
    /// `not-shut-out`.
    state: &'static str,
    why: Option<String>,
}

/// What became of a key in an account; the worst comes last, where it is read first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum State {
    /// It was taken out, and the host refuses it.
    Removed,
    /// There was nothing to take out, and the host refuses it.
    Refused,
    /// The host was asked and gave no answer that shows anything.
    NotAnswered {
        /// Whether it was taken out all the same.
        removed: bool,
    },
    /// The register does not manage the account.
    NotManaged,
    /// The host's list of revoked keys was not written.
    NotShutOut,
    /// The host was not reached.
    Unreachable,
    /// It was not taken out.
    NotRemoved,
    /// Nobody knows.
    Unknown,
    /// The host still takes it.
    StillAccepted,
}

/// One key in one account.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Row {
    state: State,
    host: String,
    account: String,
    key: Option<String>,
    why: Option<String>,
}

impl Row {
    /// A row.
    pub fn of(host: &str, account: &str, key: Fingerprint, state: State, why: Option<String>) -> Self {
        let (host, account, key) = (host.to_owned(), account.to_owned(), Some(key.to_string()));
        Self { state, host, account, key, why }
    }

    /// A host whose list of revoked keys was not written.
    pub fn not_shut_out(host: String, why: String) -> Self {
        Self { state: State::NotShutOut, host, account: String::new(), key: None, why: Some(why) }
    }

    /// Whether the key is certainly gone.
    pub fn is_done(&self) -> bool {
        matches!(self.state, State::Removed | State::Refused | State::NotAnswered { removed: true })
    }

    /// Whether it is about this key in this account.
    pub fn is_about(&self, host: &str, account: &str, key: &str) -> bool {
        self.host == host && self.account == account && self.key.as_deref() == Some(key)
    }

    /// What is owed from now on, if anything.
    pub fn debt(&self, leaver: &Leaver<'_>) -> Option<NewDebt> {
        let owes = matches!(self.state, State::Unreachable | State::NotRemoved | State::Unknown | State::StillAccepted);
        let key = Fingerprint::parse(self.key.as_deref().filter(|_| owes)?).ok()?;
        let (account, host) = (self.account.clone(), self.host.clone());
        Some(NewDebt { key, person: leaver.id.to_owned(), account, host })
    }

    /// How the command ends because of it.
    pub fn exit(&self) -> Exit {
        match self.state {
            State::Removed | State::Refused | State::NotAnswered { removed: true } => Exit::Done,
            State::NotManaged | State::StillAccepted => Exit::Findings,
            State::NotAnswered { removed: false } | State::Unreachable => Exit::NotChecked,
            State::NotShutOut | State::NotRemoved => Exit::Stopped,
            State::Unknown => Exit::Midway,
        }
    }

    fn words(&self) -> (&'static str, &'static str, Label) {
        match self.state {
            State::Removed => ("removed", "removed", Label::Good),
            State::Refused => ("refused", "refused", Label::Good),
            State::NotAnswered { removed: true } => ("no-answer", "removed; no answer", Label::Warn),
            State::NotAnswered { removed: false } => ("no-answer", "no answer", Label::Warn),
            State::NotManaged => ("not-managed", "not managed", Label::Warn),
            State::NotShutOut => ("not-shut-out", "not shut out first", Label::Warn),
            State::Unreachable => ("unreachable", "not reached", Label::Bad),
            State::NotRemoved => ("not-removed", "not removed", Label::Bad),
            State::Unknown => ("unknown", "NOT KNOWN", Label::Bad),
            State::StillAccepted => ("still-accepted", "STILL ACCEPTED", Label::Bad),
        }
    }

    fn cells(&self, ui: &Ui) -> Vec<String> {
        let (_, words, label) = self.words();
        let place = if self.account.is_empty() { self.host.clone() } else { format!("{}@{}", self.account, self.host) };
        let (key, why) = (self.key.clone().unwrap_or_default(), self.why.clone().unwrap_or_default());
        vec![ui.paint(label, words), ui.paint(Label::Strong, &place), key, why]
    }
}

/// Prints it; the rows come in their order.
pub fn print(leaver: &Leaver<'_>, run: &str, rows: &[Row], owed: usize, ui: &Ui) {
    if ui.format == Format::Json {
        let out = |row: &Row| RowOut {
            host: row.host.clone(),
            account: row.account.clone(),
            key: row.key.clone().unwrap_or_default(),
            state: row.words().0,
            why: row.why.clone(),
        };
        let (schema, left) = ("lavrin/offboard/1", leaver.left.to_string());
        let keys = rows.iter().map(out).collect();
        ui.result(&crate::json::print(&OffboardOut { schema, person: leaver.id, left, run, keys, owed }));
        return;
    }
    let table: Vec<Vec<String>> = rows.iter().map(|row| row.cells(ui)).collect();
    let mut text: String = columns(&table, 0).into_iter().map(|line| line + "\n").collect();
    let counts = rows.chunk_by(|one, other| one.state == other.state).filter_map(|own| {
        let (_, words, label) = own.first()?.words();
        Some(ui.paint(label, &format!("{} {words}", own.len())))
    });
    text += &format!("{}: {}", ui.paint(Label::Strong, leaver.id), counts.collect::<Vec<_>>().join(", "));
    if owed > 0 {
        let what = count(owed, "removal is owed and stands", "removals are owed and stand");
        text += &format!("\n{what} in owed.toml until it is done: lavrin offboard {}", leaver.id);
    }
    ui.result(&text);
}
