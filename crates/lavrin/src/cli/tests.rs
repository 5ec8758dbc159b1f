use super::{Cli, examples, help, next};
use clap::{Command, CommandFactory as _};
use std::path::{Path, PathBuf};

fn command() -> Command {
    help::laid_out(Cli::command())
}

#[test]
fn the_command_line_is_consistent() {
    command().debug_assert();
}

/// All commands that do something, by their words.
fn leaves(command: &Command, path: &str) -> Vec<String> {
    let below = command.get_subcommands().flat_map(|sub| leaves(sub, format!("{path} {}", sub.get_name()).trim()));
    let below: Vec<String> = below.collect();
    if below.is_empty() { vec![path.to_owned()] } else { below }
}

#[test]
fn every_command_has_two_examples() {
    for leaf in leaves(&command(), "") {
        let lines = examples::of(&leaf).unwrap_or_else(|| panic!("{leaf} has no examples"));
        assert!(lines.len() >= 2 && lines.iter().all(|line| line.starts_with(&format!("lavrin {leaf}"))), "{leaf}");
    }
    assert_eq!(examples::EXAMPLES.len(), leaves(&command(), "").len());
}

#[test]
fn every_command_is_under_a_heading_and_on_one_line() {
    let shown = command().render_help().to_string();
    assert!(shown.lines().all(|line| line.chars().count() <= 80), "{shown}");
    for sub in command().get_subcommands().filter(|sub| !sub.is_hide_set()) {
        assert_eq!(shown.lines().filter(|line| line.starts_with(&format!("  {} ", sub.get_name()))).count(), 1);
    }
}

#[test]
fn the_reference_in_the_docs_is_the_help() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference.md");
    let text = super::reference();
    if std::env::var_os("LAVRIN_WRITE_SCHEMAS").is_some() {
        std::fs::write(&path, &text).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(kept == text, "docs/reference.md is not current: LAVRIN_WRITE_SCHEMAS=1 cargo test -p lavrin --bins");
}

#[test]
fn the_help_of_a_command_is_at_most_a_screen() {
    for leaf in leaves(&command(), "") {
        let mut all = command().term_width(80);
        all.build();
        let mut sub = &all;
        for word in leaf.split_whitespace() {
            sub = sub.find_subcommand(word).unwrap();
        }
        let lines = sub.clone().term_width(80).render_help().to_string().lines().count();
        assert!(lines <= 48, "{leaf}: {lines} lines");
    }
}

/// Files below a folder with one of these endings.
fn files(folder: &Path, endings: &[&str]) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() && path.file_name().is_some_and(|name| name != "target" && name != ".git") {
            found.extend(files(&path, endings));
        } else if endings.iter().any(|ending| path.extension().is_some_and(|found| found == *ending)) {
            found.push(path);
        }
    }
    found
}

/// A fingerprint, where one is wanted.
const PRINT: &str = "SHA256:ul8RHIbwIcYeYtVcX7J+NzElv7eRVpBJxm6t5nCfcuc";

/// What stands for something in a text, as `{host}` in a format string.
fn filled(text: &str) -> String {
    let mut filled = String::new();
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '{' => {
                let name: String = letters.by_ref().take_while(|inner| *inner != '}').collect();
                let is_print = ["fingerprint", "known"].contains(&name.as_str()) && filled.ends_with("--replace ");
                filled.push_str(if is_print { PRINT } else { "x" });
            }
            '\\' => filled.push(if letters.next() == Some('n') { '\n' } else { '\'' }),
            other => filled.push(other),
        }
    }
    filled
}

/// The words of a command as a shell would take them apart.
fn words(line: &str) -> Vec<String> {
    let (mut words, mut word, mut quote, mut some) = (Vec::new(), String::new(), None, false);
    for letter in line.chars() {
        match (quote, letter) {
            (None, '\'') => (quote, some) = (Some(letter), true),
            (Some(open), _) if open == letter => quote = None,
            (None, ' ') => {
                if some {
                    words.push(std::mem::take(&mut word));
                }
                some = false;
            }
            (_, letter) => {
                word.push(letter);
                some = true;
            }
        }
    }
    if some {
        words.push(word);
    }
    words
}

