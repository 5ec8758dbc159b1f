//! Findings and entries as rows, for tables and for lines of JSON; findings for a code host.

use super::{EntryOut, NotApplicableOut, NotCheckedOut};
use crate::json::AuditFinding;
use lavrin_report::rows::TableRow;
use lavrin_report::sarif::{self, Level};
use lavrin_server::finding::Severity;
use serde::Serialize;

/// A finding, or something that could not be checked.
#[derive(Debug, Default, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct FindingRow<'a> {
    /// `finding`, `not-checked`, or `not-applicable`: what the host cannot do or show.
    record: &'static str,
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    severity: Option<Severity>,
    rule: Option<&'static str>,
    host: Option<&'a str>,
    account: Option<&'a str>,
    path: Option<&'a str>,
    line: Option<usize>,
    message: String,
    found: Option<&'a str>,
    expected: Option<&'a str>,
    remedy: Option<&'a str>,
}

impl TableRow for FindingRow<'_> {
    const COLUMNS: &'static [&'static str] =
        &["record", "severity", "rule", "host", "account", "path", "line", "message", "found", "expected", "remedy"];
}

impl<'a> FindingRow<'a> {
    /// A finding.
    pub fn finding(of: &'a AuditFinding) -> Self {
        Self {
            record: "finding",
            severity: Some(of.severity),
            rule: Some(of.rule),
            host: of.host.as_deref(),
            account: of.account.as_deref(),
            path: of.path.as_deref(),
            line: of.line,
            message: of.message.clone(),
            found: of.found.as_deref(),
            expected: of.expected.as_deref(),
            remedy: Some(&of.remedy),
        }
    }

    /// What could not be looked at.
    pub fn not_checked(of: &'a NotCheckedOut) -> Self {
        Self {
            record: "not-checked",
            host: of.host.as_deref(),
            account: of.account.as_deref(),
            path: Some(&of.path),
            message: of.why.clone(),
            ..Self::default()
        }
    }

    /// What the host cannot do or show.
    pub fn not_applicable(of: &'a NotApplicableOut) -> Self {
        Self { record: "not-applicable", host: of.host.as_deref(), message: of.lacks.join(", "), ..Self::default() }
    }
}

/// An entry.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct EntryRow<'a> {
    host: Option<&'a str>,
    account: &'a str,
    path: Option<&'a str>,
    line: Option<usize>,
    slot: Option<&'a str>,
    algorithm: &'static str,
    bits: usize,
    fingerprint: &'a str,
    owner: Option<&'a str>,
    comment: &'a str,
    from: Option<&'a str>,
    command: Option<&'a str>,
    expires: Option<&'a str>,
    denied: &'a [&'static str],
    permit: &'a [String],
}

impl TableRow for EntryRow<'_> {
    const COLUMNS: &'static [&'static str] = &[
        "host",
        "account",
        "path",
        "line",
        "slot",
        "algorithm",
        "bits",
        "fingerprint",
        "owner",
        "comment",
        "from",
        "command",
        "expires",
        "denied",
        "permit",
    ];
}

impl<'a> EntryRow<'a> {
    /// An entry on a host, and whose key it is.
    pub fn of(entry: &'a EntryOut<'a>, host: Option<&'a str>, owner: Option<&'a str>) -> Self {
        Self {
            host,
            account: entry.account,
            path: entry.path,
            line: entry.line,
            slot: entry.slot.as_deref(),
            algorithm: entry.algorithm,
            bits: entry.bits,
            fingerprint: &entry.fingerprint,
            owner,
            comment: &entry.comment,
            from: entry.limits.from.as_deref(),
            command: entry.limits.command.as_deref(),
            expires: entry.limits.expires.as_deref(),
            denied: &entry.limits.denied,
            permit: &entry.limits.permit,
        }
    }
}

/// How much a severity matters to a code host.
pub fn level(severity: Severity) -> Level {
    match severity {
        Severity::Critical | Severity::High => Level::Error,
        Severity::Medium | Severity::Low => Level::Warning,
        Severity::Info => Level::Note,
    }
}

/// A finding for a code host. A file on a host is none of the repository; what is told is where the register has the host.
pub fn sarif_of(of: &AuditFinding, place: Option<(String, Option<usize>, Option<usize>)>) -> sarif::SarifFinding {
    let about = match (&of.account, &of.host) {
        (Some(account), Some(host)) => Some(format!("{account}@{host}")),
        (account, host) => account.clone().or_else(|| host.clone()),
    };
    let line = of.line.map(|line| format!(" line {line}")).unwrap_or_default();
    let at = of.path.as_ref().map(|path| format!(", {path}{line}")).unwrap_or_default();
    let whose = about.as_ref().map(|about| format!("{about}{at}: ")).unwrap_or_default();
    let identity = [about.as_deref(), of.path.as_deref(), Some(of.rule), Some(&of.message)];
    sarif::SarifFinding {
        rule: of.rule,
        level: level(of.severity),
        severity: of.severity.name(),
        message: format!("{whose}{}. Next: {}", of.message, of.remedy),
        place,
        identity: identity.into_iter().flatten().collect::<Vec<_>>().join("/"),
        about,
    }
}
