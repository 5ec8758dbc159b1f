//! The audit of a register and its hosts, by what surveys remembered.

use super::metrics::{self, CountedAudit};
use super::rows::{EntryRow, FindingRow, sarif_of};
use super::{
    AuditArgs, AuditSummary, EntryOut, NotApplicableOut, NotCheckedOut, entry_out, finding_text, lines, summary_text,
};
use crate::cli::complete;
use crate::clock;
use crate::command::pace::PaceArgs;
use crate::command::register::{Lines, OpenedRegister, today, until_the_end, warn_of_faults};
use crate::command::survey::{hosts_named, look};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::fold::{Folded, folded};
use crate::json::{AuditFinding, add_line};
use crate::paths;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use crate::wording::why_words;
use lavrin_fleet::fleet::{FleetEntry, FleetFinding, FleetReport, Moment, What};
use lavrin_fleet::register::Host;
use lavrin_keys::text::{count, printable, shell_word};
use lavrin_report::object::ObjectWriter;
use lavrin_report::sarif;
use lavrin_server::abilities::Abilities;
use lavrin_server::finding::Severity;
use lavrin_server::fs::BytePath;
use lavrin_server::survey::snapshot::SnapshotFault;
use lavrin_store::database::{Database, Look};
use lavrin_work::fleet::audit;
use lavrin_work::memory::FleetFault;
use lavrin_work::standing::FleetStanding;
use lavrin_work::told::{FindingIdentity, ToldBefore};
use rayon::prelude::*;
use serde::Serialize;
use std::collections::HashMap;

/// Entries and findings that are put into words at once.
const ENTRIES_AT_ONCE: usize = 4_096;

/// So many of them are put into words on one core.
const ENTRIES_IN_PART: usize = 256;

/// Most findings that are printed as text; the rest is counted.
const TOLD_MAX: usize = 2_000;

/// What `--format json` prints for a register; the whole is written in parts, this type is its schema.
#[cfg(test)]
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct FleetOut {
    schema: &'static str,
    /// The register's name.
    register: String,
    hosts: Vec<HostAgeOut>,
    entries: Vec<FleetEntryOut<'static>>,
    findings: Vec<AuditFinding>,
    not_checked: Vec<NotCheckedOut>,
    /// What hosts cannot do or show, whatever rights one has.
    not_applicable: Vec<NotApplicableOut>,
    summary: AuditSummary,
}

/// How old what is told of a host is.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct HostAgeOut {
    host: String,
    /// When it was last seen (RFC 3339).
    seen: Option<String>,
    /// Why the last try failed.
    fault: Option<String>,
}

/// An entry on a host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FleetEntryOut<'a> {
    host: &'a str,
    /// The person, or `ACCOUNT@HOST`, whose key it is.
    owner: Option<String>,
    #[serde(flatten)]
    entry: EntryOut<'a>,
}

impl FleetEntryOut<'_> {
    /// Adds the entry as JSON on one line.
    fn add_to(&self, out: &mut Vec<u8>) {
        let mut object = ObjectWriter::of(out);
        object.text("host", self.host).text("owner", self.owner.as_deref());
        self.entry.add_fields(&mut object);
        object.end();
    }
}

/// Runs the command on a register.
pub async fn run(args: &AuditArgs, opened: &OpenedRegister, ui: &Ui) -> Result<Exit, CommandError> {
    warn_of_faults(&opened.reading, ui);
    let register = &opened.reading.register;
    let hosts = hosts_named(register, &args.hosts).map_err(|error| match &args.hosts[..] {
        [one] => error.hint(format!("a host that is not in the register: lavrin audit {} --live", shell_word(one))),
        _ => error,
    })?;
    if args.live {
        let ways = args.host.sign_in.ways(register)?;
        look(opened, &hosts, &ways, &PaceArgs::default().pace(register, ui)?, ui, |_, _| ()).await?;
    }
    let store = Database::open_existing(opened.folder.path())?;
    let now = Moment { time: clock::now().unix_timestamp(), today: today() };
    let report = until_the_end(audit(register, &hosts, store.as_ref(), now)?);
    let looks = store.as_ref().map(Database::looks).transpose()?.unwrap_or_default();
    let looks: HashMap<String, Look> = looks.into_iter().map(|look| (look.host.clone(), look)).collect();
    // What cannot be read was not judged: numbers of the rest would look like those of all.
    let is_whole = opened.reading.findings.is_empty();
    if let Some(store) = store.as_ref().filter(|_| args.hosts.is_empty() && is_whole) {
        // Who may only read the store is told what it says all the same.
        let _ = FleetStanding::of(register, report, now).keep(store);
    }
    if let Some(path) = &args.metrics
        && !is_whole
    {
        ui.warn(&format!("{} is left as it was", paths::shown(path)));
    } else if let Some(path) = &args.metrics {
        let looks = hosts.iter().map(|host| looks.get(&host.id)).collect();
        metrics::write(path, &CountedAudit { report, looks, owed: register.owed.len(), now: now.time })?;
    }
    let known = if args.new { leave_new(args, report, opened, now)? } else { 0 };
    let findings = || -> Vec<AuditFinding> { report.findings.par_iter().map(finding_out).collect() };
    if ui.is_json() {
        print_json(&register.name, &hosts, &looks, report, ui);
    } else if ui.is_sarif() {
        print_sarif(opened, &findings(), ui);
    } else if args.entries {
        print_entries(report, ui);
    } else if ui.has_rows() {
        print_rows(report, ui);
    } else {
        print_text(&register.name, &hosts, &looks, report, &findings(), (args.live, args.all, &args.hosts), ui);
    }
    if known > 0 {
        ui.status(&format!(
            "{} told before; all of them: {}",
            count(known, "finding", "findings"),
            complete("lavrin audit")
        ));
    }
    let found = report.worst().is_some_and(|worst| worst >= args.fail_on.severity());
    let not_checked = if report.not_checked.is_empty() { Exit::Done } else { Exit::NotChecked };
    Ok(not_checked.max(if found { Exit::Findings } else { Exit::Done }))
}

