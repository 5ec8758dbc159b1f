//! `lavrin audit`: every account's entries, and what is wrong with them and around them.

mod entries;
mod fleet;
mod metrics;
pub mod rows;

pub use fleet::finding_out as fleet_finding_out;

#[cfg(test)]
pub use fleet::FleetOut;

use super::place::Work;
use super::register::{OpenedRegister, RegisterArgs, policy, until_the_end};
use crate::account_target::parse_host;
use crate::cli::complete;
use crate::connection::ServerArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::finding_text::FindingText;
use crate::host::HostArgs;
use crate::json::{AuditFinding, LimitsOut};
use crate::severity_arg::FailOn;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording::why_words;
use crate::{paths, wording};
use clap::Args;
use entries::{EntriesOut, entries_rendered, entry_out, entry_row};
use lavrin_keys::text::{count, printable};
use lavrin_report::sarif;
use lavrin_server::abilities::{Abilities, Ability};
use lavrin_server::audit::{self, AuditEntry, Auditor, Report};
use lavrin_server::finding::{Finding, Severity};
use lavrin_server::system::System;
use lavrin_work::audit_tree;
use lavrin_work::ways::Rights;
use rayon::prelude::*;
use rows::FindingRow;
use serde::Serialize;
use std::collections::BTreeMap;
use std::path::PathBuf;

/// Every account's entries, and what is wrong with them and around them
#[derive(Debug, Args)]
pub struct AuditArgs {
    /// Hosts or tags of the register (default: all), as the surveys saw them; without a register one host, looked at now
    #[arg(value_name = "HOST|TAG", conflicts_with = "tree")]
    pub hosts: Vec<String>,
    /// A local tree (an image, a chroot, / itself) instead of hosts
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub tree: Option<PathBuf>,
    /// The entries instead of the findings
    #[arg(long)]
    pub entries: bool,
    /// Each finding on each host, also where several differ in the host alone
    #[arg(long)]
    pub all: bool,
    /// Exit with 1 where a finding is at least this severe
    #[arg(long, value_name = "SEVERITY", default_value = "low")]
    pub fail_on: FailOn,
    /// Look at the hosts now; also for a host that is not in the register
    #[arg(long, conflicts_with = "tree")]
    pub live: bool,
    /// Only findings that no earlier run with --new told
    #[arg(long, conflicts_with_all = ["tree", "entries"])]
    pub new: bool,
    /// Write numbers for monitoring (`OpenMetrics`) to this file
    #[arg(long, value_name = "FILE", value_parser = paths::typed, conflicts_with = "tree")]
    pub metrics: Option<PathBuf>,
    #[command(flatten)]
    register: RegisterArgs,
    #[command(flatten)]
    server: ServerArgs,
    #[command(flatten)]
    host: HostArgs,
}

/// What `--format json` prints, the entries first, since there may be very many of them. The whole is written in parts;
/// this type is its schema.
#[cfg(test)]
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct AuditOut {
    schema: &'static str,
    place: String,
    entries: Vec<EntryOut<'static>>,
    /// By which server's rules, and how that is known.
    server: String,
    findings: Vec<AuditFinding>,
    not_checked: Vec<NotCheckedOut>,
    /// What the host cannot do or show, whatever rights one has.
    not_applicable: Vec<NotApplicableOut>,
    summary: AuditSummary,
}

/// What a host cannot do or show, whatever rights one has.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct NotApplicableOut {
    /// The host, in the audit of a register.
    #[serde(skip_serializing_if = "Option::is_none")]
    host: Option<String>,
    /// Each by its name, as in `survey`.
    lacks: Vec<&'static str>,
}

impl NotApplicableOut {
    fn of(host: Option<&str>, abilities: &Abilities) -> Self {
        Self { host: host.map(str::to_owned), lacks: abilities.lacking().map(Ability::name).collect() }
    }
}

/// The numbers.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct AuditSummary {
    accounts: usize,
    entries: usize,
    findings: BTreeMap<&'static str, usize>,
    not_checked: usize,
    /// On how many hosts an agent can be forwarded to the server, where whoever is root can use it.
    take_agents: usize,
}

