//! Columns that line up.

/// Rows of cells as lines; every column is as wide as its widest cell, the last one is left as it is.
pub fn columns(rows: &[Vec<String>], indent: usize) -> Vec<String> {
    let count = rows.iter().map(Vec::len).max().unwrap_or(0);
    let widths: Vec<usize> = (0..count)
        .map(|column| rows.iter().filter_map(|row| row.get(column)).map(|cell| width(cell)).max().unwrap_or(0))
        .collect();
    let line = |row: &Vec<String>| {
        let mut text = " ".repeat(indent);
        for (column, cell) in row.iter().enumerate() {
            text += cell;
            if column + 1 < row.len() {
                text += &" ".repeat(widths[column] + 2 - width(cell));
            }
        }
        text.trim_end().to_owned()
    };
    rows.iter().map(line).collect()
}

/// Characters without the colour codes around them.
fn width(cell: &str) -> usize {
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
