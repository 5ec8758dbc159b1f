//! A long file of equal tables in parts, each between two headers at the beginning of a line: read one by one they take little
//! memory, and all cores have something to do. Where it is not certain that the parts mean what the whole means, there is one part.

use memchr::memmem;
use rayon::prelude::*;
use std::collections::HashSet;
use std::ops::Range;

/// A shorter file is read whole, in bytes.
const WHOLE: usize = 256 << 10;

/// The length of a part, in bytes.
const PART: usize = 128 << 10;

/// The parts of a file; of a list of equal tables those begin with such headers: `[[grant]]`, or `[NAME]` with `[NAME.…]` and `[[NAME.…]]` behind it.
pub(super) fn parts(text: &str, is_list: bool) -> Vec<Range<usize>> {
    split(text, if is_list { WHOLE } else { usize::MAX }, PART)
}

fn split(text: &str, whole: usize, part: usize) -> Vec<Range<usize>> {
    let one = || std::iter::once(0..text.len()).collect();
    if text.len() <= whole {
        return one();
    }
    if let Some(parts) = split_list(text, part) {
        return parts;
    }
    if has_long_texts(text) {
        return one();
    }
    let mut begins = vec![0];
    let mut tables: HashSet<&str> = HashSet::new();
    let mut last = "";
    // The header of a list that stood last, with the end of its line: most headers are that one again.
    let mut again = "";
    for at in bracketed(text) {
        if again.is_empty() || !text[at..].starts_with(again) {
            let line = text[at..].split_inclusive('\n').next().unwrap_or_default();
            let Some((name, is_list)) = header(line) else { continue };
            let top = name.split('.').next().unwrap_or_default();
            if top == last && (!is_list || name.contains('.')) {
                continue;
            }
            // What belongs to a table stands behind it, and no table begins twice: only then each part says all of its tables.
            if name.contains('.') || !is_list && !tables.insert(top) || is_list && !last.is_empty() && last != top {
                return one();
            }
            last = top;
            again = if is_list { line } else { "" };
        }
        if at - begins.last().copied().unwrap_or_default() >= part {
            begins.push(at);
        }
    }
    let ends = begins.iter().skip(1).copied().chain([text.len()]);
    begins.iter().copied().zip(ends).map(|(begin, end)| begin..end).collect()
}

/// The parts of a file in which each line that begins with a bracket is the header of the same list: it can be looked through on
/// all cores.
fn split_list(text: &str, part: usize) -> Option<Vec<Range<usize>>> {
    let first = bracketed(text).next()?;
    let again = text[first..].split_inclusive('\n').next()?;
    header(again).filter(|(name, is_list)| *is_list && !name.contains('.'))?;
    // Each range ends in front of a header, and begins with one but for the first.
    let mut ranges = Vec::new();
    let mut begin = 0;
    while begin < text.len() {
        let from = begin.max(first) + again.len().max(part);
        let end = text.as_bytes().get(from..).and_then(|rest| memmem::find(rest, again.as_bytes())).map(|at| from + at);
        let end = end.unwrap_or(text.len());
        ranges.push(begin..end);
        begin = end;
    }
    let begins_a_line = |at: usize| at == 0 || text.as_bytes()[at - 1] == b'\n';
    let is_uniform = |range: &Range<usize>| {
        let of = &text[range.clone()];
        begins_a_line(range.start) && !has_long_texts(of) && bracketed(of).all(|at| of[at..].starts_with(again))
    };
    ranges.par_iter().all(is_uniform).then_some(ranges)
}

/// Whether there may be a text of several lines: within it a line may begin like a header.
fn has_long_texts(text: &str) -> bool {
    ["\"\"\"", "'''"].iter().any(|quotes| memmem::find(text.as_bytes(), quotes.as_bytes()).is_some())
}

