//! `lavrin key generate`: a new key pair.

use super::pair::Pair;
use crate::command::host::find;
use crate::command::register::RegisterArgs;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::paths;
use crate::secret::{self, PassphraseArgs, SecretText};
use crate::ui::{Label, Ui};
use crate::wording;
use clap::{Args, ValueEnum};
use lavrin_keys::key::container::openssh;
use lavrin_keys::key::generate::{Recipe, RsaBits, SystemSource, generate};
use lavrin_keys::key::{Algorithm, Curve, PrivateKey, PublicKey, passphrase};
use lavrin_keys::text::{printable, shell_word};
use serde::Serialize;
use std::path::PathBuf;
use std::sync::Arc;
use zeroize::Zeroizing;

/// Make a key pair (Ed25519 unless --algorithm says otherwise)
#[derive(Debug, Args)]
pub struct GenerateArgs {
    /// Kind of key; some appliances accept only RSA
    #[arg(long, value_name = "NAME")]
    pub algorithm: Option<AlgorithmName>,
    /// A host of the register: the key is of a kind that it takes and policy allows
    #[arg(long = "for", value_name = "HOST")]
    pub host: Option<String>,
    /// Whose key it is, and for what (default: user and machine)
    #[arg(long, value_name = "TEXT")]
    pub comment: Option<String>,
    /// Folder for the pair; created with mode 0700 if missing
    #[arg(long, value_name = "DIR", value_parser = paths::typed, default_value = "~/.ssh")]
    pub folder: PathBuf,
    /// File name, after the person or machine; the public half gets .pub
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// Ask for a passphrase, make one, or none on purpose
    #[arg(long, value_name = "HOW", conflicts_with = "PassphraseArgs")]
    pub passphrase: Option<PassphraseHow>,
    #[command(flatten)]
    given: PassphraseArgs,
    /// If the pair exists, move it aside under a dated name
    #[arg(long)]
    pub replace: bool,
    #[command(flatten)]
    register: RegisterArgs,
}

/// The kinds of keys that can be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum AlgorithmName {
    /// Ed25519: short, fast, the default
    Ed25519,
    /// ECDSA on NIST P-256
    #[value(name = "ecdsa-p256")]
    EcdsaP256,
    /// ECDSA on NIST P-384
    #[value(name = "ecdsa-p384")]
    EcdsaP384,
    /// ECDSA on NIST P-521
    #[value(name = "ecdsa-p521")]
    EcdsaP521,
    /// RSA with 2048 bits
    #[value(name = "rsa-2048")]
    Rsa2048,
    /// RSA with 3072 bits
    #[value(name = "rsa-3072")]
    Rsa3072,
    /// RSA with 4096 bits
    #[value(name = "rsa-4096")]
    Rsa4096,
    /// RSA with 8192 bits: takes seconds to make
    #[value(name = "rsa-8192")]
    Rsa8192,
}

/// What protects the private key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum PassphraseHow {
    /// Ask for one twice, without echo
    Ask,
    /// Make one, show it once
    Made,
    /// None: whoever gets the file has the key
    None,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct GenerateOut {
    schema: &'static str,
    private: String,
    public: String,
    algorithm: &'static str,
    bits: usize,
    comment: String,
    protected: bool,
    fingerprint: String,
    public_line: String,
    moved_aside: Vec<String>,
}

impl AlgorithmName {
    fn recipe(self) -> Recipe {
        match self {
            Self::Ed25519 => Recipe::Ed25519,
            Self::EcdsaP256 => Recipe::Ecdsa(Curve::P256),
            Self::EcdsaP384 => Recipe::Ecdsa(Curve::P384),
            Self::EcdsaP521 => Recipe::Ecdsa(Curve::P521),
            Self::Rsa2048 => Recipe::Rsa(RsaBits::B2048),
            Self::Rsa3072 => Recipe::Rsa(RsaBits::B3072),
            Self::Rsa4096 => Recipe::Rsa(RsaBits::B4096),
            Self::Rsa8192 => Recipe::Rsa(RsaBits::B8192),
        }
    }

