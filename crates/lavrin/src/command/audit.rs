//! `lavrin audit`: every account's entries, and what is wrong with them and around them.

use super::key::inspect::FailOn;
use super::place::Work;
use crate::account_target::parse_host;
use crate::error::{CommandError, why_words};
use crate::exit::Exit;
use crate::host::{HostArgs, NeedsRoot};
use crate::json::{AuditFinding, LimitsOut};
use crate::table::columns;
use crate::ui::{Format, Label, Ui};
use crate::{paths, wording};
use clap::Args;
use lavrin_core::audit::{self, Report};
use lavrin_core::finding::Severity;
use lavrin_core::policy::Policy;
use lavrin_core::text::count;
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// Every account's entries, and what is wrong with them and around them
#[derive(Debug, Args)]
pub struct AuditArgs {
    /// The host; who signs in there is said with --login
    #[arg(value_name = "HOST", value_parser = parse_host, required_unless_present = "root", conflicts_with = "root")]
    pub on: Option<String>,
    /// Audit this local tree (an image, a chroot, / itself)
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub root: Option<PathBuf>,
    /// Exit with 1 where a finding is at least this severe
    #[arg(long, value_name = "SEVERITY", default_value = "low")]
    pub fail_on: FailOn,
    #[command(flatten)]
    host: HostArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize, JsonSchema)]
pub struct AuditOut {
    schema: &'static str,
    place: String,
    summary: Summary,
    findings: Vec<AuditFinding>,
    entries: Vec<EntryOut>,
    not_checked: Vec<NotCheckedOut>,
}

/// The numbers.
#[derive(Debug, Serialize, JsonSchema)]
struct Summary {
    accounts: usize,
    entries: usize,
    findings: BTreeMap<&'static str, usize>,
    not_checked: usize,
}

/// One entry.
#[derive(Debug, Serialize, JsonSchema)]
struct EntryOut {
    account: String,
    path: String,
    line: usize,
    algorithm: &'static str,
    bits: usize,
    fingerprint: String,
    comment: String,
    limits: LimitsOut,
}

/// Something that could not be looked at.
#[derive(Debug, Serialize, JsonSchema)]
struct NotCheckedOut {
    account: Option<String>,
    path: String,
    why: String,
}

/// Runs the command.
pub async fn run(args: &AuditArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let mut work = open(args, ui).await?;
    work.look(audit::wants).await?;
    let report = audit::audit(&work.seen, &Policy::default());
    let out = out_of(&report, &work);
    ui.result(&if ui.format == Format::Json { crate::json::print(&out) } else { text_of(&out, ui) });
    let found = report.worst().is_some_and(|worst| worst >= args.fail_on.severity());
    let not_checked = if report.not_checked.is_empty() { Exit::Done } else { Exit::NotChecked };
    Ok(not_checked.max(if found { Exit::Findings } else { Exit::Done }))
}

async fn open(args: &AuditArgs, ui: &Ui) -> Result<Work, CommandError> {
    match (&args.root, &args.on) {
        (Some(root), _) => Work::open_tree(root),
        (None, Some(host)) => {
            let login = args.host.login.clone().ok_or_else(|| {
                CommandError::usage("who signs in for the audit?").hint(format!("lavrin audit {host} --login NAME"))
            })?;
            // The audit is about every account; naming root makes the login rise where it is not root itself.
            let mut host_args = args.host.clone();
            host_args.login = Some(login);
            Work::open_host(ui, host, "root", &host_args, NeedsRoot::Wanted).await
        }
        (None, None) => Err(CommandError::usage("audit what? A host, or --root DIR")),
    }
}

fn out_of(report: &Report, work: &Work) -> AuditOut {
    let findings = report.findings.iter().map(|finding| {
        let path = finding.path.as_ref();
        AuditFinding {
            rule: finding.fault.rule(),
            severity: finding.severity().name(),
            account: finding.account.clone(),
            path: path.map(ToString::to_string),
            line: finding.line,
            message: wording::finding::message(&finding.fault),
            expected: wording::finding::expected(&finding.fault),
            found: wording::finding::found(&finding.fault),
            remedy: wording::finding::remedy(finding, &path.map(|path| work.typed_path(path)).unwrap_or_default()),
        }
    });
    let entries = report.entries.iter().map(|entry| EntryOut {
        account: entry.account.clone(),
        path: entry.path.to_string(),
        line: entry.line,
        algorithm: entry.algorithm,
        bits: entry.bits,
        fingerprint: entry.fingerprint.to_string(),
        comment: lavrin_core::text::printable(entry.comment.trim_ascii()),
        limits: LimitsOut::from(&entry.limits),
    });
    let not_checked = report.not_checked.iter().map(|item| NotCheckedOut {
        account: item.account.clone(),
        path: item.path.to_string(),
        why: why_words(&item.why),
    });
    AuditOut {
        schema: "lavrin/audit/1",
        place: work.name.clone(),
        summary: Summary {
            accounts: report.accounts,
            entries: report.entries.len(),
            findings: Severity::URGENT_FIRST
                .into_iter()
                .map(|severity| (severity.name(), report.count(severity)))
                .collect(),
            not_checked: report.not_checked.len(),
        },
        findings: findings.collect(),
        entries: entries.collect(),
        not_checked: not_checked.collect(),
    }
}

