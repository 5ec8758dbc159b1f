//! `lavrin register …`, and what all commands on the register have in common.

pub mod adopt;
pub mod begin;
pub mod check;
mod lines;
mod opened;

use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Subcommand;
pub use lines::Lines;
pub use opened::{
    OpenedRegister, RegisterArgs, change_file, check_reads, edit_fault, policy, today, typed_date, typed_id,
    until_the_end, warn_of_faults,
};

/// The commands about the register as a whole.
#[derive(Debug, Subcommand)]
pub enum RegisterCommand {
    /// Begin a register: people, keys, hosts and who may log in where
    Begin(begin::BeginArgs),
    /// Find every fault in the register; looks at no host
    Check(check::CheckArgs),
    /// Build the register from what surveys found, one question for each key
    Adopt(adopt::AdoptArgs),
}

/// Runs one of them.
pub fn run(command: &RegisterCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        RegisterCommand::Begin(args) => begin::run(args, ui),
        RegisterCommand::Check(args) => check::run(args, ui),
        RegisterCommand::Adopt(args) => adopt::run(args, ui),
    }
}
