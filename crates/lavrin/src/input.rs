//! Reading keys that the user names: a public key to install, a private one to sign in with.

use crate::error::{CommandError, key_fault};
use crate::exit::Exit;
use crate::secret::{self, Given};
use crate::wording;
use lavrin_keys::key::container::certificate::Certificate;
use lavrin_keys::key::container::{FILE_BYTES_MAX, Piece, PieceKind};
use lavrin_keys::key::fault::{Unsupported, WrongStructure};
use lavrin_keys::key::{Fingerprint, KeyFault, PrivateKey, PublicKey};
use lavrin_keys::keysfile::KeysFile;
use lavrin_keys::pieces::read;
use lavrin_keys::text::{printable, shell_word};
use std::io::Read as _;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use zeroize::Zeroizing;

/// A public key as it was given.
#[derive(Debug, Clone)]
pub struct GivenKey {
    /// The key.
    pub key: PublicKey,
    /// Its comment, cleaned.
    pub comment: String,
    /// Options in front of it.
    pub options: Vec<u8>,
    /// What had to be repaired to read it.
    pub repairs: Vec<&'static str>,
}

impl GivenKey {
    /// The entry for a key file.
    pub fn entry(&self) -> String {
        let line = self.key.line(&self.comment);
        if self.options.is_empty() { line } else { format!("{} {line}", String::from_utf8_lossy(&self.options)) }
    }
}

/// Reads a file, or standard input for `-`, up to the largest size that is looked into.
pub fn bytes(path: &Path) -> Result<Zeroizing<Vec<u8>>, CommandError> {
    let mut bytes = Zeroizing::new(Vec::new());
    let limit = FILE_BYTES_MAX as u64 + 1;
    let fail = |error: std::io::Error| CommandError::file(path, "read", &error);
    if path == Path::new("-") {
        std::io::stdin().lock().take(limit).read_to_end(&mut bytes).map_err(fail)?;
    } else {
        let file = std::fs::File::open(path).map_err(fail)?;
        let length = file.metadata().map_or(0, |meta| if meta.is_file() { meta.len() } else { 0 });
        if (HALVES_FROM..limit).contains(&length)
            && let Some(read) = in_halves(&file, usize::try_from(length).unwrap_or_default())
        {
            return Ok(read);
        }
        bytes.reserve_exact(usize::try_from(length.min(limit) + 1).unwrap_or_default());
        file.take(limit).read_to_end(&mut bytes).map_err(fail)?;
    }
    Ok(bytes)
}

/// From so many bytes on a file is read on two cores: most of the time goes into fresh memory.
const HALVES_FROM: u64 = 4 << 20;

/// A file of so many bytes, unless it turns out to have others.
fn in_halves(file: &std::fs::File, length: usize) -> Option<Zeroizing<Vec<u8>>> {
    let mut bytes = Zeroizing::new(vec![0; length]);
    let (front, back) = bytes.split_at_mut(length / 2);
    let middle = front.len() as u64;
    let read = rayon::join(|| file.read_exact_at(front, 0), || file.read_exact_at(back, middle));
    let ends = matches!(file.read_at(&mut [0], length as u64), Ok(0));
    (read.0.is_ok() && read.1.is_ok() && ends).then_some(bytes)
}