/// Leaves those findings that no run told before, and says how many others there are.
fn leave_new(
    args: &AuditArgs,
    report: &mut FleetReport,
    opened: &OpenedRegister,
    now: Moment,
) -> Result<usize, CommandError> {
    let store = Database::open(opened.folder.path())?;
    let part = if args.hosts.is_empty() { "all".to_owned() } else { args.hosts.join(" ") };
    let mut told = ToldBefore::before(&store, &part)?;
    let all = report.findings.len();
    report.findings.retain(|found| {
        let out = finding_out(found);
        let (account, path) = (out.account.as_deref(), out.path.as_deref());
        told.is_new(&FindingIdentity { rule: out.rule, host: &found.host, account, path, message: &out.message })
    });
    told.keep(&store, now.time)?;
    Ok(all - report.findings.len())
}

impl From<FleetFault> for CommandError {
    fn from(fault: FleetFault) -> Self {
        match fault {
            FleetFault::Store(fault) => fault.into(),
            FleetFault::Document { host, fault } => {
                let why = match fault {
                    SnapshotFault::Damaged(said) => format!("the document is damaged: {said}"),
                    SnapshotFault::Newer(form) => {
                        format!("the document has the form {form}, which only a newer version knows")
                    }
                    SnapshotFault::ContentMissing => "a content that the document names is missing".to_owned(),
                };
                Self::with(Exit::Stopped, format!("what was seen of {host} cannot be read: {why}"))
                    .hint("survey it again: lavrin survey HOST")
            }
        }
    }
}

/// A finding of the fleet in words.
pub fn finding_out(found: &FleetFinding) -> AuditFinding {
    let FleetFinding { host, finding, severity } = found;
    let path = finding.path.as_ref().map(ToString::to_string);
    let at = path.as_deref().unwrap_or_default();
    let (message, expected, found, remedy) = match &finding.fault {
        What::System(fault) => (
            wording::finding::message(fault),
            wording::finding::expected(fault),
            wording::finding::found(fault),
            wording::finding::remedy(fault, finding, Some(host), at),
        ),
        What::Host(fault) => {
            let remedy = wording::fleet::remedy(fault, finding, Some(host));
            (wording::fleet::message(fault), None, None, remedy)
        }
    };
    AuditFinding {
        rule: finding.fault.rule(),
        severity: *severity,
        host: Some(host.clone()),
        account: finding.account.clone(),
        line: finding.line,
        message,
        expected,
        found,
        remedy: complete(&remedy),
        path,
    }
}

fn not_checked_out(report: &FleetReport) -> Vec<NotCheckedOut> {
    let out = |(host, item): &(String, lavrin_server::audit::NotChecked)| NotCheckedOut {
        host: Some(host.clone()),
        account: item.account.clone(),
        path: if item.source == BytePath::from("/").into() { String::new() } else { item.source.to_string() },
        why: why_words(&item.why),
    };
    report.not_checked.iter().map(out).collect()
}

fn summary(report: &FleetReport) -> AuditSummary {
    let counts = |severity: Severity| (severity.name(), report.count(severity));
    AuditSummary {
        accounts: report.accounts,
        entries: report.entries.len(),
        findings: Severity::URGENT_FIRST.into_iter().map(counts).collect(),
        not_checked: report.not_checked.len(),
        take_agents: report.take_agents,
    }
}

