//! Signing in: with which key or password, and how a login other than root gets root's rights.

use crate::error::CommandError;
use crate::secret::{self, AskedPassword, Given, PassphraseArgs, SecretText};
use crate::{defaults, input, paths};
use clap::{Args, ValueEnum};
use lavrin_fleet::register::{Defaults, Register};
use lavrin_reach::ssh::{Credential, RootBy};
use lavrin_work::ways::{Way, Ways};
use std::path::PathBuf;
use std::sync::Arc;

/// How to sign in.
#[derive(Debug, Args, Clone)]
#[command(next_help_heading = crate::cli::CONNECTION)]
pub struct SignInArgs {
    /// Account that signs in (default: the account of the command)
    #[arg(long, value_name = "NAME")]
    pub login: Option<String>,
    /// Private key to sign in with (default: the agent at `SSH_AUTH_SOCK`)
    #[arg(long, value_name = "FILE", value_parser = paths::typed)]
    pub identity: Option<PathBuf>,
    #[command(flatten)]
    passphrase: PassphraseArgs,
    /// Ask for the password of the login, for the first key
    #[arg(long, conflicts_with_all = ["password_env", "password_fd", "password_file"])]
    pub ask_password: bool,
    /// Variable with the password of the login
    #[arg(long, value_name = "NAME", conflicts_with_all = ["password_fd", "password_file"])]
    pub password_env: Option<String>,
    /// File descriptor to read the password of the login from
    #[arg(long, value_name = "N", conflicts_with = "password_file")]
    pub password_fd: Option<i32>,
    /// File with the password of the login
    #[arg(long, value_name = "PATH", value_parser = paths::typed)]
    pub password_file: Option<PathBuf>,
    /// How a login other than root becomes root
    #[arg(long, value_name = "WAY", default_value = "auto")]
    pub root_by: RootByArg,
    /// Ask for the password for sudo or doas
    #[arg(long, conflicts_with = "root_password_env")]
    pub ask_root_password: bool,
    /// Variable with the password for sudo or doas
    #[arg(long, value_name = "NAME")]
    pub root_password_env: Option<String>,
    /// Read homes on a network file system too
    #[arg(long)]
    pub network_homes: bool,
}

/// How a login other than root becomes root.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum RootByArg {
    /// sudo, else doas
    Auto,
    /// sudo
    Sudo,
    /// doas
    Doas,
    /// Stay what the login is
    None,
}

impl RootByArg {
    /// As the register writes it; `auto` is what holds without it.
    pub fn name(self) -> Option<&'static str> {
        match self {
            Self::Auto => None,
            Self::Sudo => Some("sudo"),
            Self::Doas => Some("doas"),
            Self::None => Some("none"),
        }
    }
}

impl SignInArgs {
    /// Whether root's rights come with a password that is given to the program that gives them.
    pub fn asks_for_root_password(&self) -> bool {
        self.ask_root_password || self.root_password_env.is_some()
    }

    /// The key to sign in with: as typed, else by the defaults.
    pub fn identity(&self, defaults: &Defaults) -> Option<PathBuf> {
        let usual = || defaults.identity.as_deref().map(|path| paths::typed(path).unwrap_or_default());
        self.identity.clone().or_else(usual)
    }

    /// Where the passphrase of the identity is given.
    pub fn passphrase(&self) -> Given {
        self.passphrase.given()
    }

    fn password(&self, whose: &str) -> Result<Option<Credential>, CommandError> {
        if self.ask_password {
            secret::needs_terminal(whose)?;
            return Ok(Some(Credential::AskedPassword(Arc::new(AskedPassword::of(whose)))));
        }
        let given = Given { env: self.password_env.clone(), fd: self.password_fd, file: self.password_file.clone() };
        Ok(given.read()?.map(Credential::Password))
    }

    /// With what to sign in and how to get root's rights; a password is asked for as that of `whose`, once the host has
    /// proven itself.
    pub fn way(&self, whose: &str, defaults: &Defaults) -> Result<Way, CommandError> {
        let network_homes = self.network_homes.then(Arc::default);
        let (credentials, root_ways) = (self.credentials(whose, defaults)?, self.root_ways()?);
        let root_is_named = self.root_by != RootByArg::Auto;
        Ok(Way {
            credentials,
            root_ways,
            root_is_named,
            usual_login: defaults.login.clone(),
            usual_root_by: defaults.root_by,
            known_hosts: Arc::new(crate::host::users_known_hosts()?),
            network_homes,
            // Where this machine serves files is its own affair: no register says where something is written here.
            fetch_folder: std::env::var_os("LAVRIN_FETCH_FOLDER")
                .filter(|folder| !folder.is_empty())
                .map(PathBuf::from),
        })
    }

    /// The ways to the hosts of a register.
    pub fn ways(&self, register: &Register) -> Result<Arc<Ways>, CommandError> {
        let way = self.way("the logins on these hosts", &defaults::of(Some(register))?)?;
        Ok(Arc::new(Ways::of(register, way, self.login.clone())))
    }

    /// What is tried to sign in, in order; a password is asked for as that of `whose`.
    fn credentials(&self, whose: &str, defaults: &Defaults) -> Result<Vec<Credential>, CommandError> {
        let mut list = Vec::new();
        if let Some(path) = self.identity(defaults) {
            let key = Arc::new(input::private_key(&path, &self.passphrase())?);
            list.push(Credential::Key { key, source: paths::shown(&path) });
        } else if let Some(socket) = std::env::var("SSH_AUTH_SOCK").ok().filter(|socket| !socket.is_empty()) {
            list.push(Credential::Agent { socket });
        }
        list.extend(self.password(whose)?);
        Ok(list)
    }

    /// The ways to root's rights, in order.
    fn root_ways(&self) -> Result<Vec<RootBy>, CommandError> {
        let password = if self.ask_root_password {
            Some(secret::ask("Password for sudo or doas: ")?)
        } else {
            Given { env: self.root_password_env.clone(), ..Given::default() }.read()?
        };
        let doas = |password: Option<Arc<SecretText>>| {
            password.map_or(RootBy::Doas, |secret| RootBy::DoasPassword((*secret).clone()))
        };
        let sudo = |password: Option<Arc<SecretText>>| {
            password.map_or(RootBy::Sudo, |secret| RootBy::SudoPassword((*secret).clone()))
        };
        let password = password.map(Arc::new);
        Ok(match self.root_by {
            RootByArg::None => Vec::new(),
            RootByArg::Sudo => vec![sudo(password)],
            RootByArg::Doas => vec![doas(password)],
            RootByArg::Auto => vec![sudo(password.clone()), doas(password)],
        })
    }
}
