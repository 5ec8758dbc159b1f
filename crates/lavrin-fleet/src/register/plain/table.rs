//! A file of plain fields, `[NAME]` and `[[NAME]]`, as the reader of TOML would give it.

use super::super::SourcePart;
use super::super::table::{RegisterTable, RegisterValue};
use super::{PlainText, lines};
use std::borrow::Cow;
use std::collections::HashSet;
use std::ops::Range;
use toml::Spanned;
use toml::de::DeValue;

/// The table that a part is, where each line of it is plain.
pub(in crate::register) fn table(text: &str) -> Option<Spanned<RegisterTable<'_>>> {
    let mut file = PlainFile::default();
    for line in lines(SourcePart { file: 0, start: 0 }, text) {
        match line.text.strip_prefix('[') {
            Some(_) => file.begin(line)?,
            None if line.text.is_empty() => {}
            None => set(&mut file.open, line)?,
        }
    }
    file.close()?;
    if names_one_twice(&file.whole) {
        return None;
    }
    Some(Spanned::new(0..0, file.whole))
}

/// A file of which some lines were read.
#[derive(Default)]
struct PlainFile<'a> {
    whole: RegisterTable<'a>,
    /// The header of the table whose fields are read, and whether it is one of a list; none before the first.
    header: Option<(PlainText<'a>, bool)>,
    open: RegisterTable<'a>,
    /// Whether the last field of the whole is a list of tables, not one of texts.
    last_is_tables: bool,
}

impl<'a> PlainFile<'a> {
    fn begin(&mut self, line: PlainText<'a>) -> Option<()> {
        self.close()?;
        let is_list = line.text.starts_with("[[");
        self.header = Some((line, is_list));
        Some(())
    }

    /// Puts what was read of a table into the whole.
    fn close(&mut self) -> Option<()> {
        let table = std::mem::take(&mut self.open);
        if names_one_twice(&table) {
            return None;
        }
        let Some((line, is_list)) = self.header else {
            self.whole = table;
            return Some(());
        };
        let brackets = if is_list { 2 } else { 1 };
        let name = line.text.get(brackets..line.text.len().checked_sub(brackets)?)?;
        if !is_name(name) || !line.text[brackets + name.len()..].bytes().all(|byte| byte == b']') {
            return None;
        }
        let key = line.from(brackets, name);
        let table = Spanned::new(span(line), RegisterValue::Table(table));
        if !is_list {
            self.whole.push((text_of(key), table));
            return Some(());
        }
        // The tables of a list stand behind each other; where they do not, it is there twice.
        match self.whole.last_mut().map(|(name, value)| (name.get_ref().as_ref(), value.get_mut())) {
            Some((last, RegisterValue::List(list))) if last == name && self.last_is_tables => list.push(table),
            _ => self.whole.push((text_of(key), Spanned::new(span(line), RegisterValue::List(vec![table])))),
        }
        self.last_is_tables = true;
        Some(())
    }
}

/// Takes one field; `None` where it is not plain, or there for the second time.
fn set<'a>(table: &mut RegisterTable<'a>, line: PlainText<'a>) -> Option<()> {
    let (name, value) = line.field()?;
    let text = |text: PlainText<'a>| Spanned::new(span(text), RegisterValue::Text(text.inner().into()));
    let read = match value.text.as_bytes().first()? {
        b'"' => text(value.string()?),
        b'[' => Spanned::new(span(value), RegisterValue::List(value.strings()?.items().map(text).collect())),
        // Dates, numbers and words: nothing in them has a place of its own.
        byte if byte.is_ascii_alphanumeric() && !value.text.contains(char::is_whitespace) => {
            Spanned::new(span(value), DeValue::parse(value.text).ok()?.into_inner().into())
        }
        _ => return None,
    };
    let key = line.from(0, name);
    is_name(name).then(|| table.push((text_of(key), read)))
}

fn text_of(key: PlainText<'_>) -> Spanned<Cow<'_, str>> {
    Spanned::new(span(key), key.text.into())
}

/// Fields of which each is held against the others; among more a set finds it sooner.
const FEW: usize = 12;

fn names_one_twice(table: &RegisterTable<'_>) -> bool {
    if table.len() > FEW {
        let mut names = HashSet::with_capacity(table.len());
        return !table.names().all(|name| names.insert(name));
    }
    table.names().enumerate().any(|(before, name)| table.names().take(before).any(|other| other == name))
}

/// A bare key of TOML without a dot.
fn is_name(name: &str) -> bool {
    !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte))
}

fn span(text: PlainText<'_>) -> Range<usize> {
    text.at..text.at + text.text.len()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use toml::de::DeTable;

    fn by_toml(table: Spanned<DeTable<'_>>) -> String {
        format!("{:?}", Spanned::new(table.span(), RegisterTable::from(table.into_inner())))
    }

    fn field() -> impl Strategy<Value = String> {
        let text = "\"[ab*, =#.\\\\\u{7f}é]{0,4}\"";
        let list = prop::collection::vec("\"[ab, ]{0,3}\"", 0..3).prop_map(|all| format!("[{}]", all.join(", ")));
        let other = "(20[0-9]{2}-[01][0-9]-[0-3][0-9]|[0-9_+]{1,3}|true|false|nan|0x1|1e1|[a-z]|'x')( |)";
        let value =
            prop_oneof![3 => text.prop_map(|text: String| text), 2 => list, 2 => other.prop_map(|other: String| other)];
        ("([abc]|a\\.b|\"a\"|é|)", value, "(||||\r| # x)")
            .prop_map(|(name, value, end)| format!("{name} = {value}{end}\n"))
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 6000, ..ProptestConfig::default() })]
        #[test]
        fn what_is_read_plainly_is_what_toml_says(
            before in prop::collection::vec(field(), 0..2),
            tables in prop::collection::vec(("\\[{1,2}[abcd](\\.x|)\\]{1,2}", "(\n|)", prop::collection::vec(field(), 0..3)), 0..5),
            end in "(\n|)",
        ) {
            let mut text = before.concat();
            for (header, blank, fields) in tables {
                text += &format!("{header}\n{blank}{}", fields.concat());
            }
            let text = text.trim_end_matches('\n').to_owned() + &end;
            if let Some(plain) = table(&text) {
                let (read, errors) = DeTable::parse_recoverable(&text);
                prop_assert!(errors.is_empty(), "{text}: {errors:?}");
                prop_assert_eq!(format!("{plain:?}"), by_toml(read), "{}", text);
            }
        }
    }

    #[test]
    fn what_the_program_itself_writes_is_plain() {
        let texts = [
            "name = \"Edda\"\nteam = \"lights\"\nsince = 2026-01-31\n\n[[key]]\nlabel = \"main\"\n\n[[key]]\nlabel = \"old\"\n",
            "[lantern]\naddress = \"192.0.2.1\"\nport = 2222\ntags = [\"a\", \"b\"]\ncomplete = true\n\n[skerry]\naccounts = [\"keeper\"]",
            "",
        ];
        for text in texts {
            let plain = table(text).unwrap();
            assert_eq!(format!("{plain:?}"), by_toml(DeTable::parse_recoverable(text).0));
        }
        for odd in [
            "x = 1\nx = 2",
            "[a]\n[a]",
            "a = 1\n[[a]]",
            "[[a]]\n[a]",
            "[a.b]",
            "x = {}",
            "x = [1]",
            "x = \"\\u0041\"",
            "x = 1 # one",
            "[ a ]",
            "[a]]",
        ] {
            assert!(table(odd).is_none(), "{odd}");
        }
    }
}
