//! `lavrin check`: what is wrong with the register, offline, every fault at its place.

use super::register::{Opened, RegisterArgs, today};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::severity_arg::FailOn;
use crate::ui::{Format, Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_core::finding::Severity;
use lavrin_core::register::check::{check, worst};
use lavrin_core::register::{Place, RegisterFinding};
use lavrin_core::text::count;
use miette::{GraphicalReportHandler, GraphicalTheme, LabeledSpan, MietteDiagnostic, Report};
use schemars::JsonSchema;
use serde::Serialize;

/// Most faults that are drawn with their lines; the rest is counted.
const DRAWN_MAX: usize = 200;

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
#[derive(Debug, Serialize, JsonSchema)]
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
#[derive(Debug, Serialize, JsonSchema)]
struct FindingOut {
    /// Stable rule name.
    rule: &'static str,
    /// `critical`, `high`, `medium`, `low` or `info`.
    severity: &'static str,
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
    let opened = args.register.open()?;
    let findings = check(&opened.reading, today());
    let lines = Lines::of(&opened);
    let out = out_of(&opened, &findings, &lines);
    if ui.format == Format::Json {
        ui.result(&crate::json::print(&out));
    } else {
        for finding in findings.iter().take(DRAWN_MAX) {
            ui.part(&drawn(finding, &opened, &lines, ui));
        }
        if findings.len() > DRAWN_MAX {
            ui.part(&format!("… and {} more; --format json tells all\n\n", findings.len() - DRAWN_MAX));
        }
        ui.result(&summary(&out, &findings, ui));
    }
    let found = worst(&findings).is_some_and(|worst| worst >= args.fail_on.severity());
    Ok(if found { Exit::Findings } else { Exit::Done })
}

fn out_of(opened: &Opened, findings: &[RegisterFinding], lines: &Lines) -> CheckOut {
    let register = &opened.reading.register;
    CheckOut {
        schema: "lavrin/check/1",
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
                    severity: finding.severity.name(),
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

/// Where the lines of each file begin: in a large register very many places are told.
struct Lines(Vec<Vec<usize>>);

impl Lines {
    fn of(opened: &Opened) -> Self {
        let starts =
            |text: &str| std::iter::once(0).chain(text.match_indices('\n').map(|(at, _)| at + 1)).collect::<Vec<_>>();
        Self(opened.files.iter().map(|file| starts(&file.text)).collect())
    }

    /// The line that holds this byte, counted from 0, and where it begins.
    fn line(&self, file: usize, at: usize) -> (usize, usize) {
        let starts = self.0.get(file).map(Vec::as_slice).unwrap_or_default();
        let line = starts.partition_point(|start| *start <= at).saturating_sub(1);
        (line, starts.get(line).copied().unwrap_or_default())
    }

    /// File, line and column of a place, the latter two counted from 1.
    fn position(&self, place: &Place, opened: &Opened) -> (String, usize, usize) {
        let Some(file) = opened.files.get(place.file) else { return (String::new(), 1, 1) };
        let (line, start) = self.line(place.file, place.span.start);
        let column = file.text.get(start..place.span.start).unwrap_or_default().chars().count();
        (file.path.clone(), line + 1, column + 1)
    }
}

/// The lines of a fault, for the drawing; the rest of the file is not looked at.
struct Around {
    name: String,
    text: String,
    begin: usize,
    first_line: usize,
    lines: usize,
}

impl Around {
    fn of(place: &Place, opened: &Opened, lines: &Lines) -> Option<Self> {
        let file = opened.files.get(place.file)?;
        let starts = lines.0.get(place.file)?;
        let first_line = lines.line(place.file, place.span.start).0;
        let last_line = lines.line(place.file, place.span.end).0 + 1;
        let (begin, end) = (*starts.get(first_line)?, starts.get(last_line).copied().unwrap_or(file.text.len()));
        let text = file.text.get(begin..end)?.to_owned();
        Some(Self { name: file.path.clone(), text, begin, first_line, lines: last_line - first_line })
    }
}

impl miette::SourceCode for Around {
    fn read_span<'a>(
        &'a self,
        span: &miette::SourceSpan,
        before: usize,
        after: usize,
    ) -> Result<Box<dyn miette::SpanContents<'a> + 'a>, miette::MietteError> {
        // Without context the place itself is asked for, for the heading.
        let (line, column) = if before + after == 0 {
            let front = self.text.get(..span.offset().saturating_sub(self.begin)).unwrap_or_default();
            let column = front.rsplit('\n').next().unwrap_or_default().chars().count();
            (self.first_line + front.matches('\n').count(), column)
        } else {
            (self.first_line, 0)
        };
        let whole = (self.begin, self.text.len()).into();
        let (name, data) = (self.name.clone(), self.text.as_bytes());
        let contents = miette::MietteSpanContents::new_named(name, data, whole, line, column, self.lines);
        Ok(Box::new(contents))
    }
}

/// A fault with the line it stands on.
fn drawn(finding: &RegisterFinding, opened: &Opened, lines: &Lines, ui: &Ui) -> String {
    let Some(around) = Around::of(&finding.place, opened, lines) else { return String::new() };
    let label = |place: &Place, words: &str| LabeledSpan::at(place.span.clone(), words);
    let mut labels = vec![label(&finding.place, "here")];
    // What stands near is marked in the same drawing, what stands elsewhere is named.
    let shown = around.begin..around.begin + around.text.len();
    let (near, elsewhere): (Vec<&Place>, Vec<&Place>) =
        finding.beside.iter().partition(|place| place.file == finding.place.file && shown.contains(&place.span.start));
    labels.extend(near.into_iter().map(|place| label(place, "and here")));
    let places: Vec<String> = elsewhere
        .into_iter()
        .map(|place| {
            let (path, line, _) = lines.position(place, opened);
            format!("{path} line {line}")
        })
        .collect();
    let beside = if places.is_empty() { String::new() } else { format!("; see {}", places.join(", ")) };
    let diagnostic = MietteDiagnostic::new(wording::register::message(&finding.fault) + &beside)
        .with_code(format!("{} {}", finding.severity.name(), finding.fault.rule()))
        .with_severity(match finding.severity {
            Severity::Critical | Severity::High => miette::Severity::Error,
            Severity::Medium | Severity::Low => miette::Severity::Warning,
            Severity::Info => miette::Severity::Advice,
        })
        .with_help(wording::register::remedy(finding))
        .with_labels(labels);
    let report = Report::new(diagnostic).with_source_code(around);
    let theme = if ui.paint(Label::Strong, "").is_empty() {
        GraphicalTheme::unicode_nocolor()
    } else {
        GraphicalTheme::unicode()
    };
    let mut text = String::new();
    let handler = GraphicalReportHandler::new_themed(theme).with_width(100).with_context_lines(1).with_links(false);
    if handler.render_report(&mut text, report.as_ref()).is_err() {
        return format!("{}\n", wording::register::message(&finding.fault));
    }
    text + "\n"
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
