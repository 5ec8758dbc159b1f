//! Columns that line up.

use crate::screen;
use std::borrow::Cow;

/// The narrowest last column that is wrapped within itself; a narrower one goes on below its row.
const LAST_MIN: usize = 24;

/// Where it goes on then, behind the indent of the table.
const BELOW: usize = 6;

/// What begins a fingerprint, the length of all of it, and how much of its ends is shown where it has to be cut.
const PRINT: &str = "SHA256:";
const PRINT_LENGTH: usize = 50;
const PRINT_ENDS: (usize, usize) = (8, 6);

/// Rows of cells as lines; every column is as wide as its widest cell. On a terminal that is too narrow fingerprints are cut in
/// the middle, and the last column goes on in further lines; elsewhere nothing is cut.
pub fn columns(rows: &[Vec<String>], indent: usize) -> Vec<String> {
    fitted(rows, indent, screen::width(), screen::is_unicode())
}

fn fitted(rows: &[Vec<String>], indent: usize, screen: Option<usize>, unicode: bool) -> Vec<String> {
    let mut widths = Vec::new();
    widen(&mut widths, rows);
    let Some(screen) = screen.filter(|screen| total(&widths, indent) > *screen) else {
        return rows.iter().map(|row| line(row, &widths, indent)).collect();
    };
    let rows: Vec<Vec<String>> =
        rows.iter().map(|row| row.iter().map(|cell| with_cut_prints(cell, unicode).into_owned()).collect()).collect();
    widths.clear();
    widen(&mut widths, &rows);
    rows.iter().map(|row| wrapped(row, &widths, indent, screen)).collect()
}

fn total(widths: &[usize], indent: usize) -> usize {
    indent + widths.iter().sum::<usize>() + 2 * widths.len().saturating_sub(1)
}

/// A cell with its fingerprints cut in the middle.
fn with_cut_prints(cell: &str, unicode: bool) -> Cow<'_, str> {
    let is_part = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'+' || byte == b'/';
    let mut out = String::new();
    let mut rest = cell;
    while let Some(at) = rest.find(PRINT) {
        let end = at + PRINT_LENGTH;
        let body = rest.get(at + PRINT.len()..end).filter(|body| body.bytes().all(is_part));
        let Some(body) = body else {
            out += &rest[..at + PRINT.len()];
            rest = &rest[at + PRINT.len()..];
            continue;
        };
        let dots = if unicode { "…" } else { ".." };
        out += &format!("{}{PRINT}{}{dots}{}", &rest[..at], &body[..PRINT_ENDS.0], &body[body.len() - PRINT_ENDS.1..]);
        rest = &rest[end..];
    }
    if out.is_empty() { Cow::Borrowed(cell) } else { Cow::Owned(out + rest) }
}

/// A row whose last column goes on in further lines where it is too long. What is coloured in it is left as it is.
fn wrapped(row: &[String], widths: &[usize], indent: usize, screen: usize) -> String {
    let whole = line(row, widths, indent);
    let Some((last, before)) = row.split_last().filter(|(last, _)| width(&whole) > screen && !last.contains('\x1b'))
    else {
        return whole;
    };
    let start = total(&widths[..before.len()], indent) + 2;
    let room = screen.saturating_sub(start);
    let (first, at) = if before.is_empty() || room < LAST_MIN { (None, indent + BELOW) } else { (Some(room), start) };
    let mut text = line(before, widths, indent);
    if first.is_some() {
        text.extend(std::iter::repeat_n(' ', start.saturating_sub(width(&text))));
    } else {
        text += "\n";
        text.extend(std::iter::repeat_n(' ', at));
    }
    let mut used = at;
    for (number, word) in last.split(' ').enumerate() {
        let long = word.chars().count();
        if number > 0 && used + 1 + long > screen {
            text += "\n";
            text.extend(std::iter::repeat_n(' ', at));
            used = at;
        } else if number > 0 {
            text.push(' ');
            used += 1;
        }
        text += word;
        used += long;
    }
    text
}

/// Makes columns as wide as these rows need.
pub fn widen(widths: &mut Vec<usize>, rows: &[Vec<String>]) {
    for row in rows {
        widths.resize(widths.len().max(row.len()), 0);
        for (widest, cell) in widths.iter_mut().zip(row) {
            *widest = width(cell).max(*widest);
        }
    }
}

/// One row as a line.
pub fn line(row: &[String], widths: &[usize], indent: usize) -> String {
    let mut text = " ".repeat(indent);
    for (column, cell) in row.iter().enumerate() {
        text += cell;
        if column + 1 < row.len() {
            let room = widths[column] + 2 - width(cell);
            text.extend(std::iter::repeat_n(' ', room));
        }
    }
    text.truncate(text.trim_end().len());
    text
}

/// Characters without the colour codes around them.
fn width(cell: &str) -> usize {
    if cell.is_ascii() && !cell.contains('\x1b') {
        return cell.len();
    }
    let mut count = 0;
    let mut escape = false;
    for character in cell.chars() {
        match character {
            '\x1b' => escape = true,
            'm' if escape => escape = false,
            _ if escape => {}
            _ => count += 1,
        }
    }
    count
}

#[cfg(test)]
mod tests {
    use super::{columns, fitted};

    const PRINT: &str = "SHA256:LA4QoSmstGCy/UHfdU3jKjnPz56pQzud9OmslMh3g8w";

    fn row(cells: &[&str]) -> Vec<String> {
        cells.iter().map(|cell| (*cell).to_owned()).collect()
    }

    #[test]
    fn a_narrow_terminal_cuts_fingerprints_and_wraps_the_last_column() {
        let words = "the key of a keeper who left some years ago and whose lamp is still lit";
        let rows = [row(&["keeper@a-long-name-of-a-lighthouse", PRINT, words]), row(&["x", "no print", "y"])];
        let told = fitted(&rows, 2, Some(80), true);
        assert!(
            told[0].starts_with("  keeper@a-long-name-of-a-lighthouse  SHA256:LA4QoSms…lMh3g8w")
                || told[0].contains("…"),
            "{}",
            told[0]
        );
        assert!(told[0].lines().count() > 1 && told[0].lines().all(|line| line.chars().count() <= 80), "{}", told[0]);
        assert_eq!(told[0].split_whitespace().skip(2).collect::<Vec<_>>().join(" "), words);
        assert!(fitted(&rows, 2, Some(80), false)[0].contains(".."));
        // Elsewhere nothing is cut.
        assert!(
            fitted(&rows, 2, None, true)[0].contains(PRINT) && fitted(&rows, 2, None, true)[0].lines().count() == 1
        );
        let short = [row(&["a", PRINT])];
        assert_eq!(fitted(&short, 0, Some(80), true), [format!("a  {PRINT}")]);
    }

    #[test]
    fn colours_do_not_shift_columns() {
        let rows = vec![vec!["\x1b[1mab\x1b[0m".to_owned(), "x".to_owned()], vec!["abcd".to_owned(), "y".to_owned()]];
        assert_eq!(columns(&rows, 1), [" \x1b[1mab\x1b[0m    x", " abcd  y"]);
    }
}
