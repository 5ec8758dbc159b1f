//! `lavrin key convert`: the same key in another container, with another comment or passphrase; the public half of a
//! private key.

use super::generate::{PassphraseHow, ask_twice, made, tell_quality};
use super::inspect::SeenKind;
use super::pair::put_file;
use crate::error::{CommandError, key_fault};
use crate::exit::Exit;
use crate::secret::{self, Given, PassphraseArgs, SecretText};
use crate::ui::{Label, Ui};
use crate::wording;
use crate::{input, paths};
use clap::{Args, ValueEnum};
use lavrin_keys::key::container::PieceKind;
use lavrin_keys::key::container::write::{self, Form};
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::key::private::RsaHash;
use lavrin_keys::key::{Algorithm, KeyFault, PrivateKey, PublicKey};
use lavrin_keys::pieces::read;
use lavrin_keys::text::printable;
use serde::Serialize;
use std::path::{Path, PathBuf};
use zeroize::Zeroizing;

/// Write a key in another format, with another comment or passphrase; recover the public half of a private key
#[derive(Debug, Args)]
pub struct ConvertArgs {
    /// File with one key or a pair; - for a paste on standard input
    #[arg(value_name = "IN", value_parser = paths::typed)]
    pub from: PathBuf,
    /// Format to write
    #[arg(long, value_name = "CONTAINER")]
    pub to: Container,
    /// File to write; without it a public key is printed
    #[arg(long, value_name = "FILE", value_parser = paths::typed)]
    pub out: Option<PathBuf>,
    /// New comment
    #[arg(long, value_name = "TEXT")]
    pub comment: Option<String>,
    /// Passphrase of the new file: ask, made, or none (default: as before)
    #[arg(long, value_name = "HOW", conflicts_with_all = ["new_passphrase_env", "new_passphrase_file"])]
    pub new_passphrase: Option<PassphraseHow>,
    /// Variable with the passphrase of the new file
    #[arg(long, value_name = "NAME", conflicts_with = "new_passphrase_file")]
    pub new_passphrase_env: Option<String>,
    /// File with the passphrase of the new file
    #[arg(long, value_name = "PATH", value_parser = paths::typed)]
    pub new_passphrase_file: Option<PathBuf>,
    /// Line ends of a public key file
    #[arg(long, value_name = "ENDS", default_value = "lf")]
    pub line_ends: LineEnds,
    /// If the file exists, move it aside under a dated name
    #[arg(long)]
    pub replace: bool,
    #[command(flatten)]
    passphrase: PassphraseArgs,
}

/// The containers that can be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Container {
    /// Private key, openssh-key-v1
    Openssh,
    /// Private key, PKCS#8
    Pkcs8,
    /// Private RSA key, PKCS#1
    Pkcs1,
    /// Private ECDSA key, SEC1
    Sec1,
    /// Public key on one line
    Line,
    /// Public key, `SubjectPublicKeyInfo`
    Spki,
    /// Public key, the block of RFC 4716
    Rfc4716,
}

/// Line ends of public text files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LineEnds {
    /// As Linux writes them
    Lf,
    /// As Windows and some devices want them
    Crlf,
}