    /// The kind of a key that takes the place of this one: the same, or one that is sound.
    pub fn like(key: &PublicKey) -> Self {
        match (key.algorithm(), key.bits()) {
            (Algorithm::Ecdsa(Curve::P256), _) => Self::EcdsaP256,
            (Algorithm::Ecdsa(Curve::P384), _) => Self::EcdsaP384,
            (Algorithm::Ecdsa(Curve::P521), _) => Self::EcdsaP521,
            (Algorithm::Rsa, ..=3072) => Self::Rsa3072,
            (Algorithm::Rsa, ..=4096) => Self::Rsa4096,
            (Algorithm::Rsa, _) => Self::Rsa8192,
            _ => Self::Ed25519,
        }
    }

    /// Every kind, the best first; of RSA the largest, since only what is old takes nothing else.
    const BEST_FIRST: [Self; 8] = [
        Self::Ed25519,
        Self::EcdsaP256,
        Self::EcdsaP384,
        Self::EcdsaP521,
        Self::Rsa8192,
        Self::Rsa4096,
        Self::Rsa3072,
        Self::Rsa2048,
    ];

    fn bits(self) -> usize {
        match self {
            Self::Ed25519 | Self::EcdsaP256 => 256,
            Self::EcdsaP384 => 384,
            Self::EcdsaP521 => 521,
            Self::Rsa2048 => 2048,
            Self::Rsa3072 => 3072,
            Self::Rsa4096 => 4096,
            Self::Rsa8192 => 8192,
        }
    }

    fn short(self) -> &'static str {
        match self {
            Self::Ed25519 => "ed25519",
            Self::EcdsaP256 | Self::EcdsaP384 | Self::EcdsaP521 => "ecdsa",
            Self::Rsa2048 | Self::Rsa3072 | Self::Rsa4096 | Self::Rsa8192 => "rsa",
        }
    }
}

/// Runs the command.
pub fn run(args: &GenerateArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let (comment, algorithm) = (comment(args)?, algorithm(args)?);
    let pair = Pair::new(&args.folder, &name(args, algorithm)?)?;
    // Before any question is asked: a passphrase typed twice for nothing is a bad joke.
    pair.check_free(args.replace)?;
    let passphrase = passphrase_for(args, ui)?;
    if let Some(passphrase) = passphrase.as_ref().filter(|_| args.passphrase != Some(PassphraseHow::Made)) {
        tell_quality(passphrase, &[&comment], ui);
    }
    let MadeKey { key, text, line } = made_key(algorithm, &comment, passphrase.as_ref())?;
    let moved = pair.write(&text, &format!("{line}\n"), args.replace)?;
    if pair.is_open_to_others() {
        let folder = paths::shown(&args.folder);
        ui.warn(&format!("other users can write to {folder} and replace this key: chmod go-w {folder}"));
    }
    let out = GenerateOut {
        schema: "lavrin/key-generate/1",
        private: pair.private.to_string_lossy().into_owned(),
        public: pair.public.to_string_lossy().into_owned(),
        algorithm: key.public().algorithm().name(),
        bits: key.public().bits(),
        comment,
        protected: passphrase.is_some(),
        fingerprint: key.public().fingerprint().to_string(),
        public_line: line,
        moved_aside: moved.iter().map(|path| path.to_string_lossy().into_owned()).collect(),
    };
    ui.give(&out, || text_of(&out, ui));
    Ok(Exit::Done)
}

/// A new key in memory, and what its two files will hold.
pub struct MadeKey {
    /// The key.
    pub key: Arc<PrivateKey>,
    /// The private file.
    pub text: Zeroizing<String>,
    /// The public line.
    pub line: String,
}

