//! Kept keys: the key of an account that several people use. Its public halves, one for each version, stand in
//! `kept/ACCOUNT@HOST.toml`; the private half of a version lies beside it, sealed for the administrators.

use super::SourcePart;
use super::fault::FieldKind;
use super::fields::{Faults, Fields};
use super::read_grant::limits;
use super::read_key::{Own, own};
use super::table::RegisterTable;
use super::{Date, Grant, OwnedKey, Placed, Purpose, RegisterFault, RegisterPlace, Whom, is_id};
use lavrin_keys::key::KeyFault;
use lavrin_keys::key::container::line;
use std::collections::BTreeSet;
use toml::Spanned;

/// The folder of the register's folder that holds them.
pub const FOLDER: &str = "kept";

/// Highest version.
pub const VERSION_MAX: u32 = 9999;

/// The kept key of an account, with all its versions.
#[derive(Debug, Clone)]
pub struct KeptAccount {
    /// The account that it opens.
    pub account: String,
    /// The host.
    pub host: String,
    /// Its public halves, oldest first; the label is the number of the version.
    pub keys: Vec<OwnedKey>,
    /// What else is known of each version, in the same order.
    pub versions: Vec<KeptVersion>,
    /// When it was handed out, oldest first.
    pub hand_outs: Vec<HandOut>,
    /// What lets it in.
    pub grant: Grant,
    /// Where it stands.
    pub place: RegisterPlace,
}

/// One version of a kept key.
#[derive(Debug, Clone)]
pub struct KeptVersion {
    /// Its number.
    pub number: u32,
    /// Everybody for whom it was ever sealed.
    pub sealed_for: Vec<Placed<String>>,
    /// When it last opened the account.
    pub proven: Option<Date>,
}

/// A private half that left the seal.
#[derive(Debug, Clone)]
pub struct HandOut {
    /// Which version.
    pub version: u32,
    /// To whom.
    pub person: Placed<String>,
    /// On which day.
    pub day: Date,
    /// Why.
    pub reason: String,
}

impl KeptVersion {
    /// Whether it was ever sealed for somebody.
    #[must_use]
    pub fn knows(&self, person: &str) -> bool {
        self.sealed_for.iter().any(|one| one.value == person)
    }
}

impl KeptAccount {
    /// How it is named: `ACCOUNT@HOST`.
    #[must_use]
    pub fn name(&self) -> String {
        format!("{}@{}", self.account, self.host)
    }

    /// The version in use: the newest that has opened the account; where none is known to have, the newest that is not retired.
    #[must_use]
    pub fn current(&self, today: Date) -> Option<(&OwnedKey, &KeptVersion)> {
        let newest = |is_proven: bool| {
            let is_it = |(key, version): &(&OwnedKey, &KeptVersion)| {
                key.is_active(today) && (!is_proven || version.proven.is_some())
            };
            self.all().rfind(is_it)
        };
        newest(true).or_else(|| newest(false))
    }

    /// Every version with its key, oldest first.
    #[must_use]
    pub fn all(&self) -> impl DoubleEndedIterator<Item = (&OwnedKey, &KeptVersion)> {
        self.keys.iter().zip(&self.versions)
    }

    /// The newest version that the register knows; 0: none.
    #[must_use]
    pub fn newest(&self) -> u32 {
        self.versions.last().map_or(0, |version| version.number)
    }

    /// Everybody who may have a copy of the private half of a version.
    #[must_use]
    pub fn known_to(&self, number: u32) -> BTreeSet<&str> {
        let sealed = self.versions.iter().filter(|version| version.number == number);
        let sealed = sealed.flat_map(|version| &version.sealed_for).map(|person| person.value.as_str());
        let handed = self.hand_outs.iter().filter(|one| one.version == number).map(|one| one.person.value.as_str());
        sealed.chain(handed).collect()
    }
}

/// The account and the host of a name as `ACCOUNT@HOST`; none where it cannot be one.
#[must_use]
pub fn account_and_host(name: &str) -> Option<(&str, &str)> {
    let (account, host) = name.rsplit_once('@')?;
    let fine = |byte: u8| byte.is_ascii_alphanumeric() || b"._-$".contains(&byte);
    let is_account = (1..=64).contains(&account.len())
        && account.bytes().all(fine)
        && !account.starts_with(['-', '.'])
        && is_id(host);
    is_account.then_some((account, host))
}

/// The file with the public halves.
#[must_use]
pub fn file(account: &str, host: &str) -> String {
    format!("{FOLDER}/{account}@{host}.toml")
}

/// The file with the sealed private half of a version.
#[must_use]
pub fn sealed_file(account: &str, host: &str, version: u32) -> String {
    format!("{FOLDER}/{account}@{host}.{version}.age")
}

