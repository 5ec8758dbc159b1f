//! `lavrin store prune`: takes out what is old, and says what stays.

use super::{open, size};
use crate::clock;
use crate::command::register::{RegisterArgs, typed_date};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::register::Date;
use lavrin_keys::text::count;
use serde::Serialize;

/// Seconds of a day.
const DAY: i64 = 86_400;

/// Take out what is old; the journal and what it names stay
///
/// Observations that ended before the day go, but the first and the newest of each host stay; so
/// do the first and the last sighting of each entry. What was taken out is "not known" from then
/// on, not "not there". In a PostgreSQL it takes the owner of the tables.
#[derive(Debug, Args)]
pub struct StorePruneArgs {
    /// The first day that stays whole
    #[arg(long, value_name = "DATE", value_parser = typed_date)]
    before: Date,
    /// Count what would go, and change nothing
    #[arg(long)]
    preview: bool,
    /// Without asking
    #[arg(long)]
    yes: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StorePruneOut {
    schema: &'static str,
    /// The first day that stays whole.
    before: String,
    /// Whether it was only counted.
    preview: bool,
    observations: usize,
    sightings: usize,
    contents: usize,
    content_bytes: u64,
}

/// Runs the command.
pub fn run(args: &StorePruneArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let store = open(&args.register)?;
    let (before, now) = (args.before.number() * DAY, clock::unix());
    if before > now {
        return Err(
            CommandError::usage("that day is still to come").hint("lavrin store prune --before 2025-01-01 --preview")
        );
    }
    let would = store.prune(before, now, true)?;
    let question = format!("Take out what ended before {}? It does not come back.", args.before);
    let told = format!(
        "{}, {} and {} ({})",
        count(would.observations, "observation", "observations"),
        count(would.sightings, "entry", "entries"),
        count(would.contents, "content", "contents"),
        size(would.bytes)
    );
    if !args.preview {
        ui.show(&format!("before {}: {told} would go", args.before));
        if !args.yes && !ui.confirm(&question, &[("to count only", "--preview"), ("without asking", "--yes")])? {
            return Err(CommandError::with(Exit::Stopped, "nobody agreed to it").because("nothing was changed"));
        }
    }
    let gone = if args.preview { would } else { store.prune(before, now, false)? };
    let out = StorePruneOut {
        schema: "lavrin/store-prune/1",
        before: args.before.to_string(),
        preview: args.preview,
        observations: gone.observations,
        sightings: gone.sightings,
        contents: gone.contents,
        content_bytes: gone.bytes,
    };
    ui.give(&out, || {
        let stays = "the journal and what it names stay; of each host the first and the newest look, of each entry the first and the last sighting";
        let done = if args.preview { "would go; nothing was changed" } else { "are gone" };
        format!("before {}: {told} {done}\n  {stays}", args.before)
    });
    Ok(Exit::Done)
}