/// Types a command; what stands for a value gets one of its kind.
fn fault(line: &str) -> Option<String> {
    let stand_in = |word: String| {
        let name = word.trim_matches(['[', ']']);
        match name {
            "SHA256:…" | "SHA256:x" => "SHA256:uNiVztksCsDhcc0u9e8BrWXQgYPEa7dFNLIGM2zLPbA".to_owned(),
            "DATE" => "2026-10-10".to_owned(),
            "N" => "3".to_owned(),
            "x" | "NAME" | "HOST" | "PERSON" | "TAG" => "edda".to_owned(),
            "SHA256:…=PERSON" | "x=x" => "SHA256:uNiVztksCsDhcc0u9e8BrWXQgYPEa7dFNLIGM2zLPbA=edda".to_owned(),
            _ => name.to_owned(),
        }
    };
    let mut words: Vec<String> = words(line).into_iter().map(stand_in).collect();
    for at in 1..words.len() {
        match (words[at - 1].as_str(), words[at].as_str()) {
            ("--until" | "--since" | "--from-date" | "--at", "edda") => words[at] = "2026-10-10".to_owned(),
            ("--account", "edda") if words[1] == "rotate" => words[at] = "edda@lantern".to_owned(),
            (_, "edda") if words[1] == "kept" && at == 3 => words[at] = "edda@lantern".to_owned(),
            ("--number" | "--first" | "--port", "edda") => words[at] = "3".to_owned(),
            _ => {}
        }
    }
    let said = command().try_get_matches_from(&words).err()?;
    let harmless = [clap::error::ErrorKind::DisplayHelp, clap::error::ErrorKind::DisplayVersion];
    // A command may be named without what it needs; an option or a command that is gone may not.
    let bare = said.kind() == clap::error::ErrorKind::MissingRequiredArgument
        || said.kind() == clap::error::ErrorKind::MissingSubcommand
        || said.kind() == clap::error::ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand;
    (!harmless.contains(&said.kind()) && !bare).then(|| said.to_string())
}

/// The commands that a text names.
fn named(text: &str) -> Vec<String> {
    text.lines()
        .flat_map(|line| next::commands_in(line).into_iter().map(move |range| line[range].to_owned()))
        .filter(|line| {
            line.split_whitespace()
                .nth(1)
                .is_some_and(|word| word.starts_with(|letter: char| letter.is_ascii_lowercase() || letter == '-'))
        })
        .collect()
}

/// These hold no text for users, or one that another test types as a whole.
const TYPED_ELSEWHERE: [&str; 3] = ["cli/tests.rs", "command/demo/mod.rs", "command/host/reopen.rs"];

/// Every command that any text names can be typed: no text names an option that is gone.
#[test]
fn every_command_in_a_remedy_a_help_text_or_a_document_parses() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut faults = Vec::new();
    let mut seen = 0;
    let mut hold = |line: &str, place: String| {
        seen += 1;
        if let Some(said) = fault(line) {
            faults.push(format!("{place}: {line}\n    {}", said.lines().next().unwrap_or_default()));
        }
    };
    for (path, lines) in examples::EXAMPLES {
        lines.iter().for_each(|line| hold(line, format!("examples of {path}")));
    }
    for path in files(&root.join("crates/lavrin/src"), &["rs"])
        .into_iter()
        .filter(|path| !TYPED_ELSEWHERE.iter().any(|other| path.ends_with(other)))
    {
        let text = std::fs::read_to_string(&path).unwrap();
        for line in
            text.lines().filter(|line| line.contains('"') && line.contains("lavrin ") && !line.contains("cargo "))
        {
            // Only what stands in quotes is shown to somebody.
            let shown: String = line.split('"').skip(1).step_by(2).collect::<Vec<_>>().join("\n");
            for line in &named(&filled(&shown)) {
                hold(line, path.display().to_string());
            }
        }
    }
    let snapshots = files(&root.join("crates"), &["snap"]);
    let documents = files(&root, &["md"]);
    for path in snapshots.iter().chain(&documents) {
        let text = std::fs::read_to_string(path).unwrap();
        let is_document = path.extension().is_some_and(|ending| ending == "md");
        for line in text.lines().filter(|line| !line.starts_with("expression:") && !line.starts_with("Usage:")) {
            if is_document && !line.starts_with("    ") && !line.contains('`') {
                continue;
            }
            let in_ticks: Vec<&str> =
                line.split('`').skip(1).step_by(2).filter(|part| part.starts_with("lavrin ")).collect();
            let shown = if is_document && !line.starts_with("    ") { in_ticks.join("\n") } else { line.to_owned() };
            for line in &named(&shown) {
                hold(line, path.display().to_string());
            }
        }
    }
    assert!(seen > 200, "only {seen} commands were found");
    assert!(faults.is_empty(), "{} of {seen}:\n{}", faults.len(), faults.join("\n"));
}

#[test]
fn a_command_ends_where_the_sentence_goes_on() {
    let found =
        |text: &str| next::commands_in(text).into_iter().map(|range| text[range].to_owned()).collect::<Vec<_>>();
    assert_eq!(
        found("ask, then: lavrin register adopt, or: lavrin person add NAME --key x.pub"),
        ["lavrin register adopt", "lavrin person add NAME --key x.pub"]
    );
    assert_eq!(found("lavrin grant a b --host '*, x'; then more"), ["lavrin grant a b --host '*, x'"]);
    assert_eq!(found("made (lavrin key generate), so"), ["lavrin key generate"]);
    assert_eq!(found("lavrin survey --script >look.sh, then"), ["lavrin survey --script"]);
    assert_eq!(found("seen by lavrin: no command"), Vec::<String>::new());
}
