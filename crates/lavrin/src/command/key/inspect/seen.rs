//! What an inspection has seen, kept small: the words are made when it is printed.

use crate::secret::{self, Given, SecretText};
use crate::ui::Ui;
use crate::wording;
use crate::{input, paths};
use lavrin_keys::key::container::certificate::Certificate;
use lavrin_keys::key::container::{Closed, Piece, PieceKind, TextNote, text_notes};
use lavrin_keys::key::policy::Policy;
use lavrin_keys::key::strength::cross_check::{self, Shown};
use lavrin_keys::key::strength::{Depth, Weakness};
use lavrin_keys::key::{Fingerprint, KeyFault, PublicKey, strength};
use lavrin_keys::pieces::read_parts;
use lavrin_keys::text::printable;
use lavrin_server::finding::{Fault, Finding, Severity};
use rayon::prelude::*;
use std::collections::BTreeMap;
use std::io::IsTerminal as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

/// With `--no-cross-check` up to so many bytes are still searched in full: nine hundred RSA-2048 keys, a second or so.
const FULL_SEARCH_BYTES: usize = 350_000;

/// How many of the other keys a finding names.
const PARTNERS_TOLD: usize = 5;

/// Held against each other, so many keys are also tried for a modulus that is a prime itself, which takes milliseconds each.
const PRIMES_TRIED: usize = 256;

/// Keys that are judged and handed on at once.
const KEYS_AT_ONCE: usize = 1024;

/// Keys that one core judges before it looks for more: some tenths of a millisecond.
const JUDGED_BY_ONE: usize = 16;

/// What one thing is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum SeenKind {
    Public,
    Private,
    Certificate,
}

impl SeenKind {
    /// One word for it.
    pub fn name(self) -> &'static str {
        match self {
            Self::Public => "public",
            Self::Private => "private",
            Self::Certificate => "certificate",
        }
    }
}

/// One key.
#[derive(Debug)]
pub struct SeenKey {
    /// Place in [`Inspection::sources`].
    pub source: usize,
    pub line: usize,
    pub kind: SeenKind,
    pub container: &'static str,
    /// The key, where it can be seen.
    pub key: Option<PublicKey>,
    pub fingerprint: Option<Fingerprint>,
    /// As it stands there; `None` where it is inside a protected part.
    pub comment: Option<Vec<u8>>,
    pub options: Vec<u8>,
    /// Cipher and key derivation, of a protected private key.
    pub protection: Option<String>,
    pub unlocked: bool,
    pub certificate: Option<Box<Certificate>>,
    /// Permission bits and owner of a private file.
    pub file: Option<(u32, u32)>,
    pub repairs: Vec<&'static str>,
    pub findings: Vec<Finding>,
}

/// Something that is no key.
#[derive(Debug)]
pub struct RejectedPiece {
    pub source: usize,
    pub line: usize,
    pub reason: &'static str,
    /// Whether it does not even look like a key.
    pub no_key: bool,
    pub message: String,
}

/// What a file held.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum FileHeld {
    /// Public keys and nothing else.
    OnlyPublic,
    /// Something that is a private key or may be a part of one.
    PerhapsMore,
}

/// One file, and what its text has that would break a key file.
#[derive(Debug)]
pub struct Source {
    pub name: String,
    pub notes: Vec<TextNote>,
}

/// All that was seen.
pub struct Inspection {
    policy: Policy,
    given: Given,
    passphrase: Option<SecretText>,
    may_ask: bool,
    pub sources: Vec<Source>,
    /// The keys, but for those that were let go.
    pub keys: Vec<SeenKey>,
    /// So many of the keys were judged.
    judged: usize,
    pub rejected: Vec<RejectedPiece>,
    /// How many keys there were, those let go too.
    pub count: usize,
    /// How many findings of each severity.
    pub found: BTreeMap<Severity, usize>,
    /// Whether all RSA keys were held against each other.
    pub cross_checked: bool,
    /// How far each RSA modulus was searched.
    pub depth: Depth,
    /// Bytes that were read.
    bytes: usize,
}

