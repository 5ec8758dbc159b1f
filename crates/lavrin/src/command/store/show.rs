//! `lavrin store show`: which store it is, and how much is in it.

use super::{open, shown_place, size};
use crate::clock;
use crate::command::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use clap::Args;
use lavrin_keys::text::count;
use serde::Serialize;

/// Which store it is, and how much is in it
#[derive(Debug, Args)]
pub struct StoreShowArgs {
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints for `show`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StoreOut {
    schema: &'static str,
    /// The file, or the address.
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
    /// What this machine could not deliver yet, since the store was away.
    waiting: usize,
    /// Observations that ended before this were taken out (RFC 3339).
    pruned: Option<String>,
    /// The hash of the last line of the journal: noted elsewhere, it tells later whether anything before it was changed.
    journal_hash: String,
}

/// Runs the command.
pub fn run(args: &StoreShowArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let store = open(&args.register)?;
    let (numbers, chain) = (store.numbers()?, store.chain()?);
    let out = StoreOut {
        schema: "lavrin/store-show/1",
        path: shown_place(&store.place()),
        kind: store.kind(),
        version: numbers.version,
        bytes: numbers.bytes,
        hosts: numbers.hosts,
        observations: numbers.observations,
        since: numbers.since.map(clock::text_of),
        contents: numbers.contents,
        content_bytes: numbers.content_bytes,
        sightings: numbers.sightings,
        journal: numbers.journal,
        waiting: store.waiting()?,
        pruned: numbers.pruned.map(clock::text_of),
        journal_hash: chain.last,
    };
    ui.give(&out, || {
        let day = |time: &str| time.split('T').next().unwrap_or_default().to_owned();
        let pruned = out.pruned.as_deref().map(|time| format!("; before {} only the first and the last stayed", day(time)));
        let waiting = match out.waiting {
            0 => String::new(),
            number => format!("\n  {} on this machine and could not be delivered yet", count(number, "thing waits", "things wait")),
        };
        let since = out.since.as_deref().map(|time| format!(", since {}", day(time)));
        format!(
            "{}\n  {}, form {}, {}\n  {} looked at; {}{}{}\n  {} of {} in all; {} seen\n  {} in the journal, the last one {}{waiting}",
            ui.paint(Label::Strong, &out.path),
            if out.kind == "sqlite" { "SQLite" } else { "PostgreSQL" },
            out.version,
            size(out.bytes),
            count(out.hosts, "host", "hosts"),
            count(out.observations, "observation", "observations"),
            since.unwrap_or_default(),
            pruned.unwrap_or_default(),
            count(out.contents, "content", "contents"),
            size(out.content_bytes),
            count(out.sightings, "entry", "entries"),
            count(out.journal, "line", "lines"),
            out.journal_hash
        )
    });
    Ok(Exit::Done)
}
