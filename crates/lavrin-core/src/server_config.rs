//! `sshd_config(5)`: its text with Include and Match, and the values in force for one account.

use crate::account::{Account, Group};
use crate::fs::{BytePath, Fact};
use crate::survey::{CONFIG_BYTES_MAX, Observation, Want, Wanted};
use std::collections::BTreeMap;

/// The file that the server reads unless told otherwise.
pub const USUAL_PATH: &str = "/etc/ssh/sshd_config";

/// Where relative names in Include are looked up.
const INCLUDE_FOLDER: &str = "/etc/ssh";

/// How deep files may include files: the server's own limit.
const INCLUDE_DEPTH_MAX: usize = 16;

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

/// The settings in force for an account.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Settings {
    values: BTreeMap<String, Setting>,
    /// Files of the configuration that could not be read.
    pub unseen: Vec<BytePath>,
    /// Keywords that a Match block may set whose condition a look cannot decide (address, host, port, command).
    pub conditional: Vec<(String, BytePath, usize)>,
}

/// One line of configuration.
#[derive(Debug, Clone)]
struct Statement {
    keyword: String,
    words: Vec<String>,
    path: BytePath,
    line: usize,
    /// Where the file ends, a Match of that file ends too.
    depth: usize,
}

/// What has to be looked at before [`Settings::from_files`] can say everything.
#[must_use]
pub fn wants(seen: &Observation) -> Vec<Want> {
    let mut wants = Vec::new();
    collect(&main_path(seen), seen, 0, &mut Vec::new(), &mut wants, &mut Vec::new());
    wants
}

fn main_path(seen: &Observation) -> BytePath {
    seen.config_path.clone().unwrap_or_else(|| USUAL_PATH.into())
}

fn collect(
    path: &BytePath,
    seen: &Observation,
    depth: usize,
    out: &mut Vec<Statement>,
    wants: &mut Vec<Want>,
    unseen: &mut Vec<BytePath>,
) {
    let bytes = match seen.bytes.get(path) {
        None => {
            wants.push(Want { what: Wanted::Bytes(path.clone(), CONFIG_BYTES_MAX), account: None });
            return;
        }
        Some(Fact::Known(bytes)) => bytes,
        Some(Fact::Absent) => return,
        Some(Fact::Unseen(_)) => {
            unseen.push(path.clone());
            return;
        }
    };
    for (index, line) in bytes.split(|byte| *byte == b'\n').enumerate() {
        let Some((keyword, words)) = read_line(line) else { continue };
        if keyword == "include" && depth < INCLUDE_DEPTH_MAX {
            for pattern in &words {
                for file in included(pattern, seen, wants, unseen) {
                    collect(&file, seen, depth + 1, out, wants, unseen);
                }
            }
        } else {
            out.push(Statement { keyword, words, path: path.clone(), line: index + 1, depth });
        }
    }
}

/// The files that an Include pattern stands for, in the order in which the server reads them.
fn included(pattern: &str, seen: &Observation, wants: &mut Vec<Want>, unseen: &mut Vec<BytePath>) -> Vec<BytePath> {
    let path = if pattern.starts_with('/') {
        BytePath::from(pattern)
    } else {
        BytePath::from(INCLUDE_FOLDER).join(pattern.as_bytes())
    };
    let name = String::from_utf8_lossy(path.name()).into_owned();
    if !name.contains(['*', '?', '[']) {
        return vec![path];
    }
    let folder = path.parent().unwrap_or_else(|| "/".into());
    match seen.names.get(&folder) {
        None => {
            wants.push(Want { what: Wanted::Names(folder), account: None });
            Vec::new()
        }
        Some(Fact::Known(names)) => {
            let mut found: Vec<&Vec<u8>> =
                names.iter().filter(|found| found.first() != Some(&b'.') && matches(name.as_bytes(), found)).collect();
            found.sort();
            found.into_iter().map(|found| folder.join(found)).collect()
        }
        Some(Fact::Absent) => Vec::new(),
        Some(Fact::Unseen(_)) => {
            unseen.push(folder);
            Vec::new()
        }
    }
}

