//! Tables as comma-separated values (RFC 4180): a line of names, lines that end in CR LF, quotes where they are needed.

use std::borrow::Cow;

/// What a spreadsheet takes for the beginning of a formula.
const FORMULA: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

/// A cell that no spreadsheet takes for a formula: what begins like one gets an apostrophe in front.
#[must_use]
pub fn harmless(cell: &str) -> Cow<'_, str> {
    if cell.starts_with(FORMULA) { Cow::Owned(format!("'{cell}")) } else { Cow::Borrowed(cell) }
}

/// Lines of a table.
#[must_use]
pub fn lines(rows: &[Vec<String>]) -> Vec<u8> {
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).flexible(true).from_writer(Vec::new());
    for row in rows {
        let cells = row.iter().map(|cell| harmless(cell).into_owned());
        writer.write_record(cells).expect("memory takes everything");
    }
    writer.into_inner().expect("memory takes everything")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_are_quoted_where_needed_and_begin_no_formula() {
        let row = |cells: &[&str]| cells.iter().map(|cell| (*cell).to_owned()).collect::<Vec<_>>();
        let rows = [row(&["a", "b"]), row(&["say \"x\", y", "two\nlines"]), row(&["=1+1", "-2"]), row(&["@x", "\tx"])];
        let text = String::from_utf8(lines(&rows)).unwrap();
        assert_eq!(text, "a,b\r\n\"say \"\"x\"\", y\",\"two\nlines\"\r\n'=1+1,'-2\r\n'@x,'\tx\r\n");
        assert_eq!(String::from_utf8(lines(&[row(&["\r=x"])])).unwrap(), "\"'\r=x\"\r\n");
    }
}
