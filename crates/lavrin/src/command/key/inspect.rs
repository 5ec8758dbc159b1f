//! `lavrin key inspect`: what each thing in a file or a paste is, and what is weak about it.

mod text;

use super::cross_check::CrossCheck;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::json::KeyFinding;
use crate::secret::{PassphraseArgs, Secret};
use crate::ui::{Format, Ui};
use crate::{input, paths};
use clap::{Args, ValueEnum};
use lavrin_core::finding::{Fault, Finding, Severity};
use lavrin_core::key::container::certificate::{self, Certificate};
use lavrin_core::key::container::{Closed, Piece, PieceKind, read};
use lavrin_core::key::{KeyFault, PublicKey, fingerprint, strength};
use lavrin_core::policy::Policy;
use lavrin_core::text::printable;
use schemars::JsonSchema;
use serde::Serialize;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

/// Say what files hold: kind, container, algorithm, size, comment, protection, fingerprints, and what is weak
#[derive(Debug, Args)]
pub struct InspectArgs {
    /// Files or folders with keys; - reads a paste from standard input
    #[arg(value_name = "FILE", required = true, value_parser = paths::typed)]
    pub files: Vec<PathBuf>,
    /// Exit with 1 where a finding is at least this severe
    #[arg(long, value_name = "SEVERITY", default_value = "medium")]
    pub fail_on: FailOn,
    /// Do not hold all RSA keys against each other, for a quick look at very many
    #[arg(long)]
    pub no_cross_check: bool,
    #[command(flatten)]
    passphrase: PassphraseArgs,
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
    /// Whether all RSA keys of the run were held against each other.
    cross_checked: bool,
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
    algorithm: Option<&'static str>,
    bits: Option<usize>,
    comment: Option<String>,
    options: Option<String>,
    encrypted: bool,
    protection: Option<String>,
    unlocked: bool,
    fingerprint: Option<String>,
    fingerprint_md5: Option<String>,
    public_line: Option<String>,
    certificate: Option<CertificateOut>,
    /// Permission bits of a private file, as `0600`.
    mode: Option<String>,
    /// Owner of a private file.
    owner: Option<u32>,
    repairs: Vec<String>,
    findings: Vec<KeyFinding>,
    #[serde(skip)]
    worst: Option<Severity>,
}

/// What a certificate says.
#[derive(Debug, Serialize, JsonSchema)]
struct CertificateOut {
    algorithm: String,
    /// `user` or `host`.
    kind: &'static str,
    key_id: String,
    serial: u64,
    principals: Vec<String>,
    /// Seconds since 1970.
    valid_after: u64,
    /// Seconds since 1970.
    valid_before: u64,
    /// Fingerprint of the authority's key.
    authority: String,
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
    let mut inspection = Inspection {
        policy: Policy::default(),
        passphrase: args.passphrase.given().read()?,
        cross_check: CrossCheck::new(!args.no_cross_check),
        out: InspectOut {
            schema: "lavrin/key-inspect/1",
            cross_checked: !args.no_cross_check,
            keys: Vec::new(),
            rejected: Vec::new(),
        },
    };
    for path in &args.files {
        if path.is_dir() { inspection.folder(path) } else { inspection.file(path) }
    }
    let out = inspection.finish();
    ui.result(&if ui.format == Format::Json { crate::json::print(&out) } else { text::of(&out, ui) });
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

/// An inspection under way.
struct Inspection {
    policy: Policy,
    passphrase: Option<Secret>,
    cross_check: CrossCheck,
    out: InspectOut,
}

impl Inspection {
    fn file(&mut self, path: &Path) {
        match input::bytes(path) {
            Ok(bytes) => self.inspect(path, &bytes),
            Err(error) => self.unreadable(path, error.causes.first().cloned().unwrap_or(error.message)),
        }
    }

    fn unreadable(&mut self, path: &Path, message: String) {
        self.out.rejected.push(RejectedOut { source: source_name(path), line: 0, reason: "unreadable", message });
    }

    /// Every file of a folder, by name. What is no key at all is passed over: such folders hold other files too.
    fn folder(&mut self, folder: &Path) {
        let entries = std::fs::read_dir(folder)
            .and_then(|entries| entries.map(|entry| entry.map(|entry| entry.path())).collect::<Result<Vec<_>, _>>());
        let mut files = match entries {
            Ok(files) => files,
            Err(error) => return self.unreadable(folder, error.to_string()),
        };
        files.sort();
        let before = self.out.rejected.len();
        for path in files.iter().filter(|path| path.is_file()) {
            self.file(path);
        }
        let mut place = 0;
        self.out.rejected.retain(|rejected| {
            place += 1;
            place <= before || !matches!(rejected.reason, "not-a-key" | "empty")
        });
    }

