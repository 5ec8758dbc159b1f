//! Public keys in whatever a person mailed: quoted, wrapped, in HTML or JSON, with odd blanks and dashes, glued together.
//!
//! Only what can be recovered with certainty is: the blob has to parse to its end and be a valid key, no character is
//! guessed, and lines are joined only where they were evidently wrapped. What was repaired is said.

use super::{Algorithm, PublicKey};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

/// Longest text that is searched, in bytes: a mail, not an archive.
const TEXT_BYTES_MAX: usize = 1 << 20;

/// Widths at which programs wrap lines.
const WRAP_WIDTHS: [usize; 10] = [60, 64, 65, 70, 72, 75, 76, 77, 78, 79];

/// A key that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Recovered {
    /// The key.
    pub key: PublicKey,
    /// What stands behind it on its last line.
    pub comment: String,
    /// First and last line it stands on, counted from 1.
    pub lines: (usize, usize),
    /// What was repaired.
    pub repairs: Vec<PasteRepair>,
}

/// What had to be undone before a key could be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PasteRepair {
    /// It stood in a string of JSON.
    FromJson,
    /// It stood in quoted-printable (RFC 2045, section 6.7).
    FromQuotedPrintable,
    /// It stood in HTML.
    FromHtml,
    /// It stood amid other text.
    FromText,
    /// Invisible characters are left out.
    Invisible,
    /// Typographic blanks and dashes are plain ones.
    Typographic,
    /// Quote marks are taken off.
    QuoteMarks,
    /// Broken lines are joined.
    Joined,
}

/// Finds every key. Lines that begin with `#` are comments and are left alone.
#[must_use]
pub fn recover(text: &[u8]) -> Vec<Recovered> {
    if text.len() > TEXT_BYTES_MAX {
        return Vec::new();
    }
    let text = String::from_utf8_lossy(text);
    let mut found = search(&as_it_stands(&text), &[]);
    // What a program has encoded is searched once more as it was before; each key has to be whole all the same.
    let decoded =
        [(from_json(&text), PasteRepair::FromJson), (from_quoted_printable(&text), PasteRepair::FromQuotedPrintable)];
    for (lines, repair) in decoded {
        for recovered in lines.iter().flat_map(|lines| search(lines, &[repair])) {
            if !found.iter().any(|other| other.key == recovered.key) {
                found.push(recovered);
            }
        }
    }
    found.sort_by_key(|recovered| recovered.lines);
    found
}

/// A line, and the number of the line in the text that it comes from.
type Numbered = (usize, String);

fn as_it_stands(text: &str) -> Vec<Numbered> {
    text.lines().enumerate().map(|(index, line)| (index + 1, line.to_owned())).collect()
}

/// Strings of JSON as they are read (RFC 8259, section 7). `None` where none has an escape in it.
fn from_json(text: &str) -> Option<Vec<Numbered>> {
    if !text.contains('"') || !text.contains('\\') {
        return None;
    }
    let mut lines = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let mut plain = String::with_capacity(line.len());
        let mut rest = line.chars();
        while let Some(character) = rest.next() {
            if character != '\\' {
                plain.push(character);
                continue;
            }
            match rest.next() {
                Some('n' | 'r') => lines.push((index + 1, std::mem::take(&mut plain))),
                Some('t') => plain.push(' '),
                Some('u') => {
                    let digits: String = rest.by_ref().take(4).collect();
                    plain.extend(u32::from_str_radix(&digits, 16).ok().and_then(char::from_u32));
                }
                Some(other) => plain.push(other),
                None => {}
            }
        }
        lines.push((index + 1, plain));
    }
    Some(lines)
}

/// Quoted-printable as it was before (RFC 2045, section 6.7). `None` where it is none.
fn from_quoted_printable(text: &str) -> Option<Vec<Numbered>> {
    let mut lines: Vec<Numbered> = Vec::new();
    let (mut joined, mut decoded) = (false, false);
    for (index, line) in text.lines().enumerate() {
        let trimmed = line.trim_end();
        let (content, soft) = trimmed.strip_suffix('=').map_or((trimmed, false), |content| (content, true));
        let mut plain = String::with_capacity(content.len());
        let mut rest = content;
        while let Some((front, behind)) = rest.split_once('=') {
            plain.push_str(front);
            let byte = behind.get(..2).and_then(|digits| u8::from_str_radix(digits, 16).ok())?;
            plain.push(char::from(byte));
            decoded = true;
            rest = &behind[2..];
        }
        plain.push_str(rest);
        match lines.last_mut().filter(|_| joined) {
            Some((_, before)) => before.push_str(&plain),
            None => lines.push((index + 1, plain)),
        }
        decoded |= soft;
        joined = soft;
    }
    decoded.then_some(lines)
}

