//! `lavrin history --verify`: is a statement as it was signed, and does the signature count?

use crate::clock;
use crate::command::offboard::{HASH_MARK, NAMESPACE, beside, hex};
use crate::command::register::{OpenedRegister, RegisterArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::{Label, Ui};
use crate::{input, paths};
use lavrin_fleet::fleet::{Index, Owner};
use lavrin_keys::key::PublicKey;
use lavrin_keys::key::signature::{Signature, SignatureFault};
use lavrin_keys::signers::{self, SignerFault};
use lavrin_keys::text::{printable, shell_word};
use lavrin_server::survey::snapshot::hash;
use serde::Serialize;
use std::path::Path;

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct VerifyOut {
    schema: &'static str,
    file: String,
    /// Whether it is as it was signed, by somebody whose signature counts.
    valid: bool,
    /// Who signed, by the list of signers or by the register.
    by: Option<String>,
    key: Option<String>,
    /// The part for programs: `as-signed`, `altered`, or `missing`.
    json: &'static str,
    /// Why it is not valid.
    why: Option<String>,
}

/// Runs it.
pub fn run(path: &Path, signers: Option<&Path>, register: &RegisterArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let text = input::bytes(path)?;
    let signature = beside(path, "sig");
    let signature = Signature::read(&input::bytes(&signature)?);
    let json = json_part(path, &text)?;
    let checked = signature.and_then(|signature| signature.check(NAMESPACE, &text).map(|()| signature));
    let (by, key, why) = match checked {
        Err(fault) => (None, None, Some(words(&fault))),
        Ok(signature) => {
            let print = signature.key.fingerprint().to_string();
            let by = match signers {
                Some(path) => by_list(path, &signature.key, ui)?,
                None => by_register(register, &signature.key)?,
            };
            let why = by.is_none().then(|| match signers {
                Some(path) => format!("the list {} lets nobody sign with this key", paths::shown(path)),
                None => "no person of the register has this key".to_owned(),
            });
            (by, Some(print), why)
        }
    };
    let why =
        why.or_else(|| (json == "altered").then(|| "the part for programs is not the one that was signed".to_owned()));
    let file = paths::shown(path);
    let out = VerifyOut { schema: "lavrin/history-verify/1", file, valid: why.is_none(), by, key, json, why };
    ui.give(&out, || words_of(&out, ui));
    Ok(if out.valid { Exit::Done } else { Exit::Findings })
}

/// Whether the part for programs has the hash that stands in the part for people.
fn json_part(path: &Path, text: &[u8]) -> Result<&'static str, CommandError> {
    let json = beside(path, "json");
    if !json.is_file() {
        return Ok("missing");
    }
    let text = String::from_utf8_lossy(text);
    let told = text.trim_end().rsplit_once(HASH_MARK).map(|(_, told)| told.trim().to_owned());
    let now = hex(&hash(&input::bytes(&json)?));
    let is_it = told.is_some_and(|told| told == now);
    Ok(if is_it { "as-signed" } else { "altered" })
}

/// The names that the list has for this key.
fn by_list(path: &Path, key: &PublicKey, ui: &Ui) -> Result<Option<String>, CommandError> {
    let (known, odd) = signers::read(&input::bytes(path)?);
    for (line, fault) in odd {
        let why = match fault {
            SignerFault::NotUnderstood => "it is not understood".to_owned(),
            SignerFault::Option(option) => format!("the option {option} is not known here"),
            SignerFault::Authority => "certificates are not checked here".to_owned(),
        };
        ui.warn(&format!("{} line {line} lets nobody sign: {why}", paths::shown(path)));
    }
    let mut fitting = known.iter().filter(|signer| signer.key == *key && signer.allows(NAMESPACE, clock::unix()));
    Ok(fitting.next().map(|signer| printable(signer.principals.as_bytes())))
}

/// The person of the register whose key this is, also one that is retired: it may have been in use when it signed.
fn by_register(register: &RegisterArgs, key: &PublicKey) -> Result<Option<String>, CommandError> {
    let opened: OpenedRegister = register.open()?;
    Ok(match Index::of(opened.register()).owner(key.fingerprint()) {
        Some(Owner::Person { id, .. }) => Some(id.clone()),
        _ => None,
    })
}

fn words(fault: &SignatureFault) -> String {
    match fault {
        SignatureFault::NotASignature => "what stands in the signature file is no SSH signature".to_owned(),
        SignatureFault::Version(version) => format!("the signature has version {version}, and only 1 is known"),
        SignatureFault::Hash(name) => format!("the signature is over a hash that is not known: {name}"),
        SignatureFault::Algorithm(name) => format!("signatures of this kind do not count: {name}"),
        SignatureFault::Namespace(name) => format!("it was signed for something else ({name}), not as a statement"),
        SignatureFault::Wrong => "the text or the signature was altered".to_owned(),
    }
}

fn words_of(out: &VerifyOut, ui: &Ui) -> String {
    let file = shell_word(&out.file);
    let key = out.key.clone().unwrap_or_default();
    if let Some(why) = &out.why {
        return format!("{}  {file}: {why} {key}", ui.paint(Label::Bad, "NOT VALID")).trim_end().to_owned();
    }
    let json = if out.json == "missing" { "; the part for programs is not there" } else { "" };
    let by = out.by.as_deref().unwrap_or_default();
    format!(
        "{}  {file}: as it was signed, by {}  {key}{json}",
        ui.paint(Label::Good, "valid"),
        ui.paint(Label::Strong, by)
    )
}
