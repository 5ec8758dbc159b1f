//! Edits by command: the text of a file in, the text with what was asked changed out. Comments, order and everything else
//! stay as they are.

use super::Date;
use toml::de::DeTable;
use toml_edit::{Array, DocumentMut, Item, Table, Value, value};

/// Why a file could not be edited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EditFault {
    /// It is no TOML.
    Syntax(String),
    /// A field holds something else than it should.
    WrongKind(&'static str),
}

/// What a new key entry holds.
#[derive(Debug, Clone)]
pub struct NewKey<'a> {
    /// What its owner calls it.
    pub label: &'a str,
    /// The public line.
    pub line: &'a str,
    /// What it is for.
    pub purpose: &'a str,
    /// Since when it is known.
    pub added: Date,
    /// The label of the key that it replaces.
    pub replaces: Option<&'a str>,
    /// For a key of a host: the account that it belongs to, and where its private half lies.
    pub machine: Option<(&'a str, Option<&'a str>)>,
}

/// What a new grant holds. Empty fields are left out.
#[derive(Debug, Clone, Default)]
pub struct NewGrant<'a> {
    /// `person`, `team` or `machine`.
    pub kind: &'static str,
    /// Who.
    pub whom: &'a str,
    /// Only with this key.
    pub key: Option<&'a str>,
    /// Which account.
    pub account: &'a str,
    /// On these hosts.
    pub hosts: &'a [String],
    /// On hosts with these tags.
    pub tags: &'a [String],
    /// Until the end of this day.
    pub until: Option<Date>,
    /// From these addresses only.
    pub from: Option<&'a str>,
    /// For this command only.
    pub command: Option<&'a str>,
    /// Further options.
    pub options: &'a [String],
    /// The account is made where it is not there.
    pub create: bool,
    /// The groups that it is put into then.
    pub groups: &'a [String],
    /// Its shell then.
    pub shell: Option<&'a str>,
    /// Its home then.
    pub home: Option<&'a str>,
    /// Why.
    pub reason: Option<&'a str>,
}

/// What a new removal that is owed holds.
#[derive(Debug, Clone)]
pub struct NewOwed<'a> {
    /// The key, by its fingerprint.
    pub key: &'a str,
    /// Whose it is.
    pub person: Option<&'a str>,
    /// The account.
    pub account: &'a str,
    /// The host.
    pub host: &'a str,
    /// Since when.
    pub since: Date,
}

pub(super) fn document(text: &str) -> Result<DocumentMut, EditFault> {
    text.parse().map_err(|fault: toml_edit::TomlError| EditFault::Syntax(fault.message().to_owned()))
}

pub(super) fn day(date: Date) -> Item {
    // A date of TOML's own, without quotes.
    date.to_string().parse::<Value>().map_or_else(|_| value(date.to_string()), Item::Value)
}

pub(super) fn list(values: &[String]) -> Item {
    value(values.iter().collect::<Array>())
}

/// Sets one field at the top of a file to a text; `None` takes it out.
///
/// # Errors
/// [`EditFault`].
pub fn set_text(text: &str, name: &str, new: Option<&str>) -> Result<String, EditFault> {
    let mut document = document(text)?;
    set(document.as_table_mut(), name, new.map(value));
    Ok(document.to_string())
}

/// Sets one field at the top of a file to a date.
///
/// # Errors
/// [`EditFault`].
pub fn set_date(text: &str, name: &str, new: Date) -> Result<String, EditFault> {
    let mut document = document(text)?;
    set(document.as_table_mut(), name, Some(day(new)));
    Ok(document.to_string())
}

/// Names the place of the memory in the main file; `None` takes it out, so that it is the file on this machine again.
///
/// # Errors
/// [`EditFault`].
pub fn set_store_url(text: &str, url: Option<&str>) -> Result<String, EditFault> {
    let mut document = document(text)?;
    match (document.get_mut("store"), url) {
        (Some(Item::Table(table)), url) => set(table, "url", url.map(value)),
        (Some(_), _) => return Err(EditFault::WrongKind("store")),
        (None, None) => {}
        (None, Some(url)) => {
            let mut table = Table::new();
            table.insert("url", value(url));
            return appended(text, "[store]", &table);
        }
    }
    if document.get("store").and_then(Item::as_table).is_some_and(Table::is_empty) {
        document.remove("store");
    }
    Ok(document.to_string())
}