/// Reads one of the files.
pub(super) fn read(
    source: SourcePart,
    name: &str,
    table: Spanned<RegisterTable<'_>>,
    faults: &mut Faults,
) -> Option<KeptAccount> {
    let top = source.place(0..0);
    let Some((account, host)) = account_and_host(name) else {
        let fault = RegisterFault::BadValue { name: name.to_owned(), wanted: FieldKind::Machine };
        faults.push((fault, top, name.to_owned()));
        return None;
    };
    let mut fields = Fields::new(source, name, table, faults);
    let placed = |value: &str| Placed { value: value.to_owned(), place: top };
    let whom = Whom::Kept { account: account.to_owned(), host: host.to_owned() };
    let grant = Grant {
        number: 0,
        create: None,
        whom: Placed { value: whom, place: top },
        key: None,
        account: account.to_owned(),
        hosts: vec![placed(host)],
        tags: Vec::new(),
        until: None,
        limits: limits(&mut fields),
        reason: None,
        place: top,
    };
    if grant.entry_options().is_err() {
        let fault = RegisterFault::BadValue { name: "options".to_owned(), wanted: FieldKind::Options };
        fields.fault(fault, top);
    }
    let tables = fields.tables("key");
    let mut read: Vec<(OwnedKey, KeptVersion)> =
        tables.into_iter().filter_map(|table| version(source, name, account, table, fields.faults())).collect();
    let tables = fields.tables("hand_out");
    let hand_outs = tables.into_iter().filter_map(|table| hand_out(source, name, table, fields.faults())).collect();
    read.sort_by_key(|(_, version)| version.number);
    if let Some(twice) = read.windows(2).find(|two| two[0].1.number == two[1].1.number) {
        let fault = RegisterFault::NamedTwice { name: twice[1].0.label.clone() };
        fields.fault(fault, twice[1].0.place);
    }
    fields.end();
    let (mut keys, versions): (Vec<OwnedKey>, Vec<KeptVersion>) = read.into_iter().unzip();
    for at in 1..keys.len() {
        let before = Placed { value: keys[at - 1].label.clone(), place: keys[at].place };
        keys[at].replaces = Some(before);
    }
    let (account, host) = (account.to_owned(), host.to_owned());
    Some(KeptAccount { account, host, keys, versions, hand_outs, grant, place: top })
}

fn version(
    source: SourcePart,
    about: &str,
    account: &str,
    table: Spanned<RegisterTable<'_>>,
    faults: &mut Faults,
) -> Option<(OwnedKey, KeptVersion)> {
    let mut fields = Fields::new(source, about, table, faults);
    let before = fields.faults().len();
    let version = fields.number("version", 1..=i64::from(VERSION_MAX)).and_then(|number| u32::try_from(number).ok());
    if version.is_none() && fields.faults().len() == before {
        let place = fields.place();
        fields.fault(RegisterFault::MissingField { name: "version" }, place);
    }
    let text = fields.needed_text("line");
    let (added, retired, proven) = (fields.date("added"), fields.date("retired"), fields.date("proven"));
    let sealed_for = fields.texts("sealed_for");
    let key = text.and_then(|text| match line::parse(text.value.as_bytes()).map(own) {
        Some(Ok(own)) => Some((own, text.place)),
        read => {
            let fault = read.and_then(Result::err).unwrap_or(KeyFault::NotAKey);
            fields.fault(RegisterFault::BadKey { fault }, text.place);
            None
        }
    });
    fields.end();
    let (((key, fingerprint, comment), place), number): ((Own, _), u32) = (key?, version?);
    let owned = OwnedKey {
        label: number.to_string(),
        key,
        fingerprint,
        comment,
        purpose: Purpose::Person,
        added: added.map(|day| day.value),
        retired: retired.map(|day| day.value),
        replaces: None,
        account: Some(account.to_owned()),
        file: None,
        place,
    };
    Some((owned, KeptVersion { number, sealed_for, proven: proven.map(|day| day.value) }))
}

fn hand_out(
    source: SourcePart,
    about: &str,
    table: Spanned<RegisterTable<'_>>,
    faults: &mut Faults,
) -> Option<HandOut> {
    let mut fields = Fields::new(source, about, table, faults);
    let version = fields.number("version", 1..=i64::from(VERSION_MAX)).and_then(|number| u32::try_from(number).ok());
    let (person, day) = (fields.needed_text("person"), fields.date("day"));
    let reason = fields.text("reason").map(|reason| reason.value).unwrap_or_default();
    fields.end();
    Some(HandOut { version: version?, person: person?, day: day?.value, reason })
}
