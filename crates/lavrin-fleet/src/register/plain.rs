//! Grants that are written in the plainest way, as nearly all of very many are: one field a line, texts without escapes. They are read
//! without a table for each. Whatever is written in another way makes the whole part one for the reader of TOML, which alone decides
//! what is right there.

use super::{Date, Grant, Placed, RegisterPlace, SourcePart, Whom};

/// What begins a grant.
const HEADER: &str = "[[grant]]";

/// The grants of a part, where each line of it is plain.
pub(super) fn grants(source: SourcePart, text: &str) -> Option<Vec<Grant>> {
    let mut grants = Vec::new();
    let mut open: Option<PlainGrant> = None;
    let mut at = 0;
    for whole in text.split_inclusive('\n') {
        let line = PlainText { source, at, text: whole.strip_suffix('\n').unwrap_or(whole) };
        at += whole.len();
        if line.text == HEADER {
            if let Some(before) = open.replace(PlainGrant::begun(line.place())) {
                grants.push(before.grant()?);
            }
        } else if !line.text.is_empty() {
            open.as_mut()?.take(&line)?;
        }
    }
    if let Some(last) = open {
        grants.push(last.grant()?);
    }
    Some(grants)
}

/// A grant of which some lines were read.
struct PlainGrant {
    place: RegisterPlace,
    whom: Option<Placed<Whom>>,
    account: Option<String>,
    key: Option<Placed<String>>,
    hosts: Vec<Placed<String>>,
    tags: Vec<Placed<String>>,
    until: Option<Placed<Date>>,
    reason: Option<String>,
}

impl PlainGrant {
    fn begun(place: RegisterPlace) -> Self {
        let (hosts, tags) = (Vec::new(), Vec::new());
        Self { place, whom: None, account: None, key: None, hosts, tags, until: None, reason: None }
    }

    /// Takes one field; `None` where it is not plain, or there for the second time.
    fn take(&mut self, line: &PlainText<'_>) -> Option<()> {
        let (name, value) = line.field()?;
        match name {
            "person" => set(&mut self.whom, value.placed(|text| Whom::Person(text.to_owned()))?),
            "team" => set(&mut self.whom, value.placed(|text| Whom::Team(text.to_owned()))?),
            "account" => set(&mut self.account, value.string()?.to_owned()),
            "key" => set(&mut self.key, value.placed(str::to_owned)?),
            "reason" => set(&mut self.reason, value.string()?.to_owned()),
            "until" => set(&mut self.until, Placed { value: plain_date(value.text)?, place: value.place() }),
            "hosts" if self.hosts.is_empty() => value.strings().map(|hosts| self.hosts = hosts),
            "tags" if self.tags.is_empty() => value.strings().map(|tags| self.tags = tags),
            _ => None,
        }
    }

    fn grant(self) -> Option<Grant> {
        Some(Grant {
            whom: self.whom?,
            key: self.key,
            account: self.account?,
            hosts: self.hosts,
            tags: self.tags,
            until: self.until,
            from: None,
            command: None,
            options: Vec::new(),
            create: None,
            reason: self.reason,
            place: self.place,
        })
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
        let (name, value) = self.text.split_once(" = ")?;
        Some((name, self.from(name.len() + " = ".len(), value)))
    }

    /// What stands in quotes; `None` where something in it is more than it looks.
    fn string(&self) -> Option<&'a str> {
        let inner = self.text.strip_prefix('"')?.strip_suffix('"')?;
        (!inner.contains(|character: char| matches!(character, '"' | '\\') || character.is_control())).then_some(inner)
    }

    fn placed<T>(&self, value: impl FnOnce(&str) -> T) -> Option<Placed<T>> {
        Some(Placed { value: value(self.string()?), place: self.place() })
    }

    fn strings(self) -> Option<Vec<Placed<String>>> {
        let list = self.text.strip_prefix('[')?.strip_suffix(']')?;
        let mut at = 1;
        let one = |text: &'a str| {
            let item = self.from(at, text);
            at += text.len() + ", ".len();
            item.placed(str::to_owned)
        };
        let mut strings = list.split(", ").map(one).collect::<Option<Vec<_>>>()?;
        // Very many grants have one host.
        strings.shrink_to_fit();
        Some(strings)
    }
}

#[cfg(test)]
mod tests {
    use super::super::{SourceFile, read};
    use super::*;
    use proptest::prelude::*;

    const SOURCE: SourcePart = SourcePart { file: 0, start: 0 };

    /// The same by the reader of TOML: a comment in front makes no part plain.
    fn by_toml(text: &str) -> Vec<Grant> {
        let before = "# not plain\n";
        assert!(grants(SOURCE, before).is_none());
        let file = SourceFile { path: "access.toml".to_owned(), text: format!("{before}{text}") };
        let reading = read(&[file]);
        let mut grants = if reading.findings.is_empty() { reading.register.grants } else { Vec::new() };
        let back = |place: &mut RegisterPlace| {
            place.span = place.span.start - before.len()..place.span.end - before.len();
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
            if let Some(plain) = grants(SOURCE, &text) {
                prop_assert_eq!(format!("{plain:?}"), format!("{:?}", by_toml(&text)), "{}", text);
            }
        }
    }

    #[test]
    fn what_the_program_itself_writes_is_plain() {
        let text = "[[grant]]\nperson = \"edda\"\naccount = \"keeper\"\nhosts = [\"lantern\", \"skerry\"]\nuntil = 2027-01-31\n\n\
            [[grant]]\nteam = \"lights\"\naccount = \"root\"\ntags = [\"*\"]\nkey = \"main\"\nreason = \"the lamp, at night\"";
        let plain = grants(SOURCE, text).unwrap();
        assert_eq!(plain.len(), 2);
        assert_eq!(format!("{plain:?}"), format!("{:?}", by_toml(text)));
        for odd in ["until = 2027-02-31", "person = 'edda'", "hosts = []", "x = 1", "person = \"a\\u0062\""] {
            assert!(grants(SOURCE, &format!("[[grant]]\naccount = \"b\"\n{odd}\n")).is_none(), "{odd}");
        }
    }
}