/// A line as keyword (lower case) and words; `None` for blank lines and comments.
fn read_line(line: &[u8]) -> Option<(String, Vec<String>)> {
    let text = String::from_utf8_lossy(line);
    let text = text.trim_matches([' ', '\t', '\r', '\x0c']);
    if text.is_empty() || text.starts_with('#') {
        return None;
    }
    let end = text.find([' ', '\t', '=']).unwrap_or(text.len());
    let rest = text[end..].trim_start_matches([' ', '\t']);
    let rest = rest.strip_prefix('=').unwrap_or(rest);
    Some((text[..end].to_ascii_lowercase(), words(rest)))
}

fn words(text: &str) -> Vec<String> {
    let mut words = Vec::new();
    let mut word: Option<String> = None;
    let mut quoted = false;
    for character in text.chars() {
        match character {
            '"' => {
                quoted = !quoted;
                word.get_or_insert_default();
            }
            ' ' | '\t' if !quoted => words.extend(word.take()),
            '#' if !quoted && word.is_none() => break,
            other => word.get_or_insert_default().push(other),
        }
    }
    words.extend(word);
    words
}

/// A pattern of `ssh_config(5)`: `*` and `?`. Compared with a bound, so that no pattern takes long.
#[must_use]
pub fn matches(pattern: &[u8], text: &[u8]) -> bool {
    let (mut p, mut t) = (0, 0);
    let mut star: Option<(usize, usize)> = None;
    while t < text.len() {
        match pattern.get(p) {
            Some(b'*') => {
                star = Some((p + 1, t));
                p += 1;
            }
            Some(b'?') => (p, t) = (p + 1, t + 1),
            Some(byte) if *byte == text[t] => (p, t) = (p + 1, t + 1),
            _ => match star {
                Some((behind, from)) => {
                    star = Some((behind, from + 1));
                    (p, t) = (behind, from + 1);
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|byte| *byte == b'*')
}

/// Whether a list of patterns with `!` negations takes the text: one negated match refuses it whatever else matches.
#[must_use]
pub fn list_matches<'a>(patterns: impl Iterator<Item = &'a str>, text: &str) -> bool {
    let mut found = false;
    for pattern in patterns {
        if let Some(negated) = pattern.strip_prefix('!') {
            if matches(negated.as_bytes(), text.as_bytes()) {
                return false;
            }
        } else if matches(pattern.as_bytes(), text.as_bytes()) {
            found = true;
        }
    }
    found
}

enum Applies {
    Yes,
    No,
    Undecided,
}

fn condition(words: &[String], account: &Account, groups: &[Group]) -> Applies {
    let mut undecided = false;
    let mut words = words.iter();
    while let Some(word) = words.next() {
        let (criterion, joined) =
            word.split_once('=').map_or((word.as_str(), None), |(name, value)| (name, Some(value)));
        let criterion = criterion.to_ascii_lowercase();
        if criterion == "all" {
            continue;
        }
        let Some(patterns) = joined.or_else(|| words.next().map(String::as_str)) else { return Applies::Undecided };
        let holds = match criterion.as_str() {
            "user" => list_matches(patterns.split(','), &account.name),
            "group" => group_names(account, groups).any(|group| list_matches(patterns.split(','), group)),
            _ => {
                undecided = true;
                true
            }
        };
        if !holds {
            return Applies::No;
        }
    }
    if undecided { Applies::Undecided } else { Applies::Yes }
}

/// Names of the account's groups, primary first.
pub fn group_names<'a>(account: &'a Account, groups: &'a [Group]) -> impl Iterator<Item = &'a str> {
    let belongs = move |group: &&Group| group.gid == account.gid || group.members.contains(&account.name);
    groups.iter().filter(belongs).map(|group| group.name.as_str())
}

/// Keywords whose lines add up instead of the first one winning.
const LISTS: [&str; 4] = ["allowusers", "denyusers", "allowgroups", "denygroups"];

impl Settings {
    /// What is in force for an account: what the server itself said, else what its files say.
    #[must_use]
    pub fn of(account: &Account, seen: &Observation) -> Self {
        match &seen.said_by_server {
            Some(said) => Self::from_server(said),
            None => Self::from_files(account, seen),
        }
    }

    /// Reads the `keyword value` lines that the server prints in its test mode.
    #[must_use]
    pub fn from_server(said: &[u8]) -> Self {
        let mut settings = Self::default();
        for (keyword, words) in said.split(|byte| *byte == b'\n').filter_map(read_line) {
            settings.add(keyword, Setting { words, path: None, line: None });
        }
        settings
    }

    /// Reads the configuration files for an account.
    #[must_use]
    pub fn from_files(account: &Account, seen: &Observation) -> Self {
        let mut settings = Self::default();
        let mut statements = Vec::new();
        collect(&main_path(seen), seen, 0, &mut statements, &mut Vec::new(), &mut settings.unseen);
        // A Match holds until the next one, or until the included file that it stands in ends.
        let mut blocks: Vec<(usize, Applies)> = Vec::new();
        for statement in statements {
            while blocks.last().is_some_and(|(depth, _)| *depth > statement.depth) {
                blocks.pop();
            }
            if statement.keyword == "match" {
                if blocks.last().is_some_and(|(depth, _)| *depth == statement.depth) {
                    blocks.pop();
                }
                blocks.push((statement.depth, condition(&statement.words, account, &seen.groups)));
                continue;
            }
            if blocks.iter().any(|(_, applies)| matches!(applies, Applies::No)) {
                continue;
            }
            if blocks.iter().any(|(_, applies)| matches!(applies, Applies::Undecided)) {
                settings.conditional.push((statement.keyword, statement.path, statement.line));
                continue;
            }
            let setting = Setting { words: statement.words, path: Some(statement.path), line: Some(statement.line) };
            settings.add(statement.keyword, setting);
        }
        settings
    }

    fn add(&mut self, keyword: String, setting: Setting) {
        if LISTS.contains(&keyword.as_str()) {
            let list = self.values.entry(keyword).or_insert(Setting { words: Vec::new(), ..setting.clone() });
            list.words.extend(setting.words);
        } else {
            self.values.entry(keyword).or_insert(setting);
        }
    }

    /// The setting of a keyword (in lower case), unless the default holds or it is `none`.
    #[must_use]
    pub fn get(&self, keyword: &str) -> Option<&Setting> {
        let setting = self.values.get(keyword)?;
        let none = setting.words.first().is_none_or(|word| word.eq_ignore_ascii_case("none"));
        if none { None } else { Some(setting) }
    }

    /// The first word of a keyword, in lower case, or this default.
    #[must_use]
    pub fn word(&self, keyword: &str, default: &str) -> String {
        let word = self.values.get(keyword).and_then(|setting| setting.words.first());
        word.map_or_else(|| default.to_owned(), |word| word.to_ascii_lowercase())
    }

    /// The key files that the server reads for this account, in its order (`sshd_config(5)`, `AuthorizedKeysFile`).
    #[must_use]
    pub fn key_files(&self, account: &Account) -> Vec<BytePath> {
        let patterns = match self.values.get("authorizedkeysfile") {
            Some(setting) => setting.words.clone(),
            None => vec![".ssh/authorized_keys".to_owned(), ".ssh/authorized_keys2".to_owned()],
        };
        patterns
            .iter()
            .filter(|pattern| !pattern.eq_ignore_ascii_case("none"))
            .map(|pattern| expand(pattern, account))
            .collect()
    }
}

fn expand(pattern: &str, account: &Account) -> BytePath {
    let mut path = Vec::new();
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

    fn world(files: &[(&str, &str)]) -> (Account, Observation) {
        let account = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n").remove(0);
        let mut seen =
            Observation { groups: read_groups(b"edda:x:1001:\nkeepers:x:50:edda\n"), ..Observation::default() };
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
        Settings::from_files(&account, &seen)
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
        assert_eq!(found.word("usepam", "no"), "no");
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
        assert_eq!(found.word("strictmodes", "yes"), "no");
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

    #[test]
    fn patterns_match_in_bounded_time() {
        assert!(matches(b"*a*b?", b"xxaxxbz"));
        assert!(!matches(b"a*", b"ba"));
        let long = vec![b'a'; 5000];
        assert!(!matches(b"*a*a*a*a*a*a*a*a*b", &long));
    }
}