    fn inspect(&mut self, path: &Path, bytes: &[u8]) {
        for Piece { line, kind } in read(bytes) {
            match kind {
                PieceKind::Public { key, comment, options, container, repairs } => {
                    let (mut out, findings) = self.base(path, line, &key, Some(&comment));
                    out.container = container;
                    out.repairs = repairs.into_iter().map(str::to_owned).collect();
                    out.options = Some(printable(&options)).filter(|options| !options.is_empty());
                    self.push(out, &findings, path, Some(&key));
                }
                PieceKind::Certificate { certificate, comment } => {
                    let (mut out, findings) = self.base(path, line, &certificate.key, Some(&comment));
                    out.kind = "certificate";
                    out.certificate = Some(CertificateOut::of(&certificate));
                    self.push(out, &findings, path, Some(&certificate.key));
                }
                PieceKind::Private(closed) => self.private(path, line, closed),
                PieceKind::Rejected(fault) => self.reject(path, line, &fault),
            }
        }
    }

    fn reject(&mut self, path: &Path, line: usize, fault: &KeyFault) {
        self.out.rejected.push(RejectedOut {
            source: source_name(path),
            line,
            reason: fault.word(),
            message: fault.to_string(),
        });
    }

    fn push(&mut self, mut out: KeyOut, findings: &[Finding], path: &Path, key: Option<&PublicKey>) {
        out.worst = findings.iter().map(Finding::severity).max();
        let mut sorted: Vec<&Finding> = findings.iter().collect();
        sorted.sort_by_key(|finding| std::cmp::Reverse(finding.severity()));
        out.findings = sorted.into_iter().map(|finding| KeyFinding::of(finding, &source_name(path))).collect();
        if let Some(key) = key {
            self.cross_check.note(key, self.out.keys.len(), format!("{} line {}", out.source, out.line));
        }
        self.out.keys.push(out);
    }

    /// Adds what shows only when all keys of the run are held against each other.
    fn finish(mut self) -> InspectOut {
        for (index, finding) in self.cross_check.findings() {
            let out = &mut self.out.keys[index];
            out.worst = out.worst.max(Some(finding.severity()));
            out.findings.insert(0, KeyFinding::of(&finding, &out.source));
        }
        self.out
    }

    fn base(&self, path: &Path, line: usize, key: &PublicKey, comment: Option<&[u8]>) -> (KeyOut, Vec<Finding>) {
        let fingerprint = key.fingerprint();
        let comment = comment.map(|comment| String::from_utf8_lossy(comment.trim_ascii()).into_owned());
        let weaknesses = strength::weaknesses(key, &self.policy).into_iter().chain(strength::deep_weaknesses(key));
        let findings = weaknesses.map(|weakness| Finding::of(Fault::WeakKey { weakness, fingerprint })).collect();
        let out = KeyOut {
            algorithm: Some(key.algorithm().name()),
            bits: Some(key.bits()),
            public_line: Some(key.line(&printable(comment.as_deref().unwrap_or_default().as_bytes()))),
            comment: comment.filter(|comment| !comment.is_empty()),
            fingerprint: Some(fingerprint.to_string()),
            fingerprint_md5: Some(fingerprint::md5_form(&key.blob())),
            ..KeyOut::empty(path, line)
        };
        (out, findings)
    }

    /// A private key: what it shows closed, and what it holds where it can be opened.
    fn private(&mut self, path: &Path, line: usize, closed: Closed) {
        let (container, protected, protection) = (closed.container(), closed.is_protected(), closed.protection());
        let shown = closed.public().cloned();
        let opened = closed.open(self.passphrase.as_ref().map(|text| text.as_bytes()));
        let unlocked = opened.is_ok();
        let public = opened.as_ref().ok().map(|opened| opened.key.public().clone()).or_else(|| shown.clone());
        let (mut out, mut findings) = match (opened, shown) {
            (Ok(opened), _) => self.base(path, line, opened.key.public(), Some(&opened.comment)),
            // Without a passphrase nothing is wrong; what is readable in the clear is told.
            (Err(fault), shown) => {
                if fault != KeyFault::PassphraseNeeded {
                    self.reject(path, line, &fault);
                    if fault != KeyFault::WrongPassphrase {
                        return;
                    }
                }
                match shown {
                    Some(key) => self.base(path, line, &key, None),
                    None => (KeyOut::empty(path, line), Vec::new()),
                }
            }
        };
        out.kind = "private";
        out.container = container;
        out.encrypted = protected;
        out.unlocked = unlocked;
        out.protection = protected.then_some(protection);
        if !protected {
            findings.push(Finding::of(Fault::UnprotectedPrivateKey));
        }
        if let Some(meta) = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file) {
            let mode = meta.permissions().mode() & 0o7777;
            out.mode = Some(crate::wording::mode(mode));
            out.owner = Some(meta.uid());
            if mode & 0o077 != 0 {
                findings.push(Finding::of(Fault::PrivateKeyReadable { mode }));
            }
        }
        self.push(out, &findings, path, public.as_ref());
    }
}

impl KeyOut {
    fn empty(path: &Path, line: usize) -> Self {
        Self {
            source: source_name(path),
            line,
            kind: "public",
            container: "line",
            algorithm: None,
            bits: None,
            comment: None,
            options: None,
            encrypted: false,
            protection: None,
            unlocked: true,
            fingerprint: None,
            fingerprint_md5: None,
            public_line: None,
            certificate: None,
            mode: None,
            owner: None,
            repairs: Vec::new(),
            findings: Vec::new(),
            worst: None,
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
