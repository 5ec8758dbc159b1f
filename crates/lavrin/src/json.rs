//! The shapes that `--format json` prints. Fields are only ever added; `docs/schema/` is generated from these types.

use crate::cli::complete;
use lavrin_report::object::ObjectWriter;
use lavrin_server::finding::Finding;
use lavrin_server::finding::Severity;
use lavrin_server::login::{Limits, Place, Reason};
use serde::Serialize;

/// A finding about a key.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeyFinding {
    /// Stable rule name.
    pub rule: &'static str,
    /// `critical`, `high`, `medium`, `low` or `info`.
    #[cfg_attr(test, schemars(with = "String"))]
    pub severity: Severity,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub remedy: String,
}

/// A finding about an account on a system.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct AuditFinding {
    /// Stable rule name.
    pub rule: &'static str,
    /// `critical`, `high`, `medium`, `low` or `info`.
    #[cfg_attr(test, schemars(with = "String"))]
    pub severity: Severity,
    /// The host, where a register is audited.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// The account.
    pub account: Option<String>,
    /// The path.
    pub path: Option<String>,
    /// The line, counted from 1.
    pub line: Option<usize>,
    /// What is wrong.
    pub message: String,
    /// The value expected.
    pub expected: Option<String>,
    /// The value found.
    pub found: Option<String>,
    /// What to do.
    pub remedy: String,
}

/// A rule that refuses a login or leaves it open.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ReasonOut {
    /// Stable rule name.
    pub rule: &'static str,
    /// Class of rules with the same effect on the server's side.
    pub class: &'static str,
    /// The path.
    pub path: Option<String>,
    /// The line, counted from 1.
    pub line: Option<usize>,
    /// What it says.
    pub message: String,
    /// What to type.
    pub remedy: Option<String>,
}

/// With which limits a key opens an account.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct LimitsOut {
    /// Addresses it may come from.
    pub from: Option<String>,
    /// The only command.
    pub command: Option<String>,
    /// When it ends.
    pub expires: Option<String>,
    /// What it may not do.
    pub denied: Vec<&'static str>,
    /// Ports it is limited to.
    pub permit: Vec<String>,
}

/// A line in a file, or a slot of a device.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct PlaceOut {
    /// The file.
    pub path: Option<String>,
    /// The line, counted from 1.
    pub line: Option<usize>,
    /// The slot.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub slot: Option<String>,
}

impl PlaceOut {
    /// The place in words.
    pub fn words(&self) -> String {
        match (&self.path, self.line, &self.slot) {
            (Some(path), Some(line), _) => format!("{path} line {line}"),
            (_, _, Some(slot)) => crate::wording::slot(slot),
            _ => String::new(),
        }
    }
}

impl From<&Limits> for LimitsOut {
    fn from(limits: &Limits) -> Self {
        Self {
            from: limits.from.clone(),
            command: limits.command.clone(),
            expires: limits.expires.clone(),
            denied: limits.denied.clone(),
            permit: limits.permit.clone(),
        }
    }
}

impl LimitsOut {
    fn are_none(&self) -> bool {
        let Self { from, command, expires, denied, permit } = self;
        from.is_none() && command.is_none() && expires.is_none() && denied.is_empty() && permit.is_empty()
    }
}

impl From<&Place> for PlaceOut {
    fn from(place: &Place) -> Self {
        Self {
            path: place.path().map(ToString::to_string),
            line: place.line(),
            slot: place.slot().map(|slot| lavrin_keys::text::printable(slot.as_bytes())),
        }
    }
}

impl KeyFinding {
    /// A finding in words; `path` is the path for the remedy.
    pub fn of(finding: &Finding, path: &str) -> Self {
        Self {
            rule: finding.fault.rule(),
            severity: finding.severity(),
            message: crate::wording::finding::message(&finding.fault),
            remedy: complete(&crate::wording::finding::remedy(&finding.fault, finding, None, path)),
        }
    }
}

impl AuditFinding {
    /// Adds the finding as JSON on one line: there may be very many.
    pub fn add_to(&self, out: &mut Vec<u8>) {
        let mut object = ObjectWriter::of(out);
        object.text("rule", self.rule).text("severity", self.severity.name());
        if let Some(host) = &self.host {
            object.text("host", host.as_str());
        }
        object
            .text("account", self.account.as_deref())
            .text("path", self.path.as_deref())
            .value("line", &self.line)
            .text("message", self.message.as_str())
            .text("expected", self.expected.as_deref())
            .text("found", self.found.as_deref())
            .text("remedy", self.remedy.as_str())
            .end();
    }
}

