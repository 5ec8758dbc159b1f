//! Reading a register from the text of its files.

use super::SourcePart;
use super::defaults::{self, Defaults};
use super::fault::FieldKind;
use super::fields::{Faults, Fields};
use super::parts::parts;
use super::plain;
use super::policy;
use super::read_grant::grant;
use super::read_key::{own, owned_key};
use super::table::{RegisterTable, RegisterValue, by_toml};
use super::{
    Date, Exception, Grant, GrantsFor, Host, JournalPlace, Owed, Person, Placed, ReachKind, Register, RegisterFault,
    RegisterFinding, RegisterPlace, RootProgram, Rules, SourceFile, device, is_id, kept,
};
use lavrin_keys::key::container::line;
use lavrin_keys::key::{Fingerprint, KeyFault};
use lavrin_server::device::Profile;
use memchr::memmem;
use rayon::prelude::*;
use std::collections::btree_map::Entry;
use std::collections::{BTreeMap, HashSet};
use std::ops::Range;
use std::sync::Arc;
use toml::Spanned;

/// What was read.
#[derive(Debug, Clone, Default)]
pub struct Reading {
    /// The register; what could not be read is left out of it.
    pub register: Register,
    /// What was wrong with the text.
    pub findings: Vec<RegisterFinding>,
}

/// What `lavrin.toml` holds.
struct FileSettings {
    name: String,
    rules: Rules,
    defaults: Defaults,
    exceptions: Vec<Exception>,
    administrators: Vec<Placed<String>>,
    journal: JournalPlace,
    store_url: Option<String>,
}

/// What one file holds.
#[derive(Default)]
struct FileContent {
    settings: Option<FileSettings>,
    people: Vec<Person>,
    #[expect(clippy::vec_box, reason = "they go into the register as they are, and are too large to be moved")]
    hosts: Vec<Box<Host>>,
    grants: Vec<Grant>,
    /// How many grants there are in it, those among them that cannot be read.
    grants_count: u32,
    owed: Vec<Owed>,
    kept: Vec<kept::KeptAccount>,
    profiles: Vec<Profile>,
    faults: Faults,
    /// Whether it is no TOML.
    is_broken: bool,
}

/// Files that may be long, and are lists of equal tables.
const ACCESS: &str = "access.toml";
const IN_PARTS: [&str; 2] = [ACCESS, "hosts.toml"];

/// What is read at once, in bytes: some long parts, or very many short files.
const AT_ONCE: usize = 1 << 20;

/// Reads every file; each is taken for what its path says.
#[must_use]
pub fn read(files: &[SourceFile]) -> Reading {
    read_some(files, GrantsFor::All)
}

/// The same with some of the grants; their numbers and what is wrong with the text do not depend on which.
#[must_use]
pub fn read_some(files: &[SourceFile], wanted: GrantsFor<'_>) -> Reading {
    let in_parts = files.par_iter().enumerate().flat_map_iter(|(number, file)| {
        let parts = parts(&file.text, IN_PARTS.contains(&file.path.as_str()));
        parts.into_iter().map(move |range| (SourcePart { file: number, start: range.start }, file, range))
    });
    let parts: Vec<(SourcePart, &SourceFile, Range<usize>)> = in_parts.collect();
    let mut whole = WholeRegister::default();
    if wanted == GrantsFor::All {
        // A list that grows is there twice meanwhile.
        let texts = files.iter().filter(|file| file.path == ACCESS).map(|file| file.text.as_bytes());
        let count = texts.map(|text| memmem::find_iter(text, "[[grant]]").count()).sum();
        whole.register.grants.reserve_exact(count);
    }
    let mut bytes = 0;
    let at_once = parts.chunk_by(|(.., range), _| {
        bytes = if bytes >= AT_ONCE { range.len() } else { bytes + range.len() };
        bytes < AT_ONCE
    });
    let mut before: Vec<(usize, FileContent)> = Vec::new();
    for some in at_once {
        let read = || {
            let read = some.par_iter().map(|(source, file, range)| {
                (source.file, part(*source, &file.path, &file.text[range.clone()], wanted))
            });
            read.collect()
        };
        // What some parts say is put in its place while the next ones are read.
        let last = std::mem::take(&mut before);
        (before, ()) = rayon::join(read, || whole.put_all(last));
    }
    whole.put_all(before);
    whole.done()
}