/// Puts a value in place of another one, whose blanks and comment stay.
pub(super) fn set(table: &mut Table, name: &str, new: Option<Item>) {
    let Some(mut new) = new else {
        table.remove(name);
        return;
    };
    let decor = table.get(name).and_then(Item::as_value).map(|value| value.decor().clone());
    if let (Some(decor), Some(value)) = (decor, new.as_value_mut()) {
        *value.decor_mut() = decor;
    }
    table.insert(name, new);
}

/// The text with a table behind its end, so that nothing that is there moves.
pub(super) fn appended(text: &str, header: &str, table: &Table) -> Result<String, EditFault> {
    let gap = match text {
        "" => "",
        text if text.ends_with('\n') => "\n",
        _ => "\n\n",
    };
    let new = format!("{text}{gap}{header}\n{table}");
    document(&new).map(|_| new)
}

/// Adds a key to the file of a person or of one host, or to a host in the file of all hosts (`host`).
///
/// # Errors
/// [`EditFault`].
pub fn add_key(text: &str, host: Option<&str>, key: &NewKey<'_>) -> Result<String, EditFault> {
    let mut table = Table::new();
    table.insert("label", value(key.label));
    table.insert("line", value(key.line));
    table.insert("purpose", value(key.purpose));
    table.insert("added", day(key.added));
    if let Some(replaces) = key.replaces {
        table.insert("replaces", value(replaces));
    }
    if let Some((account, file)) = key.machine {
        table.insert("account", value(account));
        file.map(|file| table.insert("file", value(file)));
    }
    let header = host
        .map_or_else(|| "[[key]]".to_owned(), |host| format!("[[{}.key]]", toml_edit::Key::new(host).display_repr()));
    appended(text, &header, &table)
}

/// Adds a grant.
///
/// # Errors
/// [`EditFault`].
pub fn add_grant(text: &str, grant: &NewGrant<'_>) -> Result<String, EditFault> {
    let mut table = Table::new();
    let mut put = |name: &str, item: Option<Item>| drop(item.map(|item| table.insert(name, item)));
    put(grant.kind, Some(value(grant.whom)));
    put("key", grant.key.map(value));
    put("account", Some(value(grant.account)));
    put("hosts", (!grant.hosts.is_empty()).then(|| list(grant.hosts)));
    put("tags", (!grant.tags.is_empty()).then(|| list(grant.tags)));
    put("until", grant.until.map(day));
    put("from", grant.from.map(value));
    put("command", grant.command.map(value));
    put("options", (!grant.options.is_empty()).then(|| list(grant.options)));
    put("create", grant.create.then(|| toml_edit::value(true)));
    put("groups", (!grant.groups.is_empty()).then(|| list(grant.groups)));
    put("shell", grant.shell.map(value));
    put("home", grant.home.map(value));
    put("reason", grant.reason.map(value));
    appended(text, "[[grant]]", &table)
}

/// Changes fields of the grant with this number, counted from 1 in the order of the file: those of `grant` that say something.
///
/// # Errors
/// [`EditFault`].
pub fn set_grant(text: &str, number: u32, grant: &NewGrant<'_>) -> Result<String, EditFault> {
    let mut document = document(text)?;
    let tables = document.get_mut("grant").and_then(Item::as_array_of_tables_mut);
    let place = at(number);
    let table = tables.and_then(|tables| tables.get_mut(place)).ok_or(EditFault::WrongKind("grant"))?;
    let mut put = |name: &str, item: Option<Item>| {
        if item.is_some() {
            set(table, name, item);
        }
    };
    put("until", grant.until.map(day));
    put("from", grant.from.map(value));
    put("command", grant.command.map(value));
    put("options", (!grant.options.is_empty()).then(|| list(grant.options)));
    put("create", grant.create.then(|| toml_edit::value(true)));
    put("groups", (!grant.groups.is_empty()).then(|| list(grant.groups)));
    put("shell", grant.shell.map(value));
    put("home", grant.home.map(value));
    put("reason", grant.reason.map(value));
    Ok(document.to_string())
}

