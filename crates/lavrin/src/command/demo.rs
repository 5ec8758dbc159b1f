//! `lavrin demo`

use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;

/// The whole job
#[derive(Debug, Args)]
pub struct DemoArgs {}

/// Runs the command.
pub fn run(_: &DemoArgs, _: &Ui) -> Result<Exit, CommandError> {
    Ok(Exit::Done)
}
