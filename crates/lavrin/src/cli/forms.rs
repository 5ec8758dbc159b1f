//! In which forms a command gives its results. One that it does not have is refused before anything is done.

use crate::error::CommandError;
use crate::ui::Format;
use clap::ArgMatches;

/// What every command has.
const USUAL: &[Format] = &[Format::Text, Format::Json];

/// What a list has.
const LIST: &[Format] = &[Format::Text, Format::Json, Format::Csv, Format::Jsonl];

/// Commands that have more, by their words.
const MORE: [(&str, &[Format]); 8] = [
    ("audit", &[Format::Text, Format::Json, Format::Csv, Format::Jsonl, Format::Sarif]),
    ("register check", &[Format::Text, Format::Json, Format::Sarif]),
    ("survey", LIST),
    ("compare", LIST),
    ("history", LIST),
    ("matrix", LIST),
    ("person list", LIST),
    ("host list", LIST),
];

/// Commands that only show something and ask nothing, so that a pager may show it.
const SHOWN: [&str; 14] = [
    "audit",
    "register check",
    "compare",
    "history",
    "matrix",
    "paths",
    "person list",
    "person show",
    "host list",
    "host show",
    "host settings",
    "key inspect",
    "kept list",
    "agent list",
];

/// Whether a pager may show what the command that was typed gives.
pub fn is_shown(matches: &ArgMatches) -> bool {
    SHOWN.contains(&words(matches).as_str())
}

/// The forms of a command, by its words.
pub fn of(words: &str) -> &'static [Format] {
    MORE.iter().find(|(command, _)| *command == words).map_or(USUAL, |(_, forms)| forms)
}

/// The names of these forms.
pub fn names(forms: &[Format]) -> Vec<&'static str> {
    forms.iter().map(|form| form.name()).collect()
}

/// The words of the command that was typed.
pub fn words(mut matches: &ArgMatches) -> String {
    let mut words = Vec::new();
    while let Some((name, sub)) = matches.subcommand() {
        words.push(name);
        matches = sub;
    }
    words.join(" ")
}

/// Whether a form is one of those that a command has.
pub fn check(asked: Format, matches: &ArgMatches) -> Result<(), CommandError> {
    let known = of(&words(matches));
    // Whether a signature is right is no list.
    let is_list = matches.subcommand().is_none_or(|(name, sub)| name != "history" || !sub.contains_id("verify"));
    let known = if is_list { known } else { USUAL };
    if known.contains(&asked) {
        return Ok(());
    }
    let message = format!("this command gives no {}; it gives {}", asked.name(), names(known).join(", "));
    Err(CommandError::usage(message).again("as one object for programs", "--format json"))
}