/// Names another key in the grant with this number, counted from 1.
///
/// # Errors
/// [`EditFault`].
pub fn set_grant_key(text: &str, number: u32, label: &str) -> Result<String, EditFault> {
    let mut document = document(text)?;
    let tables = document.get_mut("grant").and_then(Item::as_array_of_tables_mut);
    let place = at(number);
    let table = tables.and_then(|tables| tables.get_mut(place)).ok_or(EditFault::WrongKind("grant"))?;
    set(table, "key", Some(value(label)));
    Ok(document.to_string())
}

/// Takes out the grants with these numbers, counted from 1 in the order of the file: their lines from the header to the
/// last value. Comments above and below stay.
///
/// # Errors
/// [`EditFault`].
pub fn remove_grants(text: &str, numbers: &[u32]) -> Result<String, EditFault> {
    remove_tables(text, "grant", numbers)
}

/// Takes out removals that are not owed any more, with these numbers, in the same way.
///
/// # Errors
/// [`EditFault`].
pub fn remove_owed(text: &str, numbers: &[u32]) -> Result<String, EditFault> {
    remove_tables(text, "removal", numbers)
}

/// Adds a removal that is owed.
///
/// # Errors
/// [`EditFault`].
pub fn add_owed(text: &str, owed: &NewOwed<'_>) -> Result<String, EditFault> {
    let mut table = Table::new();
    table.insert("key", value(owed.key));
    if let Some(person) = owed.person {
        table.insert("person", value(person));
    }
    table.insert("account", value(owed.account));
    table.insert("host", value(owed.host));
    table.insert("since", day(owed.since));
    appended(text, "[[removal]]", &table)
}

/// Where a number counted from 1 stands in a list; 0 stands nowhere.
fn at(number: u32) -> usize {
    number.checked_sub(1).map_or(usize::MAX, |at| at as usize)
}

fn remove_tables(text: &str, name: &'static str, numbers: &[u32]) -> Result<String, EditFault> {
    let table = DeTable::parse(text).map_err(|fault| EditFault::Syntax(fault.message().to_owned()))?;
    let grants = table.get_ref().get(name).and_then(|grants| grants.get_ref().as_array());
    let grants = grants.ok_or(EditFault::WrongKind(name))?;
    let mut kept = text.to_owned();
    for number in numbers.iter().rev() {
        let grant = grants.get(at(*number)).ok_or(EditFault::WrongKind(name))?;
        let fields = grant.get_ref().as_table().ok_or(EditFault::WrongKind(name))?;
        let last = fields.iter().map(|(_, value)| value.span().end).max().unwrap_or(grant.span().end);
        let begin = text[..grant.span().start].rfind('\n').map_or(0, |at| at + 1);
        let end = text[last..].find('\n').map_or(text.len(), |at| last + at + 1);
        // The blank line that parted it from the one above goes along.
        let begin = if text[..begin].ends_with("\n\n") { begin - 1 } else { begin };
        kept.replace_range(begin..end, "");
    }
    document(&kept).map(|_| kept)
}

