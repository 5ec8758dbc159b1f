//! What a survey tells.

use crate::clock;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use lavrin_keys::text::count;
use lavrin_server::abilities::Ability;
use lavrin_work::survey::Surveyed;
use serde::Serialize;

/// Up to so many hosts are told one by one; of more only those that changed or were not seen.
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
    pub accounts: usize,
    pub entries: usize,
    /// Open sessions.
    pub sessions: usize,
    /// Whether anything is different from the look before.
    pub changed: bool,
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
            accounts: seen.accounts,
            entries: seen.entries,
            sessions: seen.sessions,
            changed: seen.changed,
            last_seen: seen.last_seen.map(clock::day_of),
            lacks: seen.lacks.clone(),
        }
    }
}

/// Prints it.
pub fn print(seen: &[Surveyed], ui: &Ui) {
    let hosts: Vec<SurveyedHostOut> = seen.iter().map(SurveyedHostOut::of).collect();
    let hosts = hosts.as_slice();
    ui.give(&SurveyOut { schema: "lavrin/survey/1", hosts }, || text(hosts, ui));
}

fn text(hosts: &[SurveyedHostOut], ui: &Ui) -> String {
    let worth_telling = |host: &&SurveyedHostOut| hosts.len() <= TOLD_MAX || host.changed || host.fault.is_some();
    let rows: Vec<Vec<String>> = hosts.iter().filter(worth_telling).map(|host| row(host, ui)).collect();
    let lines: String = columns(&rows, 2).into_iter().map(|line| line + "\n").collect();
    let failed = hosts.iter().filter(|host| host.fault.is_some()).count();
    let changed = hosts.iter().filter(|host| host.changed && host.last_seen.is_some()).count();
    let mut parts = vec![ui.paint(Label::Good, &format!("{} seen", hosts.len() - failed))];
    if changed > 0 {
        parts.push(ui.paint(Label::Warn, &format!("{changed} changed")));
    }
    if failed > 0 {
        parts.push(ui.paint(Label::Bad, &format!("{failed} not seen")));
    }
    format!("{lines}{}: {}", count(hosts.len(), "host", "hosts"), parts.join(", "))
}

fn row(host: &SurveyedHostOut, ui: &Ui) -> Vec<String> {
    let name = ui.paint(Label::Strong, &host.host);
    if let Some(fault) = &host.fault {
        let before = host.last_seen.as_ref().map(|day| format!(" (last seen {day})")).unwrap_or_default();
        return vec![name, ui.paint(Label::Bad, "not seen"), format!("{fault}{before}")];
    }
    let what = format!("{}, {}", count(host.accounts, "account", "accounts"), count(host.entries, "entry", "entries"));
    let change = match (&host.last_seen, host.changed) {
        (None, _) => "for the first time".to_owned(),
        (Some(day), true) => ui.paint(Label::Warn, &format!("changed since {day}")),
        (Some(_), false) => "as before".to_owned(),
    };
    let lacks = wording::not_applicable(&host.lacks).map(|what| format!("; {what}")).unwrap_or_default();
    vec![name, ui.paint(Label::Good, "seen"), format!("{what}; {change}{lacks}")]
}