/// Who gets keys once they are judged, and may let them go. Keys that are held against each other come all at once.
pub type Hand<'a> = &'a mut (dyn FnMut(&mut Inspection) + Send);

impl Inspection {
    /// Nothing seen yet. `given` opens protected keys; `cross_checked`: all keys are held against each other.
    pub fn new(given: Given, cross_checked: bool, ui: &Ui) -> Result<Self, crate::error::CommandError> {
        Ok(Self {
            policy: Policy::default(),
            passphrase: given.read()?,
            given,
            may_ask: !ui.is_for_programs() && std::io::stdin().is_terminal() && std::io::stderr().is_terminal(),
            sources: Vec::new(),
            keys: Vec::new(),
            judged: 0,
            rejected: Vec::new(),
            count: 0,
            found: BTreeMap::new(),
            cross_checked,
            depth: Depth::Full,
            bytes: 0,
        })
    }

    /// Looks at everything that was named.
    pub fn look(&mut self, files: &[PathBuf], hand: Hand<'_>) {
        for path in files {
            if path.is_dir() { self.folder(path, hand) } else { self.file(path, hand) }
        }
        self.judge();
        hand(self);
    }

    /// Lets the keys go, which were judged.
    pub fn let_go(&mut self) {
        self.keys.clear();
        self.judged = 0;
    }

    fn source(&mut self, path: &Path) -> usize {
        self.sources.push(Source { name: printable(path.as_os_str().as_encoded_bytes()), notes: Vec::new() });
        self.sources.len() - 1
    }

    fn file(&mut self, path: &Path, hand: Hand<'_>) {
        match input::bytes(path) {
            Ok(mut bytes) => {
                self.bytes += bytes.len();
                if !self.cross_checked && self.bytes > FULL_SEARCH_BYTES {
                    self.depth = Depth::Quick;
                }
                if self.inspect(path, &bytes, hand) == FileHeld::OnlyPublic {
                    // Fifty megabytes of public lines need not be wiped.
                    drop(std::mem::take(&mut *bytes));
                }
            }
            Err(error) => self.unreadable(path, error.causes.first().cloned().unwrap_or(error.message)),
        }
    }

    fn unreadable(&mut self, path: &Path, message: String) {
        let source = self.source(path);
        self.rejected.push(RejectedPiece { source, line: 0, reason: "unreadable", no_key: false, message });
    }

    /// Every file of a folder, by name. What is no key at all is passed over: such folders hold other files too.
    fn folder(&mut self, folder: &Path, hand: Hand<'_>) {
        let entries = std::fs::read_dir(folder)
            .and_then(|entries| entries.map(|entry| entry.map(|entry| entry.path())).collect::<Result<Vec<_>, _>>());
        let mut files = match entries {
            Ok(files) => files,
            Err(error) => return self.unreadable(folder, error.to_string()),
        };
        files.sort();
        let before = self.rejected.len();
        for path in files.iter().filter(|path| path.is_file()) {
            self.file(path, hand);
        }
        let mut place = 0;
        self.rejected.retain(|rejected| {
            place += 1;
            place <= before || !rejected.no_key
        });
    }

    fn inspect(&mut self, path: &Path, bytes: &[u8], hand: Hand<'_>) -> FileHeld {
        let source = self.source(path);
        let mut held = FileHeld::OnlyPublic;
        let mut noted = false;
        let mut parts = read_parts(bytes);
        let mut part = parts.next();
        while let Some(pieces) = part {
            let is_line = |piece: &Piece| matches!(piece.kind, PieceKind::Public { container: "line", .. });
            if !noted && pieces.iter().any(is_line) {
                self.sources[source].notes = text_notes(bytes);
                noted = true;
            }
            let is_public =
                |piece: &Piece| matches!(piece.kind, PieceKind::Public { .. } | PieceKind::Certificate { .. });
            if !pieces.iter().all(is_public) {
                held = FileHeld::PerhapsMore;
            }
            let are_few = pieces.len() <= JUDGED_BY_ONE;
            let handed = || {
                for piece in pieces {
                    self.take(source, path, piece);
                }
                self.hand_on(hand);
            };
            // While many are judged and printed, the next are read; for a few, starting the other cores takes longer.
            (part, ()) = if are_few { (parts.next(), handed()) } else { rayon::join(|| parts.next(), handed) };
        }
        held
    }