/// Adds a host to the file of all hosts.
///
/// # Errors
/// [`EditFault`].
pub fn add_host(text: &str, id: &str, fields: &[(&str, HostField<'_>)]) -> Result<String, EditFault> {
    let mut table = Table::new();
    for (name, field) in fields {
        table.insert(name, field.item());
    }
    let header = format!("[{}]", toml_edit::Key::new(id).display_repr());
    appended(text, &header, &table)
}

/// Sets one field of a host, in the file of all hosts (`id`) or in a file of its own (`None`).
///
/// # Errors
/// [`EditFault`].
pub fn set_host(text: &str, id: Option<&str>, name: &str, field: &HostField<'_>) -> Result<String, EditFault> {
    let mut document = document(text)?;
    let table = match id {
        None => Some(document.as_table_mut()),
        Some(id) => document.get_mut(id).and_then(Item::as_table_mut),
    };
    set(table.ok_or(EditFault::WrongKind("host"))?, name, Some(field.item()));
    Ok(document.to_string())
}

/// Takes a host out of the file of all hosts: its table from the header to the last value. Comments above and below stay.
///
/// # Errors
/// [`EditFault`].
pub fn remove_host(text: &str, id: &str) -> Result<String, EditFault> {
    let mut document = document(text)?;
    document.remove(id).map(|_| document.to_string()).ok_or(EditFault::WrongKind("host"))
}

/// Gives a host in the file of all hosts another name.
///
/// # Errors
/// [`EditFault`].
pub fn rename_host(text: &str, id: &str, new: &str) -> Result<String, EditFault> {
    let mut document = document(text)?;
    let is_table = document.get(id).is_some_and(Item::is_table);
    let item = document.remove(id).filter(|_| is_table).ok_or(EditFault::WrongKind("host"))?;
    document.insert(new, item);
    Ok(document.to_string())
}

/// Puts another name in place of one wherever a field of the grants says it: `person`, `team`, the host behind a machine, or a
/// name in `hosts`.
///
/// # Errors
/// [`EditFault`].
pub fn rename_in_grants(text: &str, field: &str, old: &str, new: &str) -> Result<String, EditFault> {
    let mut document = document(text)?;
    let Some(grants) = document.get_mut("grant").and_then(Item::as_array_of_tables_mut) else {
        return Ok(text.to_owned());
    };
    for grant in grants.iter_mut() {
        match grant.get_mut(field) {
            Some(Item::Value(Value::String(word))) => {
                let changed = match (field, word.value().rsplit_once('@')) {
                    ("machine", Some((account, host))) if host == old => Some(format!("{account}@{new}")),
                    _ => (word.value() == old).then(|| new.to_owned()),
                };
                if let Some(changed) = changed {
                    let decor = word.decor().clone();
                    *word = toml_edit::Formatted::new(changed);
                    *word.decor_mut() = decor;
                }
            }
            Some(Item::Value(Value::Array(list))) => {
                for word in list.iter_mut().filter(|word| word.as_str() == Some(old)) {
                    let decor = word.decor().clone();
                    *word = new.into();
                    *word.decor_mut() = decor;
                }
            }
            _ => {}
        }
    }
    Ok(document.to_string())
}

/// Sets one field of the key with this label, in the file of a person or of one host, or of a host in the file of all hosts
/// (`host`).
///
/// # Errors
/// [`EditFault`].
pub fn set_key(
    text: &str,
    host: Option<&str>,
    label: &str,
    name: &str,
    new: &KeyField<'_>,
) -> Result<String, EditFault> {
    let mut document = document(text)?;
    let owner = match host {
        None => Some(document.as_table_mut()),
        Some(host) => document.get_mut(host).and_then(Item::as_table_mut),
    };
    let keys = owner.and_then(|owner| owner.get_mut("key")).and_then(Item::as_array_of_tables_mut);
    let key = keys.and_then(|keys| keys.iter_mut().find(|key| key.get("label").and_then(Item::as_str) == Some(label)));
    let item = match new {
        KeyField::Text(text) => value(*text),
        KeyField::Day(date) => day(*date),
    };
    set(key.ok_or(EditFault::WrongKind("key"))?, name, Some(item));
    Ok(document.to_string())
}

/// A value of a key's field.
#[derive(Debug, Clone, Copy)]
pub enum KeyField<'a> {
    /// A text.
    Text(&'a str),
    /// A date.
    Day(Date),
}

/// A value of a host's field.
#[derive(Debug, Clone)]
pub enum HostField<'a> {
    /// A text.
    Text(&'a str),
    /// A number.
    Number(i64),
    /// Several texts.
    List(&'a [String]),
    /// A date.
    Day(Date),
}

impl HostField<'_> {
    fn item(&self) -> Item {
        match self {
            Self::Text(text) => value(*text),
            Self::Number(number) => value(*number),
            Self::List(texts) => list(texts),
            Self::Day(date) => day(*date),
        }
    }
}
