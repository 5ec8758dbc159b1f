//! `sshd_config(5)`: its text with Include and Match, and the values in force for one login.

pub mod addresses;
mod algorithms;
mod conditions;
mod drop_in;
mod effective;
mod fault;
mod keywords;
mod lines;
mod service_class;
pub mod switches;
mod values;

use crate::account::{Account, Group};
use crate::fs::BytePath;
use crate::server::{OPENSSH_MEASURED, Version};
use crate::survey::{Observation, Want, Wanted};
pub use drop_in::{SetLine, drop_in_folder, with_value};
pub use effective::Config;
pub use fault::{ConfigError, ConfigFault, WrongMatch, WrongSwitch, WrongValue};
pub use lavrin_keys::patterns::{list_matches, matches};
use lavrin_keys::services;
use lines::{collect, read_line};
use std::borrow::Cow;
use std::collections::BTreeMap;
use values::Takes;

/// The file that the server reads unless told otherwise.
pub const USUAL_PATH: &str = "/etc/ssh/sshd_config";

/// Where relative names in Include are looked up.
const INCLUDE_FOLDER: &str = "/etc/ssh";

/// A value and where it comes from; neither path nor line where it is built in or the server itself said it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Setting {
    /// The words behind the keyword.
    pub words: Vec<String>,
    /// The file.
    pub path: Option<BytePath>,
    /// The line in it.
    pub line: Option<usize>,
}

/// The settings in force for a login.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settings {
    /// By whose rules what is not set is known.
    version: Version,
    values: BTreeMap<String, Setting>,
    /// Files of the configuration that could not be read.
    pub unseen: Vec<BytePath>,
    /// Keywords that a Match block may set whose condition depends on what is not known of the connection.
    pub conditional: Vec<(String, BytePath, usize)>,
    /// Why the server would not start with its configuration.
    pub faults: Vec<ConfigFault>,
    /// Keywords that nobody here knows, and the server, which is newer, may.
    pub unknown: Vec<(String, BytePath, usize)>,
    /// What ends each session of this login as soon as it begins.
    pub ends: Option<ConfigFault>,
}

impl Default for Settings {
    fn default() -> Self {
        Self::of_version(OPENSSH_MEASURED[1])
    }
}

/// What has to be looked at before [`Settings::from_files`] can say everything.
#[must_use]
pub fn wants(seen: &Observation) -> Vec<Want> {
    if seen.server.is_dropbear() {
        return Vec::new();
    }
    let collected = collect(&main_path(seen), seen);
    let mut wants = collected.wants;
    // Ports may go by their names.
    let is_named = |word: &String| services::may_be_named(word);
    let named = collected.statements.iter().filter(|statement| keywords::takes_ports(&statement.keyword));
    if named.flat_map(|statement| &statement.words).any(is_named) {
        wants.push(Want { what: Wanted::Bytes(services::PATH.into(), services::BYTES_MAX), account: None });
    }
    wants
}

fn main_path(seen: &Observation) -> BytePath {
    seen.config_path.clone().unwrap_or_else(|| USUAL_PATH.into())
}

/// Names of the account's groups, primary first.
pub fn group_names<'a>(account: &'a Account, groups: &'a [Group]) -> impl Iterator<Item = &'a str> {
    let belongs = move |group: &&Group| group.gid == account.gid || group.members.contains(&account.name);
    groups.iter().filter(belongs).map(|group| group.name.as_str())
}

impl Settings {
    /// By whose rules they are read.
    #[must_use]
    pub fn version(&self) -> Version {
        self.version
    }

    /// What is in force in this version where nothing is set.
    #[must_use]
    pub fn of_version(version: Version) -> Self {
        Self {
            version,
            values: BTreeMap::new(),
            unseen: Vec::new(),
            conditional: Vec::new(),
            faults: Vec::new(),
            unknown: Vec::new(),
            ends: None,
        }
    }