fn text_of(out: &AuditOut, ui: &Ui) -> String {
    let mut text = String::new();
    if !out.entries.is_empty() {
        text += &format!("{}\n", ui.paint(Label::Strong, "Entries"));
        text += &lines(columns(&out.entries.iter().map(|entry| entry_row(entry, ui)).collect::<Vec<_>>(), 2));
    }
    if !out.findings.is_empty() {
        text += &format!("\n{}\n", ui.paint(Label::Strong, "Findings"));
        text += &out.findings.iter().map(|finding| finding_text(finding, ui)).collect::<String>();
    }
    if !out.not_checked.is_empty() {
        text += &format!("\n{}\n", ui.paint(Label::Strong, "Not checked"));
        let row =
            |item: &NotCheckedOut| vec![item.account.clone().unwrap_or_default(), item.path.clone(), item.why.clone()];
        text += &lines(columns(&out.not_checked.iter().map(row).collect::<Vec<_>>(), 2));
    }
    text + &format!("\n{}\n", summary_text(out, ui))
}

fn lines(lines: Vec<String>) -> String {
    lines.into_iter().map(|line| line + "\n").collect()
}

fn entry_row(entry: &EntryOut, ui: &Ui) -> Vec<String> {
    let limited = entry.limits.from.is_some()
        || entry.limits.command.is_some()
        || entry.limits.expires.is_some()
        || !entry.limits.denied.is_empty()
        || !entry.limits.permit.is_empty();
    let comment = wording::comment(entry.comment.as_bytes());
    vec![
        ui.paint(Label::Strong, &entry.account),
        format!("line {}", entry.line),
        entry.algorithm.to_owned(),
        entry.bits.to_string(),
        entry.fingerprint.clone(),
        if limited { format!("{comment} (restricted)") } else { comment },
    ]
}

fn finding_text(finding: &AuditFinding, ui: &Ui) -> String {
    let severity = Severity::URGENT_FIRST
        .into_iter()
        .find(|severity| severity.name() == finding.severity)
        .unwrap_or(Severity::Info);
    let line = finding.line.map(|line| format!(" line {line}")).unwrap_or_default();
    let values = match (&finding.found, &finding.expected) {
        (Some(found), Some(expected)) => format!(" (found {found}, expected {expected})"),
        _ => String::new(),
    };
    let padding = " ".repeat(8usize.saturating_sub(finding.severity.len()));
    let heading = format!(
        "  {}{padding}  {}  {}{line} {}",
        ui.paint(Label::of(severity), finding.severity),
        ui.paint(Label::Strong, finding.account.as_deref().unwrap_or("")),
        finding.path.as_deref().unwrap_or(""),
        ui.paint(Label::Faint, &format!("[{}]", finding.rule)),
    );
    let remedy = ui.paint(Label::Type, &finding.remedy);
    format!("{heading}\n            {}{values}\n            {remedy}\n", finding.message)
}

fn summary_text(out: &AuditOut, ui: &Ui) -> String {
    let counts: Vec<String> = Severity::URGENT_FIRST
        .into_iter()
        .filter_map(|severity| {
            let number = *out.summary.findings.get(severity.name())?;
            (number > 0).then(|| ui.paint(Label::of(severity), &format!("{number} {}", severity.name())))
        })
        .collect();
    let findings = if counts.is_empty() { ui.paint(Label::Good, "nothing found") } else { counts.join(", ") };
    let not_checked = if out.summary.not_checked == 0 {
        String::new()
    } else {
        format!("; {}", ui.paint(Label::Warn, &format!("{} not checked", out.summary.not_checked)))
    };
    format!(
        "{}: {}, {}; {findings}{not_checked}",
        ui.paint(Label::Strong, &out.place),
        count(out.summary.accounts, "account", "accounts"),
        count(out.summary.entries, "entry", "entries")
    )
}
