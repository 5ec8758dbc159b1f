//! Grants that are plain: they are read without a table for each.

use super::super::{Date, Grant, GrantsFor, Placed, RegisterPlace, SourcePart, Whom};
use super::{PlainText, lines, plain_date};

/// What begins a grant.
const HEADER: &[u8; 9] = b"[[grant]]";

/// Grants of a part that were asked for, and how many there are in it.
pub(in crate::register) struct PlainGrants {
    pub(in crate::register) grants: Vec<Grant>,
    pub(in crate::register) count: u32,
}

/// The grants of a part, where each line of it is plain.
pub(in crate::register) fn grants(source: SourcePart, text: &str, wanted: GrantsFor<'_>) -> Option<PlainGrants> {
    let mut read = PlainGrants { grants: Vec::new(), count: 0 };
    let mut open: Option<PlainGrant<'_>> = None;
    for line in lines(source, text) {
        match line.text.as_bytes().first() {
            None => {}
            Some(b'[') => {
                line.after(HEADER).filter(|rest| rest.text.is_empty())?;
                if let Some(before) = open.replace(PlainGrant::begun(line.place())) {
                    read.take(&before, wanted)?;
                }
            }
            Some(_) => open.as_mut()?.take(line)?,
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
        // There are very many: the first letter decides what the line can be.
        match line.text.as_bytes().first()? {
            b'p' => set(&mut self.whom, line.after(b"person = ")?.string()?),
            b't' => match line.after(b"team = ") {
                Some(team) => {
                    self.of_team = true;
                    set(&mut self.whom, team.string()?)
                }
                None => set(&mut self.tags, line.after(b"tags = ")?.strings()?),
            },
            b'a' => set(&mut self.account, line.after(b"account = ")?.string()?),
            b'h' => set(&mut self.hosts, line.after(b"hosts = ")?.strings()?),
            b'k' => set(&mut self.key, line.after(b"key = ")?.string()?),
            b'r' => set(&mut self.reason, line.after(b"reason = ")?.string()?),
            b'u' => {
                let value = line.after(b"until = ")?;
                set(&mut self.until, Placed { value: plain_date(value.text)?, place: value.place() })
            }
            _ => None,
        }
    }
}

fn set<T>(field: &mut Option<T>, value: T) -> Option<()> {
    field.replace(value).is_none().then_some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::register::{SourceFile, read};
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
