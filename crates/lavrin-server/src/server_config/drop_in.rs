//! Where a setting can be put so that it wins, and the lines that set something today.

use super::lines::{Statement, read_line};
use super::{INCLUDE_FOLDER, keywords, main_path};
use crate::fs::{BytePath, Fact};
use crate::server::Version;
use crate::survey::{Observation, glob};

/// A line that sets a keyword.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetLine {
    /// The keyword in lower case, by its present name.
    pub keyword: String,
    /// The first word behind it, in lower case.
    pub value: String,
    /// The file.
    pub path: BytePath,
    /// The line in it, counted from 1.
    pub line: usize,
    /// Whether it holds for some connections only.
    pub in_match: bool,
}

/// The lines that set one of these keywords (in lower case), in the order in which the server reads them.
pub(super) fn set_lines(statements: &[Statement], version: Version, wanted: &[&str]) -> Vec<SetLine> {
    let (mut found, mut blocks): (Vec<SetLine>, Vec<(usize, bool)>) = (Vec::new(), Vec::new());
    for statement in statements {
        while blocks.last().is_some_and(|(depth, _)| *depth > statement.depth) {
            blocks.pop();
        }
        if statement.keyword == "match" {
            let holds_always = statement.words.len() == 1 && statement.words[0].eq_ignore_ascii_case("all");
            // A block ends where the next one of the same file begins.
            blocks.retain(|(depth, _)| *depth < statement.depth);
            blocks.push((statement.depth, holds_always));
            continue;
        }
        let own = statement.keyword.as_str();
        let keyword = keywords::keyword(own, version).map_or(own, |known| known.means);
        let Some(value) = statement.words.first().filter(|_| wanted.contains(&keyword)) else { continue };
        found.push(SetLine {
            keyword: keyword.to_owned(),
            value: value.to_ascii_lowercase(),
            path: statement.path.clone(),
            line: statement.line,
            in_match: blocks.iter().any(|(_, holds_always)| !holds_always),
        });
    }
    found
}

/// The folder of which the main file includes every `*.conf`, outside of any Match.
#[must_use]
pub fn drop_in_folder(seen: &Observation) -> Option<BytePath> {
    let Fact::Known(bytes) = seen.content(&main_path(seen)) else { return None };
    for line in bytes.split(|byte| *byte == b'\n') {
        let Some(Ok(line)) = read_line(line, seen.server.rules()) else { continue };
        if line.keyword.eq_ignore_ascii_case("match") {
            return None;
        }
        if !line.keyword.eq_ignore_ascii_case("include") {
            continue;
        }
        let folder = line.words.iter().find_map(|word| {
            let text = word.strip_suffix("/*.conf")?;
            let folder = if text.starts_with('/') {
                BytePath::from(text)
            } else {
                BytePath::from(INCLUDE_FOLDER).join(text.as_bytes())
            };
            (!glob::is_pattern(&folder)).then_some(folder)
        });
        if folder.is_some() {
            return folder;
        }
    }
    None
}

/// A line with another value behind its keyword; everything else stays, byte for byte. `None` where it has no value.
#[must_use]
pub fn with_value(line: &[u8], value: &str) -> Option<Vec<u8>> {
    const BLANKS: &[u8] = b" \t\r\x0c";
    let skip = |from: usize, set: &[u8]| from + line[from..].iter().take_while(|byte| set.contains(byte)).count();
    let mut at = skip(0, b" \t\r");
    if line.get(at) == Some(&b'=') {
        at = skip(at + 1, b" \t\r");
    }
    at += line[at..].iter().position(|byte| b" \t=\"".contains(byte))?;
    at = skip(at, b" \t");
    if line.get(at) == Some(&b'=') {
        at = skip(at + 1, b" \t");
    }
    let rest = &line[at..];
    let length = match rest.first()? {
        quote @ (b'"' | b'\'') => 2 + rest[1..].iter().position(|byte| byte == quote)?,
        b'#' => return None,
        _ => rest.iter().position(|byte| BLANKS.contains(byte)).unwrap_or(rest.len()),
    };
    (length > 0).then(|| [&line[..at], value.as_bytes(), &rest[length..]].concat())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_is_replaced_and_nothing_else() {
        let with = |line: &str| with_value(line.as_bytes(), "no").map(|line| String::from_utf8(line).unwrap());
        assert_eq!(with("PasswordAuthentication yes").as_deref(), Some("PasswordAuthentication no"));
        assert_eq!(with("\tpasswordauthentication=yes\r").as_deref(), Some("\tpasswordauthentication=no\r"));
        assert_eq!(with("X = \"yes\"  # was asked for").as_deref(), Some("X = no  # was asked for"));
        assert_eq!(with("X\"yes\"").as_deref(), Some("Xno"));
        assert_eq!((with("X"), with("X # yes"), with("X \"yes")), (None, None, None));
    }

    #[test]
    fn a_folder_counts_where_all_its_files_are_read_for_everybody() {
        let of = |text: &str| {
            let mut seen = Observation::default();
            seen.bytes.insert(super::super::USUAL_PATH.into(), Fact::Known(text.as_bytes().to_vec()));
            drop_in_folder(&seen).map(|folder| folder.to_string())
        };
        assert_eq!(of("# x\nInclude /etc/ssh/sshd_config.d/*.conf\n").as_deref(), Some("/etc/ssh/sshd_config.d"));
        assert_eq!(of("Include more.d/*.conf\n").as_deref(), Some("/etc/ssh/more.d"));
        assert_eq!(of("Match User sten\nInclude /etc/ssh/sshd_config.d/*.conf\n"), None);
        assert_eq!(of("Include /etc/ssh/*/*.conf /etc/ssh/one.conf\n"), None);
    }
}
