//! `lavrin` alone: where one is, and what to type next.

use super::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use crate::{clock, paths};
use lavrin_keys::text::count;
use lavrin_store::database::Database;

/// Runs it: a command is missing, so it ends as wrong usage does.
pub fn run(ui: &Ui) -> Result<Exit, CommandError> {
    let Some(opened) = RegisterArgs::default().here()? else {
        ui.show("There is no register here, so each command needs a host or --tree DIR.");
        ui.show("  next: lavrin --help; or begin a register: lavrin register begin DIR; or see it work: lavrin demo");
        return Ok(Exit::Usage);
    };
    let register = opened.register();
    ui.show(&ui.paint(Label::Strong, &format!("{} in {}", register.name, paths::shown(opened.folder.path()))));
    let (people, hosts) =
        (count(register.people.len(), "person", "people"), count(register.hosts.len(), "host", "hosts"));
    ui.show(&format!("  {people}, {hosts}, {}", count(register.grants.len(), "grant", "grants")));
    let store = Database::open_existing(opened.folder.path())?;
    let looks = store.map(|store| store.looks()).transpose()?.unwrap_or_default();
    let seen: Vec<i64> = looks.iter().filter_map(|look| look.seen).collect();
    ui.show(&match seen.iter().max() {
        Some(last) => format!("  {} surveyed, last on {}", count(seen.len(), "host", "hosts"), clock::day_of(*last)),
        None => "  no host surveyed yet".to_owned(),
    });
    ui.show(&format!("  next: {}", if seen.is_empty() { "lavrin survey" } else { "lavrin audit" }));
    ui.show("  all commands: lavrin --help");
    Ok(Exit::Usage)
}
