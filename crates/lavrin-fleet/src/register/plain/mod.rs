//! What is written in the plainest way, as nearly everything of a large register is: one field a line, texts without escapes. It is
//! read much sooner than by the reader of TOML. Whatever is written in another way makes the whole part one for that reader, which
//! alone decides what is right there.

mod grants;
mod table;

use super::{Date, Placed, RegisterPlace, SourcePart};
pub(super) use grants::grants;
pub(super) use table::table;

/// The lines of a part.
fn lines(source: SourcePart, text: &str) -> impl Iterator<Item = PlainText<'_>> {
    let is_simple = text.bytes().fold(true, |simple, byte| simple & (byte == b'\n' || !is_odd(byte)));
    let mut at = 0;
    let last = (!text.ends_with('\n')).then_some(text.len());
    memchr::memchr_iter(b'\n', text.as_bytes()).chain(last).map(move |end| {
        let line = PlainText { source, at, is_simple, text: text.get(at..end).unwrap_or_default() };
        at = end + 1;
        line
    })
}

/// What may mean more in a text than it looks.
fn is_odd(byte: u8) -> bool {
    matches!(byte, b'\\' | 0..=0x1f | 0x7f..)
}

fn plain_date(text: &str) -> Option<Date> {
    let is_plain = text
        .bytes()
        .enumerate()
        .all(|(at, byte)| if at == 4 || at == 7 { byte == b'-' } else { byte.is_ascii_digit() });
    Date::parse(text).filter(|_| is_plain && text.len() == 10)
}

/// A text and where it stands in the part.
#[derive(Clone, Copy)]
struct PlainText<'a> {
    source: SourcePart,
    at: usize,
    text: &'a str,
    /// Whether nothing in the whole part is odd: then each text need not be looked through.
    is_simple: bool,
}

impl<'a> PlainText<'a> {
    fn place(&self) -> RegisterPlace {
        self.source.place(self.at..self.at + self.text.len())
    }

    fn from(self, begin: usize, text: &'a str) -> Self {
        Self { at: self.at + begin, text, ..self }
    }

    /// What stands behind this, where it begins so. There are so many lines that each is compared without a call.
    #[inline]
    fn after<const N: usize>(self, before: &[u8; N]) -> Option<Self> {
        let begins = self.text.as_bytes().first_chunk::<N>() == Some(before);
        self.text.get(N..).filter(|_| begins).map(|rest| self.from(N, rest))
    }

    fn field(self) -> Option<(&'a str, Self)> {
        // Names are so short that nothing finds their end sooner.
        let (name, rest) = self.text.split_at(self.text.bytes().position(|byte| byte == b' ')?);
        Some((name, self.from(name.len() + " = ".len(), rest.strip_prefix(" = ")?)))
    }

    /// This, where it is a text in quotes and nothing in it is more than it looks.
    fn string(self) -> Option<Self> {
        let [b'"', .., b'"'] = self.text.as_bytes() else { return None };
        let inner = self.inner();
        // What is not ASCII may be plain too.
        let odd = |character: char| character == '\\' || character.is_control();
        let is_plain = self.is_simple || !inner.contains(odd);
        (is_plain && !inner.bytes().any(|byte| byte == b'"')).then_some(self)
    }

    /// What stands in the quotes of a text.
    fn inner(&self) -> &'a str {
        self.text.get(1..self.text.len() - 1).unwrap_or_default()
    }

    fn placed<T>(&self, value: impl FnOnce(&str) -> T) -> Placed<T> {
        Placed { value: value(self.inner()), place: self.place() }
    }

    /// This, where it is a list of texts in which nothing is more than it looks.
    fn strings(self) -> Option<Self> {
        let [b'[', list @ .., b']'] = self.text.as_bytes() else { return None };
        if !list.contains(&b',') {
            return self.from(1, self.inner()).string().map(|_| self);
        }
        let mut rest = self.inner().split(',');
        rest.next().and_then(|first| self.from(1, first).string())?;
        // A comma may stand in a text too; that is left to the reader of TOML.
        rest.all(|item| item.strip_prefix(' ').is_some_and(|item| self.from(1, item).string().is_some()))
            .then_some(self)
    }

    /// The texts of a list.
    fn items(self) -> impl Iterator<Item = Self> {
        let mut at = 1;
        self.inner().split(',').map(move |item| {
            let begin = at + item.len() - item.trim_start_matches(' ').len();
            at += item.len() + ",".len();
            self.from(begin, item.trim_start_matches(' '))
        })
    }
}
