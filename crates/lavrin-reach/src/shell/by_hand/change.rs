//! A change that somebody carries to the host by hand, and what it answers.

use super::super::carry::{by_hand as commands, by_hand_opening};
use super::super::{nonce_of, opening_words, quoted};
use super::script;
use lavrin_keys::key::generate::Randomness;
use lavrin_server::account::Account;
use lavrin_server::steps::Guarded;
use lavrin_server::survey::Observation;
use std::fmt::Write as _;

/// How a line of the answer begins.
pub(super) const MARK: &str = "lavrin-change-1 ";

const INSTALL: &str = include_str!("../scripts/install.sh");

/// How a change ended that was carried by hand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Told {
    /// Everything is done.
    Done,
    /// Everything is as it was, and why.
    AsBefore(String),
    /// Something could not be put back.
    Unknown(String),
    /// The paste was damaged; nothing was tried.
    Damaged,
}

/// The script that makes these changes, account by account: all of them or none. Then it looks at the host, so that its
/// answer holds both. `id` is said again in the answer. `None` where a name cannot be handed to a shell safely.
#[must_use]
pub fn change_script(
    id: &str,
    work: &[(&Account, &[Guarded])],
    seen: &Observation,
    randomness: &dyn Randomness,
) -> Option<String> {
    let (nonce, child) = (nonce_of(randomness), nonce_of(randomness));
    let mut body = format!("{}\n{}", opening_words(&nonce, &child), by_hand_opening());
    let mut number = 0;
    for (account, changes) in work {
        for change in *changes {
            number += 1;
            let (does, undoes) =
                (commands(change, account, seen, &child)?, commands(&change.inverse(), account, seen, &child)?);
            let _ = writeln!(body, "do{number}() {{\n{does}\n}}\nun{number}() {{\n{undoes}\n}}");
        }
    }
    let _ = write!(
        body,
        "if [ \"$ME\" != 0 ]; then x='as-before only root can do this'; else x=done\n\
         i=1; while [ $i -le {number} ]; do\n\
         y=$(do$i 2>&1); case $y in *ok | *' done') i=$((i + 1)); continue ;; esac\n\
         x=\"as-before change $i: $(printf '%s' \"$y\" | tr '\\n' ' ')\"\n\
         while [ $i -gt 1 ]; do i=$((i - 1)); y=$(un$i 2>&1); case $y in *ok | *' done') ;; *) x=\"unknown $x; and change $i could not be taken back\" ;; esac; done\n\
         break; done; fi\n\
         echo; echo '{MARK}'{} \"$x\"\n",
        quoted(id)
    );
    Some(body + &script(false, randomness))
}

/// The script that puts one line into an account's usual key file, on a host of which nothing is known yet.
#[must_use]
pub fn install_script(id: &str, account: &str, line: &str, blob: &str, randomness: &dyn Randomness) -> String {
    let (nonce, child) = (nonce_of(randomness), nonce_of(randomness));
    format!(
        "{}\nI={}; A={}; L={}; X={}\n{INSTALL}\n{}",
        opening_words(&nonce, &child),
        quoted(id),
        quoted(account),
        quoted(&quoted(line)),
        quoted(&quoted(blob)),
        script(false, randomness)
    )
}

/// What the answer says of the change with this name; `None`: nothing.
#[must_use]
pub fn told(answer: &[u8], id: &str) -> Option<Told> {
    let text = String::from_utf8_lossy(answer);
    let lines = text.lines().filter_map(|line| line.trim_end().strip_prefix(MARK));
    let mut found = None;
    for line in lines {
        let (whose, rest) = line.split_once(' ').unwrap_or((line, ""));
        let (state, why) = rest.split_once(' ').unwrap_or((rest, ""));
        let why = lavrin_keys::text::printable(why.trim().as_bytes());
        match (whose, state) {
            ("damaged:", _) => found = Some(Told::Damaged),
            (whose, "done") if whose == id => return Some(Told::Done),
            (whose, "as-before") if whose == id => return Some(Told::AsBefore(why)),
            (whose, "unknown") if whose == id => return Some(Told::Unknown(why)),
            _ => {}
        }
    }
    found
}

/// The name that the answer gives itself.
#[must_use]
pub fn id_in(answer: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(answer);
    let line = text.lines().find_map(|line| line.trim_end().strip_prefix(MARK))?;
    line.split(' ').next().filter(|id| *id != "damaged:").map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_tells_how_its_own_change_ended() {
        let said = |text: &str| told(text.as_bytes(), "7");
        assert_eq!(said("# paste\r\n\r\nlavrin-change-1 7 done\r\n"), Some(Told::Done));
        assert_eq!(
            said("lavrin-change-1 7 as-before change 1: x\x1b\n"),
            Some(Told::AsBefore("change 1: x\\x1b".into()))
        );
        assert_eq!(said("lavrin-change-1 7 unknown why\n"), Some(Told::Unknown("why".into())));
        assert_eq!(said("lavrin-change-1 damaged: paste it again\n"), Some(Told::Damaged));
        // Of another change, in the middle of a line, or nothing at all.
        assert_eq!(said("lavrin-change-1 8 done\n"), None);
        assert_eq!(said("echo lavrin-change-1 7 done\n"), None);
        assert_eq!(said(""), None);
        assert_eq!(id_in(b"x\nlavrin-change-1 8 done\n"), Some("8".to_owned()));
        assert_eq!(id_in(b"lavrin-change-1 damaged: x\n"), None);
    }
}
