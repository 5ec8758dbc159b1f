//! The command as it was typed, with another option: a remedy that works as it stands.

use lavrin_keys::text::{printable, shell_word};
use std::path::Path;

/// What was typed, with these options instead of any that were given under the same names: `--identity FILE`, `--replace`.
pub fn with(options: &str) -> String {
    // The shell has written the home out.
    let shown = |word: std::ffi::OsString| {
        let path = Path::new(&word);
        if path.is_absolute() { crate::paths::shown(path) } else { printable(word.as_encoded_bytes()) }
    };
    let typed: Vec<String> = std::env::args_os().skip(1).map(shown).collect();
    of(&typed, options)
}

fn of(typed: &[String], options: &str) -> String {
    let new: Vec<&str> = options.split(' ').filter(|word| !word.is_empty()).collect();
    let replaced = |name: &str| new.iter().position(|word| word.starts_with("--") && family(word) == family(name));
    // An option that asks takes no value; else an option has one where the new one has.
    let has_value = |name: &str, at: usize| {
        !name.starts_with("--ask-") && new.get(at + 1).is_some_and(|next| !next.starts_with("--"))
    };
    let mut kept = vec!["lavrin".to_owned()];
    let mut words = typed.iter();
    // What follows `--` belongs to no option.
    let mut rest: Vec<String> = Vec::new();
    while let Some(word) = words.next() {
        let name = word.split_once('=').map_or(word.as_str(), |(name, _)| name);
        if word == "--" {
            rest = std::iter::once("--".to_owned()).chain(words.by_ref().map(|word| shell_word(word))).collect();
        } else if let Some(at) = replaced(name).filter(|_| name.starts_with("--")) {
            if has_value(name, at) && !word.contains('=') {
                words.next();
            }
        } else if word.starts_with('-') && word.len() > 1 {
            let (name, value) = word.split_once('=').map_or((word.as_str(), None), |(name, value)| (name, Some(value)));
            kept.push(value.map_or_else(|| name.to_owned(), |value| format!("{name}={}", shell_word(value))));
        } else {
            kept.push(shell_word(word));
        }
    }
    kept.extend(new.into_iter().map(str::to_owned));
    kept.extend(rest);
    kept.join(" ")
}

/// The options that stand for one thing, of which one is given: the ways to a passphrase, or what is signed in with.
pub fn family(option: &str) -> &str {
    let name = option.split_once('=').map_or(option, |(name, _)| name);
    let name = name.trim_start_matches("--").trim_start_matches("ask-");
    if name == "identity" {
        return "password";
    }
    let secret = ["password", "passphrase"].into_iter().find_map(|word| name.find(word).map(|at| at + word.len()));
    secret.and_then(|end| name.get(..end)).unwrap_or(name)
}

#[cfg(test)]
mod tests {
    use super::of;

    fn again(typed: &[&str], options: &str) -> String {
        of(&typed.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>(), options)
    }

    #[test]
    fn an_option_is_added_or_takes_the_place_of_its_earlier_value() {
        assert_eq!(again(&["survey", "lantern"], "--ask-password"), "lavrin survey lantern --ask-password");
        assert_eq!(again(&["survey", "--login", "edda", "x"], "--login NAME"), "lavrin survey x --login NAME");
        assert_eq!(again(&["survey", "--login=edda", "x"], "--login NAME"), "lavrin survey x --login NAME");
        assert_eq!(again(&["mend", "a@h", "--preview"], "--preview"), "lavrin mend a@h --preview");
        assert_eq!(again(&["probe", "--ask-password", "x"], "--password-file F"), "lavrin probe x --password-file F");
        assert_eq!(
            again(&["probe", "--ask-root-password"], "--ask-password"),
            "lavrin probe --ask-root-password --ask-password"
        );
        assert_eq!(
            again(&["person", "show", "--", "edda"], "--register DIR"),
            "lavrin person show --register DIR -- edda"
        );
    }

    #[test]
    fn words_are_quoted_as_the_shell_needs_them() {
        let typed = ["person", "add", "edda", "--name", "Edda Holm", "--key=a b.pub"];
        assert_eq!(
            again(&typed, "--label OTHER"),
            "lavrin person add edda --name 'Edda Holm' --key='a b.pub' --label OTHER"
        );
    }
}
