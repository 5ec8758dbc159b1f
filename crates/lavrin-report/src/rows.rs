//! Rows: a result as a list of equal, flat objects, which is what tables and lines of JSON are made of.

use serde::Serialize;
use serde_json::Value;

/// A flat object. Its fields are the columns of a table, in their order.
pub trait TableRow: Serialize {
    /// The names of its fields.
    const COLUMNS: &'static [&'static str];
}

/// The cells of a row. A list is one cell, its parts kept apart by `; `.
#[must_use]
pub fn cells<R: TableRow>(row: &R) -> Vec<String> {
    let value = serde_json::to_value(row).expect("rows have only text keys");
    R::COLUMNS.iter().map(|column| value.get(column).map(cell).unwrap_or_default()).collect()
}

fn cell(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        Value::Array(parts) => parts.iter().map(cell).collect::<Vec<_>>().join("; "),
        other => other.to_string(),
    }
}

/// The names of the columns.
#[must_use]
pub fn names<R: TableRow>() -> Vec<String> {
    R::COLUMNS.iter().map(|name| (*name).to_owned()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Serialize)]
    struct Lamp {
        name: &'static str,
        seen: Option<i64>,
        tags: Vec<&'static str>,
        lit: bool,
    }

    impl TableRow for Lamp {
        const COLUMNS: &'static [&'static str] = &["name", "lit", "seen", "tags"];
    }

    #[test]
    fn cells_come_in_the_order_of_the_columns() {
        let lamp = Lamp { name: "north", seen: None, tags: vec!["pier", "red"], lit: true };
        assert_eq!(cells(&lamp), ["north", "true", "", "pier; red"]);
        assert_eq!(names::<Lamp>(), ["name", "lit", "seen", "tags"]);
    }
}