fn search(text: &[Numbered], before: &[PasteRepair]) -> Vec<Recovered> {
    let (lines, repairs) = cleaned(text);
    let repairs = [before, &repairs].concat();
    let mut found = Vec::new();
    for (index, line) in lines.iter().enumerate().filter(|(_, line)| !line.trim_start().starts_with('#')) {
        for (at, algorithm) in labels(line) {
            found.extend(read(&lines, index, at, algorithm, &repairs));
        }
    }
    let number = |line: usize| text.get(line - 1).map_or(line, |(number, _)| *number);
    for recovered in &mut found {
        recovered.lines = (number(recovered.lines.0), number(recovered.lines.1));
    }
    found
}

/// The text with what mail programs and word processors do to it undone, line by line.
fn cleaned(text: &[Numbered]) -> (Vec<String>, Vec<PasteRepair>) {
    let mut repairs = Vec::new();
    let mut note = |changed: bool, repair: PasteRepair| {
        if changed {
            repairs.push(repair);
        }
    };
    let text: String = text.iter().map(|(_, line)| format!("{line}\n")).collect();
    let mut clean: String = text.chars().filter(|character| !is_invisible(*character)).collect();
    note(clean.len() != text.len(), PasteRepair::Invisible);
    let plain: String = clean.chars().map(plain_character).collect();
    note(plain != clean, PasteRepair::Typographic);
    clean = plain;
    if clean.contains("</") {
        clean = without_markup(&clean);
        note(true, PasteRepair::FromHtml);
    }
    let lines: Vec<String> = clean.lines().map(|line| unquoted(line).to_owned()).collect();
    note(clean.lines().zip(&lines).any(|(before, after)| before.trim_end() != after), PasteRepair::QuoteMarks);
    (lines, repairs)
}

fn is_invisible(character: char) -> bool {
    matches!(character, '\u{ad}' | '\u{200b}'..='\u{200f}' | '\u{2060}' | '\u{feff}')
}

fn plain_character(character: char) -> char {
    match character {
        '\u{a0}' | '\u{2002}'..='\u{200a}' | '\u{202f}' | '\u{3000}' => ' ',
        '\u{2010}'..='\u{2015}' | '\u{2212}' => '-',
        other => other,
    }
}

fn without_markup(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut inside = false;
    for character in text.chars() {
        match character {
            '<' => inside = true,
            '>' if inside => {
                inside = false;
                out.push(' ');
            }
            _ if inside => {}
            other => out.push(other),
        }
    }
    out.replace("&nbsp;", " ")
        .replace("&#43;", "+")
        .replace("&#47;", "/")
        .replace("&lt;", "<")
        .replace("&gt;", ">")
        .replace("&amp;", "&")
}

/// A line without the marks of quoting in front of it.
pub(crate) fn unquoted(line: &str) -> &str {
    let mut rest = line.trim_end();
    while let Some(inner) = rest.strip_prefix('>').or_else(|| rest.strip_prefix("| ")) {
        rest = inner.strip_prefix(' ').unwrap_or(inner);
    }
    rest
}

/// Where names of algorithms stand in a line, with a blank behind them.
fn labels(line: &str) -> Vec<(usize, Algorithm)> {
    let mut found: Vec<(usize, Algorithm)> = Vec::new();
    for algorithm in Algorithm::ALL {
        let name = algorithm.name();
        found.extend(
            line.match_indices(name)
                .filter(|(at, _)| line[at + name.len()..].starts_with([' ', '\t']))
                .map(|(at, _)| (at, algorithm)),
        );
    }
    found.sort_unstable_by_key(|(at, _)| *at);
    found
}

fn is_base64(character: char) -> bool {
    character.is_ascii_alphanumeric() || matches!(character, '+' | '/' | '=')
}

/// The run of base64 at the beginning of a text.
fn run(text: &str) -> &str {
    &text[..text.find(|character| !is_base64(character)).unwrap_or(text.len())]
}

fn read(lines: &[String], index: usize, at: usize, algorithm: Algorithm, repairs: &[PasteRepair]) -> Option<Recovered> {
    let behind = lines[index][at + algorithm.name().len()..].trim_start();
    // Another key may be glued to it.
    let end = labels(behind).first().map_or(behind.len(), |(at, _)| *at);
    let mut base64 = run(&behind[..end]).to_owned();
    let mut rest = behind[base64.len()..].to_owned();
    let mut last = index;
    let mut repairs = repairs.to_vec();
    let mut widths = vec![lines[index].len()];
    loop {
        if let Some(key) = whole(&base64, algorithm) {
            if last > index {
                if !evidently_wrapped(&widths) {
                    return None;
                }
                repairs.push(PasteRepair::Joined);
            }
            return Some(Recovered { key, comment: comment(&rest), lines: (index + 1, last + 1), repairs });
        }
        // Only a line that ends in base64 was broken there.
        let next = lines.get(last + 1)?;
        if !rest.is_empty() || run(next).is_empty() || base64.len() > 4 * super::public::RSA_BITS_MAX / 8 {
            return None;
        }
        last += 1;
        widths.push(next.len());
        base64.push_str(run(next));
        rest = next[run(next).len()..].to_owned();
    }
}

