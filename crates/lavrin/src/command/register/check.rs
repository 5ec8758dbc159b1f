//! `lavrin register check`: what is wrong with the register, offline, every fault at its place.

use super::{Lines, OpenedRegister, RegisterArgs, today, until_the_end};
use crate::command::audit::rows::level;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::finding_text::FindingText;
use crate::severity_arg::FailOn;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_fleet::register::check::{check, worst};
use lavrin_fleet::register::{FieldKind, RegisterFault, RegisterFinding, RegisterPlace};
use lavrin_keys::text::{count, printable};
use lavrin_report::sarif;
use lavrin_server::finding::Severity;
use lavrin_store::database::Database;
use lavrin_work::fleet::accounts_seen;
use serde::Serialize;
use std::collections::HashMap;

/// Most faults that are drawn with their lines; the rest is counted.
const DRAWN_MAX: usize = 200;

/// Hosts whose last look is asked for at once.
const HOSTS_AT_ONCE: usize = 512;

/// Characters of a line that are shown, so that it fits beside that on a screen of 80 columns; lines with keys are long.
const SHOWN: usize = 66;

/// Characters shown in front of a mark that stands further to the right.
const BEFORE: usize = 16;

/// What is wrong with the register, every fault at its place; looks at no host
#[derive(Debug, Args)]
pub struct CheckArgs {
    /// Exit with 1 where a finding is at least this severe
    #[arg(long, value_name = "SEVERITY", default_value = "low")]
    pub fail_on: FailOn,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct CheckOut {
    schema: &'static str,
    /// The register's name.
    register: String,
    people: usize,
    keys: usize,
    hosts: usize,
    grants: usize,
    findings: Vec<FindingOut>,
}

/// One fault.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct FindingOut {
    /// Stable rule name.
    rule: &'static str,
    /// `critical`, `high`, `medium`, `low` or `info`.
    #[cfg_attr(test, schemars(with = "String"))]
    severity: Severity,
    /// Whom or what it is about; an exception names this.
    about: String,
    /// The file, below the register's folder.
    path: String,
    /// The line, counted from 1.
    line: usize,
    /// The column, counted from 1 in characters.
    column: usize,
    message: String,
    remedy: String,
}

/// Runs the command.
pub fn run(args: &CheckArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = until_the_end(args.register.open_to_judge()?);
    let documents = documents(opened, ui)?;
    let seen = |host: &str| accounts_seen(documents.get(host)?);
    let mut findings = check(&opened.reading, today(), &seen);
    tell_what_was_meant(opened, &mut findings);
    let lines = Lines::of(opened);
    let out = out_of(opened, &findings, &lines);
    if ui.is_sarif() {
        ui.result(&sarif_of(&out));
        return Ok(exit(&findings, args));
    }
    ui.give(&out, || {
        for finding in findings.iter().take(DRAWN_MAX) {
            ui.part(&drawn(finding, opened, &lines, ui));
        }
        if findings.len() > DRAWN_MAX {
            ui.part(&format!("… and {} more; --format json lists all\n\n", findings.len() - DRAWN_MAX));
        }
        summary(&out, &findings, ui)
    });
    Ok(exit(&findings, args))
}

fn exit(findings: &[RegisterFinding], args: &CheckArgs) -> Exit {
    let found = worst(findings).is_some_and(|worst| worst >= args.fail_on.severity());
    if found { Exit::Findings } else { Exit::Done }
}

/// The faults for a code host, each on its line.
fn sarif_of(out: &CheckOut) -> String {
    let finding = |one: &FindingOut| sarif::SarifFinding {
        rule: one.rule,
        level: level(one.severity),
        severity: one.severity.name(),
        message: format!("{}: {}. Next: {}", one.about, one.message, one.remedy),
        place: Some((one.path.clone(), Some(one.line), Some(one.column))),
        about: Some(one.about.clone()),
        identity: format!("{}/{}/{}/{}", one.path, one.about, one.rule, one.message),
    };
    sarif::document(env!("CARGO_PKG_VERSION"), &out.findings.iter().map(finding).collect::<Vec<_>>())
}

/// What the last surveys saw of the hosts with managed accounts, where there were any.
fn documents(opened: &OpenedRegister, ui: &Ui) -> Result<HashMap<String, Vec<u8>>, CommandError> {
    let store = match Database::open_existing(opened.folder.path()) {
        Ok(store) => store,
        // A check is for everybody who has the files, also where nobody may ask the office's database.
        Err(fault) if fault.is_of_a_place_elsewhere() => {
            ui.status(&format!("held against the files alone: {}", printable(fault.to_string().as_bytes())));
            None
        }
        Err(fault) => return Err(fault.into()),
    };
    let Some(store) = store else { return Ok(HashMap::new()) };
    let hosts = opened.register().all_hosts().filter(|host| !host.accounts.is_empty());
    let hosts: Vec<&str> = hosts.map(|host| host.id.as_str()).collect();
    let mut documents = HashMap::new();
    for some in hosts.chunks(HOSTS_AT_ONCE) {
        let found = store.observations_at(some, i64::MAX)?;
        documents.extend(found.into_iter().flatten().map(|stored| (stored.host, stored.document)));
    }
    Ok(documents)
}

