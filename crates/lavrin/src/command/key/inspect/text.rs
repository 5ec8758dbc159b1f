//! An inspection in words: every detail of a few keys, a list of many.

use super::out::{CertificateOut, KeyOut};
use super::seen::{Inspection, SeenKey, SeenKind};
use crate::finding_text::FindingText;
use crate::json::KeyFinding;
use crate::paths;
use crate::table;
use crate::ui::{Label, Ui};
use crate::wording::text_note;
use lavrin_keys::key::strength::Depth;
use lavrin_keys::text::{count, printable};
use lavrin_server::finding::Severity;
use rayon::prelude::*;
use std::path::Path;

/// Up to so many things are told with every detail.
const DETAILED_MAX: usize = 4;

/// Prints a list as it comes.
pub(super) struct ListPrinter<'a> {
    ui: &'a Ui,
    /// How wide each column was so far; none as long as nothing was listed.
    widths: Vec<usize>,
}

impl<'a> ListPrinter<'a> {
    pub fn new(ui: &'a Ui) -> Self {
        Self { ui, widths: Vec::new() }
    }

    /// Lists the keys and lets them go. A few wait until it is known that nothing else follows.
    pub fn keys(&mut self, seen: &mut Inspection) {
        if !self.widths.is_empty() || seen.keys.len() > DETAILED_MAX {
            let text = list(seen, &mut self.widths, self.ui);
            self.ui.part(&text);
            seen.let_go();
        }
    }

    /// Prints everything else.
    pub fn end(mut self, seen: &Inspection) {
        let text = if self.widths.is_empty() && seen.keys.len() + seen.rejected.len() <= DETAILED_MAX {
            details(seen, self.ui)
        } else {
            list(seen, &mut self.widths, self.ui) + &remarks(seen, self.ui) + &format!("\n{}", numbers(seen, self.ui))
        };
        self.ui.result(&text);
    }
}

fn details(seen: &Inspection, ui: &Ui) -> String {
    let mut text: String = seen.keys.iter().map(|key| key_text(&KeyOut::of(key, seen), ui)).collect();
    for rejected in &seen.rejected {
        text += &format!(
            "{}\n  {} {}\n\n",
            ui.paint(Label::Strong, &place(&seen.sources[rejected.source].name, rejected.line)),
            ui.paint(Label::Bad, rejected.reason),
            rejected.message
        );
    }
    text.trim_end().to_owned()
}

fn place(source: &str, line: usize) -> String {
    let shown = if source == "-" { "standard input".to_owned() } else { paths::shown(Path::new(source)) };
    if line == 0 { shown } else { format!("{shown} line {line}") }
}

/// Keys that one core makes into text at once.
const KEYS_OF_ONE: usize = 64;

/// One line for each key with what is wrong with it below, in columns that are no narrower than those before.
fn list(seen: &Inspection, widths: &mut Vec<usize>, ui: &Ui) -> String {
    let rows: Vec<Vec<String>> = seen.keys.par_iter().with_min_len(KEYS_OF_ONE).map(|key| row(key, seen, ui)).collect();
    table::widen(widths, &rows);
    let some = |(keys, rows): (&[SeenKey], &[Vec<String>])| -> String {
        let lines = keys.iter().zip(rows).map(|(key, row)| listed(key, &table::line(row, widths, 0), seen, ui));
        lines.collect()
    };
    let parts: Vec<String> = seen.keys.par_chunks(KEYS_OF_ONE).zip(rows.par_chunks(KEYS_OF_ONE)).map(some).collect();
    parts.concat()
}

/// What is to be said about files as a whole, and what is no key.
fn remarks(seen: &Inspection, ui: &Ui) -> String {
    let mut text = String::new();
    for source in seen.sources.iter().filter(|source| !source.notes.is_empty()) {
        let notes: Vec<&str> = source.notes.iter().map(|note| text_note(*note)).collect();
        let shown = ui.paint(Label::Strong, &place(&source.name, 0));
        text += &format!("{shown}  {} {}\n", ui.paint(Label::Warn, "note"), notes.join("; "));
    }
    for rejected in &seen.rejected {
        let place = ui.paint(Label::Strong, &short_place(&seen.sources[rejected.source].name, rejected.line));
        text += &format!("{place}  {} {}\n", ui.paint(Label::Bad, rejected.reason), rejected.message);
    }
    text
}

/// One key of the list: its line, and what was repaired or is wrong.
fn listed(key: &SeenKey, line: &str, seen: &Inspection, ui: &Ui) -> String {
    let mut text = format!("{line}\n");
    let source = &seen.sources[key.source].name;
    if !key.repairs.is_empty() {
        text += &format!("    {} {}\n", ui.paint(Label::Warn, "repaired"), key.repairs.join("; "));
    }
    for finding in key.findings.iter().filter(|finding| finding.severity() != Severity::Info) {
        let finding = KeyFinding::of(finding, source);
        text += &told(source, &finding, ui);
    }
    text
}

/// In a list the first line of a file goes without saying.
fn short_place(source: &str, line: usize) -> String {
    place(source, if line == 1 && source != "-" { 0 } else { line })
}