/// A key, if the base64 is exactly one of this algorithm.
fn whole(base64: &str, algorithm: Algorithm) -> Option<PublicKey> {
    let blob = STANDARD.decode(base64).ok()?;
    PublicKey::from_blob(&blob).ok().filter(|key| key.algorithm() == algorithm)
}

/// Lines that a program wrapped have one width, the last one apart. With two lines only, the first has to have a width
/// at which programs wrap; else the second could be a word that happens to fit.
fn evidently_wrapped(widths: &[usize]) -> bool {
    match widths {
        [first, last] => WRAP_WIDTHS.contains(first) && last <= first,
        [first, middle @ .., last] => {
            let width = middle[0];
            middle.iter().all(|other| *other == width) && *last <= width.max(*first) + 40
        }
        _ => true,
    }
}

/// The comment: up to a mark that belongs to the text around the key, or to a key that is glued to it.
fn comment(rest: &str) -> String {
    let end = rest.find(['"', '`', '<', '\\']).unwrap_or(rest.len());
    let rest = &rest[..end];
    let end = labels(rest).first().map_or(rest.len(), |(at, _)| *at);
    rest[..end].trim().trim_end_matches(',').to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::PrivateKey;

    fn key(seed: u8) -> PublicKey {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
    }

    fn only(text: &str) -> Recovered {
        let mut found = recover(text.as_bytes());
        assert_eq!(found.len(), 1, "{text}");
        found.remove(0)
    }

    #[test]
    fn wrapped_and_quoted_lines_are_joined() {
        let line = key(1).line("edda@lantern");
        let text = format!("Dear Sten,\n> {}\n> {}\n> regards\n", &line[..76], &line[76..]);
        let found = only(&text);
        assert_eq!((found.key, found.comment.as_str(), found.lines), (key(1), "edda@lantern", (2, 3)));
        assert_eq!(found.repairs, [PasteRepair::QuoteMarks, PasteRepair::Joined]);
    }

    #[test]
    fn typography_markup_and_glue_are_undone() {
        let (one, two) = (key(1).line("edda"), key(2).line("sten"));
        assert_eq!(only(&one.replace('-', "\u{2013}").replace(' ', "\u{a0}")).key, key(1));
        assert_eq!(only(&format!("<p>key:</p><pre>{one}</pre>")).comment, "edda");
        assert_eq!(only(&format!("[\"{one}\"]")).comment, "edda");
        let found = recover(format!("{one}{two}").as_bytes());
        assert_eq!(found.iter().map(|one| one.key.clone()).collect::<Vec<_>>(), [key(1), key(2)]);
        assert_eq!(found[0].comment, "edda");
    }

    #[test]
    fn nothing_is_guessed() {
        let line = key(1).line("");
        for text in [
            line[..line.len() - 7].to_owned(),
            format!("{}\nRegards\n", &line[..line.len() - 7]),
            format!("{} Regards", &line[..line.len() - 7]),
            format!("# {line}"),
            line.replacen('A', "\u{410}", 3),
            format!("{line}AAAA"),
            line.replace("ssh-ed25519", "ssh-rsa"),
        ] {
            assert_eq!(recover(text.as_bytes()), [], "{text}");
        }
    }

    fn found(text: &str) -> Vec<String> {
        recover(text.as_bytes()).iter().map(|one| one.key.fingerprint().to_string()).collect()
    }

    #[test]
    fn keys_glued_together_without_anything_between_are_two() {
        let (one, two) = (key(31), key(32));
        let text = format!("{}{}\n", one.line(""), two.line("edda"));
        assert_eq!(found(&text), [one.fingerprint().to_string(), two.fingerprint().to_string()]);
    }

    #[test]
    fn strings_of_json_are_read_with_their_escapes() {
        let (one, two) = (key(31), key(33));
        let escaped = |key: &PublicKey| key.line("").replace('/', "\\/").replace('+', "\\u002b");
        let text = format!("x\n{{\"keys\": \"{}\\n{}\\n\"}}\n", escaped(&one), escaped(&two));
        assert_eq!(found(&text), [one.fingerprint().to_string(), two.fingerprint().to_string()]);
        assert_eq!(recover(text.as_bytes())[1].lines, (2, 2));
    }

    #[test]
    fn quoted_printable_is_undone() {
        let ecdsa = PrivateKey::ecdsa(super::super::Curve::P256, &[7; 32]).unwrap().public().clone();
        let line = ecdsa.line("edda").replace('=', "=3D");
        let (front, back) = line.split_at(60);
        let text = format!("Dear office,\n{front}=\n{back}\n");
        assert_eq!(found(&text), [ecdsa.fingerprint().to_string()]);
        assert_eq!(recover(text.as_bytes())[0].lines, (2, 2));
        assert!(from_quoted_printable("AAAA== x\n").is_none());
    }
}
