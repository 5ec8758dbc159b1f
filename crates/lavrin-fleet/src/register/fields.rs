//! Taking the fields out of a table: each fault is written down at its place, and reading goes on.

use super::SourcePart;
use super::fault::FieldKind;
use super::table::{RegisterField, RegisterTable, RegisterValue};
use super::{Date, Placed, RegisterFault, RegisterPlace};
use lavrin_keys::text::printable;
use std::borrow::Cow;
use toml::Spanned;
use toml::de::DeValue;

/// Faults found while reading, each with whom or what it is about.
pub(super) type Faults = Vec<(RegisterFault, RegisterPlace, String)>;

/// A table that is being read; what is left in the end is unknown.
pub(super) struct Fields<'a, 'i> {
    source: SourcePart,
    about: &'a str,
    place: RegisterPlace,
    table: RegisterTable<'i>,
    known: Vec<&'static str>,
    faults: &'a mut Faults,
}

/// No table that is read very often has more fields.
const KNOWN_USUAL: usize = 32;

/// Fields whose texts may have more than one line, or none that is shown.
const MAY_HAVE_LINES: [&str; 4] = ["way_back", "line", "host_keys", "send"];

impl<'a, 'i> Fields<'a, 'i> {
    pub(super) fn new(
        source: SourcePart,
        about: &'a str,
        table: Spanned<RegisterTable<'i>>,
        faults: &'a mut Faults,
    ) -> Self {
        let place = source.place(table.span());
        Self { source, about, place, table: table.into_inner(), known: Vec::with_capacity(KNOWN_USUAL), faults }
    }

    pub(super) fn place(&self) -> RegisterPlace {
        self.place
    }

    pub(super) fn fault(&mut self, fault: RegisterFault, place: RegisterPlace) {
        self.faults.push((fault, place, self.about.to_owned()));
    }

    fn take(&mut self, name: &'static str) -> Option<Spanned<RegisterValue<'i>>> {
        self.known.push(name);
        self.table.take(name)
    }

    fn wrong<T>(&mut self, name: &str, wanted: FieldKind, value: &Spanned<RegisterValue<'i>>) -> Option<T> {
        let place = self.source.place(value.span());
        self.fault(RegisterFault::WrongKind { name: name.to_owned(), wanted }, place);
        None
    }

    pub(super) fn text(&mut self, name: &'static str) -> Option<Placed<String>> {
        let value = self.take(name)?;
        self.as_text(name, value)
    }

    fn as_text(&mut self, name: &str, value: Spanned<RegisterValue<'i>>) -> Option<Placed<String>> {
        let place = self.source.place(value.span());
        match value.get_ref() {
            RegisterValue::Text(text) if text.contains(char::is_control) && !MAY_HAVE_LINES.contains(&name) => {
                let fault = RegisterFault::BadValue { name: name.to_owned(), wanted: FieldKind::OneLine };
                self.fault(fault, place);
                // Written out it fits nothing and cannot draw lines of its own in what is shown.
                Some(Placed { value: printable(text.as_bytes()), place })
            }
            RegisterValue::Text(text) => Some(Placed { value: text.to_string(), place }),
            _ => self.wrong(name, FieldKind::Text, &value),
        }
    }

    pub(super) fn needed_text(&mut self, name: &'static str) -> Option<Placed<String>> {
        if !self.table.has(name) {
            self.fault(RegisterFault::MissingField { name }, self.place.begin());
        }
        self.text(name)
    }

    /// A text, or a list of texts.
    pub(super) fn texts(&mut self, name: &'static str) -> Vec<Placed<String>> {
        let Some(value) = self.take(name) else { return Vec::new() };
        let span = value.span();
        let mut texts: Vec<Placed<String>> = match value.into_inner() {
            RegisterValue::List(list) => list.into_iter().filter_map(|value| self.as_text(name, value)).collect(),
            value => self.as_text(name, Spanned::new(span, value)).into_iter().collect(),
        };
        // Very many grants have one host.
        texts.shrink_to_fit();
        texts
    }

    pub(super) fn number(&mut self, name: &'static str, range: std::ops::RangeInclusive<i64>) -> Option<i64> {
        let value = self.take(name)?;
        let number = value
            .get_ref()
            .as_other()
            .and_then(DeValue::as_integer)
            .and_then(|number| i64::from_str_radix(number.as_str(), number.radix()).ok());
        match number {
            Some(number) if range.contains(&number) => Some(number),
            _ => self.wrong(name, FieldKind::Number, &value),
        }
    }

    /// A date of TOML, or a text that holds one.
    pub(super) fn date(&mut self, name: &'static str) -> Option<Placed<Date>> {
        let value = self.take(name)?;
        let text: Cow<'_, str> = match value.get_ref() {
            RegisterValue::Text(text) => text.as_ref().to_owned().into(),
            other => {
                other.as_other().and_then(DeValue::as_datetime).map(ToString::to_string).unwrap_or_default().into()
            }
        };
        match Date::parse(&text) {
            Some(date) => Some(Placed { value: date, place: self.source.place(value.span()) }),
            None => self.wrong(name, FieldKind::Date, &value),
        }
    }

