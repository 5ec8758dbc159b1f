//! In which forms a command gives its results. One that it does not have is refused before anything is done.

use super::Command;
use crate::command::{history, host, person, register};
use crate::error::CommandError;
use crate::ui::Format;

/// What every command has.
const USUAL: &[Format] = &[Format::Text, Format::Json];

/// What a list has.
const LIST: &[Format] = &[Format::Text, Format::Json, Format::Csv, Format::Jsonl];

/// The forms of a command.
pub fn of(command: Option<&Command>) -> &'static [Format] {
    match command {
        Some(Command::Audit(_)) => &[Format::Text, Format::Json, Format::Csv, Format::Jsonl, Format::Sarif],
        Some(Command::Register(register::RegisterCommand::Check(_))) => &[Format::Text, Format::Json, Format::Sarif],
        Some(Command::History(history::HistoryArgs { verify: Some(_), .. })) => USUAL,
        Some(
            Command::Survey(_)
            | Command::Compare(_)
            | Command::History(_)
            | Command::Matrix(_)
            | Command::Person(person::PersonCommand::List(_))
            | Command::Host(host::HostCommand::List(_)),
        ) => LIST,
        _ => USUAL,
    }
}

/// Whether a form is one of these.
pub fn check(asked: Format, known: &[Format]) -> Result<(), CommandError> {
    if known.contains(&asked) {
        return Ok(());
    }
    let names: Vec<&str> = known.iter().map(|form| form.name()).collect();
    Err(CommandError::usage(format!("this command gives no {}; it gives {}", asked.name(), names.join(", ")))
        .again("as one object for programs", "--format json"))
}
