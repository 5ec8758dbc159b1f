//! Names that the register does not have, with the nearest that it has.

use crate::error::CommandError;
use lavrin_fleet::register::{Person, Register, near};
use lavrin_keys::text::printable;

/// A person that has to be there.
pub fn person<'a>(register: &'a Register, id: &str) -> Result<&'a Person, CommandError> {
    register.people.get(id).ok_or_else(|| {
        let error = CommandError::usage(format!("there is no person '{}' in the register", shown(id)));
        let error = with_near(error, id, register.people.keys().map(String::as_str), "lavrin person show ");
        error.hint("lavrin person list")
    })
}

/// No such host.
pub fn host(register: &Register, id: &str) -> CommandError {
    let error = CommandError::usage(format!("there is no host '{}' in the register", shown(id)));
    with_near(error, id, register.hosts.keys().map(String::as_str), "lavrin host show ")
}

/// Neither a person, a team, a host nor a tag.
pub fn anything(register: &Register, name: &str) -> CommandError {
    let said = format!("the register knows no person, team, host or tag '{}'", shown(name));
    let tags = register.all_hosts().flat_map(|host| &host.tags);
    let teams = register.people.values().filter_map(|person| person.team.as_ref());
    let names = register.people.keys().chain(register.hosts.keys()).chain(tags).chain(teams);
    let error = match near(name, names.map(String::as_str)) {
        Some(other) => CommandError::usage(said).because(format!("near to it: {other}")),
        None => CommandError::usage(said),
    };
    error.hint("lavrin person list").hint("lavrin host list")
}

/// Adds the near name, where there is one.
pub fn with_near<'a>(
    error: CommandError,
    id: &str,
    among: impl Iterator<Item = &'a str>,
    command: &str,
) -> CommandError {
    match near(id, among) {
        Some(other) => error.because(format!("near to it: {other}")).hint(format!("{command}{other}")),
        None => error,
    }
}

/// What is near to a name, in words; empty where nothing is.
pub fn perhaps<'a>(id: &str, among: impl Iterator<Item = &'a str>) -> String {
    near(id, among).map(|other| format!(" (near to it: {other})")).unwrap_or_default()
}

fn shown(id: &str) -> String {
    printable(id.as_bytes())
}