/// The one public key in a file. A private key is refused loudly: it must never be handed to a server.
pub fn public_key(path: &Path) -> Result<GivenKey, CommandError> {
    let content = bytes(path)?;
    let shown = if path == Path::new("-") { "standard input".to_owned() } else { crate::paths::shown(path) };
    let mut found = Vec::new();
    let mut fault: Option<(usize, KeyFault)> = None;
    for piece in read(&content) {
        match piece.kind {
            PieceKind::Private(closed) => {
                let print = closed.public().map(PublicKey::fingerprint);
                return Err(private_key_refused(&shown, path, print.as_ref()));
            }
            PieceKind::Public { key, comment, options, repairs, .. } => {
                found.push(GivenKey {
                    key,
                    comment: printable(comment.trim_ascii()),
                    options,
                    repairs: repairs.into_iter().map(wording::key::repair).collect(),
                });
            }
            PieceKind::Certificate { .. } => {
                let what = KeyFault::BadStructure { detail: WrongStructure::CertificateForPlainKey };
                fault.get_or_insert((piece.line, what));
            }
            PieceKind::Rejected(reason) => {
                if holds_private_key(&content) {
                    return Err(private_block_refused(&shown));
                }
                fault.get_or_insert((piece.line, reason));
            }
        }
    }
    match (found.len(), fault) {
        (1, _) => Ok(found.remove(0)),
        (0, Some((line, fault))) => Err(key_fault(&shown, line, &fault)),
        (0, None) => Err(key_fault(&shown, 1, &KeyFault::NotAKey)),
        (count, _) => Err(CommandError::usage(format!("{shown} holds {count} public keys; one is needed"))
            .hint("put the one that is meant into a file of its own")),
    }
}

/// What a client would offer: a key, a certificate, or a key of a kind that Lavrin only knows by name.
pub struct Offered {
    /// The fingerprint of the key.
    pub fingerprint: Fingerprint,
    /// The key, unless it is of an unknown kind.
    pub key: Option<PublicKey>,
    /// The certificate.
    pub certificate: Option<Certificate>,
    /// The name of a kind that is not known further.
    pub algorithm: Option<String>,
}

/// Reads what a client would offer.
pub fn offered(path: &Path) -> Result<Offered, CommandError> {
    let content = bytes(path)?;
    let pieces = read(&content);
    if let [Piece { kind: PieceKind::Certificate { certificate, .. }, .. }] = pieces.as_slice() {
        return Ok(Offered {
            fingerprint: certificate.key.fingerprint(),
            key: Some(certificate.key.clone()),
            certificate: Some((**certificate).clone()),
            algorithm: None,
        });
    }
    let unknown = |fault: &KeyFault| match fault {
        KeyFault::UnsupportedAlgorithm { name: Unsupported::Named(name) } | KeyFault::PolicyAlgorithm { name } => {
            Some(name.clone())
        }
        _ => None,
    };
    if let [Piece { kind: PieceKind::Rejected(fault), .. }] = pieces.as_slice()
        && let Some(name) = unknown(fault)
    {
        // A key that is not supported here may still stand in a file of a server.
        let read = KeysFile::parse(&content);
        let key = read.entries().next().map(|(_, entry)| (*entry.key).clone());
        let fingerprint = key.as_ref().map_or_else(|| Fingerprint::of(&content), PublicKey::fingerprint);
        let algorithm = if key.is_some() { None } else { Some(name) };
        return Ok(Offered { fingerprint, key, certificate: None, algorithm });
    }
    let given = public_key(path)?;
    Ok(Offered { fingerprint: given.key.fingerprint(), key: Some(given.key), certificate: None, algorithm: None })
}

/// Whether there is the beginning of a private key in it, readable or not.
fn holds_private_key(content: &[u8]) -> bool {
    content.windows(b"PRIVATE KEY-----".len()).any(|window| window == b"PRIVATE KEY-----")
}

fn private_key_refused(shown: &str, path: &Path, print: Option<&Fingerprint>) -> CommandError {
    let public = PathBuf::from(format!("{}.pub", path.display()));
    let refused = CommandError::with(
        Exit::Stopped,
        format!("{shown} is a PRIVATE key. It must never be given to a server or to another person."),
    )
    .because(print.map_or_else(|| "it is protected".to_owned(), |print| format!("its fingerprint is {print}")))
    .because("nothing was sent and nothing was changed");
    if public.exists() {
        refused.hint(format!("use its public half: {}", shell_word(&crate::paths::shown(&public))))
    } else {
        refused.hint(format!("its public half is shown by: lavrin key inspect {}", shell_word(shown)))
    }
}

fn private_block_refused(shown: &str) -> CommandError {
    CommandError::with(
        Exit::Stopped,
        format!("{shown} is a PRIVATE key. It must never be given to a server or to another person."),
    )
    .because("nothing was sent and nothing was changed")
    .hint("use the public half, a file that usually ends in .pub")
}