impl Container {
    fn form(self) -> Form {
        match self {
            Self::Openssh => Form::OpenSsh,
            Self::Pkcs8 => Form::Pkcs8,
            Self::Pkcs1 => Form::Pkcs1,
            Self::Sec1 => Form::Sec1,
            Self::Line => Form::Line,
            Self::Spki => Form::Spki,
            Self::Rfc4716 => Form::Rfc4716,
        }
    }
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ConvertOut {
    schema: &'static str,
    out: Option<String>,
    kind: SeenKind,
    fingerprint: String,
    protected: bool,
    moved_aside: Option<String>,
    /// The text itself, for a public key that was not written to a file.
    text: Option<String>,
}

/// Said of a private key from standard input.
const PASTED: &str = "a private key came through a paste: whatever carried it there may have kept it. If that was a mail or \
                      a chat, treat the key as burnt: lavrin key generate";

/// The key that was read.
struct ConvertSource {
    public: PublicKey,
    private: Option<PrivateKey>,
    comment: String,
    passphrase: Option<SecretText>,
}

/// Runs the command.
pub fn run(args: &ConvertArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let form = args.to.form();
    if form.is_private() && args.out.is_none() {
        return Err(CommandError::usage("a private key is written to a file only").again("", "--out FILE"));
    }
    let source = source(args, form, ui)?;
    let comment = comment(args, &source)?;
    let passphrase = new_passphrase(args, form, &source, ui)?;
    let bytes = if form.is_private() {
        private_bytes(args, form, &source, &comment, passphrase.as_ref())?
    } else {
        public_bytes(args, form, &source.public, &comment)?
    };
    check(&bytes, &source, passphrase.as_ref())?;
    if form == Form::Pkcs8 && source.public.algorithm() == Algorithm::Ed25519 {
        ui.warn("the stock client cannot sign in with an Ed25519 key in PKCS#8; for it: --to openssh");
    }
    let moved = match &args.out {
        Some(path) => put_file(path, &bytes, form.is_private(), args.replace)?,
        None => None,
    };
    let out = ConvertOut {
        schema: "lavrin/key-convert/1",
        out: args.out.as_ref().map(|path| path.to_string_lossy().into_owned()),
        kind: if form.is_private() { SeenKind::Private } else { SeenKind::Public },
        fingerprint: source.public.fingerprint().to_string(),
        protected: passphrase.is_some(),
        moved_aside: moved.map(|path| path.to_string_lossy().into_owned()),
        text: (!form.is_private() && args.out.is_none()).then(|| String::from_utf8_lossy(&bytes).into_owned()),
    };
    ui.give(&out, || text_of(&out, ui));
    Ok(Exit::Done)
}

fn text_of(out: &ConvertOut, ui: &Ui) -> String {
    if let Some(text) = &out.text {
        return text.clone();
    }
    let shown = |path: &Option<String>| paths::shown(Path::new(path.as_deref().unwrap_or_default()));
    let mut text = format!("{} {} key in {}\n", ui.paint(Label::Good, "Written:"), out.kind.name(), shown(&out.out));
    if out.kind == SeenKind::Private {
        let protection = if out.protected {
            "opens with its passphrase only"
        } else {
            "no passphrase: whoever gets this file has the key"
        };
        text += &format!(
            "  protection   {}\n",
            ui.paint(if out.protected { Label::Good } else { Label::Warn }, protection)
        );
    }
    if out.moved_aside.is_some() {
        text += &format!("  moved aside  {}\n", shown(&out.moved_aside));
    }
    text + &format!("  fingerprint  {}\n", out.fingerprint)
}

/// The key in the input. Of a pasted pair both halves have to belong together.
fn source(args: &ConvertArgs, form: Form, ui: &Ui) -> Result<ConvertSource, CommandError> {
    let content = input::bytes(&args.from)?;
    let shown = if args.from == Path::new("-") { "standard input".to_owned() } else { paths::shown(&args.from) };
    let mut publics: Vec<(PublicKey, String)> = Vec::new();
    let mut private = None;
    for piece in read(&content) {
        match piece.kind {
            PieceKind::Public { key, comment, .. } => publics.push((key, printable(comment.trim_ascii()))),
            PieceKind::Certificate { .. } => {
                return Err(CommandError::usage(format!(
                    "{shown} is a certificate; its plain key is in a file of its own"
                )));
            }
            PieceKind::Private(closed) if private.is_none() => {
                let given = args.passphrase.given().read()?;
                let passphrase = match given {
                    // The public half in front is enough for a public result.
                    None if closed.is_protected() && !form.is_private() && closed.public().is_some() => None,
                    None if closed.is_protected() => Some(secret::ask(&format!("Passphrase of {shown}: "))?),
                    given => given,
                };
                let shows = closed.public().cloned();
                let protected = closed.is_protected();
                if args.from == Path::new("-") {
                    ui.warn(PASTED);
                }
                match closed.open(passphrase.as_ref().map(|text| text.as_bytes())) {
                    Ok(opened) => {
                        let comment = printable(opened.comment.trim_ascii());
                        private = Some((opened.key, comment, passphrase.filter(|_| protected)));
                    }
                    Err(KeyFault::PassphraseNeeded) => publics.extend(shows.map(|key| (key, String::new()))),
                    Err(fault) => return Err(key_fault(&shown, piece.line, &fault)),
                }
            }
            PieceKind::Private(_) => {
                return Err(CommandError::usage(format!("{shown} holds several private keys; one is needed")));
            }
            PieceKind::Rejected(fault) => return Err(key_fault(&shown, piece.line, &fault)),
        }
    }
    publics.dedup_by(|one, other| one.0 == other.0);
    let foreign = |public: &PublicKey| publics.iter().any(|(other, _)| other != public);
    match (private, publics.as_slice()) {
        (Some((key, ..)), _) if foreign(key.public()) => {
            Err(CommandError::with(Exit::Stopped, format!("the two halves in {shown} belong to different keys"))
                .because("nothing was written"))
        }
        (Some((key, comment, passphrase)), publics) => {
            let comment = if comment.is_empty() {
                publics.first().map(|(_, comment)| comment.clone()).unwrap_or_default()
            } else {
                comment
            };
            Ok(ConvertSource { public: key.public().clone(), private: Some(key), comment, passphrase })
        }
        (None, [(public, comment)]) => {
            Ok(ConvertSource { public: public.clone(), private: None, comment: comment.clone(), passphrase: None })
        }
        (None, publics) => Err(CommandError::usage(format!("{shown} holds {} keys; one is needed", publics.len()))),
    }
}

fn comment(args: &ConvertArgs, source: &ConvertSource) -> Result<String, CommandError> {
    let comment = args.comment.as_deref().map_or(source.comment.as_str(), str::trim);
    if printable(comment.as_bytes()) == comment {
        Ok(comment.to_owned())
    } else {
        Err(CommandError::usage("the comment holds line ends or control characters"))
    }
}

fn new_passphrase(
    args: &ConvertArgs,
    form: Form,
    source: &ConvertSource,
    ui: &Ui,
) -> Result<Option<SecretText>, CommandError> {
    let given =
        Given { env: args.new_passphrase_env.clone(), file: args.new_passphrase_file.clone(), ..Given::default() };
    let chosen = match (given.read()?, args.new_passphrase) {
        (Some(secret), _) if secret.is_empty() => {
            return Err(CommandError::usage("the passphrase is empty")
                .again("if there is to be none, say so", "--new-passphrase none"));
        }
        (Some(secret), _) => Some(told(secret, ui)),
        (None, Some(PassphraseHow::None)) => None,
        (None, Some(PassphraseHow::Made)) => Some(made(ui)?),
        (None, Some(PassphraseHow::Ask)) => Some(told(ask_twice()?, ui)),
        (None, None) => source.passphrase.clone(),
    };
    if !form.is_private() {
        return Ok(None);
    }
    if chosen.is_some() && !form.can_be_protected() {
        return Err(CommandError::usage(
            "this container has no protection worth the name, and the key would have a passphrase",
        )
        .again("", "--to pkcs8")
        .again("knowingly without", "--new-passphrase none"));
    }
    Ok(chosen)
}

/// A new passphrase, after a word about its quality.
fn told(passphrase: SecretText, ui: &Ui) -> SecretText {
    tell_quality(&passphrase, &[], ui);
    passphrase
}

fn private_bytes(
    args: &ConvertArgs,
    form: Form,
    source: &ConvertSource,
    comment: &str,
    passphrase: Option<&SecretText>,
) -> Result<Zeroizing<Vec<u8>>, CommandError> {
    let key = source
        .private
        .as_ref()
        .ok_or_else(|| CommandError::usage(format!("{} holds no private half", paths::shown(&args.from))))?;
    write::private(form, key, comment, passphrase.map(|text| text.as_bytes()), &SystemSource)
        .map_err(|fault| CommandError::usage(wording::key::fault(&fault)))
}

fn public_bytes(
    args: &ConvertArgs,
    form: Form,
    key: &PublicKey,
    comment: &str,
) -> Result<Zeroizing<Vec<u8>>, CommandError> {
    let text = write::public(form, key, comment)
        .ok_or_else(|| CommandError::usage(format!("this container cannot hold a key of type {}", key.algorithm())))?;
    let text = if args.line_ends == LineEnds::Crlf { text.replace('\n', "\r\n") } else { text };
    Ok(Zeroizing::new(text.into_bytes()))
}

/// Reads back what is about to be written: it has to be the same key, and its halves have to sign and verify together.
fn check(bytes: &[u8], source: &ConvertSource, passphrase: Option<&SecretText>) -> Result<(), CommandError> {
    let failed = || {
        CommandError::with(Exit::Stopped, "what would be written does not read back as the same key")
            .because("nothing was written")
    };
    let same = match read(bytes).into_iter().next().map(|piece| piece.kind) {
        Some(PieceKind::Public { key, .. }) => key == source.public,
        Some(PieceKind::Private(closed)) => {
            let opened = closed.open(passphrase.map(|text| text.as_bytes())).map_err(|_| failed())?;
            let signed = opened.key.sign(b"lavrin", RsaHash::Sha256);
            // Beyond the sizes that the library signs with, the relations of the numbers have been checked.
            *opened.key.public() == source.public
                && signed.map_or(true, |signature| source.public.verifies(b"lavrin", &signature))
        }
        _ => false,
    };
    if same { Ok(()) } else { Err(failed()) }
}