impl ReasonOut {
    /// A reason in words.
    pub fn of(reason: &Reason, account: &str, place: &str, path: &str) -> Self {
        Self {
            rule: reason.kind.rule(),
            class: reason.kind.class(),
            path: reason.path.as_ref().map(ToString::to_string),
            line: reason.line,
            message: crate::wording::reason::message(reason, account),
            remedy: crate::wording::reason::remedy(reason, account, place, path).as_deref().map(complete),
        }
    }
}

/// Prints a value as JSON with line breaks, so that people can read it too.
pub fn print<T: Serialize>(value: &T) -> String {
    serde_json::to_string_pretty(value).expect("these types have only text keys")
}

/// No limits, as JSON.
const NO_LIMITS: &[u8] = br#"{"from":null,"command":null,"expires":null,"denied":[],"permit":[]}"#;

/// Adds with which limits a key opens an account; most keys have none.
pub fn add_limits(object: &mut ObjectWriter<'_>, limits: &LimitsOut) {
    if limits.are_none() {
        object.written("limits", NO_LIMITS);
    } else {
        object.value("limits", limits);
    }
}

/// Adds a value as JSON on one line, for long lists.
pub fn add_line<T: Serialize>(text: &mut Vec<u8>, value: &T) {
    serde_json::to_writer(text, value).expect("these types have only text keys and memory takes everything");
}

/// A value as JSON on one line, for long lists.
pub fn line<T: Serialize>(value: &T) -> String {
    serde_json::to_string(value).expect("these types have only text keys")
}

#[cfg(test)]
mod tests {
    use super::{AuditFinding, Severity, line};
    use crate::command::{
        agent::list::AgentListOut, audit::AuditOut, audit::FleetOut, change::ChangeOut, compare::CompareOut,
        enforce::EnforceOut, history::AccessAtOut, history::HistoryOut, history::RunsOut, history::VerifyOut,
        host::HostOut, host::HostsOut, host::profile::ProfileTryOut, host::settings::SettingsOut, kept::KeptDoneOut,
        kept::KeptProveOut, kept::list::KeptListOut, kept::seal::KeptSealOut, key::convert::ConvertOut,
        key::generate::GenerateOut, key::inspect::InspectOut, keys_only::out::KeysOnlyOut,
        keys_only::status::KeysOnlyStatusOut, mend::MendOut, offboard::OffboardOut, offboard::OffboardPreviewOut,
        offboard::OffboardStatusOut, offboard::StatementOut, person::PeopleOut, person::PersonOut, probe::ProbeManyOut,
        probe::ProbeOut, register::adopt::AdoptOut, register::check::CheckOut, rotate::RotateOut, survey::SurveyOut,
        undo::UndoOut, why::WhoOut, why::WhyOut,
    };
    use crate::command::{
        audit::rows::{EntryRow, FindingRow},
        compare::DifferenceRow,
        firstboot::FirstbootOut,
        history::{EventOut, PastRow, RunOut},
        host::OneHost,
        matrix::out::{MatrixOut, WayRow},
        paths::out::PathsOut,
        person::PersonRow,
        person::request::RequestOut,
        report::ReportOut,
        rule::RulesOut,
        shortcuts::ShortcutsOut,
        store::StoreCheckOut,
        store::StoreMoveOut,
        store::StoreOut,
        store::StorePruneOut,
        survey::SurveyedHostOut,
        version::VersionOut,
        where_one_is::WhereOut,
    };
    use lavrin_report::rows::TableRow;
    use schemars::{JsonSchema, schema_for};
    use std::collections::BTreeSet;

    #[test]
    fn findings_are_written_as_a_serializer_would() {
        let mut finding = AuditFinding {
            rule: "weak-key",
            severity: Severity::High,
            host: Some("skerry".to_owned()),
            account: None,
            path: Some("/a\"b\u{202e}".to_owned()),
            line: Some(3),
            message: "one\ntwo".to_owned(),
            expected: None,
            found: Some("\\".to_owned()),
            remedy: "lavrin audit".to_owned(),
        };
        for severity in Severity::URGENT_FIRST {
            finding.severity = severity;
            finding.host = finding.host.take().filter(|_| severity > Severity::Low);
            let mut written = Vec::new();
            finding.add_to(&mut written);
            assert_eq!(String::from_utf8(written).unwrap(), line(&finding));
        }
    }

