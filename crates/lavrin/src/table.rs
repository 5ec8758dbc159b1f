//! Columns that line up.

/// Rows of cells as lines; every column is as wide as its widest cell, the last one is left as it is.
pub fn columns(rows: &[Vec<String>], indent: usize) -> Vec<String> {
    let mut widths = Vec::new();
    widen(&mut widths, rows);
    rows.iter().map(|row| line(row, &widths, indent)).collect()
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
    use super::columns;

    #[test]
    fn colours_do_not_shift_columns() {
        let rows = vec![vec!["\x1b[1mab\x1b[0m".to_owned(), "x".to_owned()], vec!["abcd".to_owned(), "y".to_owned()]];
        assert_eq!(columns(&rows, 1), [" \x1b[1mab\x1b[0m    x", " abcd  y"]);
    }
}
