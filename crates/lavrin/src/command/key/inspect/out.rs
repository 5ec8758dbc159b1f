//! The shape of `--format json`, made key by key while it is printed: a hundred thousand of them are a hundred megabytes.

use super::seen::{Inspection, RejectedPiece, SeenKey, SeenKind};
use crate::json::KeyFinding;
use crate::ui::Ui;
use lavrin_keys::key::container::certificate::{self, Certificate};
use lavrin_keys::key::{PublicKey, fingerprint};
use lavrin_keys::text::printable;
use lavrin_report::object::ObjectWriter;
use rayon::prelude::*;
use serde::Serialize;
use std::borrow::Cow;

/// Keys that one core makes into text at once.
const LINES_OF_ONE: usize = 64;

/// Room for a key, in bytes; most take less.
const LINE_ROOM: usize = 1024;

/// The schema's name.
const SCHEMA: &str = "lavrin/key-inspect/1";

/// What is printed. The whole is written in parts; this type is its schema.
#[cfg(test)]
#[derive(Debug)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[expect(dead_code, reason = "only its shape is asked for")]
pub struct InspectOut {
    schema: &'static str,
    keys: Vec<KeyOut<'static>>,
    rejected: Vec<RejectedOut<'static>>,
    /// Whether all RSA keys of the run were held against each other.
    cross_checked: bool,
    /// Prime factors below this were looked for in every RSA modulus.
    small_factors_below: u32,
    /// Steps of Fermat's method that were tried to find close primes.
    fermat_steps: u32,
}

/// One key.
#[derive(Debug)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeyOut<'a> {
    pub source: &'a str,
    pub line: usize,
    pub kind: SeenKind,
    pub container: &'static str,
    pub algorithm: Option<&'static str>,
    pub bits: Option<usize>,
    pub comment: Option<Cow<'a, str>>,
    pub options: Option<String>,
    pub encrypted: bool,
    pub protection: Option<&'a str>,
    pub unlocked: bool,
    pub fingerprint: Option<String>,
    pub fingerprint_md5: Option<String>,
    pub public_line: Option<String>,
    pub certificate: Option<CertificateOut>,
    /// Permission bits of a private file, as `0600`.
    pub mode: Option<String>,
    /// Owner of a private file.
    pub owner: Option<u32>,
    pub repairs: &'a [&'static str],
    /// What the text of the file has that would break a key file on a server.
    pub notes: Vec<&'static str>,
    pub findings: Vec<KeyFinding>,
}

/// What a certificate says.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
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
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct RejectedOut<'a> {
    source: &'a str,
    line: usize,
    reason: &'static str,
    message: &'a str,
}

/// Prints one key a line, as they come.
pub struct Printer<'a> {
    ui: &'a Ui,
    /// Whether nothing stands in the list yet.
    first: bool,
}

impl<'a> Printer<'a> {
    /// Opens the list of keys.
    pub fn begin(ui: &'a Ui) -> Self {
        ui.part(&format!("{{\n  \"schema\": \"{SCHEMA}\",\n  \"keys\": ["));
        Self { ui, first: true }
    }

    /// Prints those keys that have not been let go.
    pub fn keys(&mut self, seen: &Inspection) {
        self.lines(&seen.keys, |key, out| KeyOut::of(key, seen).add_to(out));
    }

    /// Closes the list and prints the rest.
    pub fn end(&mut self, seen: &Inspection) {
        self.close();
        self.ui.part(",\n  \"rejected\": [");
        self.first = true;
        self.lines(&seen.rejected, |rejected, out| crate::json::add_line(out, &RejectedOut::of(rejected, seen)));
        self.close();
        self.ui.result(&format!(
            ",\n  \"cross_checked\": {},\n  \"small_factors_below\": {},\n  \"fermat_steps\": {}\n}}",
            seen.cross_checked,
            seen.depth.small_factors_below(),
            seen.depth.fermat_steps()
        ));
    }

    fn close(&self) {
        self.ui.part(if self.first { "]" } else { "\n  ]" });
    }

