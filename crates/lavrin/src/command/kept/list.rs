//! `lavrin kept list`

use super::recipients::{Recipients, administrators};
use super::sealed::{LyingSeal, lying};
use super::{KeptName, remembered};
use crate::clock;
use crate::command::register::{OpenedRegister, RegisterArgs, today};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::table::columns;
use crate::ui::{Label, Ui};
use clap::Args;
use lavrin_fleet::register::kept::{FOLDER, sealed_file};
use lavrin_fleet::register::{Date, KeptAccount, KeptVersion, OwnedKey, Person, Register};
use lavrin_keys::key::PublicKey;
use lavrin_keys::text::{count, printable};
use lavrin_seal::SealedFile;
use lavrin_work::kept::RememberedVersions;
use serde::Serialize;
use std::collections::BTreeSet;

/// Show which keys are kept, for whom each is sealed, and what is wrong with it
#[derive(Debug, Args)]
pub struct KeptListArgs {
    /// Only these accounts (default: all)
    #[arg(value_name = "ACCOUNT@HOST")]
    pub names: Vec<KeptName>,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeptListOut {
    schema: &'static str,
    kept: Vec<KeptOut>,
    /// Files in the folder that belong to no version in use.
    strays: Vec<String>,
    /// Administrators for whom nothing can be sealed, and why.
    unable: Vec<UnableOut>,
}

/// An administrator for whom nothing can be sealed.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct UnableOut {
    person: String,
    why: String,
}

/// One kept key: its version in use.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct KeptOut {
    account: String,
    host: String,
    version: u32,
    key: String,
    algorithm: &'static str,
    bits: usize,
    /// People who can open it now.
    sealed_for: Vec<String>,
    /// Holders of other keys who can open it now.
    others: usize,
    /// People who may have a copy: for whom it was ever sealed, or to whom it was handed out.
    known_to: Vec<String>,
    added: Option<String>,
    /// When it last opened the account.
    proven: Option<String>,
    /// The newer version that is not proven yet, where there is one.
    next: Option<u32>,
    /// What is wrong.
    faults: Vec<String>,
}

/// Runs the command.
pub fn run(args: &KeptListArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_to_report(ui)?;
    let register = opened.register();
    let named: Vec<&KeptAccount> = if args.names.is_empty() {
        register.kept.iter().collect()
    } else {
        args.names.iter().map(|name| name.of(register)).collect::<Result<_, _>>()?
    };
    let remembered = remembered(&opened)?;
    let kept: Vec<KeptOut> = named.into_iter().filter_map(|kept| one(kept, &opened, &remembered)).collect();
    let strays = if args.names.is_empty() { strays(&opened)? } else { Vec::new() };
    let unable = administrators(register).map(|all| all.unable).unwrap_or_default();
    let unable: Vec<UnableOut> = unable.into_iter().map(|(person, why)| UnableOut { person, why }).collect();
    let is_fine = unable.is_empty() && kept.iter().all(|kept| kept.faults.is_empty()) && strays.is_empty();
    let out = KeptListOut { schema: "lavrin/kept-list/1", kept, strays, unable };
    ui.give(&out, || text(&out, ui));
    Ok(if is_fine { Exit::Done } else { Exit::Findings })
}

fn one(kept: &KeptAccount, opened: &OpenedRegister, remembered: &RememberedVersions) -> Option<KeptOut> {
    let in_use = kept.current(today());
    let (key, version) = in_use.or_else(|| kept.all().next_back())?;
    let register = opened.register();
    let lying = lying(opened, kept, version.number);
    let (sealed_for, others) = match &lying {
        LyingSeal::Sealed(sealed, _) => holders(sealed, register),
        _ => (Vec::new(), 0),
    };
    let mut newer = kept.all().filter(|(key, other)| key.is_active(today()) && other.number > version.number);
    Some(KeptOut {
        account: kept.account.clone(),
        host: kept.host.clone(),
        version: version.number,
        key: key.fingerprint.to_string(),
        algorithm: key.key.algorithm().name(),
        bits: key.key.bits(),
        faults: match in_use {
            Some(_) => faults(kept, (key, version), &lying, register, remembered),
            None => vec!["no version is in use".to_owned()],
        },
        sealed_for,
        others,
        known_to: kept.known_to(version.number).into_iter().map(str::to_owned).collect(),
        added: key.added.map(|day| day.to_string()),
        proven: version.proven.map(|day| day.to_string()),
        next: newer.next_back().map(|(_, other)| other.number),
    })
}

