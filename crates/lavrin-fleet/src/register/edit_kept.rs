//! Edits by command in the file of a kept key: versions, for whom they are sealed, hand-outs.

use super::Date;
use super::edit::{EditFault, appended, day, document, list, set};
use toml_edit::{Item, Table, value};

/// What a new version holds.
#[derive(Debug, Clone)]
pub struct NewVersion<'a> {
    /// Its number.
    pub version: u32,
    /// The public line.
    pub line: &'a str,
    /// Since when it is known.
    pub added: Date,
    /// For whom it is sealed.
    pub sealed_for: &'a [String],
    /// When it opened the account, where that was shown already.
    pub proven: Option<Date>,
}

/// What stands in front of the key, at the top of a new file.
///
/// # Errors
/// [`EditFault`].
pub fn begin(options: &[String]) -> Result<String, EditFault> {
    let mut table = Table::new();
    if !options.is_empty() {
        table.insert("options", list(options));
    }
    document(&table.to_string()).map(|document| document.to_string())
}

/// Adds a version.
///
/// # Errors
/// [`EditFault`].
pub fn add_version(text: &str, new: &NewVersion<'_>) -> Result<String, EditFault> {
    let mut table = Table::new();
    table.insert("version", value(i64::from(new.version)));
    table.insert("line", value(new.line));
    table.insert("added", day(new.added));
    table.insert("sealed_for", list(new.sealed_for));
    if let Some(proven) = new.proven {
        table.insert("proven", day(proven));
    }
    appended(text, "[[key]]", &table)
}

/// Adds a hand-out.
///
/// # Errors
/// [`EditFault`].
pub fn add_hand_out(
    text: &str,
    version: u32,
    person: &str,
    on: Date,
    reason: Option<&str>,
) -> Result<String, EditFault> {
    let mut table = Table::new();
    table.insert("version", value(i64::from(version)));
    table.insert("person", value(person));
    table.insert("day", day(on));
    if let Some(reason) = reason {
        table.insert("reason", value(reason));
    }
    appended(text, "[[hand_out]]", &table)
}

/// Sets a day of a version: `proven` or `retired`.
///
/// # Errors
/// [`EditFault`].
pub fn set_day(text: &str, version: u32, name: &str, on: Date) -> Result<String, EditFault> {
    set_field(text, version, name, day(on))
}

/// Sets for whom a version was ever sealed.
///
/// # Errors
/// [`EditFault`].
pub fn set_sealed_for(text: &str, version: u32, people: &[String]) -> Result<String, EditFault> {
    set_field(text, version, "sealed_for", list(people))
}

/// Names the administrators in the main file.
///
/// # Errors
/// [`EditFault`].
pub fn set_administrators(text: &str, people: &[String]) -> Result<String, EditFault> {
    let mut document = document(text)?;
    match document.get_mut("kept") {
        Some(Item::Table(table)) => set(table, "administrators", Some(list(people))),
        Some(_) => return Err(EditFault::WrongKind("kept")),
        None => {
            let mut table = Table::new();
            table.insert("administrators", list(people));
            return appended(text, "[kept]", &table);
        }
    }
    Ok(document.to_string())
}

/// Puts another name in place of a person's in the file of a kept key, or in the main file, wherever either names people.
///
/// # Errors
/// [`EditFault`].
pub fn rename_person(text: &str, old: &str, new: &str) -> Result<String, EditFault> {
    let mut document = document(text)?;
    let in_list = |item: Option<&mut Item>| {
        for word in item.and_then(Item::as_array_mut).into_iter().flat_map(toml_edit::Array::iter_mut) {
            if word.as_str() == Some(old) {
                let decor = word.decor().clone();
                *word = new.into();
                *word.decor_mut() = decor;
            }
        }
    };
    in_list(document.get_mut("kept").and_then(Item::as_table_mut).and_then(|kept| kept.get_mut("administrators")));
    let mut tables = |name: &str, change: &dyn Fn(&mut Table)| {
        let tables = document.get_mut(name).and_then(Item::as_array_of_tables_mut);
        tables.into_iter().flat_map(toml_edit::ArrayOfTables::iter_mut).for_each(change);
    };
    tables("key", &|key| in_list(key.get_mut("sealed_for")));
    tables("hand_out", &|one| {
        if one.get("person").and_then(Item::as_str) == Some(old) {
            set(one, "person", Some(value(new)));
        }
    });
    Ok(document.to_string())
}

fn set_field(text: &str, version: u32, name: &str, new: Item) -> Result<String, EditFault> {
    let mut document = document(text)?;
    let keys = document.get_mut("key").and_then(Item::as_array_of_tables_mut);
    let is_it = |key: &Table| key.get("version").and_then(Item::as_integer) == Some(i64::from(version));
    let key = keys.and_then(|keys| keys.iter_mut().find(|key| is_it(key)));
    set(key.ok_or(EditFault::WrongKind("version"))?, name, Some(new));
    Ok(document.to_string())
}
