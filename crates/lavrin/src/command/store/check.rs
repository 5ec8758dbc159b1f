//! `lavrin store check`: holds everything in a store against its hashes, and the journal against its chain.

use super::{open, shown_place};
use crate::clock;
use crate::command::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use clap::Args;
use lavrin_keys::text::{count, printable};
use lavrin_store::database::StoreFinding;
use lavrin_store::{SharedFault, SharedFaultKind};
use serde::Serialize;

/// Hold everything in it against its hashes, and the journal against its chain
#[derive(Debug, Args)]
pub struct StoreCheckArgs {
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints for `check`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StoreCheckOut {
    schema: &'static str,
    path: String,
    contents: usize,
    journal: usize,
    journal_hash: String,
    /// Lines of the journal in the register; `null`: it is not kept there.
    journal_in_register: Option<usize>,
    findings: Vec<StoreFindingOut>,
}

/// Something that is not in order.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct StoreFindingOut {
    /// `damaged`, `foreign`, `content`, `missing` or `chain`.
    kind: &'static str,
    message: String,
}

/// Runs the command.
pub fn run(args: &StoreCheckArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let store = open(&args.register)?;
    let findings = store.check()?;
    let (numbers, chain, shared) = (store.numbers()?, store.chain()?, store.check_shared()?);
    let (shared_lines, shared_faults) = shared.map_or((None, Vec::new()), |(lines, faults)| (Some(lines), faults));
    let out = StoreCheckOut {
        schema: "lavrin/store-check/1",
        path: shown_place(&store.place()),
        contents: numbers.contents,
        journal: numbers.journal,
        journal_hash: chain.last,
        journal_in_register: shared_lines,
        findings: findings.iter().map(finding_out).chain(shared_faults.iter().map(shared_out)).collect(),
    };
    ui.give(&out, || {
        let lines = out.findings.iter().map(|finding| format!("  {}\n", ui.paint(Label::Bad, &finding.message)));
        let shared =
            out.journal_in_register.map(|lines| format!(", {} in the register", count(lines, "line", "lines")));
        let held = format!(
            "{} and {} of the journal{} were held against their hashes",
            count(out.contents, "content", "contents"),
            count(out.journal, "line", "lines"),
            shared.unwrap_or_default()
        );
        let end = if out.findings.is_empty() {
            format!("{held}: {}\n  the last line: {}", ui.paint(Label::Good, "in order"), out.journal_hash)
        } else {
            let keep = if out.path.contains("://") {
                "ask whoever runs that server for a backup from before, and compare".to_owned()
            } else {
                format!("keep a copy of it as it is, then compare with a backup: cp {} elsewhere", out.path)
            };
            format!("{held}\n  next: {keep}")
        };
        format!("{}{end}", lines.collect::<String>())
    });
    Ok(if out.findings.is_empty() { Exit::Done } else { Exit::Findings })
}

fn finding_out(finding: &StoreFinding) -> StoreFindingOut {
    let (kind, message) = match finding {
        StoreFinding::Foreign(what) => ("foreign", format!("not as this program makes it: {what}")),
        StoreFinding::Damaged(said) => ("damaged", format!("the database is damaged: {said}")),
        StoreFinding::Content(hash) => ("content", format!("what is kept under {hash} is something else")),
        StoreFinding::Missing(host, since) => {
            ("missing", format!("what was seen of {host} since {} is not there", clock::day_of(*since)))
        }
        StoreFinding::Chain(line) => (
            "chain",
            format!("line {line} of the journal was changed, taken out or put in: the hashes from there on do not fit"),
        ),
    };
    StoreFindingOut { kind, message: printable(message.as_bytes()) }
}

fn shared_out(fault: &SharedFault) -> StoreFindingOut {
    let what = match fault.kind {
        SharedFaultKind::Unreadable => "is no line of a journal",
        SharedFaultKind::Changed => "was changed",
        SharedFaultKind::NotBehind => "does not follow the one before it: a line was taken out or put in",
        SharedFaultKind::Missing => "was written after one that is in no file: a run is missing",
    };
    let message = format!("line {} of journal/{} {what}", fault.line, fault.file);
    StoreFindingOut { kind: "chain", message: printable(message.as_bytes()) }
}