/// The private key in a file, opened. A passphrase is taken from where it is given, else asked for.
pub fn private_key(path: &Path, given: &Given) -> Result<PrivateKey, CommandError> {
    private_with_comment(path, given).map(|(key, _)| key)
}

/// The same with the comment that belongs to it, safe to show; empty where it has none.
pub fn private_with_comment(path: &Path, given: &Given) -> Result<(PrivateKey, String), CommandError> {
    let content = bytes(path)?;
    let shown = crate::paths::shown(path);
    for piece in read(&content) {
        match piece.kind {
            PieceKind::Private(closed) => {
                let passphrase = match given.read()? {
                    None if closed.is_protected() => Some(secret::ask(&format!("Passphrase of {shown}: "))?),
                    read => read,
                };
                let opened = closed.open(passphrase.as_ref().map(|text| text.as_bytes()));
                return opened
                    .map(|opened| (opened.key, printable(opened.comment.trim_ascii())))
                    .map_err(|fault| key_fault(&shown, piece.line, &fault));
            }
            PieceKind::Rejected(fault) => return Err(key_fault(&shown, piece.line, &fault)),
            PieceKind::Public { .. } | PieceKind::Certificate { .. } => {}
        }
    }
    Err(CommandError::usage(format!("{shown} holds no private key")).hint(format!(
        "name the private file, which usually has no ending: {}",
        shell_word(shown.trim_end_matches(".pub"))
    )))
}

/// The private key in a file where it can be opened: without a passphrase, with the one given, or with one typed in. An
/// empty answer, or no terminal to ask on, leaves it closed.
pub fn private_key_if_possible(path: &Path, given: &Given) -> Option<PrivateKey> {
    let content = bytes(path).ok()?;
    let closed = read(&content)
        .into_iter()
        .find_map(|piece| if let PieceKind::Private(closed) = piece.kind { Some(closed) } else { None })?;
    let passphrase = match given.read() {
        Ok(None) if closed.is_protected() && std::io::IsTerminal::is_terminal(&std::io::stdin()) => {
            let prompt =
                format!("Passphrase of {} for a real login (empty: only ask the server): ", crate::paths::shown(path));
            secret::ask(&prompt).ok().filter(|text| !text.is_empty())
        }
        read => read.ok().flatten(),
    };
    Some(closed.open(passphrase.as_ref().map(|text| text.as_bytes())).ok()?.key)
}

/// A key named by its file or by its fingerprint.
pub fn fingerprint_or_file(text: &str) -> Result<(Fingerprint, Option<GivenKey>), CommandError> {
    if text.starts_with("SHA256:") {
        return Ok((Fingerprint::parse(text)?, None));
    }
    let Ok(path) = crate::paths::typed(text);
    let given = public_key(&path)?;
    Ok((given.key.fingerprint(), Some(given)))
}

/// The fingerprint of the key in a file, of which either half may be in it.
pub fn print_of_file(path: &Path) -> Result<Fingerprint, CommandError> {
    let content = bytes(path)?;
    let private = read(&content).into_iter().find_map(|piece| match piece.kind {
        PieceKind::Private(closed) => closed.public().map(PublicKey::fingerprint),
        _ => None,
    });
    private.map_or_else(|| public_key(path).map(|given| given.key.fingerprint()), Ok)
}

/// The private file beside a public one, where it is there: `NAME` for `NAME.pub`.
pub fn private_beside(path: &Path) -> Option<PathBuf> {
    let name = path.to_str()?.strip_suffix(".pub")?;
    let private = PathBuf::from(name);
    private.is_file().then_some(private)
}

/// A fingerprint as it is typed.
///
/// # Errors
/// What it should look like.
pub fn typed_fingerprint(text: &str) -> Result<Fingerprint, String> {
    Fingerprint::parse(text).map_err(|fault| wording::key::no_fingerprint(&fault))
}