/// One entry.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct EntryOut<'a> {
    account: &'a str,
    path: Option<&'a str>,
    line: Option<usize>,
    #[serde(skip_serializing_if = "Option::is_none")]
    slot: Option<String>,
    algorithm: &'static str,
    bits: usize,
    fingerprint: String,
    comment: String,
    limits: LimitsOut,
}

/// Something that could not be looked at.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct NotCheckedOut {
    #[serde(skip_serializing_if = "Option::is_none")]
    host: Option<String>,
    account: Option<String>,
    path: String,
    why: String,
}

/// Runs the command.
pub async fn run(args: &AuditArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let (here, tree) = (&args.register, args.tree.as_deref());
    let register = if args.live { here.here_for_host(tree, ui)? } else { here.here(ui)? };
    let register = until_the_end(register);
    match &*register {
        Some(opened) if args.tree.is_none() && !is_elsewhere(args, opened) => {
            return fleet::run(args, opened, ui).await;
        }
        None if args.tree.is_none() && args.hosts.len() != 1 => return args.register.open().map(|_| Exit::Usage),
        _ => {}
    }
    if args.new || args.metrics.is_some() {
        return Err(
            CommandError::usage("--new and --metrics are for the hosts of a register").hint("lavrin audit --new")
        );
    }
    if args.tree.is_none() && !args.live {
        ui.status("There is no register here, so the host is looked at now");
    }
    let mut work = open(args, register.as_ref(), ui).await?;
    args.server.give(&mut work.seen);
    let policy = policy(register.as_ref());
    let auditor = Auditor::new(policy.clone());
    let mut entries = EntriesOut::new(args.entries, ui, &work.name);
    let (report, count) = if let Some(tree) = work.site.as_tree() {
        let render = |found: &[AuditEntry]| entries_rendered(found, args.entries, ui);
        let audited = audit_tree(tree, work.seen.clone(), &auditor, render, |rendered| entries.add(rendered));
        work.seen = audited.seen;
        (audited.report, audited.entries)
    } else {
        work.look(&|seen| audit::wants(&System::of(seen))).await?;
        let report = audit::audit(&System::of(&work.seen), &policy);
        entries.add(entries_rendered(&report.entries, args.entries, ui));
        let count = report.entries.len();
        (report, count)
    };
    entries.end();
    if ui.is_json() || ui.is_text() && !args.entries {
        let told = print_findings(&report.findings, &work, entries.begun, ui);
        print_end(&report, count, &work, told, ui);
    } else if !args.entries {
        print_rows(&report, &work, ui);
    } else if ui.is_text() {
        ui.result(&lavrin_keys::text::count(count, "entry", "entries"));
    }
    let found = report.worst().is_some_and(|worst| worst >= args.fail_on.severity());
    let not_checked = if report.not_checked.is_empty() { Exit::Done } else { Exit::NotChecked };
    Ok(not_checked.max(if found { Exit::Findings } else { Exit::Done }))
}

/// Whether one host is meant that the register does not have; it can only be looked at now.
fn is_elsewhere(args: &AuditArgs, opened: &OpenedRegister) -> bool {
    let is_unknown = |word: &String| {
        let hosts = &opened.register().hosts;
        !hosts.contains_key(word) && !hosts.values().any(|host| host.tags.contains(word))
    };
    args.live && args.hosts.len() == 1 && args.hosts.iter().all(is_unknown)
}

async fn open(args: &AuditArgs, register: Option<&OpenedRegister>, ui: &Ui) -> Result<Work, CommandError> {
    let host = args.hosts.first().map(|host| parse_host(host)).transpose().map_err(CommandError::usage)?;
    match (&args.tree, &host) {
        (Some(root), _) => Work::open_tree(root),
        (None, Some(host)) => {
            // The audit is about every account; naming root makes the login become root where it is not root itself.
            Work::open_host(ui, register, host, "root", &args.host, Rights::Wanted).await
        }
        (None, None) => Err(CommandError::usage("audit what? A host, or --tree DIR")),
    }
}

/// So many findings are put into words at once.
const FINDINGS_AT_ONCE: usize = 4_096;

