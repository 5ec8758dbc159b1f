//! `lavrin store set-up`: makes a store in a PostgreSQL, or brings it up to date.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Args;
use lavrin_keys::text::printable;
use lavrin_store::database::set_up;

/// Make a store for several people in a PostgreSQL, or bring it up to date
///
/// It takes a login that may make roles, such as the one that runs the server. Roles and tables
/// that are there stay as they are.
#[derive(Debug, Args)]
pub struct StoreSetUpArgs {
    #[arg(value_name = "URL", help = "The database, as postgresql://NAME@HOST/DATABASE; no password in it")]
    url: String,
}

/// Runs the command.
pub fn run(args: &StoreSetUpArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let (before, now) = set_up(&args.url)?;
    let url = printable(args.url.as_bytes());
    ui.result(&match before {
        0 => format!(
            "{url}: the store is there, form {now}\n  who may use it: GRANT lavrin_administrator TO a login; collectors and auditors have roles of their own\n  \
             next, in the register: lavrin store move URL"
        ),
        before if before == now => format!("{url}: the store is there already, form {now}"),
        before => format!("{url}: the store went from form {before} to form {now}"),
    });
    Ok(Exit::Done)
}