/// Where lines begin that begin with a bracket.
fn bracketed(text: &str) -> impl Iterator<Item = usize> {
    let first = text.starts_with('[').then_some(0);
    first.into_iter().chain(memmem::find_iter(text.as_bytes(), "\n[").map(|at| at + 1))
}

/// The name in a header without quotes, and whether it begins an element of a list. Anything else that begins with a bracket, such
/// as the rest of a list over several lines, is none.
fn header(line: &str) -> Option<(&str, bool)> {
    let line = line.trim_end();
    let (inner, is_list) = match line.strip_prefix("[[") {
        Some(rest) => (rest.strip_suffix("]]")?, true),
        None => (line.strip_prefix('[')?.strip_suffix(']')?, false),
    };
    let is_bare = |byte: u8| byte.is_ascii_alphanumeric() || b"-_.".contains(&byte);
    (!inner.is_empty() && inner.bytes().all(is_bare)).then_some((inner, is_list))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::register::{Reading, SourceFile, read};

    const HOSTS: &str =
        "[lamp]\ntags = [\n\"a\",\n\"b\"]\n[[lamp.key]]\nlabel = \"x\"\n[lamp.limits]\n[pier]\nport = 1\n";

    #[test]
    fn a_part_begins_where_a_table_does() {
        let grants = "# all\n[[grant]]\nperson = \"a\"\n[[grant]]\nperson = \"b\"\n";
        let of = |text: &str| split(text, 0, 1).into_iter().map(|part| text[part].to_owned()).collect::<Vec<_>>();
        assert_eq!(of(grants), ["# all\n[[grant]]\nperson = \"a\"\n", "[[grant]]\nperson = \"b\"\n"]);
        let other = "[other]\n[[grant]]\nperson = \"a\"\n";
        assert_eq!(of(other).concat(), other);
        assert_eq!(of(HOSTS).len(), 2);
        assert!(of(HOSTS)[1].starts_with("[pier]"));
        let doubtful = [
            "[a]\nx = 1\n[b]\n[a.limits]\n",
            "[a]\n[b]\n[a]\n",
            "[[grant]]\n[[other]]\n",
            "[[grant]]\n[other]\n[[grant]]\n",
            "[[grant]]\nx = \"\"\"\n[[grant]]\n\"\"\"\n[[grant]]\n",
            "[[grant]]\nx = 1\n# [[grant]]\n[[other]]\n",
            "[a]\nway_back = \"\"\"\n[b]\n\"\"\"\n[c]\n",
        ];
        for text in doubtful {
            assert_eq!(of(text).len(), 1, "{text}");
        }
    }

    #[test]
    fn a_long_register_reads_the_same_in_parts_and_tells_its_faults_at_their_places() {
        let mut grants = String::new();
        for number in 0..20_000 {
            grants += &format!("[[grant]]\nperson = \"a{number}\"\naccount = \"root\"\nhosts = [\"h\"]\n\n");
        }
        let fault = grants.len();
        grants += "[[grant]]\npersn = \"x\"\naccount = \"root\"\nhosts = [\"h\"]\n";
        assert!(parts(&grants, true).len() > 3);
        let of =
            |text: &str| -> Reading { read(&[SourceFile { path: "access.toml".to_owned(), text: text.to_owned() }]) };
        let reading = of(&grants);
        assert_eq!(reading.register.grants.len(), 20_000);
        let places: Vec<usize> = reading.findings.iter().map(|finding| finding.place.bytes().start).collect();
        assert!(!places.is_empty() && places.iter().all(|place| *place >= fault), "{places:?}");
        let last = &reading.register.grants[19_999];
        assert_eq!(&grants[last.whom.place.bytes()], "\"a19999\"");
        // A comment with three quotes makes one part of it.
        let whole = of(&format!("{grants}# \"\"\"\n"));
        assert_eq!(format!("{:?}", whole.register.grants), format!("{:?}", reading.register.grants));
        assert_eq!(format!("{:?}", whole.findings), format!("{:?}", reading.findings));
    }
}
