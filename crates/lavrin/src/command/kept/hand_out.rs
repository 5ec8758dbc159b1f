//! `lavrin kept hand-out`

use super::record::{KeptKeyDeed, place, record};
use super::sealed::{current, open, set_back};
use super::{KeptDoneOut, KeptName, OpenerArgs, SealOpener};
use crate::command::agent::{self, SocketArgs};
use crate::command::key::pair::put_file;
use crate::command::probe::typed_time;
use crate::command::register::{OpenedRegister, RegisterArgs, change_file, check_reads, edit_fault, today};
use crate::command::unknown;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::secret::PassphraseArgs;
use crate::ui::{Label, Ui};
use crate::{clock, paths, wording};
use clap::Args;
use lavrin_fleet::register::edit_kept::add_hand_out;
use lavrin_fleet::register::kept::file;
use lavrin_fleet::register::{KeptAccount, Person};
use lavrin_keys::key::PrivateKey;
use lavrin_keys::key::container::openssh;
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::text::{printable, shell_word};
use lavrin_work::kept::comment_of;
use std::path::PathBuf;
use std::time::Duration;

/// Open the seal: the private key to a file, or to the agent for a time
#[derive(Debug, Args)]
pub struct HandOutArgs {
    /// The account that the key opens
    #[arg(value_name = "ACCOUNT@HOST")]
    pub name: KeptName,
    /// Where the private key goes: agent, or a new file (mode 0600, no passphrase)
    #[arg(long, value_name = "agent|FILE", value_parser = typed_to)]
    pub to: Receiver,
    /// Reason, kept in the register and in the journal
    #[arg(long, value_name = "TEXT")]
    pub reason: String,
    /// How long the agent holds it
    #[arg(long = "for", value_name = "TIME", default_value = "1h", value_parser = typed_time)]
    pub time: Duration,
    /// The agent asks at each use
    #[arg(long)]
    pub confirm: bool,
    /// Who gets it, where that is somebody else
    #[arg(long, value_name = "PERSON")]
    pub person: Option<String>,
    #[command(flatten)]
    agent: SocketArgs,
    #[command(flatten)]
    opener: OpenerArgs,
    #[command(flatten)]
    passphrase: PassphraseArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Where a private key goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Receiver {
    /// To the running agent.
    Agent,
    /// Into a new file.
    File(PathBuf),
}

fn typed_to(text: &str) -> Result<Receiver, String> {
    if text.is_empty() {
        return Err("write agent, or the name of a new file".to_owned());
    }
    let Ok(path) = paths::typed(text);
    Ok(if text == "agent" { Receiver::Agent } else { Receiver::File(path) })
}

/// Runs the command.
pub async fn run(args: &HandOutArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open()?;
    check_reads(&opened)?;
    let kept = args.name.of(opened.register())?;
    set_back(&opened, kept)?;
    let (key, version) = current(kept)?;
    if let Some((_, newer)) = kept.all().rfind(|(key, other)| key.is_active(today()) && other.number > version.number) {
        ui.warn(&crate::cli::complete(&format!(
            "version {} is on its way; which of them opens the account: lavrin kept prove {}",
            newer.number, args.name
        )));
    }
    // Before a passphrase is asked for, and before anything is written down.
    let socket = match &args.to {
        Receiver::Agent => {
            let socket = args.agent.get()?;
            lavrin_reach::agent::held(&socket).await.map_err(|why| agent::fault(&why))?;
            Some(socket)
        }
        Receiver::File(path) => {
            is_free(path)?;
            None
        }
    };
    let mut opener = SealOpener::new(&args.opener, None, args.passphrase.given());
    let unsealed = open(&opened, kept, (key, version), &mut opener)?;
    let person = receiver(args, unsealed.person.as_deref(), &opened)?;
    // A hand-out that is written down and does not happen is better than one that happens and is not.
    write_down(args, &opened, kept, version.number, &person.id, ui)?;
    record(
        &opened,
        KeptKeyDeed::HandedOut,
        place(kept, version.number),
        key.fingerprint,
        std::slice::from_ref(&person.id),
        Some(&args.reason),
    )?;
    let comment = comment_of(&kept.account, &kept.host, &version.number.to_string());
    let told = match (&args.to, socket) {
        (Receiver::File(path), _) => to_file(path, &unsealed.key, &comment)?,
        (Receiver::Agent, Some(socket)) => to_agent(args, &socket, &unsealed.key, &comment).await?,
        (Receiver::Agent, None) => String::new(),
    };
    let out = KeptDoneOut {
        schema: "lavrin/kept-hand-out/1",
        account: kept.account.clone(),
        host: kept.host.clone(),
        version: version.number,
        key: key.fingerprint.to_string(),
        sealed_for: version.sealed_for.iter().map(|person| person.value.clone()).collect(),
        proven: version.proven.is_some(),
        why: None,
    };
    ui.give(&out, || {
        let name = args.name.to_string();
        format!(
            "{}  version {}  {}\n  {told}\n  {}",
            ui.paint(Label::Strong, &name),
            out.version,
            out.key,
            ui.paint(
                Label::Warn,
                &crate::cli::complete(&format!(
                    "{} may have a copy from now on; to make it worth nothing: lavrin rotate --account {name}",
                    person.id
                ))
            ),
        )
    });
    Ok(Exit::Done)
}

fn is_free(path: &std::path::Path) -> Result<(), CommandError> {
    match path.symlink_metadata() {
        Ok(_) => Err(CommandError::usage(format!("{} is there already and is not overwritten", paths::shown(path)))
            .again("", "--to agent")
            .again("", "--to NEW-FILE")),
        Err(_) => Ok(()),
    }
}

/// Who gets it: the person named, else the one whose key opened the seal.
fn receiver<'a>(
    args: &HandOutArgs,
    opener: Option<&str>,
    opened: &'a OpenedRegister,
) -> Result<&'a Person, CommandError> {
    let id = args.person.as_deref().or(opener).ok_or_else(|| {
        CommandError::with(Exit::Stopped, "the key that opened the seal is nobody's in the register")
            .because("who gets the private key has to be written down; nothing was handed out")
            .again("", "--person PERSON")
    })?;
    let person = unknown::person(opened.register(), id)?;
    match person.left.as_ref().filter(|_| person.has_left(today())) {
        None => Ok(person),
        Some(left) => Err(CommandError::with(Exit::Stopped, format!("{id} left on {}", left.value))
            .because("nothing was handed out")
            .hint(format!("lavrin person show {id}"))),
    }
}