/// What was read of a register so far.
#[derive(Default)]
struct WholeRegister {
    register: Register,
    faults: Faults,
    /// Files that are no TOML.
    broken: HashSet<usize>,
    grants_count: u32,
}

impl WholeRegister {
    fn put_all(&mut self, parts: Vec<(usize, FileContent)>) {
        for (file, part) in parts {
            self.broken.extend(part.is_broken.then_some(file));
            let before = self.grants_count;
            self.grants_count = before.saturating_add(part.grants_count);
            put_part(part, before, &mut self.register, &mut self.faults);
        }
    }

    fn done(mut self) -> Reading {
        // A file that is no TOML is not read at all: it would only give faults that follow from the first.
        let broken = self.broken;
        if !broken.is_empty() {
            self.register.grants.retain(|grant| !broken.contains(&grant.place.file()));
            self.register.hosts.retain(|_, host| !broken.contains(&host.place.file()));
            self.faults.retain(|(fault, place, _)| {
                !broken.contains(&place.file()) || matches!(fault, RegisterFault::Syntax { .. })
            });
        }
        let finding = |(fault, place, about): (RegisterFault, RegisterPlace, String)| RegisterFinding {
            severity: fault.severity(),
            fault,
            place,
            beside: Vec::new(),
            about,
        };
        Reading { register: self.register, findings: self.faults.into_iter().map(finding).collect() }
    }
}

fn put_part(part: FileContent, grants_before: u32, register: &mut Register, faults: &mut Faults) {
    if let Some(settings) = part.settings {
        (register.name, register.rules) = (settings.name, settings.rules);
        (register.defaults, register.exceptions) = (settings.defaults, settings.exceptions);
        register.administrators = settings.administrators;
        register.journal = settings.journal;
        register.store_url = settings.store_url;
    }
    for person in part.people {
        put(&mut register.people, person.id.clone(), person, |person| &person.place, faults);
    }
    for host in part.hosts {
        put(&mut register.hosts, host.id.clone(), host, |host| &host.place, faults);
    }
    register.grants.extend(part.grants.into_iter().map(|mut grant| {
        grant.number = grant.number.saturating_add(grants_before);
        grant
    }));
    register.owed.extend(part.owed);
    register.kept.extend(part.kept);
    register.profiles.extend(part.profiles.into_iter().map(|profile| (profile.name.clone(), Arc::new(profile))));
    faults.extend(part.faults);
}

fn put<T>(
    map: &mut BTreeMap<String, T>,
    id: String,
    value: T,
    place: impl Fn(&T) -> &RegisterPlace,
    faults: &mut Faults,
) {
    match map.entry(id) {
        Entry::Occupied(entry) => {
            let name = entry.key().clone();
            faults.push((RegisterFault::NamedTwice { name: name.clone() }, *place(&value), name));
        }
        Entry::Vacant(entry) => drop(entry.insert(value)),
    }
}

fn part(source: SourcePart, path: &str, text: &str, wanted: GrantsFor<'_>) -> FileContent {
    let mut part = FileContent::default();
    if path == ACCESS
        && let Some(read) = plain::grants(source, text, wanted)
    {
        (part.grants, part.grants_count) = (read.grants, read.count);
        return part;
    }
    let (table, errors) = plain::table(text).map_or_else(|| by_toml(text), |table| (table, Vec::new()));
    for error in errors {
        let span = error.span().unwrap_or(0..0);
        let fault = RegisterFault::Syntax { said: error.message().to_owned() };
        part.faults.push((fault, source.place(span), path.to_owned()));
    }
    if !part.faults.is_empty() {
        part.is_broken = true;
        return part;
    }
    let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
    let id = name.strip_suffix(".toml").unwrap_or(name);
    match (folder, id) {
        ("", "lavrin") => settings(source, table, &mut part),
        ("people", id) => {
            if let Some(person) = person(source, id, table, &mut part.faults) {
                part.people.push(person);
            }
        }
        ("", "hosts") => hosts(source, table, &mut part),
        ("hosts", id) => {
            if let Some(host) = host(source, id, table, &mut part.faults) {
                part.hosts.push(host);
            }
        }
        ("", "access") => {
            let mut fields = Fields::new(source, "access", table, &mut part.faults);
            let tables = fields.numbered_tables("grant");
            part.grants_count = u32::try_from(tables.len()).unwrap_or(u32::MAX);
            let read = |(number, table)| grant(source, number, table, fields.faults());
            part.grants = tables.into_iter().filter_map(read).filter(|grant| wanted.wants(grant)).collect();
            fields.end();
        }
        (device::FOLDER, id) if checked_id(source, id, &mut part.faults) => {
            part.profiles.extend(device::profile(source, id, table, &mut part.faults));
        }
        (kept::FOLDER, name) => part.kept.extend(kept::read(source, name, table, &mut part.faults)),
        ("", "owed") => {
            let mut fields = Fields::new(source, "owed", table, &mut part.faults);
            let tables = fields.numbered_tables("removal");
            let read = |(number, table)| owed(source, number, table, fields.faults());
            part.owed = tables.into_iter().filter_map(read).collect();
            fields.end();
        }
        _ => {}
    }
    part
}

