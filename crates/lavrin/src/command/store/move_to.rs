//! `lavrin store move`: the memory of a register goes into a PostgreSQL, or back into a file, and nothing of it is lost.

use super::shown_place;
use crate::clock;
use crate::command::register::{RegisterArgs, change_file, edit_fault};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use clap::Args;
use lavrin_fleet::register::edit::set_store_url;
use lavrin_store::database::move_store;
use lavrin_store::register::MAIN_FILE;
use serde::Serialize;

/// Move the memory into a PostgreSQL, or back into a file
///
/// Everything is copied, then both are held against each other by number and by hash. The old
/// one stays as it is: a file gets another name, a database a note that it was moved.
#[derive(Debug, Args)]
pub struct StoreMoveArgs {
    #[arg(value_name = "URL|file", help = "Where to: postgresql://NAME@HOST/DATABASE, or the word file")]
    to: String,
    /// Without asking
    #[arg(long)]
    yes: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct StoreMoveOut {
    schema: &'static str,
    from: String,
    to: String,
    /// What was copied, and found the same on both sides.
    copied: Vec<CopiedOut>,
}

/// A part of a store.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct CopiedOut {
    what: &'static str,
    rows: u64,
}

/// Runs the command.
pub fn run(args: &StoreMoveArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let to = (args.to != "file").then_some(args.to.as_str());
    if let Some(url) = to.filter(|url| !url.contains("://")) {
        return Err(CommandError::usage(format!("'{}' is no address and not the word file", shown_place(url)))
            .hint("lavrin store move postgresql://NAME@HOST/DATABASE"));
    }
    let text = opened.text(MAIN_FILE).unwrap_or_default();
    let new = set_store_url(text, to).map_err(edit_fault(MAIN_FILE))?;
    let question = format!("Copy the memory of this register to {}?", to.map_or("a file here".to_owned(), shown_place));
    if !args.yes && !ui.confirm(&question, &[("without asking", "--yes")])? {
        return Err(CommandError::with(Exit::Stopped, "nobody agreed to it").because("nothing was changed"));
    }
    let moved = move_store(opened.folder.path(), to, clock::unix())?;
    let out = StoreMoveOut {
        schema: "lavrin/store-move/1",
        from: shown_place(&moved.from),
        to: shown_place(&moved.to),
        copied: moved.parts.iter().map(|(what, rows)| CopiedOut { what, rows: *rows }).collect(),
    };
    change_file(&opened, ui, MAIN_FILE, &new)?;
    moved.finish()?;
    ui.give(&out, || {
        let parts = out.copied.iter().map(|part| format!("{} {}", part.rows, part.what));
        let held = parts.collect::<Vec<_>>().join(", ");
        format!(
            "{}\n  {held}\n  held against each other by number and by hash: {}\n  next: commit the register, so that the others follow; they type: lavrin store join",
            ui.paint(Label::Strong, &format!("moved to {}", out.to)),
            ui.paint(Label::Good, "the same"),
        )
    });
    Ok(Exit::Done)
}
