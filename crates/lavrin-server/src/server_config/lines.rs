//! The lines of the configuration: keyword and words, split as the server does, and the files that Include names.

use super::INCLUDE_FOLDER;
use super::conditions::MATCH_AS_WORDS_SINCE;
use super::fault::{ConfigError, ConfigFault};
use super::values::STRICT_SINCE;
use crate::fs::{BytePath, Fact};
use crate::server::Version;
use crate::survey::{CONFIG_BYTES_MAX, Observation, Want, Wanted, glob};

/// How deep files may include files: the server's own limit.
const INCLUDE_DEPTH_MAX: usize = 16;

/// Most lines that are read in all; a file that includes another twice at each level would double them 16 times.
const STATEMENTS_MAX: usize = 100_000;

/// One line of configuration.
#[derive(Debug, Clone)]
pub struct Statement {
    /// The keyword as it stands there.
    pub spelled: String,
    /// The keyword in lower case.
    pub keyword: String,
    /// The words behind it.
    pub words: Vec<String>,
    /// Whether a comment is all that stands behind it.
    pub only_comment: bool,
    /// The file.
    pub path: BytePath,
    /// The line in it, counted from 1.
    pub line: usize,
    /// Where the file ends, a Match of that file ends too.
    pub depth: usize,
}

/// What the files of a configuration hold.
#[derive(Debug, Default)]
pub struct Collected {
    /// Their lines in the order in which the server reads them.
    pub statements: Vec<Statement>,
    /// What has to be looked at before everything is known.
    pub wants: Vec<Want>,
    /// Files that could not be read.
    pub unseen: Vec<BytePath>,
    /// Lines that cannot be split, and includes without end.
    pub faults: Vec<ConfigFault>,
}

/// Reads the main file and everything it includes.
pub fn collect(main: &BytePath, seen: &Observation) -> Collected {
    let mut collected = Collected::default();
    collected.file(main, seen, 0, None);
    collected
}

impl Collected {
    fn file(&mut self, path: &BytePath, seen: &Observation, depth: usize, from: Option<&Statement>) {
        let bytes = match seen.bytes.get(path) {
            None => {
                self.wants.push(Want { what: Wanted::Bytes(path.clone(), CONFIG_BYTES_MAX), account: None });
                return;
            }
            Some(Fact::Known(bytes)) => bytes,
            Some(Fact::Absent) => return,
            Some(Fact::Unseen(_)) => {
                self.unseen.push(path.clone());
                return;
            }
        };
        if let Some(from) = from.filter(|_| depth > INCLUDE_DEPTH_MAX || self.statements.len() > STATEMENTS_MAX) {
            self.fault(&from.path, from.line, ConfigError::EndlessInclude);
            return;
        }
        for (index, line) in bytes.split(|byte| *byte == b'\n').enumerate() {
            let number = index + 1;
            let statement = match read_line(line, seen.server.rules()) {
                None => continue,
                Some(Ok(line)) => Statement {
                    keyword: line.keyword.to_ascii_lowercase(),
                    spelled: line.keyword,
                    words: line.words,
                    only_comment: line.only_comment,
                    path: path.clone(),
                    line: number,
                    depth,
                },
                Some(Err(what)) => {
                    self.fault(path, number, what);
                    continue;
                }
            };
            if statement.keyword == "include"
                && !statement.words.is_empty()
                && !statement.words.contains(&String::new())
            {
                for pattern in &statement.words {
                    // One endless include is enough to know.
                    if !self.faults.iter().any(|fault| fault.what == ConfigError::EndlessInclude) {
                        for file in self.included(pattern, seen) {
                            self.file(&file, seen, depth + 1, Some(&statement));
                        }
                    }
                }
            } else {
                self.statements.push(statement);
            }
        }
    }

    fn fault(&mut self, path: &BytePath, line: usize, what: ConfigError) {
        self.faults.push(ConfigFault { path: path.clone(), line, what });
    }