fn settings(source: SourcePart, table: Spanned<RegisterTable<'_>>, part: &mut FileContent) {
    let mut fields = Fields::new(source, "lavrin.toml", table, &mut part.faults);
    let name = fields.needed_text("name").map(|name| name.value).unwrap_or_default();
    let asked = fields.table("policy");
    let rules = asked.map(|table| policy::rules(source, table, fields.faults())).unwrap_or_default();
    let defaults = fields.table("defaults");
    let defaults = defaults.map(|table| defaults::of_table(source, table, fields.faults())).unwrap_or_default();
    let administrators = fields.table("kept").map(|table| {
        let mut kept = Fields::new(source, "kept", table, fields.faults());
        let administrators = kept.texts("administrators");
        kept.end();
        administrators
    });
    let store = fields.table("store").map(|table| {
        let mut store = Fields::new(source, "store", table, fields.faults());
        let journal = store.word("journal", &JournalPlace::NAMES, FieldKind::JournalPlace);
        let url = store.text("url");
        if let Some(odd) = url.as_ref().filter(|url| !is_store_url(&url.value)) {
            let fault = RegisterFault::BadValue { name: "url".to_owned(), wanted: FieldKind::StoreUrl };
            store.fault(fault, odd.place);
        }
        store.end();
        (journal, url.map(|url| url.value))
    });
    let (journal, store_url) = store.unwrap_or_default();
    let tables = fields.tables("exception");
    let exceptions = tables.into_iter().filter_map(|table| exception(source, table, fields.faults())).collect();
    fields.end();
    part.settings = Some(FileSettings {
        name,
        rules,
        defaults,
        exceptions,
        administrators: administrators.unwrap_or_default(),
        journal: journal.unwrap_or_default(),
        store_url,
    });
}

/// Whether this is the address of a database and holds no password: a register is read by many.
#[must_use]
pub fn is_store_url(url: &str) -> bool {
    let Some(rest) = ["postgresql://", "postgres://"].iter().find_map(|scheme| url.strip_prefix(scheme)) else {
        return false;
    };
    let (place, query) = rest.split_once('?').unwrap_or((rest, ""));
    let user = place.split('/').next().and_then(|authority| authority.rsplit_once('@')).map_or("", |(user, _)| user);
    !user.contains(':') && !query.split('&').any(|pair| pair.starts_with("password"))
}

fn exception(source: SourcePart, table: Spanned<RegisterTable<'_>>, faults: &mut Faults) -> Option<Exception> {
    let mut fields = Fields::new(source, "exception", table, faults);
    let (rule, about) = (fields.needed_text("rule"), fields.needed_text("about"));
    let reason = fields.needed_text("reason");
    let until = fields.date("until");
    if until.is_none() {
        let place = fields.place();
        fields.fault(RegisterFault::MissingField { name: "until" }, place.begin());
    }
    let place = fields.place();
    fields.end();
    Some(Exception { rule: rule?, about: about?.value, reason: reason?.value, until: until?, place })
}

/// A name that becomes part of paths and commands.
fn checked_id(source: SourcePart, id: &str, faults: &mut Faults) -> bool {
    if !is_id(id) {
        let wanted = FieldKind::Id;
        let fault = RegisterFault::BadValue { name: id.to_owned(), wanted };
        faults.push((fault, source.place(0..0), id.to_owned()));
    }
    is_id(id)
}