/// Findings, on all cores and piece by piece: there may be as many of them as entries.
/// Gives whether anything stands on the screen by then.
fn print_findings(findings: &[Finding], work: &Work, told: bool, ui: &Ui) -> bool {
    let json = ui.is_json();
    if json {
        ui.part("\"findings\": [");
    } else if !findings.is_empty() {
        ui.part(&format!("{}{}\n", gap(told), ui.paint(Label::Strong, "Findings")));
    }
    for (number, some) in findings.chunks(FINDINGS_AT_ONCE).enumerate() {
        let render = |finding: &Finding| {
            let out = finding_out(finding, work);
            let mut text = Vec::new();
            if json {
                out.add_to(&mut text);
            } else {
                text.extend_from_slice(finding_text(&out, &[], ui).as_bytes());
            }
            text
        };
        let texts: Vec<Vec<u8>> = some.par_iter().map(render).collect();
        if json {
            ui.part(if number == 0 { "\n" } else { ",\n" });
        }
        ui.part(&texts.join(if json { &b",\n"[..] } else { b"" }));
    }
    if json {
        ui.part("\n],\n");
    }
    told || !findings.is_empty()
}

/// The findings and what was not checked, as rows or for a code host.
fn print_rows(report: &Report, work: &Work, ui: &Ui) {
    let findings: Vec<AuditFinding> = report.findings.par_iter().map(|finding| finding_out(finding, work)).collect();
    if ui.is_sarif() {
        let place = |finding: &AuditFinding| finding.path.clone().map(|path| (path, finding.line, None));
        let all: Vec<_> = findings.iter().map(|finding| rows::sarif_of(finding, place(finding))).collect();
        return ui.result(&sarif::document(env!("CARGO_PKG_VERSION"), &all));
    }
    let not_checked = not_checked_out(report);
    let lacking = (!work.seen.abilities.is_whole()).then(|| NotApplicableOut::of(None, &work.seen.abilities));
    ui.begin_rows::<FindingRow>();
    ui.rows(&findings.iter().map(FindingRow::finding).collect::<Vec<_>>());
    ui.rows(&not_checked.iter().map(FindingRow::not_checked).collect::<Vec<_>>());
    ui.rows(&lacking.iter().map(FindingRow::not_applicable).collect::<Vec<_>>());
}

fn not_checked_out(report: &Report) -> Vec<NotCheckedOut> {
    let out = |item: &audit::NotChecked| NotCheckedOut {
        host: None,
        account: item.account.clone(),
        path: item.source.to_string(),
        why: why_words(&item.why),
    };
    report.not_checked.iter().map(out).collect()
}

/// The line that keeps a part apart from the one above it, where there is one.
fn gap(told: bool) -> &'static str {
    if told { "\n" } else { "" }
}

fn finding_out(finding: &Finding, work: &Work) -> AuditFinding {
    let path = finding.path.as_ref();
    AuditFinding {
        rule: finding.fault.rule(),
        severity: finding.severity(),
        host: None,
        account: finding.account.clone(),
        path: path.map(ToString::to_string),
        line: finding.line,
        message: wording::finding::message(&finding.fault),
        expected: wording::finding::expected(&finding.fault),
        found: wording::finding::found(&finding.fault),
        remedy: complete(&wording::finding::remedy(
            &finding.fault,
            finding,
            work.site.login().map(|_| work.name.as_str()),
            &path.map(|path| work.typed_path(path)).unwrap_or_default(),
        )),
    }
}

/// What was not checked, and the numbers.
fn print_end(report: &Report, entries: usize, work: &Work, told: bool, ui: &Ui) {
    let not_checked = not_checked_out(report);
    let count = |severity: Severity| (severity.name(), report.count(severity));
    let summary = AuditSummary {
        accounts: report.accounts,
        entries,
        findings: Severity::URGENT_FIRST.into_iter().map(count).collect(),
        not_checked: report.not_checked.len(),
        take_agents: usize::from(report.takes_agents),
    };
    if ui.is_json() {
        let (not_checked, summary) = (crate::json::line(&not_checked), crate::json::line(&summary));
        let server = crate::json::line(&wording::server(&work.seen));
        let lacking = (!work.seen.abilities.is_whole()).then(|| NotApplicableOut::of(None, &work.seen.abilities));
        let lacking = crate::json::line(&lacking.into_iter().collect::<Vec<_>>());
        ui.part(&format!(
            "\"not_checked\": {not_checked},\n\"not_applicable\": {lacking},\n\"server\": {server},\n\"summary\": {summary}\n}}\n"
        ));
        return;
    }
    if !not_checked.is_empty() {
        ui.part(&format!("{}{}\n", gap(told), ui.paint(Label::Strong, "Not checked")));
        let row =
            |item: &NotCheckedOut| vec![item.account.clone().unwrap_or_default(), item.path.clone(), item.why.clone()];
        ui.part(&lines(columns(&not_checked.iter().map(row).collect::<Vec<_>>(), 2)));
    }
    let rules = if work.seen.abilities.has(Ability::Settings) {
        format!("rules of {}", wording::server(&work.seen))
    } else {
        format!("not applicable: {}", wording::lacking(&work.seen.abilities))
    };
    let server = ui.paint(Label::Faint, &rules);
    let gap = gap(told || !not_checked.is_empty());
    ui.part(&format!("{gap}{}\n{server}\n", summary_text(&summary, &work.name, ui)));
}

