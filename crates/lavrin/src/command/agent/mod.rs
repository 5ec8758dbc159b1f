//! `lavrin agent …`: what the running agent holds, a key that it is handed, keys that it lets go.

pub mod hold;
pub mod list;
mod record;
pub mod release;

use crate::cli::block_on;
use crate::command::register::today;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use clap::{Args, Subcommand};
use lavrin_fleet::fleet::{Index, Owner};
use lavrin_fleet::register::{Date, Register};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_reach::agent::{AgentEntry, AgentFault};

/// The commands about the agent.
#[derive(Debug, Subcommand)]
pub enum AgentCommand {
    /// Show which keys the agent holds, whose they are and for how long
    List(list::ListArgs),
    /// Hand a key to the agent for a limited time
    Hold(hold::HoldArgs),
    /// Have the agent let go of a key, of those of people who left, or of all
    Release(release::ReleaseArgs),
}

/// Which agent.
#[derive(Debug, Args)]
pub struct SocketArgs {
    /// Socket of the agent (default: `SSH_AUTH_SOCK`)
    #[arg(long, value_name = "PATH")]
    pub socket: Option<String>,
}

impl SocketArgs {
    /// The socket of an agent that should be running.
    pub fn get(&self) -> Result<String, CommandError> {
        let usual = || std::env::var("SSH_AUTH_SOCK").ok().filter(|socket| !socket.is_empty());
        self.socket.clone().or_else(usual).ok_or_else(|| {
            CommandError::with(Exit::NotChecked, "no agent is known here (SSH_AUTH_SOCK is not set)")
                .hint("start one for this shell: eval \"$(ssh-agent)\"")
                .again("or say where it is", "--socket PATH")
        })
    }
}

/// Runs one of them.
pub fn run(command: &AgentCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        AgentCommand::List(args) => block_on(ui, list::run(args, ui)),
        AgentCommand::Hold(args) => block_on(ui, hold::run(args, ui)),
        AgentCommand::Release(args) => block_on(ui, release::run(args, ui)),
    }
}

/// Remembers until when an agent holds a key that it was handed.
pub fn handed(key: Fingerprint, socket: &str, until: i64, confirm: bool) -> Result<(), CommandError> {
    let handed = record::Handed { key: key.to_string(), socket: socket.to_owned(), until: Some(until), confirm };
    record::remember(handed, crate::clock::unix())
}

/// What an agent says that does not do what it is asked for.
pub fn fault(fault: &AgentFault) -> CommandError {
    let said = CommandError::with(Exit::NotChecked, fault.to_string());
    match fault {
        AgentFault::Silent { .. } => {
            said.because("it has ended, or it is no agent").hint("start one for this shell: eval \"$(ssh-agent)\"")
        }
        AgentFault::Refused { .. } => {
            said.because("an agent does not say why; one that is locked refuses everything and lists no key")
        }
        AgentFault::TooLong { .. } | AgentFault::NoList { .. } => said,
    }
}

/// Why a key should not be held any more, by the register.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outdated {
    /// Its owner left on this day.
    Left(Date),
    /// It is not used since this day.
    Retired(Date),
}

/// Whose a key is, and why it should not be held any more.
pub fn standing(register: Option<&Register>, key: Fingerprint) -> (Option<Owner>, Option<Outdated>) {
    let Some(register) = register else { return (None, None) };
    let index = Index::of(register);
    let Some(owner) = index.owner(key).cloned() else { return (None, None) };
    let left = match &owner {
        Owner::Person { id, .. } => register.people.get(id).filter(|person| person.has_left(today())),
        Owner::Machine { .. } | Owner::Kept { .. } => None,
    };
    let left = left.and_then(|person| person.left.as_ref()).map(|left| Outdated::Left(left.value));
    let retired = index.key(&owner).and_then(|key| key.retired).filter(|day| *day <= today()).map(Outdated::Retired);
    (Some(owner), left.or(retired))
}

/// The keys among what an agent holds.
pub fn keys(held: &[AgentEntry]) -> impl Iterator<Item = (&PublicKey, &str)> {
    held.iter().filter_map(|entry| match entry {
        AgentEntry::Key { key, comment } => Some((key, comment.as_str())),
        AgentEntry::Odd(_) => None,
    })
}