fn write_down(
    args: &HandOutArgs,
    opened: &OpenedRegister,
    kept: &KeptAccount,
    version: u32,
    person: &str,
    ui: &Ui,
) -> Result<(), CommandError> {
    let path = file(&kept.account, &kept.host);
    let reason = printable(args.reason.as_bytes());
    let text = add_hand_out(opened.text(&path).unwrap_or_default(), version, person, today(), Some(&reason));
    change_file(opened, ui, &path, &text.map_err(edit_fault(&path))?).map(drop)
}

fn to_file(path: &std::path::Path, key: &PrivateKey, comment: &str) -> Result<String, CommandError> {
    let text = openssh::write(key, comment, None, &SystemSource)
        .map_err(|fault| CommandError::usage(wording::key::fault(&fault)))?;
    put_file(path, text.as_bytes(), true, false)?;
    let shown = shell_word(&paths::shown(path));
    Ok(format!("in {shown}, without a passphrase: remove it when it is not needed any more: shred -u {shown}"))
}

async fn to_agent(args: &HandOutArgs, socket: &str, key: &PrivateKey, comment: &str) -> Result<String, CommandError> {
    let seconds = u32::try_from(args.time.as_secs()).unwrap_or(u32::MAX);
    let held = lavrin_reach::agent::hold(socket, key, comment, Some(seconds), args.confirm).await;
    held.map_err(|why| agent::fault(&why))?;
    let print = key.public().fingerprint();
    let until = clock::unix() + i64::from(seconds);
    agent::handed(print, socket, until, args.confirm)?;
    let until = clock::text_of(until).replace('T', " ");
    Ok(format!("the agent holds it until {} UTC; earlier: lavrin agent release {print}", until.trim_end_matches('Z')))
}
