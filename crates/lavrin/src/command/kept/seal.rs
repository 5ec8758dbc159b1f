//! `lavrin kept seal`

use super::list::{holders, recipients_are};
use super::recipients::{Recipients, administrators};
use super::record::{KeptKeyDeed, place, record};
use super::sealed::{LyingSeal, lying, open, set_back};
use super::{KeptName, OpenerArgs, SealOpener};
use crate::command::change::{self, ChangeArgs};
use crate::command::register::{OpenedRegister, RegisterArgs, change_file, check_reads, edit_fault, today};
use crate::command::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::secret::PassphraseArgs;
use crate::table::columns;
use crate::ui::{Label, Ui};
use clap::Args;
use lavrin_fleet::register::edit_kept::{set_administrators, set_sealed_for};
use lavrin_fleet::register::kept::{file, sealed_file};
use lavrin_fleet::register::{KeptAccount, KeptVersion, OwnedKey};
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::text::count;
use lavrin_seal::SealedFile;
use lavrin_work::kept::comment_of;
use serde::Serialize;
use std::collections::BTreeSet;

/// The file that names the administrators.
const MAIN: &str = lavrin_store::register::MAIN_FILE;

/// Seal again for the administrators of today
#[derive(Debug, Args)]
pub struct SealArgs {
    /// Only these accounts (default: all)
    #[arg(value_name = "ACCOUNT@HOST")]
    pub names: Vec<KeptName>,
    /// Set the administrators in the register, then seal
    #[arg(long, value_name = "PERSON,…", value_delimiter = ',')]
    pub administrators: Vec<String>,
    #[command(flatten)]
    opener: OpenerArgs,
    #[command(flatten)]
    passphrase: PassphraseArgs,
    #[command(flatten)]
    change: ChangeArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeptSealOut {
    schema: &'static str,
    administrators: Vec<String>,
    kept: Vec<SealedAgainOut>,
}

/// One version of a kept key.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SealedAgainOut {
    account: String,
    host: String,
    version: u32,
    /// `as-it-should-be`, `sealed-again`, `to-be-sealed` (in a preview) or `not-opened`.
    state: &'static str,
    /// Who can open it from now on and could not before.
    came: Vec<String>,
    /// Who cannot open it any more; they may have a copy all the same.
    gone: Vec<String>,
    why: Option<String>,
}

/// A version that is not sealed as it should be.
struct ToSeal<'a> {
    kept: &'a KeptAccount,
    key: &'a OwnedKey,
    version: &'a KeptVersion,
    text: Option<String>,
    came: Vec<String>,
    gone: Vec<String>,
}

/// Runs the command.
pub fn run(args: &SealArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let before = args.register.open()?;
    check_reads(&before)?;
    let named = named(args, &before)?;
    let wanted = match &named {
        Some(text) => before.with(MAIN, text),
        None => before.clone(),
    };
    let recipients = administrators(wanted.register())?;
    for (person, why) in &recipients.unable {
        ui.warn(&format!("{person} is left out: {why}"));
    }
    let kept: Vec<&KeptAccount> = if args.names.is_empty() {
        wanted.register().kept.iter().collect()
    } else {
        args.names.iter().map(|name| name.of(wanted.register())).collect::<Result<_, _>>()?
    };
    let (mut rows, mut todo) = (Vec::new(), Vec::new());
    for kept in kept {
        for (key, version) in kept.all().filter(|(key, _)| key.is_active(today())) {
            match to_seal(&wanted, kept, (key, version), &recipients) {
                Some(one) => todo.push(one),
                None => rows.push(row(kept, version.number, "as-it-should-be", None)),
            }
        }
    }
    if !todo.is_empty() || named.is_some() {
        ui.status(&format!("administrators: {}", recipients.words()));
        for one in &todo {
            ui.status(&intent(one));
        }
    }
    if args.change.preview {
        rows.extend(todo.iter().map(|one| of(one, "to-be-sealed", None)));
        return Ok(print(rows, &recipients, ui));
    }
    if !todo.is_empty() || named.is_some() {
        change::confirm(ui, &args.change)?;
    }
    let mut opened = match &named {
        Some(text) => change_file(&before, ui, MAIN, text)?,
        None => before,
    };
    let mut opener = SealOpener::new(&args.opener, None, args.passphrase.given());
    for one in &todo {
        match seal_again(args, &mut opened, one, &recipients, &mut opener, ui) {
            Ok(()) => rows.push(of(one, "sealed-again", None)),
            Err(fault) => rows.push(of(one, "not-opened", Some(fault.in_one_line()))),
        }
    }
    Ok(print(rows, &recipients, ui))
}

/// The main file with other administrators, where they were named.
fn named(args: &SealArgs, opened: &OpenedRegister) -> Result<Option<String>, CommandError> {
    if args.administrators.is_empty() {
        return Ok(None);
    }
    args.administrators.iter().try_for_each(|id| unknown::person(opened.register(), id).map(drop))?;
    let old = opened.text(MAIN).unwrap_or_default();
    let new = set_administrators(old, &args.administrators).map_err(edit_fault(MAIN))?;
    Ok((new != old).then_some(new))
}

