//! `lavrin compare`: what register and hosts disagree on. Changes nothing.

pub mod out;

use super::pace::PaceArgs;
use super::register::{RegisterArgs, today, until_the_end};
use super::survey::{hosts_named, look};
use crate::clock;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::sign_in::SignInArgs;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::fleet::Moment;
use lavrin_store::database::Database;
use lavrin_work::fleet::{Ahead, compare};
pub use out::CompareOut;
#[cfg(test)]
pub use out::DifferenceRow;

/// What register and hosts disagree on; changes nothing
#[derive(Debug, Args)]
pub struct CompareArgs {
    /// Only these hosts, or hosts with these tags
    #[arg(value_name = "HOST|TAG")]
    pub hosts: Vec<String>,
    /// Survey the hosts again first
    #[arg(long)]
    pub live: bool,
    #[command(flatten)]
    sign_in: SignInArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs the command.
pub async fn run(args: &CompareArgs, ui: &Ui) -> Result<Exit, CommandError> {
    // While the register is read, what was seen of the hosts is read too.
    let early = if args.live || !args.hosts.is_empty() { None } else { args.begin(None)? };
    let opened = until_the_end(args.register.open_to_report(ui)?);
    let register = &opened.reading.register;
    let hosts = hosts_named(register, &args.hosts)?;
    if args.live {
        let ways = args.sign_in.ways(register)?;
        look(opened, &hosts, &ways, &PaceArgs::default().pace(register, ui)?, ui, |_, _| ()).await?;
    }
    let ahead = match early {
        Some(ahead) => Some(ahead),
        None => args.begin(Some(hosts.iter().map(|host| host.id.clone()).collect()))?,
    };
    let compared = until_the_end(compare(register, &hosts, ahead, moment())?);
    let out = CompareOut::of(&register.name, compared);
    out::print(&out, ui);
    Ok(out.exit())
}

impl CompareArgs {
    /// Begins to read what was seen of these hosts, where there is a store.
    fn begin(&self, only: Option<Vec<String>>) -> Result<Option<Ahead>, CommandError> {
        let Some(folder) = self.register.folder() else { return Ok(None) };
        let store = Database::open_existing(folder.path())?;
        Ok(store.map(|store| Ahead::begin(store, only)).transpose()?)
    }
}

/// Now, as the core takes it.
pub fn moment() -> Moment {
    Moment { time: clock::now().unix_timestamp(), today: today() }
}