    /// Reads the configuration files for an account and the connection that the observation is about; without an account
    /// no Match block holds.
    #[must_use]
    pub fn from_files(account: Option<&Account>, seen: &Observation) -> Self {
        effective::settings(&collect(&main_path(seen), seen), account, &seen.services(), seen)
    }

    /// Reads the `keyword value` lines that the server prints in its test mode.
    #[must_use]
    pub fn from_server(said: &[u8], version: Version) -> Self {
        let mut settings = Self::of_version(version);
        let lines = said.split(|byte| *byte == b'\n').filter_map(|line| read_line(line, OPENSSH_MEASURED[1]));
        for lines::ConfigLine { keyword, words, .. } in lines.flatten() {
            let keyword = keyword.to_ascii_lowercase();
            let means = keywords::keyword(&keyword, version).map_or(keyword.as_str(), |known| known.means);
            // The server prints a keyword twice only where it holds a list: each line is a part of it.
            let own = settings.values.entry(means.to_owned());
            own.or_insert(Setting { words: Vec::new(), path: None, line: None }).words.extend(words);
        }
        settings
    }

    /// Every keyword that is set or decides about logins, with its value as the server prints it.
    #[must_use]
    pub fn printed(&self) -> BTreeMap<String, (String, Option<Setting>)> {
        let version = self.version;
        let built_in = |(keyword, value): (&'static str, &str)| (keyword.to_owned(), (value.to_owned(), None));
        let mut printed: BTreeMap<_, _> = keywords::defaults(version).map(built_in).collect();
        let accepted = "pubkeyacceptedalgorithms";
        let name = keywords::printed_name(accepted, version);
        printed.insert(name.to_owned(), (algorithms::accepted(version).join(","), None));
        for (keyword, setting) in &self.values {
            let name = if keyword == accepted { name } else { keyword };
            printed.insert(name.to_owned(), (printed_value(keyword, setting, version), Some(setting.clone())));
        }
        printed
    }

    /// The signature algorithms that the server accepts for public keys.
    #[must_use]
    pub fn accepted_algorithms(&self) -> Vec<String> {
        match self.values.get("pubkeyacceptedalgorithms").and_then(|setting| setting.words.first()) {
            Some(list) => algorithms::in_force(list, algorithms::Kind::Signature, self.version),
            None => algorithms::accepted(self.version).iter().map(|name| (*name).to_owned()).collect(),
        }
    }

    /// The setting of a keyword (in lower case), unless the default holds or it is `none`.
    #[must_use]
    pub fn get(&self, keyword: &str) -> Option<&Setting> {
        let setting = self.values.get(keyword)?;
        let none = setting.words.first().is_none_or(|word| word.eq_ignore_ascii_case("none"));
        if none { None } else { Some(setting) }
    }

    /// The first word of a keyword, in lower case, or what holds where it is not set.
    #[must_use]
    pub fn word(&self, keyword: &str) -> String {
        let word = self.values.get(keyword).and_then(|setting| setting.words.first()).map(String::as_str);
        word.or_else(|| keywords::default(keyword, self.version)).unwrap_or_default().to_ascii_lowercase()
    }

    /// A pattern of key files with a percent sign that the server does not know; it drops the connection then.
    #[must_use]
    pub fn bad_pattern(&self) -> Option<String> {
        let words = &self.get("authorizedkeysfile")?.words;
        let is_bad = |word: &&String| {
            let plain = word.replace("%%", "");
            plain.split('%').skip(1).any(|rest| !rest.starts_with(['h', 'u', 'U']))
        };
        words.iter().find(is_bad).cloned()
    }

    /// The key files that the server reads for this account, in its order (`sshd_config(5)`, `AuthorizedKeysFile`).
    #[must_use]
    pub fn key_files(&self, account: &Account) -> Vec<BytePath> {
        let Some(setting) = self.values.get("authorizedkeysfile") else {
            return [b".ssh/authorized_keys".as_slice(), b".ssh/authorized_keys2"]
                .map(|file| account.home.join(file))
                .into();
        };
        let patterns = setting.words.iter().filter(|pattern| !pattern.eq_ignore_ascii_case("none"));
        patterns.map(|pattern| expand(&from_roots_home(pattern), account)).collect()
    }
}

fn add(values: &mut BTreeMap<String, Setting>, keyword: &str, setting: Setting, version: Version) {
    if keywords::keyword(keyword, version).is_some_and(|known| known.merges) {
        let list = values.entry(keyword.to_owned()).or_insert(Setting { words: Vec::new(), ..setting.clone() });
        list.words.extend(setting.words);
    } else {
        values.entry(keyword.to_owned()).or_insert(setting);
    }
}

/// A value as the server prints it.
fn printed_value(keyword: &str, setting: &Setting, version: Version) -> String {
    let Some(takes) = keywords::takes(keyword, version) else { return setting.words.join(" ") };
    let first = setting.words.first().map(String::as_str).unwrap_or_default();
    match takes {
        Takes::Flag => first.to_ascii_lowercase(),
        Takes::OneOf(_) => {
            let word = first.to_ascii_lowercase();
            if word == "prohibit-password" { "without-password".to_owned() } else { word }
        }
        Takes::Time | Takes::TimeOrNone => {
            values::seconds(first).map_or_else(|| first.to_owned(), |time| time.to_string())
        }
        Takes::Umask => format!("0{:o}", values::octal(first).unwrap_or_default()),
        Takes::IpQos => service_class::printed(&setting.words, version),
        Takes::Startups => values::startups(first),
        Takes::Rekey => values::rekey(&setting.words),
        Takes::Subsystem if version >= effective::IN_BLOCKS_SINCE => values::subsystem(&setting.words),
        Takes::PermitListen => {
            let whole = |word: &String| {
                if word.contains(':') || word == "any" || word == "none" { word.clone() } else { format!("*:{word}") }
            };
            setting.words.iter().map(whole).collect::<Vec<_>>().join(" ")
        }
        Takes::Number => first.parse::<u32>().map_or_else(|_| first.to_owned(), |number| number.to_string()),
        Takes::Algorithms => algorithms::in_force(first, algorithms::Kind::Signature, version).join(","),
        Takes::PlainAlgorithms => algorithms::in_force(first, algorithms::Kind::PlainSignature, version).join(","),
        Takes::Ciphers => algorithms::in_force(first, algorithms::Kind::Cipher, version).join(","),
        Takes::Macs => algorithms::in_force(first, algorithms::Kind::Mac, version).join(","),
        Takes::Kex => algorithms::in_force(first, algorithms::Kind::KeyExchange, version).join(","),
        _ if keyword == "authorizedkeysfile" => {
            setting.words.iter().map(|word| from_roots_home(word)).collect::<Vec<_>>().join(" ")
        }
        _ => setting.words.join(" "),
    }
}

/// `~/` stands for the home of the account that the server runs as, which is root's.
fn from_roots_home(pattern: &str) -> Cow<'_, str> {
    pattern.strip_prefix("~/").map_or(pattern.into(), |rest| format!("/root/{rest}").into())
}