    /// `true` or `false`; without it false.
    pub(super) fn flag(&mut self, name: &'static str) -> bool {
        let Some(value) = self.take(name) else { return false };
        let flag = value.get_ref().as_other().and_then(DeValue::as_bool);
        flag.unwrap_or_else(|| self.wrong(name, FieldKind::Flag, &value).unwrap_or_default())
    }

    /// One of several words.
    pub(super) fn word<T: Copy>(&mut self, name: &'static str, words: &[(&str, T)], wanted: FieldKind) -> Option<T> {
        let text = self.text(name)?;
        let found = words.iter().find(|(word, _)| *word == text.value);
        if found.is_none() {
            self.fault(RegisterFault::BadValue { name: name.to_owned(), wanted }, text.place);
        }
        found.map(|(_, value)| *value)
    }

    pub(super) fn table(&mut self, name: &'static str) -> Option<Spanned<RegisterTable<'i>>> {
        let value = self.take(name)?;
        let span = value.span();
        match value.into_inner() {
            RegisterValue::Table(table) => Some(Spanned::new(span, table)),
            other => self.wrong(name, FieldKind::Table, &Spanned::new(span, other)),
        }
    }

    /// Tables in double brackets.
    pub(super) fn tables(&mut self, name: &'static str) -> Vec<Spanned<RegisterTable<'i>>> {
        self.numbered_tables(name).into_iter().map(|(_, table)| table).collect()
    }

    /// The tables of a list, each with its number in it, counted from 1; what is no table counts too.
    pub(super) fn numbered_tables(&mut self, name: &'static str) -> Vec<(u32, Spanned<RegisterTable<'i>>)> {
        let Some(value) = self.take(name) else { return Vec::new() };
        let span = value.span();
        let RegisterValue::List(list) = value.into_inner() else {
            let place = self.source.place(span);
            self.fault(RegisterFault::WrongKind { name: name.to_owned(), wanted: FieldKind::Tables }, place);
            return Vec::new();
        };
        let mut tables = Vec::new();
        for (value, number) in list.into_iter().zip(1..) {
            let span = value.span();
            match value.into_inner() {
                RegisterValue::Table(table) => tables.push((number, Spanned::new(span, table))),
                other => drop(self.wrong::<()>(name, FieldKind::Table, &Spanned::new(span, other))),
            }
        }
        tables
    }

    /// Everything that is left, by its name.
    fn rest(&mut self) -> Vec<RegisterField<'i>> {
        std::mem::take(&mut self.table).into_fields()
    }

    pub(super) fn faults(&mut self) -> &mut Faults {
        self.faults
    }

    /// Names what nobody asked for.
    pub(super) fn end(mut self) {
        #[cfg(test)]
        RECORDED.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push(self.known.clone());
        for (name, _) in self.rest() {
            let near = self.known.iter().find(|known| is_near(known, name.get_ref())).copied();
            let fault = RegisterFault::UnknownField { name: name.get_ref().to_string(), near };
            self.fault(fault, self.source.place(name.span()));
        }
    }
}

/// What was asked of each table that was read: for the test that holds the description of the register against its reader.
#[cfg(test)]
static RECORDED: std::sync::Mutex<Vec<Vec<&'static str>>> = std::sync::Mutex::new(Vec::new());

#[cfg(test)]
pub(super) fn recorded() -> Vec<Vec<&'static str>> {
    RECORDED.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone()
}

/// The first of these names that is nearly this one, as a slip of the finger would make it.
pub fn near<'a>(name: &str, among: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    among.into_iter().find(|other| *other != name && is_near(other, name))
}

/// Whether two names differ by one letter, or by one that stands elsewhere.
pub(super) fn is_near(one: &str, other: &str) -> bool {
    let (one, other) = (one.as_bytes(), other.as_bytes());
    let same_start = one.iter().zip(other).take_while(|(a, b)| a == b).count();
    let (one, other) = (&one[same_start..], &other[same_start..]);
    let same_end = one.iter().rev().zip(other.iter().rev()).take_while(|(a, b)| a == b).count();
    let (one, other) = (&one[..one.len() - same_end], &other[..other.len() - same_end]);
    match (one, other) {
        ([_] | [], [_] | []) => true,
        ([a, b], [c, d]) => a == d && b == c,
        _ => false,
    }
}