fn person(source: SourcePart, id: &str, table: Spanned<RegisterTable<'_>>, faults: &mut Faults) -> Option<Person> {
    if !checked_id(source, id, faults) {
        return None;
    }
    let mut fields = Fields::new(source, id, table, faults);
    let name = fields.needed_text("name");
    let tables = fields.tables("key");
    let person = Person {
        id: id.to_owned(),
        place: name.as_ref().map_or_else(|| source.place(0..0), |name| name.place),
        name: name.map_or_else(|| id.to_owned(), |name| name.value),
        team: fields.text("team").map(|team| team.value),
        since: fields.date("since").map(|since| since.value),
        left: fields.date("left"),
        keys: tables.into_iter().filter_map(|table| owned_key(source, id, table, false, fields.faults())).collect(),
    };
    fields.end();
    Some(person)
}

fn hosts(source: SourcePart, table: Spanned<RegisterTable<'_>>, part: &mut FileContent) {
    for (id, value) in table.into_inner().into_fields() {
        let (id, span) = (id.get_ref().to_string(), value.span());
        if let RegisterValue::Table(table) = value.into_inner() {
            part.hosts.extend(host(source, &id, Spanned::new(span, table), &mut part.faults));
        } else {
            let fault = RegisterFault::WrongKind { name: id.clone(), wanted: FieldKind::Table };
            part.faults.push((fault, source.place(span), id));
        }
    }
}

fn host(source: SourcePart, id: &str, table: Spanned<RegisterTable<'_>>, faults: &mut Faults) -> Option<Box<Host>> {
    if !checked_id(source, id, faults) {
        return None;
    }
    let mut fields = Fields::new(source, id, table, faults);
    let values = |list: Vec<Placed<String>>| list.into_iter().map(|item| item.value).collect::<Vec<_>>();
    let mut host_keys = Vec::new();
    for text in fields.texts("host_keys") {
        match line::parse(text.value.as_bytes()).map(own) {
            Some(Ok((key, ..))) => host_keys.push(Placed { value: key, place: text.place }),
            Some(Err(fault)) => fields.fault(RegisterFault::BadKey { fault }, text.place),
            None => fields.fault(RegisterFault::BadKey { fault: KeyFault::NotAKey }, text.place),
        }
    }
    let (mut leave, mut leave_unread) = (Vec::new(), Vec::new());
    for text in fields.texts("leave") {
        match Fingerprint::parse(&text.value) {
            Ok(key) => leave.push(Placed { value: key, place: text.place }),
            Err(_) => leave_unread.push(text),
        }
    }
    let tables = fields.tables("key");
    let accounts = fields.texts("accounts");
    let places = device::places(source, id, &mut fields);
    let limits = fields.table("limits").map(|table| device::limits(source, id, table, fields.faults()));
    let profile = fields.text("profile");
    let reach = fields.word("reach", &ReachKind::NAMES, FieldKind::Reach).unwrap_or_default();
    let port = fields.number("port", 1..=65535).and_then(|port| u16::try_from(port).ok());
    let host = Box::new(Host {
        id: id.to_owned(),
        address: fields.text("address").map_or_else(|| id.to_owned(), |address| address.value),
        port: port.unwrap_or(reach.port()),
        reach,
        places,
        profile,
        limits: limits.unwrap_or_default(),
        after_change: fields.texts("after_change"),
        old_algorithms: fields.flag("old_algorithms"),
        tags: values(fields.texts("tags")),
        site: fields.text("site").map(|site| site.value),
        login: fields.text("login").map(|login| login.value),
        root_by: fields.word("root_by", &RootProgram::NAMES, FieldKind::RootBy),
        through: fields.text("through"),
        way_back: fields.text("way_back").map(|way| way.value),
        way_back_tried: fields.date("way_back_tried"),
        accounts,
        leave,
        leave_unread,
        complete: fields.flag("complete"),
        host_keys,
        keys: tables.into_iter().filter_map(|table| owned_key(source, id, table, true, fields.faults())).collect(),
        place: fields.place(),
    });
    fields.end();
    Some(host)
}

fn owed(source: SourcePart, number: u32, table: Spanned<RegisterTable<'_>>, faults: &mut Faults) -> Option<Owed> {
    let mut fields = Fields::new(source, "owed", table, faults);
    let (fingerprint, person) = (fields.needed_text("key"), fields.text("person"));
    let (account, host) = (fields.needed_text("account"), fields.needed_text("host"));
    let since = fields.date("since");
    let place = fields.place();
    fields.end();
    Some(Owed {
        number,
        fingerprint: fingerprint?.value,
        person: person.map(|person| person.value),
        account: account?.value,
        host: host?.value,
        since: since.map_or(Date { year: 1970, month: 1, day: 1 }, |since| since.value),
        place,
    })
}