/// Makes a key.
pub fn made_key(
    algorithm: AlgorithmName,
    comment: &str,
    passphrase: Option<&SecretText>,
) -> Result<MadeKey, CommandError> {
    let key = generate(algorithm.recipe(), &SystemSource)
        .map_err(|fault| CommandError::usage(wording::key::fault(&fault)))?;
    let text =
        openssh::write(&key, comment, passphrase.map(|text| text.as_bytes()), &SystemSource).map_err(|fault| {
            CommandError::usage(format!("the key could not be written: {}", wording::key::fault(&fault)))
        })?;
    let line = key.public().line(comment);
    Ok(MadeKey { key: Arc::new(key), text, line })
}

fn text_of(out: &GenerateOut, ui: &Ui) -> String {
    let protection = if out.protected {
        ui.paint(
            Label::Good,
            &format!("opens with its passphrase only (aes256-ctr, bcrypt with {} rounds)", openssh::ROUNDS_WRITTEN),
        )
    } else {
        ui.paint(Label::Warn, "no passphrase: whoever gets this file has the key")
    };
    let mut text = format!(
        "{} {} bits, for {}\n",
        ui.paint(Label::Strong, out.algorithm),
        out.bits,
        ui.paint(Label::Strong, &out.comment)
    );
    let shown = |path: &str| paths::shown(std::path::Path::new(path));
    for path in &out.moved_aside {
        let path = shown(path);
        text += &format!("  moved aside  {path}\n");
    }
    text += &format!("  private      {}  mode 0600\n               {protection}\n", shown(&out.private));
    text += &format!("  public       {}  mode 0644\n", shown(&out.public));
    text += &format!("  fingerprint  {}\n\n{}\n\n", out.fingerprint, out.public_line);
    let next = format!("lavrin install {} ACCOUNT@HOST", shell_word(&shown(&out.public)));
    text + &format!("{} {}\n", ui.paint(Label::Faint, "next:"), ui.paint(Label::Type, &next))
}

/// The kind of key: as typed, else one that the host takes for which it is made, the best first.
fn algorithm(args: &GenerateArgs) -> Result<AlgorithmName, CommandError> {
    let Some(id) = &args.host else { return Ok(args.algorithm.unwrap_or(AlgorithmName::Ed25519)) };
    let opened = args.register.open()?;
    let register = &opened.reading.register;
    let limits = &find(register, id)?.limits;
    let policy = &register.rules.policy;
    let fits = |name: &AlgorithmName| {
        let (algorithm, bits) = (name.recipe().algorithm(), name.bits());
        let is_taken = limits.algorithms.is_empty() || limits.algorithms.contains(&algorithm);
        let is_small = algorithm != Algorithm::Rsa || limits.rsa_bits_max.is_none_or(|max| bits <= max);
        let is_allowed = algorithm != Algorithm::Rsa || bits >= policy.rsa_bits_min;
        is_taken && is_small && is_allowed && policy.algorithms.contains(&algorithm)
    };
    let found = match args.algorithm {
        Some(typed) => Some(typed).filter(fits),
        None => AlgorithmName::BEST_FIRST.into_iter().find(fits),
    };
    found.ok_or_else(|| {
        let names = |list: &[Algorithm]| list.iter().map(|one| one.name()).collect::<Vec<_>>().join(", ");
        let taken = if limits.algorithms.is_empty() { "any algorithm".to_owned() } else { names(&limits.algorithms) };
        let bits = limits.rsa_bits_max.map(|max| format!(", RSA up to {max} bits")).unwrap_or_default();
        let said = if args.algorithm.is_some() { "this is no key" } else { "there is no key" };
        CommandError::with(Exit::Stopped, format!("{said} that {id} takes and the register's policy allows"))
            .because(format!("{id} takes {taken}{bits}"))
            .because(format!("policy allows {}, RSA from {} bits", names(&policy.algorithms), policy.rsa_bits_min))
            .hint(format!("lavrin host show {id}"))
    })
}

/// The comment ends up on one line of other people's files, so it has to be one line of plain text.
fn comment(args: &GenerateArgs) -> Result<String, CommandError> {
    let comment = args.comment.clone().unwrap_or_else(|| format!("{}@{}", user(), machine()));
    let comment = comment.trim().to_owned();
    if printable(comment.as_bytes()) != comment {
        return Err(CommandError::usage("the comment holds line ends or control characters")
            .again("say in a few words whose key it is and for what", "--comment TEXT"));
    }
    Ok(comment)
}

