//! `lavrin key inspect`: what each thing in a file or a paste is, and what is weak about it.

use crate::error::CommandError;
use crate::exit::Exit;
use crate::json::KeyFinding;
use crate::ui::{Format, Label, Ui};
use crate::{input, paths};
use clap::{Args, ValueEnum};
use lavrin_core::finding::{Fault, Finding, Severity};
use lavrin_core::key::container::{Piece, PieceKind, openssh, read};
use lavrin_core::key::{PublicKey, fingerprint, strength};
use lavrin_core::policy::Policy;
use lavrin_core::text::printable;
use schemars::JsonSchema;
use serde::Serialize;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

/// Say what files hold: kind, container, algorithm, size, comment, protection, fingerprints, and what is weak
#[derive(Debug, Args)]
pub struct InspectArgs {
    /// Files with keys; - reads a paste from standard input
    #[arg(value_name = "FILE", required = true, value_parser = paths::typed)]
    pub files: Vec<PathBuf>,
    /// Exit with 1 where a finding is at least this severe
    #[arg(long, value_name = "SEVERITY", default_value = "medium")]
    pub fail_on: FailOn,
}

/// The severity from which a finding counts for the exit code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FailOn {
    /// Any finding at all
    Info,
    /// Low and above
    Low,
    /// Medium and above
    Medium,
    /// High and above
    High,
    /// Critical only
    Critical,
}

impl FailOn {
    /// The severity itself.
    pub fn severity(self) -> Severity {
        match self {
            Self::Info => Severity::Info,
            Self::Low => Severity::Low,
            Self::Medium => Severity::Medium,
            Self::High => Severity::High,
            Self::Critical => Severity::Critical,
        }
    }
}

/// What `--format json` prints.
#[derive(Debug, Serialize, JsonSchema)]
pub struct InspectOut {
    schema: &'static str,
    keys: Vec<KeyOut>,
    rejected: Vec<RejectedOut>,
}

/// One key.
#[derive(Debug, Serialize, JsonSchema)]
struct KeyOut {
    source: String,
    line: usize,
    kind: &'static str,
    container: &'static str,
    algorithm: &'static str,
    bits: usize,
    comment: Option<String>,
    options: Option<String>,
    encrypted: bool,
    protection: Option<String>,
    unlocked: bool,
    fingerprint: Option<String>,
    fingerprint_md5: Option<String>,
    public_line: Option<String>,
    /// Permission bits of a private file, as `0600`.
    mode: Option<String>,
    /// Owner of a private file.
    owner: Option<u32>,
    repairs: Vec<String>,
    findings: Vec<KeyFinding>,
    #[serde(skip)]
    worst: Option<Severity>,
}

/// Something that is no key.
#[derive(Debug, Serialize, JsonSchema)]
struct RejectedOut {
    source: String,
    line: usize,
    reason: &'static str,
    message: String,
}

/// Runs the command.
pub fn run(args: &InspectArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let policy = Policy::default();
    let mut out = InspectOut { schema: "lavrin/key-inspect/1", keys: Vec::new(), rejected: Vec::new() };
    for path in &args.files {
        match input::bytes(path) {
            Ok(bytes) => inspect(path, &bytes, &policy, &mut out),
            Err(error) => out.rejected.push(RejectedOut {
                source: source_name(path),
                line: 0,
                reason: "unreadable",
                message: error.causes.first().cloned().unwrap_or(error.message),
            }),
        }
    }
    ui.result(&if ui.format == Format::Json { crate::json::print(&out) } else { text_of(&out, ui) });
    let worst = out.keys.iter().filter_map(|key| key.worst).max();
    Ok(if !out.rejected.is_empty() {
        Exit::Usage
    } else if worst.is_some_and(|worst| worst >= args.fail_on.severity()) {
        Exit::Findings
    } else {
        Exit::Done
    })
}

fn source_name(path: &Path) -> String {
    printable(path.as_os_str().as_encoded_bytes())
}

fn inspect(path: &Path, bytes: &[u8], policy: &Policy, out: &mut InspectOut) {
    for Piece { line, kind } in read(bytes) {
        match kind {
            PieceKind::Public { key, comment, options } => {
                out.keys.push(public(path, line, &key, &comment, &options, policy));
            }
            PieceKind::Private(closed) => private(path, line, &closed, policy, out),
            PieceKind::Rejected(fault) => out.rejected.push(RejectedOut {
                source: source_name(path),
                line,
                reason: fault.word(),
                message: fault.to_string(),
            }),
        }
    }
}

fn base(path: &Path, line: usize, key: &PublicKey, comment: Option<&[u8]>, policy: &Policy) -> (KeyOut, Vec<Finding>) {
    let blob = key.blob();
    let fingerprint = key.fingerprint();
    let comment = comment.map(|comment| printable(comment.trim_ascii()));
    let findings = strength::weaknesses(key, policy)
        .into_iter()
        .map(|weakness| Finding::of(Fault::WeakKey { weakness, fingerprint }))
        .collect();
    let out = KeyOut {
        source: source_name(path),
        line,
        kind: "public",
        container: "line",
        algorithm: key.algorithm().name(),
        bits: key.bits(),
        public_line: Some(key.line(comment.as_deref().unwrap_or_default())),
        comment: comment.filter(|comment| !comment.is_empty()),
        options: None,
        encrypted: false,
        protection: None,
        unlocked: true,
        fingerprint: Some(fingerprint.to_string()),
        fingerprint_md5: Some(fingerprint::md5_form(&blob)),
        mode: None,
        owner: None,
        repairs: Vec::new(),
        findings: Vec::new(),
        worst: None,
    };
    (out, findings)
}

