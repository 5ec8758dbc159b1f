//! `lavrin store`: the memory of a register: where it is, how much is in it, whether it is in order, and how it moves.

mod check;
mod join;
mod move_to;
mod prune;
mod roles;
mod set_up;
mod show;

#[cfg(test)]
pub use check::StoreCheckOut;
#[cfg(test)]
pub use move_to::StoreMoveOut;
#[cfg(test)]
pub use prune::StorePruneOut;
#[cfg(test)]
pub use show::StoreOut;

use super::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::paths;
use crate::ui::Ui;
use clap::Subcommand;
use lavrin_keys::text::printable;
use lavrin_store::database::Database;
use std::path::Path;

/// The memory of a register
#[derive(Debug, Subcommand)]
pub enum StoreCommand {
    /// Which store it is, and how much is in it
    Show(show::StoreShowArgs),
    /// Hold everything in it against its hashes, and the journal against its chain
    Check(check::StoreCheckArgs),
    /// Take out what is old; the journal and what it names stay
    Prune(prune::StorePruneArgs),
    /// Make a store for several people in a PostgreSQL, or bring it up to date
    SetUp(set_up::StoreSetUpArgs),
    /// Move the memory into a PostgreSQL, or back into a file
    Move(move_to::StoreMoveArgs),
    /// Agree here to the PostgreSQL that the register names
    Join(join::StoreJoinArgs),
    /// The roles of a store for several people, as SQL
    Roles(roles::StoreRolesArgs),
}

/// Runs the command.
pub fn run(command: &StoreCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        StoreCommand::Show(args) => show::run(args, ui),
        StoreCommand::Check(args) => check::run(args, ui),
        StoreCommand::Prune(args) => prune::run(args, ui),
        StoreCommand::SetUp(args) => set_up::run(args, ui),
        StoreCommand::Move(args) => move_to::run(args, ui),
        StoreCommand::Join(args) => join::run(args, ui),
        StoreCommand::Roles(_) => Ok(roles::run(ui)),
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

/// Where it is: a path as a person writes it, or an address.
fn shown_place(place: &str) -> String {
    if place.contains("://") { printable(place.as_bytes()) } else { paths::shown(Path::new(place)) }
}

fn size(bytes: u64) -> String {
    match bytes {
        0..10_000 => format!("{bytes} bytes"),
        10_000..10_000_000 => format!("{} KB", bytes / 1000),
        _ => format!("{} MB", bytes / 1_000_000),
    }
}
