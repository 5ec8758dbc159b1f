//! `lavrin store join`: agrees to the store that the register names, so that nobody's pull request sends anything anywhere.

use crate::command::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use lavrin_keys::text::{count, printable};
use lavrin_store::database::{Database, agree};

/// Agree here to the PostgreSQL that the register names
///
/// A register comes by version control, so an address in it counts on this machine only once
/// somebody here has agreed to it. What is seen and done here goes there from then on.
#[derive(Debug, Args)]
pub struct StoreJoinArgs {
    /// Without asking
    #[arg(long)]
    yes: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs the command.
pub fn run(args: &StoreJoinArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let folder = opened.folder.path();
    let Some(url) = &opened.register().store_url else {
        agree(folder, None)?;
        ui.result("the register names no store for several people; its memory is the file on this machine");
        return Ok(Exit::Done);
    };
    let shown = printable(url.as_bytes());
    let question = format!("Keep what is seen and done here at {shown}?");
    if !args.yes && !ui.confirm(&question, &[("to agree to it", "--yes")])? {
        return Err(CommandError::with(Exit::Stopped, "nobody agreed to it").because("nothing was changed"));
    }
    agree(folder, Some(url))?;
    let store = Database::open(folder)?;
    let seen = store.seen_hosts()?;
    ui.result(&format!("joined {shown}: {} looked at", count(seen.tried, "host", "hosts")));
    Ok(Exit::Done)
}