/// What a comment among the entries to leave alone would have meant, by what surveys saw.
fn tell_what_was_meant(opened: &OpenedRegister, findings: &mut [RegisterFinding]) {
    let is_asked = |finding: &&mut RegisterFinding| matches!(finding.fault, RegisterFault::LeaveByComment { .. });
    let mut store = None;
    for finding in findings.iter_mut().filter(is_asked) {
        let opening = || Database::open_existing(opened.folder.path()).ok().flatten();
        let Some(store) = store.get_or_insert_with(opening) else { return };
        let RegisterFault::LeaveByComment { comment, meant } = &mut finding.fault else { continue };
        for seen in store.sightings_on(&finding.about).unwrap_or_default() {
            if seen.gone.is_none() && seen.comment == *comment && !meant.contains(&seen.key) {
                meant.push(seen.key);
            }
        }
    }
}

fn out_of(opened: &OpenedRegister, findings: &[RegisterFinding], lines: &Lines) -> CheckOut {
    let register = &opened.reading.register;
    CheckOut {
        schema: "lavrin/register-check/1",
        register: register.name.clone(),
        people: register.people.len(),
        keys: register.people.values().map(|person| person.keys.len()).sum(),
        hosts: register.hosts.len(),
        grants: register.grants.len(),
        findings: findings
            .iter()
            .map(|finding| {
                let (path, line, column) = lines.position(&finding.place, opened);
                FindingOut {
                    rule: finding.fault.rule(),
                    severity: finding.severity,
                    about: finding.about.clone(),
                    path,
                    line,
                    column,
                    message: wording::register::message(&finding.fault),
                    remedy: wording::register::remedy(finding),
                }
            })
            .collect(),
    }
}

/// A fault with the line it stands on, the place marked below it.
fn drawn(finding: &RegisterFinding, opened: &OpenedRegister, lines: &Lines, ui: &Ui) -> String {
    let (path, line, column) = lines.position(&finding.place, opened);
    let elsewhere: Vec<String> = finding
        .beside
        .iter()
        .map(|place| {
            let (path, line, _) = lines.position(place, opened);
            format!("{path} line {line}")
        })
        .collect();
    let beside = if elsewhere.is_empty() { String::new() } else { format!("; see {}", elsewhere.join(", ")) };
    let message = wording::register::message(&finding.fault) + &beside;
    let told = FindingText {
        severity: finding.severity,
        place: ui.paint(Label::Strong, &format!("{path} line {line} column {column}")),
        rule: finding.fault.rule(),
        message,
        // A line with a password in it is not shown again.
        marked: excerpt(&finding.place, opened, lines).filter(|_| !holds_password(&finding.fault)),
        next: wording::register::remedy(finding),
    };
    told.lines(ui) + "\n"
}

/// Whether the fault may be that a password stands there.
fn holds_password(fault: &RegisterFault) -> bool {
    matches!(fault, RegisterFault::BadValue { wanted: FieldKind::StoreUrl, .. })
}

/// The line of a place and the row that marks it, both no wider than is shown.
fn excerpt(place: &RegisterPlace, opened: &OpenedRegister, lines: &Lines) -> Option<(String, String)> {
    let text = opened.files.get(place.file())?.text.as_str();
    let (_, begin) = lines.line(place.file(), place.bytes().start);
    let line = text.get(begin..)?.lines().next()?;
    let start = line.get(..place.bytes().start - begin)?.chars().count();
    let marked = text.get(place.bytes())?.lines().next().unwrap_or_default().chars().count().max(1);
    // One column for each character, so that the marks stand below what they mean.
    let plain = |character: char| if character.is_control() { ' ' } else { character };
    let all: Vec<char> = line.chars().map(plain).collect();
    let from = if start + marked > SHOWN { start.saturating_sub(BEFORE) } else { 0 };
    let to = all.len().min(from + SHOWN);
    let (front, back) = (if from > 0 { "…" } else { "" }, if to < all.len() { "…" } else { "" });
    let shown: String = all[from.min(to)..to].iter().collect();
    let mark = "^".repeat(marked.min(to.saturating_sub(start).max(1)));
    let indent = " ".repeat(start - from + front.chars().count());
    Some((format!("{front}{shown}{back}"), format!("{indent}{mark}")))
}

fn summary(out: &CheckOut, findings: &[RegisterFinding], ui: &Ui) -> String {
    let counts: Vec<String> = Severity::URGENT_FIRST
        .into_iter()
        .filter_map(|severity| {
            let number = findings.iter().filter(|finding| finding.severity == severity).count();
            (number > 0).then(|| ui.paint(Label::of(severity), &format!("{number} {}", severity.name())))
        })
        .collect();
    let told = if counts.is_empty() { ui.paint(Label::Good, "nothing found") } else { counts.join(", ") };
    format!(
        "{}: {}, {}, {}, {}; {told}",
        ui.paint(Label::Strong, &out.register),
        count(out.people, "person", "people"),
        count(out.keys, "key", "keys"),
        count(out.hosts, "host", "hosts"),
        count(out.grants, "grant", "grants"),
    )
}