fn settle(mut out: KeyOut, findings: &[Finding], path: &Path) -> KeyOut {
    out.worst = findings.iter().map(Finding::severity).max();
    out.findings = findings.iter().map(|finding| KeyFinding::of(finding, &source_name(path))).collect();
    out
}

fn public(path: &Path, line: usize, key: &PublicKey, comment: &[u8], options: &[u8], policy: &Policy) -> KeyOut {
    let (mut out, findings) = base(path, line, key, Some(comment), policy);
    out.options = Some(printable(options)).filter(|options| !options.is_empty());
    settle(out, &findings, path)
}

fn private(path: &Path, line: usize, closed: &openssh::Closed, policy: &Policy, list: &mut InspectOut) {
    let comment = if closed.is_protected() {
        None
    } else {
        match closed.open(None) {
            Ok(opened) => Some(opened.comment),
            Err(fault) => {
                list.rejected.push(RejectedOut {
                    source: source_name(path),
                    line,
                    reason: fault.word(),
                    message: fault.to_string(),
                });
                return;
            }
        }
    };
    let (mut out, mut findings) = base(path, line, closed.public(), comment.as_deref(), policy);
    out.kind = "private";
    out.container = "openssh";
    out.encrypted = closed.is_protected();
    out.unlocked = !closed.is_protected();
    out.protection = closed.is_protected().then(|| closed.protection());
    if !closed.is_protected() {
        findings.push(Finding::of(Fault::UnprotectedPrivateKey));
    }
    if let Ok(meta) = std::fs::metadata(path)
        .and_then(|meta| if meta.is_file() { Ok(meta) } else { Err(std::io::ErrorKind::Other.into()) })
    {
        let mode = meta.permissions().mode() & 0o7777;
        out.mode = Some(crate::wording::mode(mode));
        out.owner = Some(meta.uid());
        if mode & 0o077 != 0 {
            findings.push(Finding::of(Fault::PrivateKeyReadable { mode }));
        }
    }
    findings.sort_by_key(|finding| std::cmp::Reverse(finding.severity()));
    list.keys.push(settle(out, &findings, path));
}

fn text_of(out: &InspectOut, ui: &Ui) -> String {
    let mut text = String::new();
    for key in &out.keys {
        text += &key_text(key, ui);
    }
    for rejected in &out.rejected {
        let place = if rejected.line == 0 {
            rejected.source.clone()
        } else {
            format!("{} line {}", rejected.source, rejected.line)
        };
        text += &format!(
            "{}\n  {} {}\n\n",
            ui.paint(Label::Strong, &place),
            ui.paint(Label::Bad, rejected.reason),
            rejected.message
        );
    }
    text.trim_end().to_owned()
}

fn key_text(key: &KeyOut, ui: &Ui) -> String {
    let container = match key.container {
        "openssh" => "openssh-key-v1",
        _ => "one line",
    };
    let source = paths::shown(Path::new(&key.source));
    let place = if key.source == "-" {
        format!("standard input line {}", key.line)
    } else {
        format!("{source} line {}", key.line)
    };
    let kind = if key.kind == "private" { ui.paint(Label::Warn, "private key") } else { "public key".to_owned() };
    let mut text = format!(
        "{}\n  {kind}, {container}: {} {} bits\n",
        ui.paint(Label::Strong, &place),
        ui.paint(Label::Strong, key.algorithm),
        key.bits
    );
    let mut row = |name: &str, value: Option<&str>| {
        if let Some(value) = value {
            text += &format!("  {name:<11}  {value}\n");
        }
    };
    let unread = "(inside the protected part)".to_owned();
    let comment = if key.encrypted { Some(&unread) } else { key.comment.as_ref() };
    row("comment", comment.map(String::as_str));
    row("options", key.options.as_deref());
    if key.kind == "private" {
        row(
            "passphrase",
            Some(&key.protection.as_ref().map_or_else(|| "none".to_owned(), |how| format!("needed ({how})"))),
        );
    }
    if let (Some(mode), Some(owner)) = (&key.mode, key.owner) {
        row("file", Some(&format!("mode {mode}, owner uid {owner}")));
    }
    row("SHA-256", key.fingerprint.as_deref());
    row("MD5", key.fingerprint_md5.as_deref());
    row("public line", key.public_line.as_deref());
    for finding in &key.findings {
        let severity = Severity::URGENT_FIRST
            .into_iter()
            .find(|severity| severity.name() == finding.severity)
            .unwrap_or(Severity::Info);
        text +=
            &format!("  {} {}: {}\n", ui.paint(Label::of(severity), finding.severity), finding.rule, finding.message);
        text += &format!("    {}\n", ui.paint(Label::Type, &finding.remedy));
    }
    text + "\n"
}