    /// Judges the keys and hands them on, once there are enough; those that are held against each other have to wait.
    fn hand_on(&mut self, hand: Hand<'_>) {
        if !self.cross_checked && self.keys.len() - self.judged >= KEYS_AT_ONCE {
            self.judge();
            hand(self);
        }
    }

    fn take(&mut self, source: usize, path: &Path, Piece { line, kind }: Piece) {
        match kind {
            PieceKind::Public { key, fingerprint, comment, options, container, repairs } => {
                let plain = SeenKey::closed(source, line, Some((key, fingerprint)));
                let repairs = repairs.into_iter().map(wording::key::repair).collect();
                self.keys.push(SeenKey { container, options, repairs, comment: Some(comment), ..plain });
            }
            PieceKind::Certificate { certificate, comment } => {
                let plain = SeenKey::plain(source, line, certificate.key.clone(), comment);
                self.keys.push(SeenKey { kind: SeenKind::Certificate, certificate: Some(certificate), ..plain });
            }
            PieceKind::Private(closed) => self.private(source, path, line, closed),
            PieceKind::Rejected(fault) => self.reject(source, line, &fault),
        }
    }

    fn reject(&mut self, source: usize, line: usize, fault: &KeyFault) {
        let no_key = matches!(fault, KeyFault::NotAKey | KeyFault::Empty);
        let message = wording::key::fault(fault);
        self.rejected.push(RejectedPiece { source, line, reason: fault.word(), no_key, message });
    }

    /// A private key: what it shows closed, and what it holds where it can be opened.
    fn private(&mut self, source: usize, path: &Path, line: usize, closed: Closed) {
        let (container, protection) = (closed.container(), closed.protection());
        let protected = closed.is_protected();
        let shown = closed.public().cloned();
        if protected {
            self.ask_for_passphrase(path);
        }
        let opened = closed.open(self.passphrase.as_ref().map(|text| text.as_bytes()));
        let unlocked = opened.is_ok();
        let mut seen = match opened {
            Ok(opened) => SeenKey::plain(source, line, opened.key.public().clone(), opened.comment),
            // Without a passphrase nothing is wrong; what is readable in the clear is told.
            Err(fault) => {
                if fault != KeyFault::PassphraseNeeded {
                    self.reject(source, line, &fault);
                    if fault != KeyFault::WrongPassphrase {
                        return;
                    }
                }
                SeenKey::closed(source, line, shown.map(|key| (key.clone(), key.fingerprint())))
            }
        };
        seen.kind = SeenKind::Private;
        seen.container = container;
        seen.unlocked = unlocked;
        seen.protection = protected.then(|| wording::key::protection(&protection));
        if path == Path::new("-") {
            seen.findings.push(Finding::of(Fault::PrivateKeyPasted { protected, fingerprint: seen.fingerprint }));
        } else if !protected {
            seen.findings.push(Finding::of(Fault::UnprotectedPrivateKey));
        }
        if let Some(meta) = std::fs::metadata(path).ok().filter(std::fs::Metadata::is_file) {
            let mode = meta.permissions().mode() & 0o7777;
            seen.file = Some((mode, meta.uid()));
            if mode & 0o077 != 0 {
                seen.findings.push(Finding::of(Fault::PrivateKeyReadable { mode }));
            }
        }
        self.keys.push(seen);
    }

    /// Somebody at a terminal can type it; an empty answer leaves the key closed.
    fn ask_for_passphrase(&mut self, path: &Path) {
        if self.passphrase.is_none() && self.may_ask && !self.given.is_given() {
            let prompt = format!("Passphrase of {} (empty: show what can be read without it): ", paths::shown(path));
            self.passphrase = secret::ask(&prompt).ok().filter(|text| !text.is_empty());
            // Asked once: a folder of protected keys would ask for ever.
            self.may_ask = false;
        }
    }

