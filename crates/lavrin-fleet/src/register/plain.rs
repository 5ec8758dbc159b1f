//! Grants that are written in the plainest way, as nearly all of very many are: one field a line, texts without escapes. They are read
//! without a table for each. Whatever is written in another way makes the whole part one for the reader of TOML, which alone decides
//! what is right there.

use super::{Date, Grant, GrantsFor, Placed, RegisterPlace, SourcePart, Whom};

/// What begins a grant.
const HEADER: &str = "[[grant]]";

/// Grants of a part that were asked for, and how many there are in it.
pub(super) struct PlainGrants {
    pub(super) grants: Vec<Grant>,
    pub(super) count: u32,
}

/// The grants of a part, where each line of it is plain.
pub(super) fn grants(source: SourcePart, text: &str, wanted: GrantsFor<'_>) -> Option<PlainGrants> {
    let mut read = PlainGrants { grants: Vec::new(), count: 0 };
    let mut open: Option<PlainGrant<'_>> = None;
    let mut at = 0;
    let last = (!text.ends_with('\n')).then_some(text.len());
    for end in memchr::memchr_iter(b'\n', text.as_bytes()).chain(last) {
        let line = PlainText { source, at, text: text.get(at..end)? };
        at = end + 1;
        if line.text == HEADER {
            if let Some(before) = open.replace(PlainGrant::begun(line.place())) {
                read.take(&before, wanted)?;
            }
        } else if !line.text.is_empty() {
            open.as_mut()?.take(line)?;
        }
    }
    if let Some(last) = open {
        read.take(&last, wanted)?;
    }
    Some(read)
}

impl PlainGrants {
    fn take(&mut self, grant: &PlainGrant<'_>, wanted: GrantsFor<'_>) -> Option<()> {
        self.count += 1;
        let (of_team, whom, account) = (grant.of_team, grant.whom?, grant.account?);
        let hosts = || grant.hosts.into_iter().flat_map(PlainText::items);
        if wanted.concerns((!of_team).then_some(whom.inner()), hosts().map(|host| host.inner()), grant.tags.is_some()) {
            let names = |list: Option<PlainText<'_>>| -> Vec<Placed<String>> {
                let names = list.into_iter().flat_map(PlainText::items).map(|name| name.placed(str::to_owned));
                let mut names: Vec<_> = names.collect();
                // Very many grants have one host.
                names.shrink_to_fit();
                names
            };
            self.grants.push(Grant {
                number: self.count,
                whom: whom.placed(|id| if of_team { Whom::Team(id.to_owned()) } else { Whom::Person(id.to_owned()) }),
                key: grant.key.map(|key| key.placed(str::to_owned)),
                account: account.inner().to_owned(),
                hosts: names(grant.hosts),
                tags: names(grant.tags),
                until: grant.until,
                limits: None,
                create: None,
                reason: grant.reason.map(|reason| reason.inner().to_owned()),
                place: grant.place,
            });
        }
        Some(())
    }
}

/// A grant of which some lines were read. Its texts are plain.
struct PlainGrant<'a> {
    place: RegisterPlace,
    of_team: bool,
    whom: Option<PlainText<'a>>,
    account: Option<PlainText<'a>>,
    key: Option<PlainText<'a>>,
    hosts: Option<PlainText<'a>>,
    tags: Option<PlainText<'a>>,
    until: Option<Placed<Date>>,
    reason: Option<PlainText<'a>>,
}

impl<'a> PlainGrant<'a> {
    fn begun(place: RegisterPlace) -> Self {
        let (whom, account, key, hosts, tags, until, reason) = (None, None, None, None, None, None, None);
        Self { place, of_team: false, whom, account, key, hosts, tags, until, reason }
    }

    /// Takes one field; `None` where it is not plain, or there for the second time.
    fn take(&mut self, line: PlainText<'a>) -> Option<()> {
        let (name, value) = line.field()?;
        match name {
            "person" => set(&mut self.whom, value.string()?),
            "team" => {
                self.of_team = true;
                set(&mut self.whom, value.string()?)
            }
            "account" => set(&mut self.account, value.string()?),
            "key" => set(&mut self.key, value.string()?),
            "reason" => set(&mut self.reason, value.string()?),
            "until" => set(&mut self.until, Placed { value: plain_date(value.text)?, place: value.place() }),
            "hosts" => set(&mut self.hosts, value.strings()?),
            "tags" => set(&mut self.tags, value.strings()?),
            _ => None,
        }
    }
}

fn set<T>(field: &mut Option<T>, value: T) -> Option<()> {
    field.replace(value).is_none().then_some(())
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
}

impl<'a> PlainText<'a> {
    fn place(&self) -> RegisterPlace {
        self.source.place(self.at..self.at + self.text.len())
    }

    fn from(self, begin: usize, text: &'a str) -> Self {
        Self { at: self.at + begin, text, ..self }
    }