    fn lines<T: Sync>(&mut self, things: &[T], add: impl Fn(&T, &mut Vec<u8>) + Sync) {
        let parts = things.par_chunks(LINES_OF_ONE).map(|some| {
            let mut text = Vec::with_capacity(some.len() * LINE_ROOM);
            for thing in some {
                text.extend_from_slice(b",\n    ");
                add(thing, &mut text);
            }
            text
        });
        for text in parts.collect::<Vec<_>>() {
            // No comma in front of the first.
            self.ui.part(&text[usize::from(std::mem::take(&mut self.first))..]);
        }
    }
}

/// Nearly everything is text, which is told quickly.
fn text(bytes: &[u8]) -> Cow<'_, str> {
    std::str::from_utf8(bytes).map_or_else(|_| String::from_utf8_lossy(bytes), Cow::Borrowed)
}

impl<'a> KeyOut<'a> {
    pub fn of(seen: &'a SeenKey, all: &'a Inspection) -> Self {
        let source = &all.sources[seen.source];
        let comment = text(seen.comment.as_deref().unwrap_or_default().trim_ascii());
        let blob = seen.key.as_ref().map(PublicKey::blob);
        Self {
            source: &source.name,
            line: seen.line,
            kind: seen.kind,
            container: seen.container,
            algorithm: seen.key.as_ref().map(|key| key.algorithm().name()),
            bits: seen.key.as_ref().map(PublicKey::bits),
            options: (!seen.options.is_empty()).then(|| printable(&seen.options)),
            encrypted: seen.protection.is_some(),
            protection: seen.protection.as_deref(),
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
            repairs: &seen.repairs,
            notes: source.notes.iter().map(|note| crate::wording::text_note(*note)).collect(),
            findings: seen.findings.iter().map(|finding| KeyFinding::of(finding, &source.name)).collect(),
        }
    }

    /// Adds the key on one line; a test holds the names against the schema.
    fn add_to(&self, out: &mut Vec<u8>) {
        ObjectWriter::of(out)
            .text("source", self.source)
            .value("line", &self.line)
            .text("kind", self.kind.name())
            .text("container", self.container)
            .text("algorithm", self.algorithm)
            .value("bits", &self.bits)
            .text("comment", self.comment.as_deref())
            .text("options", self.options.as_deref())
            .value("encrypted", &self.encrypted)
            .text("protection", self.protection)
            .value("unlocked", &self.unlocked)
            .text("fingerprint", self.fingerprint.as_deref())
            .text("fingerprint_md5", self.fingerprint_md5.as_deref())
            .text("public_line", self.public_line.as_deref())
            .value("certificate", &self.certificate)
            .text("mode", self.mode.as_deref())
            .value("owner", &self.owner)
            .value("repairs", &self.repairs)
            .value("notes", &self.notes)
            .value("findings", &self.findings)
            .end();
    }
}

impl<'a> RejectedOut<'a> {
    fn of(rejected: &'a RejectedPiece, all: &'a Inspection) -> Self {
        Self {
            source: &all.sources[rejected.source].name,
            line: rejected.line,
            reason: rejected.reason,
            message: &rejected.message,
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_written_with_the_fields_of_its_schema() {
        let key = KeyOut {
            source: "a \"list\"",
            line: 7,
            kind: SeenKind::Public,
            container: "line",
            algorithm: Some("ssh-ed25519"),
            bits: Some(256),
            comment: Some(Cow::Borrowed("edda\t\\ \u{1}ä")),
            options: None,
            encrypted: false,
            protection: None,
            unlocked: true,
            fingerprint: Some("SHA256:abc".to_owned()),
            fingerprint_md5: None,
            public_line: None,
            certificate: None,
            mode: None,
            owner: Some(0),
            repairs: &["put together from several lines"],
            notes: vec![],
            findings: vec![],
        };
        let mut line = Vec::new();
        key.add_to(&mut line);
        let written: serde_json::Map<String, serde_json::Value> = serde_json::from_slice(&line).unwrap();
        let schema = serde_json::to_value(schemars::schema_for!(KeyOut)).unwrap();
        let names: Vec<&String> = schema["properties"].as_object().unwrap().keys().collect();
        assert_eq!(written.keys().collect::<Vec<_>>(), names);
        assert_eq!(written["source"], "a \"list\"");
        assert_eq!(written["line"], 7);
        assert_eq!(written["comment"], "edda\t\\ \u{1}ä");
        assert_eq!(written["options"], serde_json::Value::Null);
        assert_eq!(written["repairs"][0], "put together from several lines");
    }
}
