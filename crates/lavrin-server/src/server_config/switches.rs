//! The switches that dropbear is started with, where the system's own start configuration tells them.

use super::fault::WrongSwitch;
use crate::account::Account;
use crate::fs::{BytePath, Fact};
use crate::survey::Observation;
use lavrin_keys::version::Version;

/// Where Debian keeps them.
pub const START_PATH: &str = "/etc/default/dropbear";

/// What sets them there.
const SETTING: &str = "DROPBEAR_EXTRA_ARGS=";

/// Longest start configuration that is read, in bytes.
pub const START_BYTES_MAX: u64 = 64 << 10;

/// Since this version `-t` is known.
const FURTHER_METHOD_SINCE: Version = Version(2022, 83);

/// Since this version `-D` is known, and the key file itself is not looked at any more.
pub const FOLDER_SINCE: Version = Version(2025, 89);

/// What the switches say about logins with keys.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Switches {
    /// `-w`: whoever has the user number 0 is refused.
    pub no_root: bool,
    /// `-s`: passwords are off.
    pub no_passwords: bool,
    /// `-g`: they are off for whoever has the user number 0.
    pub no_root_password: bool,
    /// `-t`: a password is asked for behind the key.
    pub password_too: bool,
    /// `-G`: only members of this group.
    pub group: Option<String>,
    /// `-D`: the folder with the key file.
    folder: Option<String>,
    /// `-c`: the only command that is run.
    pub command: Option<String>,
}

impl Switches {
    /// Those of a system.
    #[must_use]
    pub fn of(seen: &Observation) -> Self {
        match seen.content(&START_PATH.into()) {
            Fact::Known(bytes) => Self::parse(&String::from_utf8_lossy(bytes)),
            _ => Self::default(),
        }
    }

    fn parse(text: &str) -> Self {
        let value = |line: &str| {
            let value = line.trim().strip_prefix(SETTING)?.trim();
            let quote = value.chars().next().filter(|quote| matches!(quote, '"' | '\''));
            Some(quote.map_or(value, |quote| value.trim_matches(quote)).to_owned())
        };
        // The shell that reads the file takes the last one.
        let arguments = text.lines().filter_map(value).next_back().unwrap_or_default();
        let mut switches = Self::default();
        let mut words = words(&arguments).into_iter();
        while let Some(word) = words.next() {
            let Some(letters) = word.strip_prefix('-') else { continue };
            let mut letters = letters.chars();
            while let Some(letter) = letters.next() {
                match letter {
                    'w' => switches.no_root = true,
                    's' => switches.no_passwords = true,
                    'g' => switches.no_root_password = true,
                    't' => switches.password_too = true,
                    'G' | 'D' | 'c' | 'b' | 'r' | 'p' | 'P' | 'W' | 'K' | 'I' | 'T' | 'z' => {
                        let rest: String = letters.by_ref().collect();
                        let value = if rest.is_empty() { words.next().unwrap_or_default() } else { rest };
                        match letter {
                            'G' => switches.group = Some(value),
                            'D' => switches.folder = Some(value),
                            'c' => switches.command = Some(value),
                            _ => {}
                        }
                    }
                    _ => {}
                }
            }
        }
        switches
    }

    /// Why a server of this version does not start with them.
    #[must_use]
    pub fn fault(&self, version: Version, seen: &Observation) -> Option<WrongSwitch> {
        if self.folder.is_some() && version < FOLDER_SINCE {
            return Some(WrongSwitch::Unknown('D'));
        }
        if self.password_too && version < FURTHER_METHOD_SINCE {
            return Some(WrongSwitch::Unknown('t'));
        }
        if self.password_too && self.no_passwords {
            return Some(WrongSwitch::PasswordsAskedAndOff);
        }
        let group = self.group.as_ref().filter(|name| !seen.groups.iter().any(|group| group.name == **name))?;
        Some(WrongSwitch::NoSuchGroup(group.clone()))
    }

    /// The key file of an account. With a relative folder there is none.
    #[must_use]
    pub fn key_file(&self, account: &Account) -> Option<BytePath> {
        let folder = match &self.folder {
            None => account.home.join(b".ssh"),
            Some(folder) if folder == "~" => account.home.clone(),
            Some(folder) => match folder.strip_prefix("~/") {
                Some(rest) => account.home.join(rest.as_bytes()),
                None if folder.starts_with('/') => BytePath::from(folder.as_str()),
                None => return None,
            },
        };
        Some(folder.join(b"authorized_keys"))
    }

    /// Whether the home is looked at beside the folder of the key file.
    #[must_use]
    pub fn looks_at_home(&self) -> bool {
        self.folder.as_ref().is_none_or(|folder| folder.starts_with('~'))
    }
}

/// The line (counted from 1) that sets the switches in a start configuration; none: nothing sets them.
#[must_use]
pub fn switches_line(text: &[u8]) -> Option<usize> {
    let lines: Vec<&[u8]> = text.split(|byte| *byte == b'\n').collect();
    let at = lines.iter().rposition(|line| line.trim_ascii_start().starts_with(SETTING.as_bytes()))?;
    Some(at + 1)
}