fn expand(pattern: &str, account: &Account) -> BytePath {
    let mut path = Vec::with_capacity(account.home.as_bytes().len() + pattern.len());
    let mut characters = pattern.bytes();
    while let Some(byte) = characters.next() {
        if byte != b'%' {
            path.push(byte);
            continue;
        }
        match characters.next() {
            Some(b'h') => path.extend_from_slice(account.home.as_bytes()),
            Some(b'u') => path.extend_from_slice(account.name.as_bytes()),
            Some(b'U') => path.extend_from_slice(account.uid.to_string().as_bytes()),
            Some(other) => path.push(other),
            None => {}
        }
    }
    if path.first() == Some(&b'/') { BytePath::new(&path) } else { account.home.join(&path) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::{read_groups, read_passwd};
    use crate::fs::Fact;
    use crate::survey::{CONFIG_BYTES_MAX, Wanted};

    fn world(files: &[(&str, &str)]) -> (Account, Observation) {
        let account = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n").remove(0);
        let mut seen =
            Observation { groups: read_groups(b"edda:x:1001:\nkeepers:x:50:edda\n").into(), ..Observation::default() };
        let mut names: Vec<Vec<u8>> = Vec::new();
        for (path, text) in files {
            let path = BytePath::from(*path);
            names.push(path.name().to_vec());
            seen.bytes.insert(path, Fact::Known(text.as_bytes().to_vec()));
        }
        seen.names.insert("/etc/ssh/sshd_config.d".into(), Fact::Known(names));
        (account, seen)
    }

    fn settings(files: &[(&str, &str)]) -> Settings {
        let (account, seen) = world(files);
        Settings::from_files(Some(&account), &seen)
    }

    #[test]
    fn the_first_value_wins_also_from_an_included_file() {
        let found = settings(&[
            (USUAL_PATH, "Include /etc/ssh/sshd_config.d/*.conf\nPasswordAuthentication yes\nUsePAM=yes # x\n"),
            ("/etc/ssh/sshd_config.d/10-a.conf", "passwordauthentication no\r\n"),
            ("/etc/ssh/sshd_config.d/20-b.conf", "PasswordAuthentication maybe\nUsePAM no\n"),
        ]);
        let setting = found.get("passwordauthentication").unwrap();
        assert_eq!((setting.words[0].as_str(), setting.line), ("no", Some(1)));
        assert_eq!(found.word("usepam"), "no");
    }

    #[test]
    fn match_blocks_apply_by_user_and_group_and_end_with_their_file() {
        let found = settings(&[
            (
                USUAL_PATH,
                "Include /etc/ssh/sshd_config.d/*.conf\nMatch User sten\nX11Forwarding yes\nMatch group keepers,!sten\nStrictModes no\nMatch address 192.0.2.0/24\nPubkeyAuthentication no\n",
            ),
            ("/etc/ssh/sshd_config.d/10-a.conf", "Match user *,!edda\nUsePAM no\n"),
        ]);
        assert_eq!(found.get("x11forwarding"), None);
        assert_eq!(found.get("usepam"), None);
        assert_eq!(found.word("strictmodes"), "no");
        assert_eq!(found.conditional.len(), 1);
        assert_eq!(found.conditional[0].0, "pubkeyauthentication");
    }

    #[test]
    fn key_files_are_expanded() {
        let (account, _) = world(&[]);
        let found = settings(&[(USUAL_PATH, "AuthorizedKeysFile .ssh/keys /etc/keys/%u-%U \"%h/x y\" %%z\n")]);
        let paths: Vec<String> = found.key_files(&account).iter().map(ToString::to_string).collect();
        assert_eq!(paths, ["/home/edda/.ssh/keys", "/etc/keys/edda-1001", "/home/edda/x y", "/home/edda/%z"]);
        assert_eq!(settings(&[]).key_files(&account).len(), 2);
        assert!(settings(&[(USUAL_PATH, "AuthorizedKeysFile none\n")]).key_files(&account).is_empty());
    }

    #[test]
    fn what_has_to_be_read_is_asked_for_step_by_step() {
        let mut seen = Observation::default();
        assert_eq!(wants(&seen), [Want { what: Wanted::Bytes(USUAL_PATH.into(), CONFIG_BYTES_MAX), account: None }]);
        seen.bytes.insert(USUAL_PATH.into(), Fact::Known(b"Include sshd_config.d/*.conf\n".to_vec()));
        assert_eq!(wants(&seen), [Want { what: Wanted::Names("/etc/ssh/sshd_config.d".into()), account: None }]);
    }
}
