//! `lavrin kept …`: the keys of accounts that several people use, sealed in the register for the administrators.

pub mod hand_out;
pub mod list;
pub mod make;
mod opener;
mod prove;
mod recipients;
mod record;
pub mod seal;
mod sealed;
mod take_in;
mod version;

pub use make::mark_proven;
pub use opener::{OpenerArgs, SealOpener};
#[cfg(test)]
pub use prove::KeptProveOut;
pub use record::{KeptKeyDeed, record, remembered};
pub use sealed::{OpenedKept, current, may_have, open, set_back};
pub use version::{NewVersionOf, new_version};

use crate::cli::block_on;
use crate::command::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::Subcommand;
use lavrin_fleet::register::kept::account_and_host;
use lavrin_fleet::register::{Host, KeptAccount, Register};
use lavrin_keys::text::{printable, shell_word};
use serde::Serialize;
use std::str::FromStr;

/// The commands about kept keys.
#[derive(Debug, Subcommand)]
pub enum KeptCommand {
    /// Show which keys are kept, for whom each is sealed, and what is wrong with it
    List(list::KeptListArgs),
    /// Make a key for an account, seal it, put it there and sign in with it
    Make(make::MakeArgs),
    /// Seal a private key that an account came with, once it has opened it
    TakeIn(take_in::TakeInArgs),
    /// Sign in with kept keys: does each still open its account?
    Prove(prove::ProveArgs),
    /// Open the seal: the private key to a file, or to the agent for a time
    HandOut(hand_out::HandOutArgs),
    /// Seal again for the administrators of today
    Seal(seal::SealArgs),
}

/// Runs one of them.
pub fn run(command: &KeptCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        KeptCommand::List(args) => list::run(args, ui),
        KeptCommand::Make(args) => block_on(ui, make::run(args, ui)),
        KeptCommand::TakeIn(args) => block_on(ui, take_in::run(args, ui)),
        KeptCommand::Prove(args) => block_on(ui, prove::run(args, ui)),
        KeptCommand::HandOut(args) => block_on(ui, hand_out::run(args, ui)),
        KeptCommand::Seal(args) => seal::run(args, ui),
    }
}

/// What `kept make`, `kept take-in` and `kept hand-out` print with `--format json`.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeptDoneOut {
    pub schema: &'static str,
    pub account: String,
    pub host: String,
    pub version: u32,
    pub key: String,
    /// For whom it is sealed.
    pub sealed_for: Vec<String>,
    /// Whether it has opened the account, now or before.
    pub proven: bool,
    /// Why it is not further.
    pub why: Option<String>,
}

/// An account on a host, as it is typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptName {
    /// The account.
    pub account: String,
    /// The host, by its name in the register.
    pub host: String,
}

impl FromStr for KeptName {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (account, host) = account_and_host(text)
            .ok_or_else(|| format!("'{}' is not ACCOUNT@HOST of the register", printable(text.as_bytes())))?;
        Ok(Self { account: account.to_owned(), host: host.to_owned() })
    }
}

impl std::fmt::Display for KeptName {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "{}@{}", self.account, self.host)
    }
}

impl KeptName {
    /// The kept key of this account.
    pub fn of<'a>(&self, register: &'a Register) -> Result<&'a KeptAccount, CommandError> {
        register.kept_of(&self.account, &self.host).ok_or_else(|| {
            let error = CommandError::usage(format!("no key is kept for {self}"));
            match register.kept.first() {
                Some(_) => error.hint("lavrin kept list"),
                None => error.hint(format!("lavrin kept make {self}")),
            }
        })
    }

    /// The host, where a key can be kept for this account: the register has to manage it, or no command would ever put the key
    /// there or take it away.
    pub fn host<'a>(&self, register: &'a Register) -> Result<&'a Host, CommandError> {
        let host = register.hosts.get(&self.host).ok_or_else(|| unknown::host(register, &self.host))?;
        if host.accounts.iter().any(|account| account.value == self.account) {
            return Ok(host);
        }
        let managed = host.accounts.iter().map(|account| account.value.as_str()).chain([self.account.as_str()]);
        let managed: String = managed.map(|account| format!(" --account {}", shell_word(account))).collect();
        Err(CommandError::usage(format!("the register does not manage {} on {}", self.account, self.host))
            .because("a key is kept only where the register says who may come in")
            .hint(format!("lavrin host set {}{managed}", self.host)))
    }
}