/// A line that sets switches, with these (as in `-s -w`) in front of its own. `None` where the shell and the system would read more
/// in it than one plain or quoted value.
#[must_use]
pub fn with_switches(line: Option<&[u8]>, more: &str) -> Option<Vec<u8>> {
    let Some(line) = line else { return Some(format!("{SETTING}\"{more}\"").into_bytes()) };
    let line = str::from_utf8(line).ok()?;
    let value = line.trim().strip_prefix(SETTING)?;
    let quote = value.chars().next().filter(|quote| matches!(quote, '"' | '\''));
    let inner = match quote {
        Some(quote) => value.strip_prefix(quote)?.strip_suffix(quote).filter(|inner| !inner.contains(quote))?,
        None if value.chars().any(|character| character.is_whitespace() || matches!(character, '"' | '\'')) => {
            return None;
        }
        None => value,
    };
    if inner.chars().any(|character| matches!(character, '$' | '`' | '\\' | ';' | '&' | '|' | '<' | '>' | '#')) {
        return None;
    }
    let quote = quote.unwrap_or('"');
    let (before, after) = line.split_once(value.trim()).filter(|_| !value.is_empty()).unwrap_or((line.trim_end(), ""));
    Some(format!("{before}{quote}{}{quote}{after}", format!("{more} {inner}").trim()).into_bytes())
}

/// Words at blanks; quotes hold them together.
fn words(text: &str) -> Vec<String> {
    let (mut words, mut word, mut quote) = (Vec::new(), None::<String>, None);
    for character in text.chars() {
        match character {
            '"' | '\'' if quote == Some(character) => quote = None,
            '"' | '\'' if quote.is_none() => {
                quote = Some(character);
                word.get_or_insert_default();
            }
            ' ' | '\t' if quote.is_none() => words.extend(word.take()),
            other => word.get_or_insert_default().push(other),
        }
    }
    words.extend(word);
    words
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::read_passwd;

    #[test]
    fn switches_are_read_from_the_start_configuration() {
        let switches =
            Switches::parse("# x\nDROPBEAR_PORT=22\nDROPBEAR_EXTRA_ARGS=\"-wg -D '/etc/keys here' -p 2222 -c date\"\n");
        assert!(switches.no_root && !switches.password_too);
        assert_eq!(switches.command.as_deref(), Some("date"));
        let account = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n").remove(0);
        let file = |text: &str| {
            let switches = Switches::parse(&format!("DROPBEAR_EXTRA_ARGS=\"{text}\""));
            switches.key_file(&account).map(|path| path.to_string())
        };
        assert_eq!(switches.key_file(&account).unwrap().to_string(), "/etc/keys here/authorized_keys");
        assert_eq!(file("-D ~/.keys").as_deref(), Some("/home/edda/.keys/authorized_keys"));
        assert_eq!((file("-D .keys"), file("").as_deref()), (None, Some("/home/edda/.ssh/authorized_keys")));
    }

    #[test]
    fn switches_are_added_to_a_line_that_is_plain_enough() {
        let with = |line: &str| with_switches(Some(line.as_bytes()), "-s").map(|line| String::from_utf8(line).unwrap());
        assert_eq!(
            with(" DROPBEAR_EXTRA_ARGS=\"-w -p 2222\"  ").as_deref(),
            Some(" DROPBEAR_EXTRA_ARGS=\"-s -w -p 2222\"  ")
        );
        assert_eq!(with("DROPBEAR_EXTRA_ARGS='-w'\r").as_deref(), Some("DROPBEAR_EXTRA_ARGS='-s -w'\r"));
        assert_eq!(with("DROPBEAR_EXTRA_ARGS=").as_deref(), Some("DROPBEAR_EXTRA_ARGS=\"-s\""));
        assert_eq!(with("DROPBEAR_EXTRA_ARGS=-w").as_deref(), Some("DROPBEAR_EXTRA_ARGS=\"-s -w\""));
        for odd in ["\"$MORE\"", "-w # no root", "\"-w\" \"-j\"", "\"-w\\", "\"-w", "`date`"] {
            assert_eq!(with(&format!("DROPBEAR_EXTRA_ARGS={odd}")), None, "{odd}");
        }
        assert_eq!(switches_line(b"#DROPBEAR_EXTRA_ARGS=x\nDROPBEAR_EXTRA_ARGS=\n"), Some(2));
        assert_eq!(switches_line(b"#DROPBEAR_EXTRA_ARGS=x\n"), None);
    }

    #[test]
    fn what_a_version_does_not_start_with_is_told() {
        let seen = Observation::default();
        let fault =
            |text: &str, version| Switches::parse(&format!("DROPBEAR_EXTRA_ARGS='{text}'")).fault(version, &seen);
        assert!(fault("-t", Version(2020, 81)).is_some() && fault("-t", Version(2022, 83)).is_none());
        assert!(fault("-D /x", Version(2022, 83)).is_some() && fault("-D /x", Version(2025, 89)).is_none());
        assert!(fault("-ts", Version(2025, 89)).is_some() && fault("-G nobodys", Version(2025, 89)).is_some());
    }
}
