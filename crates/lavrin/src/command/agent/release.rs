//! `lavrin agent release`

use super::{SocketArgs, fault, keys, record, standing};
use crate::command::register::{OpenedRegister, RegisterArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::input;
use crate::paths;
use crate::ui::Ui;
use clap::Args;
use lavrin_fleet::register::Register;
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::text::{count, printable};
use lavrin_reach::agent::{AgentEntry, held, release, release_all};

/// Have the agent let go of a key, of those of people who left, or of all
#[derive(Debug, Args)]
pub struct ReleaseArgs {
    /// The key: its fingerprint, a file, or a person of the register
    #[arg(value_name = "KEY|PERSON", required_unless_present_any = ["left", "all"], conflicts_with_all = ["left", "all"])]
    pub key: Option<String>,
    /// Every key that is retired, or whose owner left
    #[arg(long, conflicts_with = "all")]
    pub left: bool,
    /// Everything that it holds
    #[arg(long)]
    pub all: bool,
    #[command(flatten)]
    agent: SocketArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs the command.
pub async fn run(args: &ReleaseArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let socket = args.agent.get()?;
    let all = held(&socket).await.map_err(|why| fault(&why))?;
    if args.all {
        release_all(&socket).await.map_err(|why| fault(&why))?;
        let prints: Vec<String> = keys(&all).map(|(key, _)| key.fingerprint().to_string()).collect();
        record::forget(&socket, &prints)?;
        let left = held(&socket).await.map_err(|why| fault(&why))?.len();
        ui.result(&format!("released: {}; it holds {left} now", count(all.len(), "entry", "entries")));
        return Ok(if left == 0 { Exit::Done } else { Exit::Midway });
    }
    let opened = args.register.here(ui)?;
    let register = opened.as_ref().map(OpenedRegister::register);
    let wanted = wanted(args, &all, register)?;
    let mut released = Vec::new();
    for key in wanted {
        release(&socket, key).await.map_err(|why| fault(&why))?;
        let print = key.fingerprint();
        ui.result(&format!("released  {print}"));
        released.push(print.to_string());
    }
    record::forget(&socket, &released)?;
    // Read back: what was let go is not held.
    let now = held(&socket).await.map_err(|why| fault(&why))?;
    if let Some((key, _)) = keys(&now).find(|(key, _)| released.contains(&key.fingerprint().to_string())) {
        let print = key.fingerprint();
        return Err(CommandError::with(Exit::Midway, format!("the agent holds {print} still")));
    }
    if released.is_empty() {
        ui.result("the agent holds no such key");
        return Ok(if args.left { Exit::Done } else { Exit::Findings });
    }
    Ok(Exit::Done)
}

/// Those that are to be let go.
fn wanted<'a>(
    args: &ReleaseArgs,
    all: &'a [AgentEntry],
    register: Option<&Register>,
) -> Result<Vec<&'a PublicKey>, CommandError> {
    let held = keys(all).map(|(key, _)| key);
    if let Some(word) = &args.key {
        let meant = meant(word, register)?;
        return Ok(held.filter(|key| meant.contains(&key.fingerprint())).collect());
    }
    if register.is_none() {
        let said = CommandError::usage("who left is in a register, and there is none here");
        return Err(said.again("", "--register DIR"));
    }
    Ok(held.filter(|key| standing(register, key.fingerprint()).1.is_some()).collect())
}

/// The keys that a word means.
fn meant(word: &str, register: Option<&Register>) -> Result<Vec<Fingerprint>, CommandError> {
    if word.starts_with("SHA256:") {
        return Ok(vec![Fingerprint::parse(word)?]);
    }
    if let Some(person) = register.and_then(|register| register.people.get(word)) {
        return Ok(person.keys.iter().map(|key| key.fingerprint).collect());
    }
    let Ok(path) = paths::typed(word);
    if path.is_file() {
        return input::print_of_file(&path).map(|print| vec![print]);
    }
    Err(CommandError::usage(format!("'{}' is no key file and no person", printable(word.as_bytes())))
        .hint("lavrin agent list"))
}