    /// The files that an Include pattern stands for, in the order in which the server reads them.
    fn included(&mut self, pattern: &str, seen: &Observation) -> Vec<BytePath> {
        let path = if pattern.starts_with('/') {
            BytePath::from(pattern)
        } else {
            BytePath::from(INCLUDE_FOLDER).join(pattern.as_bytes())
        };
        if !glob::is_pattern(&path) {
            return vec![path];
        }
        let expanded = glob::expand(&path, seen);
        self.wants.extend(expanded.ask.into_iter().map(|folder| Want { what: Wanted::Names(folder), account: None }));
        self.unseen.extend(expanded.unseen);
        expanded.paths
    }
}

/// A line taken apart.
#[derive(Debug)]
pub struct ConfigLine {
    /// The keyword as it stands there.
    pub keyword: String,
    /// The words behind it.
    pub words: Vec<String>,
    /// Whether a comment is all that stands behind it.
    pub only_comment: bool,
}

/// A line as keyword and words, split as this version does; `None` for blank lines and comments.
pub fn read_line(line: &[u8], version: Version) -> Option<Result<ConfigLine, ConfigError>> {
    let text = String::from_utf8_lossy(line);
    let strict = version >= STRICT_SINCE;
    // Older versions cut at every '#', also in quotes.
    let mut text = if strict { text.as_ref() } else { text.split('#').next().unwrap_or_default() };
    // The server does not look at the very first character when it takes blanks off the end.
    while text.len() > 1 && text.ends_with([' ', '\t', '\r', '\x0c']) {
        text = &text[..text.len() - 1];
    }
    // Blanks, or one '=' with blanks around it, may stand in front; after that the server gives up on an empty keyword.
    let text = text.trim_start_matches([' ', '\t', '\r']);
    let text = text.strip_prefix('=').map_or(text, |rest| rest.trim_start_matches([' ', '\t', '\r']));
    if text.is_empty() || text.starts_with(['#', '=']) {
        return None;
    }
    let end = text.find([' ', '\t', '=', '"']).unwrap_or(text.len());
    let rest = text[end..].trim_start_matches([' ', '\t']);
    let rest = rest.strip_prefix('=').unwrap_or(rest);
    let keyword = text[..end].to_owned();
    let words = match (strict, words(rest)) {
        _ if takes_rest(&keyword) && !rest.trim().is_empty() => Ok(vec![rest.trim().to_owned()]),
        (true, Err(fault)) => Err(fault),
        // Lines of Match kept the older way of splitting for longer.
        (true, Ok(_)) if version < MATCH_AS_WORDS_SINCE && keyword.eq_ignore_ascii_case("match") => {
            Ok(old_words(rest, true).into_iter().take_while(|word| !word.starts_with('#')).collect())
        }
        (true, Ok(words)) => Ok(words),
        (false, _) => Ok(old_words(rest, !keyword.eq_ignore_ascii_case("setenv"))),
    };
    Some(words.map(|words| ConfigLine { only_comment: words.is_empty() && !rest.trim().is_empty(), keyword, words }))
}

/// Keywords whose value is all that stands behind them, quotes and comments too.
const TAKE_REST: [&str; 4] =
    ["authorizedkeyscommand", "authorizedprincipalscommand", "forcecommand", "versionaddendum"];

fn takes_rest(keyword: &str) -> bool {
    TAKE_REST.iter().any(|known| known.eq_ignore_ascii_case(keyword))
}

/// Words at blanks; quotes of both kinds hold them together, a backslash takes its special meaning from a quote, a
/// blank or itself, and a word that begins with `#` ends the line.
fn words(text: &str) -> Result<Vec<String>, ConfigError> {
    let mut words = Vec::new();
    let mut word: Option<String> = None;
    let mut quote: Option<char> = None;
    let mut characters = text.chars().peekable();
    while let Some(character) = characters.next() {
        match character {
            '\\' if characters
                .peek()
                .is_some_and(|next| matches!(next, '"' | '\'' | '\\') || (quote.is_none() && *next == ' ')) =>
            {
                word.get_or_insert_default().extend(characters.next());
            }
            '"' | '\'' if quote == Some(character) => quote = None,
            '"' | '\'' if quote.is_none() => {
                quote = Some(character);
                word.get_or_insert_default();
            }
            ' ' | '\t' if quote.is_none() => words.extend(word.take()),
            '#' if quote.is_none() && word.is_none() => break,
            other => word.get_or_insert_default().push(other),
        }
    }
    words.extend(word);
    if quote.is_some() { Err(ConfigError::OpenQuote) } else { Ok(words) }
}