/// What is to be done about a version; none where exactly the administrators can open it.
fn to_seal<'a>(
    opened: &OpenedRegister,
    kept: &'a KeptAccount,
    (key, version): (&'a OwnedKey, &'a KeptVersion),
    recipients: &Recipients<'_>,
) -> Option<ToSeal<'a>> {
    let LyingSeal::Sealed(sealed, text) = lying(opened, kept, version.number) else {
        return Some(ToSeal { kept, key, version, text: None, came: Vec::new(), gone: Vec::new() });
    };
    if recipients_are(&sealed, recipients) {
        return None;
    }
    let (now, others) = holders(&sealed, opened.register());
    let wanted: BTreeSet<String> = recipients.names().into_iter().collect();
    let mut gone: Vec<String> = now.iter().filter(|person| !wanted.contains(*person)).cloned().collect();
    if others > 0 {
        gone.push(count(others, "key that the register does not know", "keys that the register does not know"));
    }
    let came = wanted.into_iter().filter(|person| !now.contains(person)).collect();
    Some(ToSeal { kept, key, version, text: Some(text), came, gone })
}

fn intent(one: &ToSeal<'_>) -> String {
    let mut parts = Vec::new();
    if !one.came.is_empty() {
        parts.push(format!("for {} too", one.came.join(", ")));
    }
    if !one.gone.is_empty() {
        parts.push(format!("no longer for {}", one.gone.join(", ")));
    }
    let how = if parts.is_empty() { "for the keys of today".to_owned() } else { parts.join(", ") };
    format!("  {} version {}: sealed again, {how}", one.kept.name(), one.version.number)
}

fn seal_again(
    args: &SealArgs,
    opened: &mut OpenedRegister,
    one: &ToSeal<'_>,
    recipients: &Recipients<'_>,
    opener: &mut SealOpener,
    ui: &Ui,
) -> Result<(), CommandError> {
    set_back(opened, one.kept)?;
    let unsealed = open(opened, one.kept, (one.key, one.version), opener)?;
    let (account, host, number) = place(one.kept, one.version.number);
    let comment = comment_of(account, host, &number.to_string());
    let fault = |fault: lavrin_seal::SealFault| CommandError::with(Exit::Stopped, fault.to_string());
    let sealed = lavrin_seal::seal(&unsealed.key, &comment, &recipients.keys(), &SystemSource).map_err(fault)?;
    SealedFile::read(sealed.as_bytes()).map_err(fault)?;
    // For whom it is sealed from now on stands in the register before anybody can open it.
    let path = file(account, host);
    let mut ever: Vec<String> = one.version.sealed_for.iter().map(|person| person.value.clone()).collect();
    ever.extend(recipients.names().into_iter().filter(|person| !one.version.knows(person)));
    let old = opened.text(&path).unwrap_or_default().to_owned();
    let new = set_sealed_for(&old, number, &ever).map_err(edit_fault(&path))?;
    if new != old {
        *opened = change_file(opened, ui, &path, &new)?;
    }
    opened.folder.save(&sealed_file(account, host, number), one.text.as_deref(), &sealed)?;
    let reason = args.change.reason.as_deref();
    record(opened, KeptKeyDeed::SealedAgain, (account, host, number), one.key.fingerprint, &recipients.names(), reason)
}

fn row(kept: &KeptAccount, version: u32, state: &'static str, why: Option<String>) -> SealedAgainOut {
    let (account, host) = (kept.account.clone(), kept.host.clone());
    SealedAgainOut { account, host, version, state, came: Vec::new(), gone: Vec::new(), why }
}

fn of(one: &ToSeal<'_>, state: &'static str, why: Option<String>) -> SealedAgainOut {
    let (came, gone) = (one.came.clone(), one.gone.clone());
    SealedAgainOut { came, gone, ..row(one.kept, one.version.number, state, why) }
}

fn print(rows: Vec<SealedAgainOut>, recipients: &Recipients<'_>, ui: &Ui) -> Exit {
    let exit = if rows.iter().any(|row| row.state == "not-opened") { Exit::NotChecked } else { Exit::Done };
    let out = KeptSealOut { schema: "lavrin/kept-seal/1", administrators: recipients.names(), kept: rows };
    ui.give(&out, || text(&out, ui));
    exit
}

fn text(out: &KeptSealOut, ui: &Ui) -> String {
    let row = |one: &SealedAgainOut| {
        let (words, label) = match one.state {
            "as-it-should-be" => ("as it should be", Label::Good),
            "sealed-again" => ("sealed again", Label::Good),
            "to-be-sealed" => ("to be sealed again", Label::Strong),
            _ => ("not opened", Label::Bad),
        };
        let name = format!("{}@{}", one.account, one.host);
        vec![
            ui.paint(label, words),
            ui.paint(Label::Strong, &name),
            format!("version {}", one.version),
            one.why.clone().unwrap_or_default(),
        ]
    };
    let rows: Vec<Vec<String>> = out.kept.iter().map(row).collect();
    let mut text: String = columns(&rows, 0).into_iter().map(|line| line + "\n").collect();
    text += &format!("sealed for {}: {}", out.administrators.join(", "), count(out.kept.len(), "version", "versions"));
    for one in out.kept.iter().filter(|one| !one.gone.is_empty() && one.state == "sealed-again") {
        let next = crate::cli::complete(&format!("lavrin rotate --account {}@{}", one.account, one.host));
        text += &format!("\n{} may have a copy; to make it worth nothing: {next}", one.gone.join(", "));
    }
    text
}
