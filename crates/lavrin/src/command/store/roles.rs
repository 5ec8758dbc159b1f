//! `lavrin store roles`: what whoever runs the server needs to know.

use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use lavrin_store::database::ROLES;

/// The roles of a store for several people, as SQL
///
/// Setting a store up makes them too. Whoever runs the server grants them to logins.
#[derive(Debug, Args)]
pub struct StoreRolesArgs {}

/// Runs the command.
pub fn run(ui: &Ui) -> Exit {
    ui.result(ROLES.trim_end());
    Exit::Done
}
