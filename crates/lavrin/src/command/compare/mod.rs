//! `lavrin compare`: what register and hosts disagree on. Changes nothing.

pub mod out;

use super::register::{Opened, RegisterArgs, today};
use super::survey::{hosts_named, look};
use crate::clock;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::sign_in::SignInArgs;
use crate::ui::Ui;
use clap::Args;
use lavrin_core::fleet::Moment;
use lavrin_store::database::Database;
use lavrin_work::fleet::compare;
use lavrin_work::survey::Pace;
pub use out::CompareOut;
use std::time::Duration;

/// With `--fresh`: hosts at once, and the time for each.
const PACE: Pace = Pace { parallel: 32, time: Duration::from_mins(1) };

/// What register and hosts disagree on; changes nothing
#[derive(Debug, Args)]
pub struct CompareArgs {
    /// Only these hosts, or hosts with these tags
    #[arg(value_name = "HOST|TAG")]
    pub hosts: Vec<String>,
    /// Look at the hosts first, instead of taking what the last survey saw
    #[arg(long)]
    pub fresh: bool,
    #[command(flatten)]
    sign_in: SignInArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs the command.
pub async fn run(args: &CompareArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    let register = &opened.reading.register;
    let hosts = hosts_named(register, &args.hosts)?;
    warn_of_faults(&opened, ui);
    if args.fresh {
        look(&opened, &hosts, &args.sign_in, PACE, ui).await?;
    }
    let store = Database::open_existing(opened.folder.path())?;
    let compared = compare(register, &hosts, store.as_ref(), moment())?;
    let out = CompareOut::of(&register.name, &compared);
    let exit = out.exit();
    out::print(&out, ui);
    // Twenty thousand hosts take a while to be given back piece by piece, and nobody needs the memory any more.
    std::mem::forget((compared, opened));
    Ok(exit)
}

/// Now, as the core takes it.
pub fn moment() -> Moment {
    Moment { time: clock::now().unix_timestamp(), today: today() }
}

/// What stands in a file that does not read is not known: keys of people in it look like those of nobody.
fn warn_of_faults(opened: &Opened, ui: &Ui) {
    if !opened.reading.findings.is_empty() {
        ui.warn("the register has faults, so this may not be the whole truth: lavrin check");
    }
}