fn row(key: &SeenKey, seen: &Inspection, ui: &Ui) -> Vec<String> {
    let what = match &key.key {
        Some(key) => format!("{} {}", key.algorithm().name(), key.bits()),
        None => "protected".to_owned(),
    };
    let kind = key.kind.name();
    vec![
        ui.paint(Label::Strong, &short_place(&seen.sources[key.source].name, key.line)),
        if key.kind == SeenKind::Private { ui.paint(Label::Warn, kind) } else { kind.to_owned() },
        what,
        key.fingerprint.map(|print| print.to_string()).unwrap_or_default(),
        printable(key.comment.as_deref().unwrap_or_default().trim_ascii()),
    ]
}

/// A message with the paths in the home as a person writes them.
fn homely(message: &str) -> String {
    match std::env::var("HOME") {
        Ok(home) if home.len() > 1 => message.replace(&format!("{}/", home.trim_end_matches('/')), "~/"),
        _ => message.to_owned(),
    }
}

/// The remedy with the path as a person writes it.
fn remedy(source: &str, finding: &KeyFinding) -> String {
    finding.remedy.replace(source, &paths::shown(Path::new(source)))
}

/// A finding of a key whose place was told above it.
fn told(source: &str, finding: &KeyFinding, ui: &Ui) -> String {
    let (severity, rule, next) = (finding.severity, finding.rule, remedy(source, finding));
    let message = homely(&homely(&finding.message));
    FindingText { severity, place: String::new(), rule, message, marked: None, next }.lines(ui)
}

fn numbers(seen: &Inspection, ui: &Ui) -> String {
    let counts = Severity::URGENT_FIRST.into_iter().filter_map(|severity| {
        let number = seen.found.get(&severity)?;
        Some(ui.paint(Label::of(severity), &format!("{number} {}", severity.name())))
    });
    let mut parts = vec![count(seen.count, "key", "keys")];
    parts.extend(counts);
    if !seen.rejected.is_empty() {
        parts.push(ui.paint(Label::Bad, &format!("{} not readable", seen.rejected.len())));
    }
    if !seen.cross_checked {
        parts.push("not held against each other".to_owned());
    }
    if seen.depth == Depth::Quick {
        let (below, steps) = (seen.depth.small_factors_below(), seen.depth.fermat_steps());
        parts.push(format!("a quick look: factors below {below} and {steps} steps of Fermat's method only"));
    }
    parts.join(", ")
}

fn key_text(key: &KeyOut, ui: &Ui) -> String {
    let container = match key.container {
        "openssh" => "openssh-key-v1",
        "pkcs8" => "PKCS#8",
        "pkcs1" => "PKCS#1",
        "sec1" => "SEC1",
        "spki" => "SubjectPublicKeyInfo",
        "rfc4716" => "RFC 4716 block",
        _ => "one line",
    };
    let place = place(key.source, key.line);
    let kind = match key.kind {
        SeenKind::Private => ui.paint(Label::Warn, "private key"),
        SeenKind::Certificate => "certificate".to_owned(),
        SeenKind::Public => "public key".to_owned(),
    };
    let what = match (key.algorithm, key.bits) {
        (Some(algorithm), Some(bits)) => format!("{} {bits} bits", ui.paint(Label::Strong, algorithm)),
        _ => "which one shows only with its passphrase".to_owned(),
    };
    let mut text = format!("{}\n  {kind}, {container}: {what}\n", ui.paint(Label::Strong, &place));
    let mut row = |name: &str, value: Option<&str>| {
        if let Some(value) = value {
            text += &format!("  {name:<11}  {value}\n");
        }
    };
    let comment = if key.unlocked { key.comment.as_deref() } else { Some("(inside the protected part)") };
    row("comment", comment.map(|comment| printable(comment.as_bytes())).as_deref());
    row("options", key.options.as_deref());
    row("note", Some(key.notes.join("; ")).filter(|notes| !notes.is_empty()).as_deref());
    row("repaired", Some(key.repairs.join("; ")).filter(|repairs| !repairs.is_empty()).as_deref());
    if key.kind == SeenKind::Private {
        row(
            "passphrase",
            Some(&key.protection.as_ref().map_or_else(|| "none".to_owned(), |how| format!("needed ({how})"))),
        );
    }
    if let (Some(mode), Some(owner)) = (&key.mode, key.owner) {
        row("file", Some(&format!("mode {mode}, owner uid {owner}")));
    }
    if let Some(certificate) = &key.certificate {
        row("certifies", Some(&certificate_text(certificate)));
        row("authority", Some(&certificate.authority));
    }
    row("SHA-256", key.fingerprint.as_deref());
    row("MD5", key.fingerprint_md5.as_deref());
    row("public line", key.public_line.as_deref());
    for finding in &key.findings {
        text += &told(key.source, finding, ui);
    }
    text + "\n"
}

fn certificate_text(certificate: &CertificateOut) -> String {
    let whom =
        if certificate.principals.is_empty() { "everybody".to_owned() } else { certificate.principals.join(", ") };
    let until = if certificate.valid_before == u64::MAX {
        "without end".to_owned()
    } else {
        format!("until {}", crate::clock::date_of(certificate.valid_before))
    };
    format!("{} {} for {whom}, {until}, serial {}", certificate.kind, certificate.key_id, certificate.serial)
}