    fn field(self) -> Option<(&'a str, Self)> {
        // Names are so short that nothing finds their end sooner.
        let (name, rest) = self.text.split_at(self.text.bytes().position(|byte| byte == b' ')?);
        Some((name, self.from(name.len() + " = ".len(), rest.strip_prefix(" = ")?)))
    }

    /// This, where it is a text in quotes and nothing in it is more than it looks.
    fn string(self) -> Option<Self> {
        let inner = self.text.strip_prefix('"')?.strip_suffix('"')?;
        let is_odd = |byte: u8| matches!(byte, b'"' | b'\\' | 0..=0x1f | 0x7f..);
        // What is not ASCII may be plain too.
        let odd = |character: char| matches!(character, '"' | '\\') || character.is_control();
        (!inner.bytes().any(is_odd) || !inner.contains(odd)).then_some(self)
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
        let list = self.text.strip_prefix('[')?.strip_suffix(']')?;
        let mut rest = list.split(',');
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

#[cfg(test)]
mod tests {
    use super::super::{SourceFile, read};
    use super::*;
    use proptest::prelude::*;

    const SOURCE: SourcePart = SourcePart { file: 0, start: 0 };

    fn all(text: &str) -> Option<Vec<Grant>> {
        grants(SOURCE, text, GrantsFor::All).map(|read| read.grants)
    }

    /// The same by the reader of TOML: a comment in front makes no part plain.
    fn by_toml(text: &str) -> Vec<Grant> {
        let before = "# not plain\n";
        assert!(all(before).is_none());
        let file = SourceFile { path: "access.toml".to_owned(), text: format!("{before}{text}") };
        let reading = read(&[file]);
        let mut grants = if reading.findings.is_empty() { reading.register.grants } else { Vec::new() };
        let back = |place: &mut RegisterPlace| {
            let bytes = place.bytes();
            *place = RegisterPlace::new(place.file(), bytes.start - before.len()..bytes.end - before.len());
        };
        for grant in &mut grants {
            back(&mut grant.place);
            back(&mut grant.whom.place);
            grant.key.iter_mut().for_each(|key| back(&mut key.place));
            grant.until.iter_mut().for_each(|until| back(&mut until.place));
            grant.hosts.iter_mut().chain(&mut grant.tags).for_each(|name| back(&mut name.place));
        }
        grants
    }

    const NAMES: [&str; 12] =
        ["person", "team", "machine", "account", "key", "reason", "until", "hosts", "tags", "from", "command", "x"];

    fn field() -> impl Strategy<Value = String> {
        let text = "\"[ab*, =#.\\\\\u{7f}\t\"]{0,4}\"";
        let list = prop::collection::vec("\"[ab, ]{0,3}\"", 0..3).prop_map(|all| format!("[{}]", all.join(", ")));
        let date = "20[0-9]{2}-[01][0-9]-[0-3][0-9]( |T00)?";
        let value =
            prop_oneof![4 => text.prop_map(|text: String| text), 3 => list, 2 => date.prop_map(|date: String| date)];
        (prop::sample::select(&NAMES[..]), value, "(| |\r| # x)")
            .prop_map(|(name, value, end)| format!("{name} = {value}{end}\n"))
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 3000, ..ProptestConfig::default() })]
        #[test]
        fn what_is_read_plainly_is_what_toml_says(
            tables in prop::collection::vec((prop::bool::weighted(0.9), "(\n|)", prop::collection::vec(field(), 0..4)), 1..4)
        ) {
            let mut text = String::new();
            for (with_usual, blank, fields) in tables {
                text += "[[grant]]\n";
                // Most have what every grant needs, or nearly everything would be refused.
                text += if with_usual { "person = \"a\"\naccount = \"b\"\n" } else { "" };
                text += &(fields.concat() + &blank);
            }
            if let Some(plain) = all(&text) {
                prop_assert_eq!(format!("{plain:?}"), format!("{:?}", by_toml(&text)), "{}", text);
            }
        }
    }

    #[test]
    fn what_the_program_itself_writes_is_plain() {
        let text = "[[grant]]\nperson = \"edda\"\naccount = \"keeper\"\nhosts = [\"lantern\", \"skerry\"]\nuntil = 2027-01-31\n\n\
            [[grant]]\nteam = \"lights\"\naccount = \"root\"\ntags = [\"*\"]\nkey = \"main\"\nreason = \"the lamp, at night\"";
        let plain = all(text).unwrap();
        assert_eq!(plain.len(), 2);
        assert_eq!(format!("{plain:?}"), format!("{:?}", by_toml(text)));
        for odd in ["until = 2027-02-31", "person = 'edda'", "hosts = []", "x = 1", "person = \"a\\u0062\""] {
            assert!(all(&format!("[[grant]]\naccount = \"b\"\n{odd}\n")).is_none(), "{odd}");
        }
    }
}
