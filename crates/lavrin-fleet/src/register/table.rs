//! A table of a register's file as it is read: only what reading asks of it, since there are tens of thousands of them.

use std::borrow::Cow;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// The fields of a table in their order; no two of them have the same name.
#[derive(Debug, Default)]
pub(super) struct RegisterTable<'i>(Vec<RegisterField<'i>>);

/// A field: its name and its value, each with where it stands.
pub(super) type RegisterField<'i> = (Spanned<Cow<'i, str>>, Spanned<RegisterValue<'i>>);

/// What stands in a field.
#[derive(Debug)]
pub(super) enum RegisterValue<'i> {
    Text(Cow<'i, str>),
    List(Vec<Spanned<RegisterValue<'i>>>),
    Table(RegisterTable<'i>),
    /// A number, a date or a word.
    Other(Box<DeValue<'i>>),
}

impl<'i> RegisterTable<'i> {
    /// Takes a field out.
    pub(super) fn take(&mut self, name: &str) -> Option<Spanned<RegisterValue<'i>>> {
        let at = self.0.iter().position(|(field, _)| field.get_ref() == name)?;
        Some(self.0.remove(at).1)
    }

    /// Whether a field is there.
    pub(super) fn has(&self, name: &str) -> bool {
        self.0.iter().any(|(field, _)| field.get_ref() == name)
    }

    /// The field that stands last.
    pub(super) fn last_mut(&mut self) -> Option<&mut RegisterField<'i>> {
        self.0.last_mut()
    }

    /// Adds a field of a new name.
    pub(super) fn push(&mut self, field: RegisterField<'i>) {
        self.0.push(field);
    }

    /// How many fields there are.
    pub(super) fn len(&self) -> usize {
        self.0.len()
    }

    /// The names of the fields.
    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.0.iter().map(|(name, _)| name.get_ref().as_ref())
    }

    /// Every field.
    pub(super) fn into_fields(self) -> Vec<RegisterField<'i>> {
        self.0
    }
}

impl<'i> From<DeTable<'i>> for RegisterTable<'i> {
    fn from(table: DeTable<'i>) -> Self {
        Self(table.into_iter().map(|(name, value)| (name, placed(value))).collect())
    }
}

impl<'i> From<DeValue<'i>> for RegisterValue<'i> {
    fn from(value: DeValue<'i>) -> Self {
        match value {
            DeValue::String(text) => Self::Text(text),
            DeValue::Array(list) => Self::List(list.into_iter().map(placed).collect()),
            DeValue::Table(table) => Self::Table(table.into()),
            other => Self::Other(Box::new(other)),
        }
    }
}

impl<'i> RegisterValue<'i> {
    /// This, where it is a text.
    pub(super) fn as_text(&self) -> Option<&str> {
        if let Self::Text(text) = self { Some(text) } else { None }
    }

    /// This, where it is neither a text, nor a list, nor a table.
    pub(super) fn as_other(&self) -> Option<&DeValue<'i>> {
        if let Self::Other(value) = self { Some(value) } else { None }
    }
}

/// Reads a text by the reader of TOML, with its errors.
pub(super) fn by_toml(text: &str) -> (Spanned<RegisterTable<'_>>, Vec<toml::de::Error>) {
    let (table, errors) = DeTable::parse_recoverable(text);
    (Spanned::new(table.span(), table.into_inner().into()), errors)
}

fn placed(value: Spanned<DeValue<'_>>) -> Spanned<RegisterValue<'_>> {
    Spanned::new(value.span(), value.into_inner().into())
}