/// The people of the register who can open it, and how many others can.
pub fn holders(sealed: &SealedFile, register: &Register) -> (Vec<String>, usize) {
    let can = |person: &&Person| person.keys.iter().any(|key| sealed.is_for(&key.key));
    let people = register.people.values().filter(can).map(|person| person.id.clone()).collect();
    let keys: Vec<&PublicKey> = register.people.values().flat_map(|person| &person.keys).map(|key| &key.key).collect();
    (people, sealed.others_than(&keys))
}

fn faults(
    kept: &KeptAccount,
    (key, version): (&OwnedKey, &KeptVersion),
    lying: &LyingSeal,
    register: &Register,
    remembered: &RememberedVersions,
) -> Vec<String> {
    let mut faults = Vec::new();
    if let Some((newer, time)) = remembered.newer_than(kept) {
        let day = time.get(..10).unwrap_or(time);
        faults.push(format!("the register was set back: version {newer} came on {day}, and it does not know it"));
    }
    match lying {
        LyingSeal::Missing => faults.push("the sealed file is missing".to_owned()),
        LyingSeal::Damaged(why) => faults.push(format!("the sealed file is damaged: {why}")),
        LyingSeal::Sealed(sealed, _) => faults.extend(not_as_wanted(sealed, register)),
    }
    for person in kept.known_to(version.number) {
        if let Some(left) = register.people.get(person).filter(|known| known.has_left(today())) {
            let day = left.left.as_ref().map(|left| format!(" on {}", left.value)).unwrap_or_default();
            faults.push(format!("{person}, who left{day}, may have a copy"));
        }
    }
    if let (Some(limit), Some(added)) = (register.rules.key_age_days_max, key.added) {
        let days = today().number() - added.number();
        if days > limit {
            faults.push(format!("{days} days old, and {limit} are allowed"));
        }
    }
    faults
}

/// Who should be able to open it and cannot, and who can and should not.
fn not_as_wanted(sealed: &SealedFile, register: &Register) -> Vec<String> {
    let Ok(wanted) = administrators(register) else { return vec!["no administrator could open a new one".to_owned()] };
    let mut faults = Vec::new();
    let without: Vec<&str> = wanted
        .people
        .iter()
        .filter(|(_, keys)| !keys.iter().all(|key| sealed.is_for(key)))
        .map(|(person, _)| person.id.as_str())
        .collect();
    if !without.is_empty() {
        faults.push(format!("not sealed for every key of {}", without.join(", ")));
    }
    let all: BTreeSet<&str> = wanted.people.iter().map(|(person, _)| person.id.as_str()).collect();
    let (people, others) = holders(sealed, register);
    let too_many: Vec<String> = people.into_iter().filter(|person| !all.contains(person.as_str())).collect();
    if !too_many.is_empty() {
        faults.push(format!("sealed for {}, who is no administrator", too_many.join(", ")));
    }
    if others > 0 {
        faults.push(format!("sealed for {} that the register does not know", count(others, "key", "keys")));
    }
    if faults.is_empty() && !recipients_are(sealed, &wanted) {
        faults.push("sealed for a key that is retired".to_owned());
    }
    faults
}

/// Whether exactly these can open it.
pub fn recipients_are(sealed: &SealedFile, wanted: &Recipients<'_>) -> bool {
    let keys = wanted.keys();
    keys.iter().all(|key| sealed.is_for(key)) && sealed.others_than(&keys) == 0
}