fn print_json(name: &str, hosts: &[&Host], looks: &HashMap<String, Look>, report: &FleetReport, ui: &Ui) {
    let host_out = |host: &&Host| {
        let look = looks.get(&host.id);
        let seen = look.and_then(|look| u64::try_from(look.seen?).ok()).map(clock::date_of);
        HostAgeOut { host: host.id.clone(), seen, fault: look.and_then(|look| look.fault.clone()) }
    };
    let entry = |entry: &FleetEntry, out: &mut Vec<u8>| {
        let path = entry.entry.place.path().map(ToString::to_string);
        FleetEntryOut { host: &entry.host, owner: owner_of(entry), entry: entry_out(&entry.entry, path.as_deref()) }
            .add_to(out);
    };
    ui.part(&format!("{{\n\"schema\": \"lavrin/audit/1\",\n\"register\": {},\n", crate::json::line(&name)));
    list("hosts", hosts, |host, out| add_line(out, &host_out(host)), ui);
    list("entries", &report.entries, entry, ui);
    list("findings", &report.findings, |finding, out| finding_out(finding).add_to(out), ui);
    list("not_checked", &not_checked_out(report), |item, out| add_line(out, item), ui);
    let lacking = |(host, abilities): &(String, Abilities), out: &mut Vec<u8>| {
        add_line(out, &NotApplicableOut::of(Some(host), abilities));
    };
    list("not_applicable", &report.not_applicable, lacking, ui);
    ui.result(&format!("\"summary\": {}\n}}", crate::json::line(&summary(report))));
}

/// A list of an object, put into words some at once and let go: there may be very many.
fn list<T: Sync>(name: &str, all: &[T], add: impl Fn(&T, &mut Vec<u8>) + Sync, ui: &Ui) {
    let mut before = format!("\"{name}\": [\n");
    for some in all.chunks(ENTRIES_AT_ONCE) {
        let few_lines = |few: &[T]| {
            let mut lines = Vec::new();
            for one in few {
                lines.extend_from_slice(if lines.is_empty() { b"" } else { b",\n" });
                add(one, &mut lines);
            }
            lines
        };
        let parts: Vec<Vec<u8>> = some.par_chunks(ENTRIES_IN_PART).map(few_lines).collect();
        for part in parts {
            ui.part(&before);
            ui.part(&part);
            before = ",\n".to_owned();
        }
    }
    let begun = if all.is_empty() { format!("\"{name}\": [") } else { String::new() };
    ui.part(&format!("{begun}],\n"));
}

/// The entries only.
fn print_entries(report: &FleetReport, ui: &Ui) {
    if ui.has_rows() {
        ui.begin_rows::<EntryRow>();
    }
    for some in report.entries.chunks(ENTRIES_AT_ONCE) {
        if ui.has_rows() {
            ui.part(&some.par_iter().map(|entry| entry_line(entry, ui)).collect::<Vec<_>>().concat());
        } else {
            ui.part(&lines(columns(&some.iter().map(|entry| entry_row(entry, ui)).collect::<Vec<_>>(), 0)));
        }
    }
    if ui.is_text() {
        ui.result(&count(report.entries.len(), "entry", "entries"));
    }
}

fn owner_of(entry: &FleetEntry) -> Option<String> {
    entry.owner.as_ref().map(lavrin_fleet::fleet::Owner::name)
}

fn entry_line(entry: &FleetEntry, ui: &Ui) -> Vec<u8> {
    let path = entry.entry.place.path().map(ToString::to_string);
    let out = entry_out(&entry.entry, path.as_deref());
    ui.rows_rendered(&[EntryRow::of(&out, Some(&entry.host), owner_of(entry).as_deref())])
}

fn entry_row(entry: &FleetEntry, ui: &Ui) -> Vec<String> {
    let of_account = super::entry_row(&entry.entry, ui);
    let [_, number, algorithm, bits, fingerprint, comment] = &of_account[..] else { return of_account };
    let account = printable(entry.entry.account.as_bytes());
    vec![
        ui.paint(Label::Strong, &format!("{account}@{}", entry.host)),
        number.clone(),
        owner_of(entry).unwrap_or_else(|| ui.paint(Label::Warn, "no known owner")),
        format!("{algorithm} {bits}"),
        fingerprint.clone(),
        comment.clone(),
    ]
}

