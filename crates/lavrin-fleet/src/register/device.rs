//! What the register says of devices: where their keys are, what they can bear, and profiles of those with a language of their own.

use super::SourcePart;
use super::fault::FieldKind;
use super::fields::{Faults, Fields};
use super::table::{RegisterTable, RegisterValue};
use super::{Placed, RegisterFault, RegisterPlace};
use lavrin_keys::key::Algorithm;
use lavrin_keys::text::printable;
use lavrin_server::device::{
    Doing, GroupPlace, ImportFile, ImportWay, KeyForm, KeyLimits, KeyLineEnds, KeyPlaces, Listing, PasswordSwitch,
    PasswordsEnd, Profile, Template, TimedReload, TransferService, is_keys_path,
};
use std::time::Duration;
use toml::Spanned;

/// The folder of profiles.
pub const FOLDER: &str = "profiles";

/// How long an answer of a device may take, in seconds, where its profile says nothing.
const PATIENCE: i64 = 10;

fn size(number: i64) -> usize {
    usize::try_from(number).unwrap_or_default()
}

/// What a device shows: nothing would be found everywhere.
fn shown(fields: &mut Fields<'_, '_>, name: &'static str) -> Vec<String> {
    let texts = fields.texts(name);
    texts.into_iter().filter(|text| is_shown(fields, name, text)).map(|text| text.value).collect()
}

fn is_shown(fields: &mut Fields<'_, '_>, name: &str, text: &Placed<String>) -> bool {
    let is_shown = !text.value.trim().is_empty() && !text.value.contains(char::is_control);
    if !is_shown {
        let fault = RegisterFault::BadValue { name: name.to_owned(), wanted: FieldKind::Shown };
        fields.fault(fault, text.place);
    }
    is_shown
}

/// Where the keys of a host are.
pub(super) fn places(source: SourcePart, about: &str, fields: &mut Fields<'_, '_>) -> KeyPlaces {
    let file = fields.text("keys_file");
    if let Some(file) = &file {
        say_elsewhere("keys_file", &file.value, file.place, fields);
    }
    let files = fields.table("keys_file_of_groups").map(|table| texts_of(source, about, table, fields.faults()));
    let members = fields.table("members").map(|table| texts_of(source, about, table, fields.faults()));
    let (files, members) = (files.unwrap_or_default(), members.unwrap_or_default());
    for file in files.iter().flat_map(|(_, files)| files) {
        say_elsewhere("keys_file_of_groups", file, fields.place(), fields);
    }
    let of_group = |(group, file): (String, Vec<String>)| {
        let own = members.iter().find(|(name, _)| *name == group);
        let file = file.into_iter().next()?;
        Some(GroupPlace { members: own.map(|(_, members)| members.clone()).unwrap_or_default(), group, file })
    };
    KeyPlaces {
        file: file.map(|file| file.value),
        of_groups: files.into_iter().filter_map(of_group).collect(),
        form: fields.word("keys_form", &KeyForm::NAMES, FieldKind::KeyForm).unwrap_or_default(),
        line_ends: fields.word("line_ends", &KeyLineEnds::NAMES, FieldKind::LineEnds).unwrap_or_default(),
    }
}

/// A key file that is none is no account's.
fn say_elsewhere(name: &str, file: &str, place: RegisterPlace, fields: &mut Fields<'_, '_>) {
    if !is_keys_path(file) {
        fields.fault(RegisterFault::BadValue { name: name.to_owned(), wanted: FieldKind::KeysPath }, place);
    }
}

/// A table of which each field is a text or a list of texts.
fn texts_of(
    source: SourcePart,
    about: &str,
    table: Spanned<RegisterTable<'_>>,
    faults: &mut Faults,
) -> Vec<(String, Vec<String>)> {
    let mut found = Vec::new();
    for (name, value) in table.into_inner().into_fields() {
        let (name, span) = (name.into_inner().into_owned(), value.span());
        // A text of several lines is none: what is shown of it would be lines of its own.
        let text = |value: &RegisterValue<'_>| {
            value.as_text().filter(|text| !text.contains(char::is_control)).map(str::to_owned)
        };
        let texts: Option<Vec<String>> = match value.get_ref() {
            RegisterValue::List(list) => list.iter().map(|value| text(value.get_ref())).collect(),
            one => text(one).map(|text| vec![text]),
        };
        if let Some(texts) = texts.filter(|_| !name.contains(char::is_control)) {
            found.push((name, texts));
        } else {
            let name = printable(name.as_bytes());
            let fault = RegisterFault::WrongKind { name, wanted: FieldKind::Text };
            faults.push((fault, source.place(span), about.to_owned()));
        }
    }
    found
}