/// Sealed files that no version in use accounts for: those of a run that was killed, or of a version that is retired.
fn strays(opened: &OpenedRegister) -> Result<Vec<String>, CommandError> {
    let known: BTreeSet<String> = opened
        .register()
        .kept
        .iter()
        .flat_map(|kept| {
            let active = kept.all().filter(|(key, _)| key.is_active(today()));
            active.map(|(_, version)| sealed_file(&kept.account, &kept.host, version.number))
        })
        .collect();
    let names = opened.folder.names_in(FOLDER)?.into_iter().filter(|name| name.ends_with(".age"));
    let paths = names.map(|name| format!("{FOLDER}/{name}")).filter(|path| !known.contains(path));
    Ok(paths.map(|path| printable(path.as_bytes())).collect())
}

/// Whether nothing else tells that somebody may have a copy.
fn is_news(one: &KeptOut, person: &str) -> bool {
    let told = format!("{person}, who left");
    !one.sealed_for.iter().any(|other| other == person) && !one.faults.iter().any(|fault| fault.starts_with(&told))
}

/// When it was made, as a person says it.
fn made(one: &KeptOut) -> String {
    let added = one.added.as_deref().and_then(Date::parse);
    added.map(|day| format!("made {}", clock::ago(day.number() * 86_400))).unwrap_or_default()
}

fn text(out: &KeptListOut, ui: &Ui) -> String {
    let row = |one: &KeptOut| {
        let mut sealed_for = one.sealed_for.clone();
        if one.others > 0 {
            sealed_for.push(count(one.others, "unknown key", "unknown keys"));
        }
        let sealed_for = if sealed_for.is_empty() { ui.paint(Label::Bad, "nobody") } else { sealed_for.join(", ") };
        let proven = match &one.proven {
            Some(day) => format!("opened the account on {day}"),
            None => ui.paint(Label::Warn, "not proven yet"),
        };
        vec![
            ui.paint(Label::Strong, &format!("{}@{}", one.account, one.host)),
            format!("version {}", one.version),
            format!("{} {}", one.algorithm, one.bits),
            made(one),
            format!("sealed for {sealed_for}"),
            proven,
        ]
    };
    let rows: Vec<Vec<String>> = out.kept.iter().map(row).collect();
    let mut text = String::new();
    for (line, one) in columns(&rows, 0).into_iter().zip(&out.kept) {
        text += &format!("{line}\n    {}\n", one.key);
        let more: Vec<&str> = one.known_to.iter().map(String::as_str).filter(|person| is_news(one, person)).collect();
        if !more.is_empty() {
            text += &format!("    may have a copy too: {}\n", more.join(", "));
        }
        if let Some(next) = one.next {
            let name = format!("{}@{}", one.account, one.host);
            let next = crate::cli::complete(&format!("version {next} is on its way: lavrin rotate --account {name}"));
            text += &format!("    {}\n", ui.paint(Label::Warn, &next));
        }
        text += &one.faults.iter().map(|fault| format!("    {}\n", ui.paint(Label::Bad, fault))).collect::<String>();
    }
    for stray in &out.strays {
        text += &format!("{}\n", ui.paint(Label::Warn, &format!("{stray} belongs to no version in use")));
    }
    for one in &out.unable {
        text += &format!("{}\n", ui.paint(Label::Warn, &format!("{} can open none: {}", one.person, one.why)));
    }
    text += &count(out.kept.len(), "kept key", "kept keys");
    let has = |word: &str| out.kept.iter().any(|one| one.faults.iter().any(|fault| fault.contains(word)));
    if has("sealed for") {
        text += &format!("\nto seal again: {}", ui.paint(Label::Type, &crate::cli::complete("lavrin kept seal")));
    }
    if let Some(one) = out.kept.iter().find(|one| one.faults.iter().any(|fault| fault.contains("may have a copy"))) {
        let next = crate::cli::complete(&format!("lavrin rotate --account {}@{}", one.account, one.host));
        text += &format!("\nto replace one: {}", ui.paint(Label::Type, &next));
    }
    text
}
