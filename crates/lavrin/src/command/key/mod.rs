//! `lavrin key …`

pub mod convert;
pub mod generate;
pub mod inspect;
pub mod pair;

use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Subcommand;

/// The commands about keys.
#[derive(Debug, Subcommand)]
pub enum KeyCommand {
    /// Make a key pair
    Generate(generate::GenerateArgs),
    /// Write a key in another format, with another comment or passphrase
    Convert(convert::ConvertArgs),
    /// Show what a file or a paste contains, and what is weak about it
    Inspect(inspect::InspectArgs),
}

/// Runs one of them.
pub fn run(command: &KeyCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        KeyCommand::Generate(args) => generate::run(args, ui),
        KeyCommand::Convert(args) => convert::run(args, ui),
        KeyCommand::Inspect(args) => inspect::run(args, ui),
    }
}
