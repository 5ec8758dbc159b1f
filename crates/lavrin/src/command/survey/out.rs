//! What a survey tells.

use crate::clock;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use lavrin_keys::text::{count, printable};
use lavrin_report::rows::TableRow;
use lavrin_server::abilities::Ability;
use lavrin_work::survey::Surveyed;
use lavrin_work::ways::WayFault;
use serde::Serialize;

/// Up to so many hosts are listed one by one; of more only those that changed or were not seen.
const TOLD_MAX: usize = 60;

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct SurveyOut<'a> {
    schema: &'static str,
    hosts: &'a [SurveyedHostOut],
}

/// One host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct SurveyedHostOut {
    pub host: String,
    /// Why it was not seen.
    pub fault: Option<String>,
    /// Whether a connection came about.
    pub connected: bool,
    pub accounts: usize,
    pub entries: usize,
    /// Open sessions.
    pub sessions: usize,
    /// Whether anything is different from the look before.
    pub changed: bool,
    /// Why this login did not become root there, where it was meant to.
    pub refused: Option<String>,
    /// How many accounts could not be read.
    pub unread: usize,
    /// Accounts that could not be read now and have entries from an earlier look; these stay as they were.
    pub kept: Vec<String>,
    /// When it was seen before this look.
    pub last_seen: Option<String>,
    /// What cannot be done or seen there, whatever rights one has.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    #[cfg_attr(test, schemars(with = "Vec<String>"))]
    pub lacks: Vec<Ability>,
}

impl SurveyedHostOut {
    fn of(seen: &Surveyed) -> Self {
        Self {
            host: seen.host.clone(),
            fault: seen.fault.as_ref().map(wording::host_fault),
            connected: seen.fault.as_ref().is_none_or(WayFault::is_connected),
            accounts: seen.accounts,
            entries: seen.entries,
            sessions: seen.sessions,
            changed: seen.changed,
            refused: seen.refused.as_ref().map(|fault| printable(fault.to_string().as_bytes())),
            unread: seen.unread.len(),
            kept: seen.kept.clone(),
            last_seen: seen.last_seen.map(clock::day_of),
            lacks: seen.lacks.clone(),
        }
    }
}

impl SurveyedHostOut {
    /// Whether something was not read although it was meant to be.
    pub fn is_in_part(&self) -> bool {
        self.refused.is_some() || !self.kept.is_empty()
    }
}

impl TableRow for SurveyedHostOut {
    const COLUMNS: &'static [&'static str] = &[
        "host",
        "connected",
        "fault",
        "accounts",
        "entries",
        "sessions",
        "changed",
        "refused",
        "unread",
        "kept",
        "last_seen",
        "lacks",
    ];
}

/// Begins with the rows, where rows are asked for.
pub fn begin_rows(ui: &Ui) {
    if ui.has_rows() {
        ui.begin_rows::<SurveyedHostOut>();
    }
}

/// The row of a host.
pub fn row_of(seen: &Surveyed, ui: &Ui) {
    if ui.has_rows() {
        ui.rows(&[SurveyedHostOut::of(seen)]);
    }
}

/// Prints it, where it is not told as rows, and gives how it ended.
pub fn print(seen: &[Surveyed], ui: &Ui) -> Exit {
    let hosts: Vec<SurveyedHostOut> = seen.iter().map(SurveyedHostOut::of).collect();
    let hosts = hosts.as_slice();
    if !ui.has_rows() {
        ui.give(&SurveyOut { schema: "lavrin/survey/1", hosts }, || text(hosts, ui));
    }
    if hosts.iter().any(|host| host.refused.is_some()) {
        ui.status(&format!(
            "  next: {}",
            crate::cli::complete("lavrin survey --ask-root-password; or as root: lavrin survey --login root")
        ));
    }
    let whole = |host: &SurveyedHostOut| host.fault.is_none() && !host.is_in_part();
    if hosts.iter().all(whole) { Exit::Done } else { Exit::NotChecked }
}

fn text(hosts: &[SurveyedHostOut], ui: &Ui) -> String {
    let worth_telling =
        |host: &&SurveyedHostOut| hosts.len() <= TOLD_MAX || host.changed || host.fault.is_some() || host.is_in_part();
    let rows: Vec<Vec<String>> = hosts.iter().filter(worth_telling).map(|host| row(host, ui)).collect();
    let lines: String = columns(&rows, 2).into_iter().map(|line| line + "\n").collect();
    let failed = hosts.iter().filter(|host| host.fault.is_some()).count();
    let in_part = hosts.iter().filter(|host| host.is_in_part()).count();
    let changed = hosts.iter().filter(|host| host.changed && host.last_seen.is_some() && !host.is_in_part()).count();
    let mut parts = vec![ui.paint(Label::Good, &format!("{} surveyed", hosts.len() - failed - in_part))];
    if changed > 0 {
        parts.push(ui.paint(Label::Warn, &format!("{changed} changed")));
    }
    if in_part > 0 {
        parts.push(ui.paint(Label::Warn, &format!("{in_part} read in part")));
    }
    if failed > 0 {
        parts.push(ui.paint(Label::Bad, &format!("{failed} failed")));
    }
    format!("{lines}{}: {}", count(hosts.len(), "host", "hosts"), parts.join(", "))
}

/// What was not read although it was meant to be.
fn not_read(host: &SurveyedHostOut) -> Option<String> {
    let unread = count(host.unread, "account", "accounts");
    let refused = host.refused.as_ref().map(|why| format!("{unread} not read, because {why}"));
    let kept = (!host.kept.is_empty()).then(|| {
        let day = host.last_seen.as_deref().unwrap_or_default();
        format!("not read, so kept as known from {day}: {}", host.kept.join(", "))
    });
    let told: Vec<String> = refused.into_iter().chain(kept).collect();
    (!told.is_empty()).then(|| told.join("; "))
}

fn row(host: &SurveyedHostOut, ui: &Ui) -> Vec<String> {
    let name = ui.paint(Label::Strong, &host.host);
    if let Some(fault) = &host.fault {
        let before = host.last_seen.as_ref().map(|day| format!(" (last seen {day})")).unwrap_or_default();
        let word = if host.connected { "not seen" } else { "not reached" };
        return vec![name, ui.paint(Label::Bad, word), format!("{fault}{before}")];
    }
    let what = format!("{}, {}", count(host.accounts, "account", "accounts"), count(host.entries, "entry", "entries"));
    let change = match (&host.last_seen, host.changed) {
        (None, _) => "for the first time".to_owned(),
        (Some(day), true) => ui.paint(Label::Warn, &format!("changed since {day}")),
        (Some(_), false) => "as before".to_owned(),
    };
    if let Some(not_read) = not_read(host) {
        return vec![name, ui.paint(Label::Warn, "in part"), format!("{what}; {not_read}")];
    }
    let lacks = wording::not_applicable(&host.lacks).map(|what| format!("; {what}")).unwrap_or_default();
    vec![name, ui.paint(Label::Good, "seen"), format!("{what}; {change}{lacks}")]
}