    fn check<T: JsonSchema>(command: &str) {
        let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("../../docs/schema/{command}.json"));
        let text = serde_json::to_string_pretty(&schema_for!(T)).unwrap() + "\n";
        if std::env::var_os("LAVRIN_WRITE_SCHEMAS").is_some() {
            std::fs::write(&path, &text).unwrap();
        }
        let kept = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(
            kept == text,
            "docs/schema/{command}.json is not current: LAVRIN_WRITE_SCHEMAS=1 cargo test -p lavrin --bins"
        );
    }

    #[test]
    fn the_schemas_in_the_docs_are_those_of_the_types() {
        check::<GenerateOut>("key-generate");
        check::<ConvertOut>("key-convert");
        check::<InspectOut>("key-inspect");
        check::<ChangeOut>("install");
        check::<ChangeOut>("remove");
        check::<MendOut>("mend");
        check::<CheckOut>("register-check");
        check::<PeopleOut>("person-list");
        check::<PersonOut>("person-show");
        check::<HostsOut>("host-list");
        check::<HostOut>("host-show");
        check::<SettingsOut>("host-settings");
        check::<ProfileTryOut>("host-profile-try");
        check::<WhyOut>("why");
        check::<WhoOut>("why-all");
        check::<AuditOut>("audit");
        check::<FleetOut>("audit-register");
        check::<SurveyOut<'static>>("survey");
        check::<HistoryOut>("history");
        check::<AccessAtOut>("history-at");
        check::<RunsOut>("history-runs");
        check::<AdoptOut>("register-adopt");
        check::<ProbeOut>("probe");
        check::<ProbeManyOut>("probe-many");
        check::<CompareOut>("compare");
        check::<EnforceOut>("enforce");
        check::<AgentListOut>("agent-list");
        check::<KeptDoneOut>("kept-make");
        check::<KeptDoneOut>("kept-take-in");
        check::<KeptDoneOut>("kept-hand-out");
        check::<KeptListOut>("kept-list");
        check::<KeptProveOut>("kept-prove");
        check::<KeptSealOut>("kept-seal");
        check::<KeysOnlyOut>("keys-only");
        check::<KeysOnlyStatusOut>("keys-only-status");
        check::<RotateOut<'static>>("rotate");
        check::<OffboardStatusOut>("offboard-status");
        check::<StatementOut<'static>>("statement");
        check::<VerifyOut>("history-verify");
        check::<OffboardPreviewOut>("offboard-preview");
        check::<OffboardOut<'static>>("offboard");
        check::<UndoOut>("undo");
        check::<MatrixOut>("matrix");
        check::<PathsOut>("paths");
        check::<ReportOut>("report");
        check::<RequestOut>("person-request");
        check::<WhereOut>("where");
        check::<StoreOut>("store-show");
        check::<StoreCheckOut>("store-check");
        check::<StoreMoveOut>("store-move");
        check::<StorePruneOut>("store-prune");
        check::<RulesOut>("rule");
        check::<VersionOut>("version");
        check::<ShortcutsOut>("shortcuts");
        check::<FirstbootOut>("firstboot");
    }

    /// The schema of the rows of a list, which are what tables and lines of JSON are made of. Its fields are the columns.
    fn check_rows<R: JsonSchema + TableRow>(command: &str) {
        check::<R>(&format!("{command}-rows"));
        let schema = serde_json::to_value(schema_for!(R)).unwrap();
        let fields: BTreeSet<&str> = schema["properties"].as_object().unwrap().keys().map(String::as_str).collect();
        let columns: BTreeSet<&str> = R::COLUMNS.iter().copied().collect();
        assert_eq!(fields, columns, "{command}");
    }

    #[test]
    fn the_rows_of_lists_have_schemas_and_every_field_is_a_column() {
        check_rows::<FindingRow<'static>>("audit");
        check_rows::<EntryRow<'static>>("audit-entries");
        check_rows::<SurveyedHostOut>("survey");
        check_rows::<DifferenceRow<'static>>("compare");
        check_rows::<PersonRow<'static>>("person-list");
        check_rows::<&OneHost>("host-list");
        check_rows::<&EventOut>("history");
        check_rows::<PastRow<'static>>("history-at");
        check_rows::<&RunOut>("history-runs");
        check_rows::<WayRow<'static>>("matrix");
    }
}
