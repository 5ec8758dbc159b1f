//! Commands within texts: what to type next, completed with what had to be typed this time (the login, the key, the tree), so
//! that it works as it stands.

use super::again::family;
use clap::parser::ValueSource;
use clap::{ArgMatches, Command};
use lavrin_keys::text::shell_word;
use std::ops::Range;
use std::path::Path;
use std::sync::OnceLock;

/// Options that the next command needs where this one needed them.
const CARRIED: [&str; 17] = [
    "tree",
    "key",
    "fingerprint",
    "from_address",
    "from_host",
    "login",
    "identity",
    "port",
    "known_hosts",
    "root_by",
    "ask_root_password",
    "root_password_env",
    "passphrase_env",
    "passphrase_file",
    "password_env",
    "password_file",
    "register",
];

/// Those that are paths, which are shown with `~` for the home.
const PATHS: [&str; 6] = ["tree", "key", "identity", "known_hosts", "passphrase_file", "register"];

/// An option that was typed: its long name and its value.
type Typed = (&'static str, Option<String>);

struct CommandLine {
    command: Command,
    typed: Vec<Typed>,
}

static COMMAND_LINE: OnceLock<CommandLine> = OnceLock::new();

/// Remembers what was typed.
pub fn remember(command: Command, matches: &ArgMatches) {
    let mut last = matches;
    while let Some((_, sub)) = last.subcommand() {
        last = sub;
    }
    let typed = CARRIED.into_iter().filter_map(|id| typed(last, id)).collect();
    let _ = COMMAND_LINE.set(CommandLine { command, typed });
}

fn typed(matches: &ArgMatches, id: &'static str) -> Option<Typed> {
    let raw = matches.try_get_raw(id).ok()??.next();
    let shown = |value: &std::ffi::OsStr| {
        let is_path = PATHS.contains(&id);
        if is_path { crate::paths::shown(Path::new(value)) } else { value.to_string_lossy().into_owned() }
    };
    let is_flag = id.starts_with("ask_");
    (matches.value_source(id) == Some(ValueSource::CommandLine)).then(|| (id, raw.filter(|_| !is_flag).map(shown)))
}

/// The text with every command in it completed.
pub fn complete(text: &str) -> String {
    let Some(known) = COMMAND_LINE.get().filter(|known| !known.typed.is_empty()) else { return text.to_owned() };
    let mut done = String::new();
    let mut from = 0;
    let key = known.typed.iter().find(|(id, _)| *id == "key").and_then(|(_, path)| path.clone());
    for command in commands_in(text) {
        let words = text.get(from..command.end).unwrap_or_default();
        // The key that was asked about is the one that is meant.
        done += &key.as_ref().map_or_else(|| words.to_owned(), |key| words.replace("KEY.pub", &shell_word(key)));
        done += &missing(known, text.get(command.clone()).unwrap_or_default());
        from = command.end;
    }
    done + text.get(from..).unwrap_or_default()
}

/// The options that this command takes, that were typed, and that it lacks.
fn missing(known: &CommandLine, command: &str) -> String {
    let words: Vec<&str> = command.split_whitespace().skip(1).collect();
    let mut found = &known.command;
    for word in &words {
        match found.find_subcommand(word) {
            Some(sub) => found = sub,
            None => break,
        }
    }
    let mut text = String::new();
    for (id, value) in &known.typed {
        let long = id.replace('_', "-");
        let option = format!("--{long}");
        let is_there = words.iter().any(|word| word.starts_with("--") && family(word) == family(&option));
        let is_taken = found.get_arguments().any(|arg| arg.get_long() == Some(&long));
        // A host is named: the tree is not meant.
        let is_elsewhere = long == "tree" && words.iter().any(|word| word.contains('@'));
        // Without a key to sign in with a passphrase is that of another one.
        let is_of_another =
            id.starts_with("passphrase") && !found.get_arguments().any(|arg| arg.get_id() == "identity");
        if is_taken && !is_elsewhere && !is_of_another && !is_there {
            text += &format!(" {option}");
            text += &value.as_deref().map(|value| format!(" {}", shell_word(value))).unwrap_or_default();
        }
    }
    text
}

/// Where the commands stand in a text. A command ends with its line, or before `,`, `;`, `:`, `(`, `)`, a backtick, a pipe or a
/// redirection outside quotes.
pub fn commands_in(text: &str) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    let mut from = 0;
    while let Some(at) = text.get(from..).and_then(|rest| rest.find("lavrin ")) {
        let start = from + at;
        let fresh =
            text.get(..start).and_then(|before| before.chars().last()).is_none_or(|before| " (`\n>".contains(before));
        let end = start + command_length(text.get(start..).unwrap_or_default());
        from = end.max(start + "lavrin ".len());
        if fresh {
            found.push(start..end);
        }
    }
    found
}

fn command_length(text: &str) -> usize {
    let mut quote = None;
    let mut after_space = false;
    for (at, letter) in text.char_indices() {
        let next = text.get(at + letter.len_utf8()..).and_then(|rest| rest.chars().next());
        match (quote, letter) {
            (None, '\'') => quote = Some(letter),
            (Some(open), letter) if open == letter => quote = None,
            (Some(_), _) => {}
            (None, '\n' | '`' | ')' | '"') => return text.get(..at).unwrap_or_default().trim_end().len(),
            (None, '(' | '|' | '>') if after_space => return text.get(..at).unwrap_or_default().trim_end().len(),
            (None, ',' | ';' | ':' | '.') if next.is_none_or(char::is_whitespace) && !after_space => return at,
            _ => {}
        }
        after_space = letter == ' ';
    }
    text.trim_end().len()
}