/// What a host can bear.
pub(super) fn limits(
    source: SourcePart,
    about: &str,
    table: Spanned<RegisterTable<'_>>,
    faults: &mut Faults,
) -> KeyLimits {
    let mut fields = Fields::new(source, about, table, faults);
    let mut algorithms = Vec::new();
    for name in fields.texts("algorithms") {
        if let Some(algorithm) = Algorithm::from_name(name.value.as_bytes()) {
            algorithms.push(algorithm);
        } else {
            let fault = RegisterFault::BadValue { name: "algorithms".to_owned(), wanted: FieldKind::Algorithm };
            fields.fault(fault, name.place);
        }
    }
    let limits = KeyLimits {
        algorithms,
        rsa_bits_max: fields.number("rsa_bits_max", 1024..=16384).map(size),
        keys_max: fields.number("keys_max", 1..=100_000).map(size),
        line_bytes_max: fields.number("line_bytes_max", 64..=65_536).map(size),
        comment_bytes_max: fields.number("comment_bytes_max", 0..=4096).map(size),
        first_key_ends_passwords: fields.flag("first_key_ends_passwords"),
    };
    fields.end();
    limits
}

/// The file of a profile.
pub(super) fn profile(
    source: SourcePart,
    id: &str,
    table: Spanned<RegisterTable<'_>>,
    faults: &mut Faults,
) -> Option<Profile> {
    let mut fields = Fields::new(source, id, table, faults);
    let prompts = shown(&mut fields, "prompts");
    if prompts.is_empty() {
        missing(&mut fields, "prompts");
    }
    let errors = shown(&mut fields, "errors");
    let pager = fields.table("pager").and_then(|table| {
        let mut pager = Fields::new(source, id, table, fields.faults());
        let (shows, send) = (pager.needed_text("shows"), pager.needed_text("send"));
        let shows = shows.filter(|shows| is_shown(&mut pager, "shows", shows));
        pager.end();
        Some((shows?.value, send?.value))
    });
    let list = needed_table(&mut fields, "list").and_then(|table| listing(source, id, table, fields.faults()));
    let add = needed_table(&mut fields, "add").map(|table| {
        let mut add = Fields::new(source, id, table, fields.faults());
        let import = add.table("file").and_then(|table| import(source, id, table, add.faults()));
        let how = doing_of(&mut add);
        add.end();
        (how, import)
    });
    let switch = fields.table("passwords").and_then(|table| switch(source, id, table, fields.faults()));
    let passwords = fields.word("passwords_end_with", &PasswordsEnd::NAMES, FieldKind::PasswordsEnd);
    let remove = needed_table(&mut fields, "remove").map(|table| doing_in(source, id, table, fields.faults()));
    let reload = fields.table("reload").and_then(|table| {
        let mut reload = Fields::new(source, id, table, fields.faults());
        let (arm, disarm) = (doing(source, id, "arm", &mut reload), doing(source, id, "disarm", &mut reload));
        reload.end();
        Some(TimedReload { arm: arm?, disarm: disarm? })
    });
    let profile = Profile {
        name: id.to_owned(),
        errors,
        pager,
        line_end: fields.word("line_ends", &KeyLineEnds::NAMES, FieldKind::LineEnds).unwrap_or_default(),
        patience: Duration::from_secs(fields.number("patience", 1..=300).unwrap_or(PATIENCE).unsigned_abs()),
        start: doing(source, id, "start", &mut fields).unwrap_or_default(),
        back: template(&mut fields, "back"),
        leave: template(&mut fields, "leave"),
        save: doing(source, id, "save", &mut fields),
        backup: doing(source, id, "backup", &mut fields),
        transfer: transfer(source, id, &mut fields),
        passwords: passwords.unwrap_or(if switch.is_some() { PasswordsEnd::Switch } else { PasswordsEnd::Unknown }),
        switch,
        reload,
        list: list?,
        import: add.as_ref().and_then(|(_, import)| import.clone()),
        add: add?.0,
        remove: remove?,
        prompts,
    };
    fields.end();
    (!profile.prompts.is_empty()).then_some(profile)
}

fn needed_table<'i>(fields: &mut Fields<'_, 'i>, name: &'static str) -> Option<Spanned<RegisterTable<'i>>> {
    let table = fields.table(name);
    if table.is_none() {
        missing(fields, name);
    }
    table
}

