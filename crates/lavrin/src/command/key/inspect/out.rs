//! The shape of `--format json`, made key by key while it is printed: a hundred thousand of them are a hundred megabytes.

use super::seen::{Inspection, Kind, Rejected, Seen};
use crate::json::KeyFinding;
use crate::ui::Ui;
use lavrin_core::key::container::certificate::{self, Certificate};
use lavrin_core::key::{PublicKey, fingerprint};
use lavrin_core::text::printable;
use rayon::prelude::*;
use schemars::JsonSchema;
use serde::Serialize;

/// Keys that are made into text before they are printed.
const KEYS_AT_ONCE: usize = 4096;

/// The schema's name.
const SCHEMA: &str = "lavrin/key-inspect/1";

/// What is printed. The whole is written in parts; this type is its schema.
#[cfg(test)]
#[derive(Debug, Serialize, JsonSchema)]
pub struct InspectOut {
    schema: &'static str,
    /// Whether all RSA keys of the run were held against each other.
    cross_checked: bool,
    /// Prime factors below this were looked for in every RSA modulus.
    small_factors_below: u32,
    /// Steps of Fermat's method that were tried to find close primes.
    fermat_steps: u32,
    keys: Vec<KeyOut>,
    rejected: Vec<RejectedOut>,
}

/// One key.
#[derive(Debug, Serialize, JsonSchema)]
pub struct KeyOut {
    pub source: String,
    pub line: usize,
    pub kind: &'static str,
    pub container: &'static str,
    pub algorithm: Option<&'static str>,
    pub bits: Option<usize>,
    pub comment: Option<String>,
    pub options: Option<String>,
    pub encrypted: bool,
    pub protection: Option<String>,
    pub unlocked: bool,
    pub fingerprint: Option<String>,
    pub fingerprint_md5: Option<String>,
    pub public_line: Option<String>,
    pub certificate: Option<CertificateOut>,
    /// Permission bits of a private file, as `0600`.
    pub mode: Option<String>,
    /// Owner of a private file.
    pub owner: Option<u32>,
    pub repairs: Vec<&'static str>,
    /// What the text of the file has that would break a key file on a server.
    pub notes: Vec<&'static str>,
    pub findings: Vec<KeyFinding>,
}

/// What a certificate says.
#[derive(Debug, Serialize, JsonSchema)]
pub struct CertificateOut {
    pub algorithm: String,
    /// `user` or `host`.
    pub kind: &'static str,
    pub key_id: String,
    pub serial: u64,
    pub principals: Vec<String>,
    /// Seconds since 1970.
    pub valid_after: u64,
    /// Seconds since 1970.
    pub valid_before: u64,
    /// Fingerprint of the authority's key.
    pub authority: String,
}

/// Something that is no key.
#[derive(Debug, Serialize, JsonSchema)]
pub struct RejectedOut {
    source: String,
    line: usize,
    reason: &'static str,
    message: String,
}

/// Prints everything, one key a line.
pub fn print(seen: &Inspection, ui: &Ui) {
    ui.part(&format!(
        "{{\n  \"schema\": \"{SCHEMA}\",\n  \"cross_checked\": {},\n  \"small_factors_below\": {},\n  \
         \"fermat_steps\": {},\n  \"keys\": [",
        seen.cross_checked,
        seen.depth.small_factors_below(),
        seen.depth.fermat_steps()
    ));
    let mut first = true;
    for chunk in seen.keys.chunks(KEYS_AT_ONCE) {
        print_lines(chunk, |key| KeyOut::of(key, seen), &mut first, ui);
    }
    ui.part(if first { "],\n  \"rejected\": [" } else { "\n  ],\n  \"rejected\": [" });
    first = true;
    print_lines(&seen.rejected, |rejected| RejectedOut::of(rejected, seen), &mut first, ui);
    ui.result(if first { "]\n}" } else { "\n  ]\n}" });
}

fn print_lines<T: Sync, O: Serialize>(things: &[T], out: impl Fn(&T) -> O + Sync, first: &mut bool, ui: &Ui) {
    let lines: Vec<String> = things.par_iter().map(|thing| crate::json::line(&out(thing))).collect();
    let mut text = String::with_capacity(lines.iter().map(|line| line.len() + 8).sum());
    for line in lines {
        text += if std::mem::take(first) { "\n    " } else { ",\n    " };
        text += &line;
    }
    ui.part(&text);
}

impl KeyOut {
    pub fn of(seen: &Seen, all: &Inspection) -> Self {
        let source = &all.sources[seen.source];
        let comment = seen.comment.as_deref().unwrap_or_default();
        let comment = String::from_utf8_lossy(comment.trim_ascii()).into_owned();
        let blob = seen.key.as_ref().map(PublicKey::blob);
        Self {
            source: source.name.clone(),
            line: seen.line,
            kind: match seen.kind {
                Kind::Public => "public",
                Kind::Private => "private",
                Kind::Certificate => "certificate",
            },
            container: seen.container,
            algorithm: seen.key.as_ref().map(|key| key.algorithm().name()),
            bits: seen.key.as_ref().map(PublicKey::bits),
            options: Some(printable(&seen.options)).filter(|options| !options.is_empty()),
            encrypted: seen.protection.is_some(),
            protection: seen.protection.clone(),
            unlocked: seen.unlocked,
            fingerprint: seen.fingerprint.map(|print| print.to_string()),
            fingerprint_md5: blob.as_deref().map(fingerprint::md5_form),
            public_line: seen
                .key
                .as_ref()
                .zip(blob.as_deref())
                .map(|(key, blob)| key.line_with(blob, &printable(comment.as_bytes()))),
            comment: Some(comment).filter(|comment| !comment.is_empty()),
            certificate: seen.certificate.as_deref().map(CertificateOut::of),
            mode: seen.file.map(|(mode, _)| crate::wording::mode(mode)),
            owner: seen.file.map(|(_, owner)| owner),
            repairs: seen.repairs.clone(),
            notes: source.notes.iter().map(|note| crate::wording::text_note(*note)).collect(),
            findings: seen.findings.iter().map(|finding| KeyFinding::of(finding, &source.name)).collect(),
        }
    }
}

impl RejectedOut {
    fn of(rejected: &Rejected, all: &Inspection) -> Self {
        Self {
            source: all.sources[rejected.source].name.clone(),
            line: rejected.line,
            reason: rejected.reason,
            message: rejected.message.clone(),
        }
    }
}

impl CertificateOut {
    fn of(certificate: &Certificate) -> Self {
        Self {
            algorithm: certificate::name_of(&certificate.key),
            kind: certificate.kind,
            key_id: certificate.key_id.clone(),
            serial: certificate.serial,
            principals: certificate.principals.clone(),
            valid_after: certificate.valid_after,
            valid_before: certificate.valid_before,
            authority: certificate.authority.to_string(),
        }
    }
}
