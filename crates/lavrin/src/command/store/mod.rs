//! `lavrin store`: the memory of a register: what is in it, and whether it is in order.

use super::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use crate::{clock, paths};
use clap::{Args, Subcommand};
use lavrin_keys::text::count;
use lavrin_store::database::{Database, StoreFinding};
use lavrin_store::{SharedFault, SharedFaultKind};
use serde::Serialize;

/// The memory of a register
#[derive(Debug, Subcommand)]
pub enum StoreCommand {
    /// Which store it is, and how much is in it
    Show(StoreShowArgs),
    /// Hold everything in it against its hashes, and the journal against its chain
    Check(StoreCheckArgs),
}

/// Which store it is, and how much is in it
#[derive(Debug, Args)]
pub struct StoreShowArgs {
    #[command(flatten)]
    register: RegisterArgs,
}

/// Hold everything in it against its hashes, and the journal against its chain
#[derive(Debug, Args)]
pub struct StoreCheckArgs {
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints for `show`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StoreOut {
    schema: &'static str,
    /// The file.
    path: String,
    kind: &'static str,
    /// The form of its tables.
    version: i32,
    bytes: u64,
    hosts: usize,
    observations: usize,
    /// When the first observation began (RFC 3339).
    since: Option<String>,
    contents: usize,
    content_bytes: u64,
    sightings: usize,
    journal: usize,
    /// The hash of the last line of the journal: noted elsewhere, it tells later whether anything before it was changed.
    journal_hash: String,
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
    /// `damaged`, `content`, `missing` or `chain`.
    kind: &'static str,
    message: String,
}

/// Runs the command.
pub fn run(command: &StoreCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        StoreCommand::Show(args) => show(&args.register, ui),
        StoreCommand::Check(args) => check(&args.register, ui),
    }
}

/// The store of a register, which has to be there.
fn open(register: &RegisterArgs) -> Result<Database, CommandError> {
    let folder = register.open()?.folder;
    Database::open_existing(folder.path())?.ok_or_else(|| {
        CommandError::usage("this register remembers nothing yet: there was no survey and no change")
            .hint("lavrin survey")
    })
}

fn show(register: &RegisterArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let store = open(register)?;
    let (numbers, chain) = (store.numbers()?, store.chain()?);
    let out = StoreOut {
        schema: "lavrin/store-show/1",
        path: paths::shown(store.path()),
        kind: "sqlite",
        version: numbers.version,
        bytes: numbers.bytes,
        hosts: numbers.hosts,
        observations: numbers.observations,
        since: numbers.since.map(clock::text_of),
        contents: numbers.contents,
        content_bytes: numbers.content_bytes,
        sightings: numbers.sightings,
        journal: numbers.journal,
        journal_hash: chain.last,
    };
    ui.give(&out, || {
        let since = out.since.as_deref().and_then(|since| since.split('T').next()).map(|day| format!(", since {day}"));
        format!(
            "{}\n  SQLite, form {}, {}\n  {} looked at; {}{}\n  {} of {} in all; {} seen\n  {} in the journal, the last one {}",
            ui.paint(Label::Strong, &out.path),
            out.version,
            size(out.bytes),
            count(out.hosts, "host", "hosts"),
            count(out.observations, "observation", "observations"),
            since.unwrap_or_default(),
            count(out.contents, "content", "contents"),
            size(out.content_bytes),
            count(out.sightings, "entry", "entries"),
            count(out.journal, "line", "lines"),
            out.journal_hash
        )
    });
    Ok(Exit::Done)
}

fn size(bytes: u64) -> String {
    match bytes {
        0..10_000 => format!("{bytes} bytes"),
        10_000..10_000_000 => format!("{} KB", bytes / 1000),
        _ => format!("{} MB", bytes / 1_000_000),
    }
}

fn check(register: &RegisterArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let store = open(register)?;
    let findings = store.check()?;
    let (numbers, chain, shared) = (store.numbers()?, store.chain()?, store.check_shared()?);
    let (shared_lines, shared_faults) = shared.map_or((None, Vec::new()), |(lines, faults)| (Some(lines), faults));
    let out = StoreCheckOut {
        schema: "lavrin/store-check/1",
        path: paths::shown(store.path()),
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
            format!("{held}\n  next: keep a copy of it as it is, then compare with a backup: cp {} elsewhere", out.path)
        };
        format!("{}{end}", lines.collect::<String>())
    });
    Ok(if out.findings.is_empty() { Exit::Done } else { Exit::Findings })
}

fn finding_out(finding: &StoreFinding) -> StoreFindingOut {
    let (kind, message) = match finding {
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
    StoreFindingOut { kind, message: lavrin_keys::text::printable(message.as_bytes()) }
}

fn shared_out(fault: &SharedFault) -> StoreFindingOut {
    let what = match fault.kind {
        SharedFaultKind::Unreadable => "is no line of a journal",
        SharedFaultKind::Changed => "was changed",
        SharedFaultKind::NotBehind => "does not follow the one before it: a line was taken out or put in",
        SharedFaultKind::Missing => "was written after one that is in no file: a run is missing",
    };
    let message = format!("line {} of journal/{} {what}", fault.line, fault.file);
    StoreFindingOut { kind: "chain", message: lavrin_keys::text::printable(message.as_bytes()) }
}