fn lines(lines: Vec<String>) -> String {
    lines.into_iter().map(|line| line + "\n").collect()
}

/// Hosts that are named where a finding is the same on several.
const HOSTS_NAMED: usize = 6;

/// A finding in words; `hosts` are those that it is the same on, where there are several.
fn finding_text(finding: &AuditFinding, hosts: &[&str], ui: &Ui) -> String {
    let line = finding.line.map(|line| format!(" line {line}")).unwrap_or_default();
    let values = match (&finding.found, &finding.expected) {
        (Some(found), Some(expected)) => format!(" (found {found}, expected {expected})"),
        _ => String::new(),
    };
    let place = finding.path.as_ref().map(|path| format!("  {path}{line}")).unwrap_or_default();
    let told = FindingText {
        severity: finding.severity,
        place: format!("{}{place}", ui.paint(Label::Strong, &whose(finding, hosts))).trim_start().to_owned(),
        rule: finding.rule,
        message: format!("{}{values}", finding.message),
        marked: None,
        next: finding.remedy.clone(),
    };
    told.lines(ui)
}

/// The account, and the host or the hosts.
fn whose(finding: &AuditFinding, hosts: &[&str]) -> String {
    let account = finding.account.as_ref().map(|account| printable(account.as_bytes()));
    if hosts.len() > 1 {
        let named = hosts.iter().take(HOSTS_NAMED).copied().collect::<Vec<_>>().join(", ");
        let more = if hosts.len() > HOSTS_NAMED { ", …" } else { "" };
        let on = account.map(|account| format!("{account} on ")).unwrap_or_default();
        return format!("{on}{} hosts: {named}{more}", hosts.len());
    }
    match (account, &finding.host) {
        (Some(account), Some(host)) => format!("{account}@{host}"),
        (account, host) => account.or_else(|| host.clone()).unwrap_or_default(),
    }
}

fn summary_text(summary: &AuditSummary, place: &str, ui: &Ui) -> String {
    let counts: Vec<String> = Severity::URGENT_FIRST
        .into_iter()
        .filter_map(|severity| {
            let number = *summary.findings.get(severity.name())?;
            (number > 0).then(|| ui.paint(Label::of(severity), &format!("{number} {}", severity.name())))
        })
        .collect();
    let findings = match counts.is_empty() {
        true if ui.is_in_part() => ui.paint(Label::Warn, "nothing found in what could be read"),
        true => ui.paint(Label::Good, "nothing found"),
        false => counts.join(", "),
    };
    let not_checked = if summary.not_checked == 0 {
        String::new()
    } else {
        format!("; {}", ui.paint(Label::Warn, &format!("{} not checked", summary.not_checked)))
    };
    format!(
        "{}: {}, {}; {findings}{not_checked}",
        ui.paint(Label::Strong, place),
        count(summary.accounts, "account", "accounts"),
        count(summary.entries, "entry", "entries")
    ) + &agents(summary.take_agents, ui)
}

/// What a forwarded agent is open to. No finding: servers come so, and it is for the owner of the agent to forward it or not.
fn agents(hosts: usize, ui: &Ui) -> String {
    let told = match hosts {
        0 => return String::new(),
        1 => "an agent can be forwarded to 1 host: root there can use it meanwhile".to_owned(),
        hosts => format!("an agent can be forwarded to {hosts} hosts: root there can use it meanwhile"),
    };
    format!("\n{}", ui.paint(Label::Faint, &told))
}