fn print_rows(report: &FleetReport, ui: &Ui) {
    ui.begin_rows::<FindingRow>();
    for some in report.findings.chunks(ENTRIES_AT_ONCE) {
        let findings: Vec<AuditFinding> = some.par_iter().map(finding_out).collect();
        ui.rows(&findings.iter().map(FindingRow::finding).collect::<Vec<_>>());
    }
    let not_checked = not_checked_out(report);
    ui.rows(&not_checked.iter().map(FindingRow::not_checked).collect::<Vec<_>>());
    let lacking = report.not_applicable.iter().map(|(host, abilities)| NotApplicableOut::of(Some(host), abilities));
    let lacking: Vec<NotApplicableOut> = lacking.collect();
    ui.rows(&lacking.iter().map(FindingRow::not_applicable).collect::<Vec<_>>());
}

/// Each finding where the register has its host, so that it shows on a line of the repository.
fn print_sarif(opened: &OpenedRegister, findings: &[AuditFinding], ui: &Ui) {
    let lines = Lines::of(opened);
    let place = |finding: &AuditFinding| {
        let host = opened.register().hosts.get(finding.host.as_deref()?)?;
        let (path, line, column) = lines.position(&host.place, opened);
        Some((path, Some(line), Some(column)))
    };
    let all: Vec<_> = findings.iter().map(|finding| sarif_of(finding, place(finding))).collect();
    ui.result(&sarif::document(env!("CARGO_PKG_VERSION"), &all));
}

fn print_text(
    name: &str,
    hosts: &[&Host],
    looks: &HashMap<String, Look>,
    report: &FleetReport,
    findings: &[AuditFinding],
    (live, all, names): (bool, bool, &[String]),
    ui: &Ui,
) {
    if !findings.is_empty() {
        ui.part(&format!("{}\n", ui.paint(Label::Strong, "Findings")));
    }
    let told: Vec<Folded<'_>> = if all { findings.iter().map(Folded::alone).collect() } else { folded(findings) };
    told.iter().take(TOLD_MAX).for_each(|one| ui.part(&finding_text(one.first, &one.hosts, ui)));
    if told.len() > TOLD_MAX {
        ui.part(&format!("  … and {} more; --format csv lists all\n", told.len() - TOLD_MAX));
    } else if told.iter().any(|one| one.hosts.len() > 1) {
        let line = "What is the same on several hosts is told once; each of them: lavrin audit --all";
        ui.part(&format!("  {}\n", ui.paint(Label::Faint, &complete(line))));
    }
    let not_checked = not_checked_out(report);
    if !not_checked.is_empty() {
        ui.part(&format!("\n{}\n", ui.paint(Label::Strong, "Not checked")));
        let row = |item: &NotCheckedOut| {
            let account = item.account.as_ref().map(|account| format!("{account}@")).unwrap_or_default();
            vec![format!("{account}{}", item.host.as_deref().unwrap_or("")), item.path.clone(), item.why.clone()]
        };
        ui.part(&lines(columns(&not_checked.iter().map(row).collect::<Vec<_>>(), 2)));
    }
    if !report.not_applicable.is_empty() {
        ui.part(&format!("\n{}\n", ui.paint(Label::Strong, "Not applicable")));
        let row = |(host, abilities): &(String, Abilities)| vec![host.clone(), wording::lacking(abilities)];
        ui.part(&lines(columns(&report.not_applicable.iter().map(row).collect::<Vec<_>>(), 2)));
    }
    let place = format!("{name}, {}", age(hosts, looks));
    ui.result(&format!("\n{}", summary_text(&summary(report), &place, ui)));
    if !live {
        let names: Vec<String> = names.iter().map(|name| shell_word(name)).chain(["--live".to_owned()]).collect();
        ui.status(&complete(&format!("This is what the surveys saw; to look now: lavrin audit {}", names.join(" "))));
    }
}

/// How many hosts were seen, and how old the oldest look is.
fn age(hosts: &[&Host], looks: &HashMap<String, Look>) -> String {
    let seen: Vec<i64> = hosts.iter().filter_map(|host| looks.get(&host.id)?.seen).collect();
    let all = count(hosts.len(), "host", "hosts");
    match (seen.iter().min(), seen.iter().max()) {
        (Some(oldest), Some(newest)) if clock::day_of(*oldest) == clock::day_of(*newest) => {
            format!("{all} ({} surveyed on {}, {})", seen.len(), clock::day_of(*oldest), clock::ago(*oldest))
        }
        (Some(oldest), Some(newest)) => {
            let (from, to) = (clock::day_of(*oldest), clock::day_of(*newest));
            format!(
                "{all} ({} surveyed, from {from}, {}, to {to}, {})",
                seen.len(),
                clock::ago(*oldest),
                clock::ago(*newest)
            )
        }
        _ => format!("{all} (none surveyed yet)"),
    }
}
