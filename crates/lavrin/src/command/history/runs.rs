//! `lavrin history runs`: what was changed together, and what `lavrin undo` takes back together.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use lavrin_keys::text::{count, printable};
use lavrin_report::rows::TableRow;
use lavrin_store::{ChangeOutcome, Event, JournalEntry, Keeper};
use serde::Serialize;
use std::collections::{BTreeSet, HashMap};

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RunsOut {
    schema: &'static str,
    runs: Vec<RunOut>,
}

/// What one command changed.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RunOut {
    /// What `lavrin undo` takes: the run, or the one change.
    id: String,
    /// When it began (RFC 3339).
    time: String,
    command: String,
    hosts: Vec<String>,
    /// Changes that are done.
    done: usize,
    /// Changes that were taken back or never made.
    as_before: usize,
    /// Changes whose end is not known.
    unknown: usize,
    reason: Option<String>,
}

impl TableRow for &RunOut {
    const COLUMNS: &'static [&'static str] =
        &["id", "time", "command", "hosts", "done", "as_before", "unknown", "reason"];
}

/// Prints every run, the last one at the end.
pub fn run(keeper: &dyn Keeper, ui: &Ui) -> Result<Exit, CommandError> {
    let out = RunsOut { schema: "lavrin/history-runs/1", runs: runs(&keeper.lines()?) };
    ui.give_rows(&out, || out.runs.iter().collect::<Vec<&RunOut>>(), || text(&out.runs, ui));
    Ok(Exit::Done)
}

fn runs(lines: &[JournalEntry]) -> Vec<RunOut> {
    let mut outcomes: HashMap<&str, ChangeOutcome> = HashMap::new();
    for line in lines {
        if let Event::Outcome { outcome, .. } = &line.event {
            outcomes.insert(&line.id, *outcome);
        }
    }
    let mut found: Vec<(RunOut, BTreeSet<String>)> = Vec::new();
    let mut places: HashMap<String, usize> = HashMap::new();
    for line in lines {
        let Event::Intent { command, place, run, reason, .. } = &line.event else { continue };
        let id = run.clone().unwrap_or_else(|| line.id.clone());
        let at = *places.entry(id.clone()).or_insert_with(|| {
            let (time, command, reason) = (line.time.clone(), command.clone(), reason.clone());
            let run = RunOut { id, time, command, hosts: Vec::new(), done: 0, as_before: 0, unknown: 0, reason };
            found.push((run, BTreeSet::new()));
            found.len() - 1
        });
        let (run, hosts) = &mut found[at];
        hosts.insert(place.clone());
        match outcomes.get(line.id.as_str()) {
            Some(ChangeOutcome::Done) => run.done += 1,
            Some(ChangeOutcome::AsBefore) => run.as_before += 1,
            Some(ChangeOutcome::Unknown) | None => run.unknown += 1,
        }
    }
    found.into_iter().map(|(run, hosts)| RunOut { hosts: hosts.into_iter().collect(), ..run }).collect()
}

fn text(runs: &[RunOut], ui: &Ui) -> String {
    let row = |run: &RunOut| {
        let mut ends = vec![format!("{} done", run.done)];
        ends.extend((run.as_before > 0).then(|| format!("{} as before", run.as_before)));
        ends.extend((run.unknown > 0).then(|| ui.paint(Label::Bad, &format!("{} not known", run.unknown))));
        let place = match &run.hosts[..] {
            [one] => printable(one.as_bytes()),
            hosts => count(hosts.len(), "host", "hosts"),
        };
        let reason = run.reason.as_ref().map(|reason| format!("reason: {}", printable(reason.as_bytes())));
        vec![
            run.time.get(..16).unwrap_or(&run.time).replace('T', " "),
            ui.paint(Label::Strong, &run.command),
            run.id.clone(),
            place,
            ends.join(", "),
            reason.unwrap_or_default(),
        ]
    };
    let rows: Vec<Vec<String>> = runs.iter().map(row).collect();
    let lines: String = columns(&rows, 0).into_iter().map(|line| line + "\n").collect();
    format!("{lines}{}", count(runs.len(), "run", "runs"))
}
