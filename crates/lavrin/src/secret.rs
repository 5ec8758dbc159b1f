//! Where secrets come from: a prompt, an environment variable, a file descriptor or a file named by the user. Never an
//! argument: others can read the process list.

use crate::error::CommandError;
use crate::exit::Exit;
use clap::Args;
use lavrin_reach::ssh::AsksPassword;
use std::io::Read as _;
use std::os::fd::RawFd;
use std::path::PathBuf;
use std::sync::OnceLock;
use zeroize::Zeroizing;

/// Longest secret that is read, in bytes.
const SECRET_BYTES_MAX: usize = 64 << 10;

/// A secret that is wiped when dropped.
pub type SecretText = Zeroizing<String>;

/// The places a secret may be given in; at most one is set.
#[derive(Debug, Clone, Default)]
pub struct Given {
    /// Name of a variable.
    pub env: Option<String>,
    /// A descriptor.
    pub fd: Option<RawFd>,
    /// A file.
    pub file: Option<PathBuf>,
}

impl Given {
    /// Whether a place is named.
    pub fn is_given(&self) -> bool {
        self.env.is_some() || self.fd.is_some() || self.file.is_some()
    }

    /// Reads it, where one is given. One line end behind it does not belong to it.
    pub fn read(&self) -> Result<Option<SecretText>, CommandError> {
        let bytes = match (&self.env, self.fd, &self.file) {
            (Some(name), ..) => std::env::var(name)
                .map(|value| Zeroizing::new(value.into_bytes()))
                .map_err(|_| CommandError::usage(format!("the variable {name} is not set")))?,
            (None, Some(fd), _) => read_descriptor(fd)?,
            (None, None, Some(path)) => {
                let file = std::fs::File::open(path).map_err(|error| CommandError::file(path, "read", &error))?;
                read_all(file).map_err(|error| CommandError::file(path, "read", &error))?
            }
            (None, None, None) => return Ok(None),
        };
        if bytes.len() > SECRET_BYTES_MAX {
            return Err(CommandError::usage(format!("the secret is longer than {SECRET_BYTES_MAX} bytes"))
                .because("it would have been cut, and a part of it opens nothing"));
        }
        let text = std::str::from_utf8(&bytes).map_err(|_| CommandError::usage("the secret is not UTF-8 text"))?;
        let text = text.strip_suffix('\n').unwrap_or(text);
        let text = text.strip_suffix('\r').unwrap_or(text);
        if text.contains(['\n', '\r']) {
            return Err(CommandError::usage("the secret has several lines, and only one can be meant")
                .because("a prompt reads one line, so it could never be typed")
                .hint("put it alone into a file of its own"));
        }
        Ok(Some(Zeroizing::new(text.to_owned())))
    }
}

fn read_descriptor(fd: RawFd) -> Result<Zeroizing<Vec<u8>>, CommandError> {
    // Reached by its path, so that the descriptor is not taken over: the caller may have more to say on it.
    let path = PathBuf::from(format!("/proc/self/fd/{fd}"));
    let file = std::fs::File::open(&path)
        .map_err(|_| CommandError::usage(format!("descriptor {fd} is not open for reading")))?;
    read_all(file).map_err(|error| CommandError::usage(format!("descriptor {fd} cannot be read: {error}")))
}

fn read_all(file: std::fs::File) -> std::io::Result<Zeroizing<Vec<u8>>> {
    let mut bytes = Zeroizing::new(Vec::with_capacity(SECRET_BYTES_MAX + 1));
    // One byte more shows that it is too long.
    file.take(SECRET_BYTES_MAX as u64 + 1).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// The three ways in which a script gives a passphrase.
#[derive(Debug, Args, Clone, Default)]
#[group(multiple = false)]
pub struct PassphraseArgs {
    /// Variable with the passphrase of the key
    #[arg(id = "passphrase_env", long = "passphrase-env", value_name = "NAME")]
    env: Option<String>,
    /// File descriptor to read the passphrase of the key from
    #[arg(id = "passphrase_fd", long = "passphrase-fd", value_name = "N")]
    fd: Option<i32>,
    /// File with the passphrase of the key
    #[arg(id = "passphrase_file", long = "passphrase-file", value_name = "PATH", value_parser = crate::paths::typed)]
    file: Option<PathBuf>,
}

impl PassphraseArgs {
    /// Where the passphrase is given.
    pub fn given(&self) -> Given {
        Given { env: self.env.clone(), fd: self.fd, file: self.file.clone() }
    }
}

/// A password that is asked for when it is first needed, and only once.
pub struct AskedPassword {
    prompt: String,
    given: OnceLock<Option<SecretText>>,
}

impl AskedPassword {
    /// The password of a login.
    pub fn of(whose: &str) -> Self {
        Self { prompt: format!("Password of {whose}: "), given: OnceLock::new() }
    }
}

impl AsksPassword for AskedPassword {
    fn ask(&self) -> Option<SecretText> {
        self.given.get_or_init(|| ask(&self.prompt).ok()).clone()
    }
}

/// Whether a question can be asked at all, before anything is begun that needs the answer.
pub fn needs_terminal(whose: &str) -> Result<(), CommandError> {
    std::fs::File::open("/dev/tty").map(drop).map_err(|error| {
        CommandError::with(Exit::Usage, "there is no terminal to ask at")
            .because(format!("the password of {}: {error}", lavrin_keys::text::printable(whose.as_bytes())))
            .again("in a script", "--password-file FILE")
    })
}

/// Asks on the terminal, without echo.
pub fn ask(prompt: &str) -> Result<SecretText, CommandError> {
    // It may hold words of a register or a host.
    let prompt = lavrin_keys::text::printable(prompt.as_bytes());
    rpassword::prompt_password(&prompt).map(Zeroizing::new).map_err(|error| {
        CommandError::with(Exit::Usage, "there is no terminal to ask at").because(format!("{prompt}{error}"))
    })
}