fn name(args: &GenerateArgs, algorithm: AlgorithmName) -> Result<String, CommandError> {
    let name = args.name.clone().unwrap_or_else(|| format!("{}-{}", user(), algorithm.short()));
    if name.is_empty() || name.starts_with('.') || name.contains(['/', '\0', '\n']) {
        return Err(CommandError::usage(format!("'{}' cannot be the name of a file", printable(name.as_bytes())))
            .again("", "--folder DIR --name NAME"));
    }
    Ok(name)
}

fn user() -> String {
    std::env::var("USER").ok().filter(|user| !user.is_empty() && !user.contains('/')).unwrap_or_else(|| "me".to_owned())
}

fn machine() -> String {
    std::fs::read_to_string("/proc/sys/kernel/hostname")
        .map_or_else(|_| "here".to_owned(), |name| name.trim().to_owned())
}

fn passphrase_for(args: &GenerateArgs, ui: &Ui) -> Result<Option<SecretText>, CommandError> {
    if let Some(secret) = args.given.given().read()? {
        return if secret.is_empty() { Err(empty()) } else { Ok(Some(secret)) };
    }
    chosen(args.passphrase, ui)
}

/// A passphrase for a new key as it was asked for; none on purpose.
pub fn chosen(how: Option<PassphraseHow>, ui: &Ui) -> Result<Option<SecretText>, CommandError> {
    match how {
        Some(PassphraseHow::None) => Ok(None),
        Some(PassphraseHow::Made) => made(ui).map(Some),
        Some(PassphraseHow::Ask) | None => ask_twice().map(Some),
    }
}

fn empty() -> CommandError {
    CommandError::usage("the passphrase is empty").again("if there is to be none, say so", "--passphrase none")
}

/// Warns of a passphrase that is guessed soon. It is taken all the same: only its owner knows what it protects.
pub fn tell_quality(passphrase: &str, known: &[&str], ui: &Ui) {
    let quality = passphrase::judge(passphrase, known);
    if quality.is_weak {
        ui.warn(&format!(
            "this passphrase is guessed in some 10^{:.0} tries; whoever gets the file will make them. \
             --passphrase made makes one of {} bits",
            quality.guesses_log10,
            passphrase::MADE_BITS
        ));
    }
}

/// Asks for a new passphrase twice.
pub fn ask_twice() -> Result<SecretText, CommandError> {
    let instead = |error: CommandError| {
        error.again("from a file", "--passphrase-file PATH").again("knowingly none", "--passphrase none")
    };
    let first = secret::ask("Passphrase for the new key: ").map_err(instead)?;
    if first.is_empty() {
        return Err(empty());
    }
    let second = secret::ask("The same again:  ").map_err(instead)?;
    if *first == *second { Ok(first) } else { Err(CommandError::usage("the two were not the same; nothing was made")) }
}

/// Makes a passphrase and shows it once.
pub fn made(ui: &Ui) -> Result<SecretText, CommandError> {
    let secret = passphrase::made(&SystemSource);
    let shown = Zeroizing::new(format!(
        "Passphrase ({} bits, the blanks belong to it), shown this once:\n\n    {}\n",
        passphrase::MADE_BITS,
        *secret
    ));
    // Nobody sees it where no terminal is, so it is not made there.
    let seen = std::io::IsTerminal::is_terminal(&std::io::stderr());
    if !seen || !std::io::IsTerminal::is_terminal(&std::io::stdin()) {
        return Err(CommandError::usage("a made passphrase is shown on a terminal, and there is none")
            .again("from a file", "--passphrase-file PATH"));
    }
    ui.show(&shown);
    if ui.confirm("Is it written down where you will find it again?", &[("", "--passphrase-file PATH")])? {
        Ok(secret)
    } else {
        Err(CommandError::with(Exit::Stopped, "no key was made, since its passphrase would have been lost"))
    }
}