fn missing(fields: &mut Fields<'_, '_>, name: &'static str) {
    let place = fields.place();
    fields.fault(RegisterFault::MissingField { name }, place.begin());
}

fn doing(source: SourcePart, id: &str, name: &'static str, fields: &mut Fields<'_, '_>) -> Option<Doing> {
    fields.table(name).map(|table| doing_in(source, id, table, fields.faults()))
}

fn doing_in(source: SourcePart, id: &str, table: Spanned<RegisterTable<'_>>, faults: &mut Faults) -> Doing {
    let mut own = Fields::new(source, id, table, faults);
    let how = doing_of(&mut own);
    own.end();
    how
}

fn doing_of(fields: &mut Fields<'_, '_>) -> Doing {
    Doing { send: templates(fields, "send"), says: templates(fields, "says") }
}

fn listing(source: SourcePart, id: &str, table: Spanned<RegisterTable<'_>>, faults: &mut Faults) -> Option<Listing> {
    let mut fields = Fields::new(source, id, table, faults);
    let how = doing_of(&mut fields);
    let no_account = templates(&mut fields, "no_account");
    let key = template(&mut fields, "key");
    // A key can be told from others by itself or by its data.
    let tells = |key: &Template| key.has('k') || key.has('a') && key.has('d');
    if !key.as_ref().is_some_and(tells) {
        let place = fields.place();
        fields.fault(RegisterFault::BadValue { name: "key".to_owned(), wanted: FieldKind::KeyTemplate }, place);
    }
    fields.end();
    Some(Listing { how, key: key.filter(tells)?, no_account })
}

fn switch(
    source: SourcePart,
    id: &str,
    table: Spanned<RegisterTable<'_>>,
    faults: &mut Faults,
) -> Option<PasswordSwitch> {
    let mut fields = Fields::new(source, id, table, faults);
    let [show, off, on] = ["show", "off", "on"].map(|name| {
        let table = needed_table(&mut fields, name);
        table.map(|table| doing_in(source, id, table, fields.faults()))
    });
    let are_off = templates(&mut fields, "are_off");
    if are_off.is_empty() {
        missing(&mut fields, "are_off");
    }
    fields.end();
    Some(PasswordSwitch { show: show?, are_off, off: off?, on: on? })
}

fn transfer(source: SourcePart, id: &str, fields: &mut Fields<'_, '_>) -> TransferService {
    let Some(table) = fields.table("transfer") else { return TransferService::default() };
    let mut own = Fields::new(source, id, table, fields.faults());
    let (open, close) = (doing(source, id, "open", &mut own), doing(source, id, "close", &mut own));
    own.end();
    TransferService { open: open.unwrap_or_default(), close: close.unwrap_or_default() }
}

fn import(source: SourcePart, id: &str, table: Spanned<RegisterTable<'_>>, faults: &mut Faults) -> Option<ImportFile> {
    let mut fields = Fields::new(source, id, table, faults);
    let (path, fetched) = (template(&mut fields, "path"), template(&mut fields, "fetched_from"));
    let way = match (path, fetched) {
        (Some(path), None) => Some(ImportWay::Put(path)),
        (None, Some(address)) => Some(ImportWay::Fetched(address)),
        _ => {
            missing(&mut fields, "path");
            None
        }
    };
    let file = ImportFile {
        form: fields.word("keys_form", &KeyForm::NAMES, FieldKind::KeyForm).unwrap_or_default(),
        line_ends: fields.word("line_ends", &KeyLineEnds::NAMES, FieldKind::LineEnds).unwrap_or_default(),
        way: way?,
    };
    fields.end();
    Some(file)
}

fn template(fields: &mut Fields<'_, '_>, name: &'static str) -> Option<Template> {
    let text = fields.text(name)?;
    read_template(fields, name, text)
}

fn templates(fields: &mut Fields<'_, '_>, name: &'static str) -> Vec<Template> {
    let texts = fields.texts(name);
    texts.into_iter().filter_map(|text| read_template(fields, name, text)).collect()
}

fn read_template(fields: &mut Fields<'_, '_>, name: &str, text: Placed<String>) -> Option<Template> {
    // A line is one line.
    let read = Template::parse(&text.value).filter(|_| !text.value.contains(char::is_control));
    if read.is_none() {
        fields.fault(RegisterFault::BadValue { name: name.to_owned(), wanted: FieldKind::Template }, text.place);
    }
    read
}