/// Words as versions before 8.7 take them: at blanks, each of which may have one `=` among it; what stands in double quotes ends
/// a word. An empty word, or a quote that is not closed, ends the line without a complaint. Variables keep their `=`.
fn old_words(text: &str, at_equals: bool) -> Vec<String> {
    const BLANKS: [char; 4] = [' ', '\t', '\r', '\n'];
    let mut words = Vec::new();
    let mut rest = Some(text.trim_start_matches(BLANKS));
    while let Some(text) = rest {
        let end =
            text.find(|character| BLANKS.contains(&character) || character == '"' || (character == '=' && at_equals));
        let word = match end {
            None => {
                rest = None;
                text.to_owned()
            }
            Some(at) if text[at..].starts_with('"') => {
                let Some((quoted, behind)) = text[at + 1..].split_once('"') else { return words };
                rest = Some(behind.trim_start_matches(BLANKS));
                format!("{}{quoted}", &text[..at])
            }
            Some(at) => {
                let behind = text[at + 1..].trim_start_matches(BLANKS);
                let blank = !text[at..].starts_with('=');
                let equals = behind.strip_prefix('=').filter(|_| blank && at_equals);
                rest = Some(equals.map_or(behind, |behind| behind.trim_start_matches(BLANKS)));
                text[..at].to_owned()
            }
        };
        if word.is_empty() {
            return words;
        }
        words.push(word);
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(line: &[u8], version: Version) -> Option<Result<(String, String), ConfigError>> {
        read_line(line, version).map(|read| read.map(|line| (line.keyword, line.words.join("|"))))
    }

    fn some(keyword: &str, words: &str) -> Option<Result<(String, String), ConfigError>> {
        Some(Ok((keyword.to_owned(), words.to_owned())))
    }

    #[test]
    fn lines_are_split_as_the_server_does() {
        let read = |line: &[u8]| read(line, Version(9, 2));
        assert_eq!(read(b"  UsePAM=yes # x\r"), some("UsePAM", "yes"));
        assert_eq!(read(b"A = b"), some("A", "b"));
        assert_eq!(read(b"A == b"), some("A", "=|b"));
        assert_eq!(read(b"A b#c 'd e' \"f#\" g\\ h"), some("A", "b#c|d e|f#|g h"));
        assert_eq!(read(b"A \"b"), Some(Err(ConfigError::OpenQuote)));
        assert_eq!(read(b"\x0c"), some("\x0c", ""));
        assert_eq!(read(b" # x"), None);
        assert_eq!(read(b" = A b"), some("A", "b"));
        assert_eq!((read(b"= = A b"), read(b" =  ")), (None, None));
        assert_eq!(read(b"ForceCommand echo  \"a b\" # x"), some("ForceCommand", "echo  \"a b\" # x"));
    }

    #[test]
    fn older_versions_split_another_way() {
        let read = |line: &[u8]| read(line, Version(8, 4));
        assert_eq!(read(b"UsePAM yes#x"), some("UsePAM", "yes"));
        assert_eq!(read(b"A 'b c'"), some("A", "'b|c'"));
        assert_eq!(read(b"A \"b c\"d e"), some("A", "b c|d|e"));
        assert_eq!(read(b"A b=c"), some("A", "b|c"));
        assert_eq!(read(b"A == b"), some("A", ""));
        assert_eq!(read(b"A \"b"), some("A", ""));
        assert_eq!(read(b"A \".ssh/a#b\""), some("A", ""));
        assert_eq!(read(b"A b \"\" c"), some("A", "b"));
    }
}