    /// Finds what is weak, in each key that is not judged yet and between them.
    fn judge(&mut self) {
        // Held against each other, the keys are searched for small factors on the way, all at once.
        let (policy, depth, one_by_one) = (&self.policy, self.depth, !self.cross_checked);
        let few = self.keys.len() - self.judged <= PRIMES_TRIED;
        let judge = |seen: &mut SeenKey| {
            let (Some(key), Some(fingerprint)) = (&seen.key, seen.fingerprint) else { return };
            let find = if one_by_one { strength::all_weaknesses } else { strength::weaknesses };
            let prime = (few && !one_by_one).then(|| strength::prime_modulus(key)).flatten();
            for weakness in find(key, policy, depth).into_iter().chain(prime) {
                seen.findings.push(Finding::of(Fault::WeakKey { weakness, fingerprint }));
            }
        };
        let new = &mut self.keys[self.judged..];
        if new.len() <= JUDGED_BY_ONE {
            new.iter_mut().for_each(judge);
        } else {
            new.par_iter_mut().with_min_len(JUDGED_BY_ONE).for_each(judge);
        }
        if self.cross_checked {
            for (index, finding) in self.between_keys() {
                self.keys[index].findings.push(finding);
            }
        }
        for seen in &mut self.keys[self.judged..] {
            // The sort is stable: of equal ones the first found comes first.
            seen.findings.sort_by_key(|found| std::cmp::Reverse(found.severity()));
            for finding in &seen.findings {
                *self.found.entry(finding.severity()).or_default() += 1;
            }
        }
        self.count += self.keys.len() - self.judged;
        self.judged = self.keys.len();
    }

    /// What shows where all keys are held against each other, each under the index of its key.
    fn between_keys(&self) -> Vec<(usize, Finding)> {
        let places = |others: &[usize]| -> Vec<String> {
            others.iter().take(PARTNERS_TOLD).map(|other| self.place(&self.keys[*other])).collect()
        };
        let mut findings = Vec::new();
        for (index, shown) in cross_check::rsa(self.keys.iter().map(|seen| seen.key.as_ref())) {
            let Some(fingerprint) = self.keys[index].fingerprint else { continue };
            let weakness = match shown {
                Shown::SmallFactor(factor) => Weakness::SmallFactor { factor },
                Shown::SharedPrime(with) => Weakness::SharedPrime { with: places(&with) },
                Shown::SameModulus(with) => Weakness::SameModulus { with: places(&with) },
            };
            findings.push((index, Finding::of(Fault::WeakKey { weakness, fingerprint })));
        }
        for (index, first) in cross_check::under_two_names(self.keys.iter().map(SeenKey::named)) {
            let first = &self.keys[first];
            let other = printable(first.comment.as_deref().unwrap_or_default().trim_ascii());
            findings.push((index, Finding::of(Fault::SameKeyTwoNames { other, place: self.place(first) })));
        }
        findings
    }

    /// Where a key stands.
    pub fn place(&self, seen: &SeenKey) -> String {
        format!("{} line {}", self.sources[seen.source].name, seen.line)
    }
}

impl SeenKey {
    /// Which key it is and by what name it goes.
    fn named(&self) -> Option<(Fingerprint, &[u8])> {
        Some((self.fingerprint?, self.comment.as_deref()?))
    }

    fn plain(source: usize, line: usize, key: PublicKey, comment: Vec<u8>) -> Self {
        let fingerprint = key.fingerprint();
        Self { comment: Some(comment), ..Self::closed(source, line, Some((key, fingerprint))) }
    }

    fn closed(source: usize, line: usize, key: Option<(PublicKey, Fingerprint)>) -> Self {
        let (key, fingerprint) = key.unzip();
        Self {
            source,
            line,
            kind: SeenKind::Public,
            container: "line",
            key,
            fingerprint,
            comment: None,
            options: Vec::new(),
            protection: None,
            unlocked: true,
            certificate: None,
            file: None,
            repairs: Vec::new(),
            findings: Vec::new(),
        }
    }
}
