//! `lavrin host profile try`: walks through a profile on a device without changing anything, and shows each exchange.

use super::find;
use crate::cli::block_on;
use crate::command::register::{OpenedRegister, RegisterArgs};
use crate::defaults;
use crate::error::{CommandError, host_fault};
use crate::exit::Exit;
use crate::paths;
use crate::sign_in::SignInArgs;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::{Args, Subcommand};
use lavrin_fleet::register::{PROFILES, ReachKind, SourceFile, read};
use lavrin_keys::keysfile::{Content, Dialect, read_all};
use lavrin_keys::text::printable;
use lavrin_server::device::Profile;
use lavrin_server::fs::Fact;
use lavrin_server::survey::KeySlot;
use lavrin_work::profile_walk::Walked;
use lavrin_work::ways::Ways;
use serde::Serialize;
use std::sync::Arc;
use std::time::Duration;

/// How long the whole walk may take.
const LIMIT: Duration = Duration::from_mins(5);

/// Profiles of devices that have a command line of their own
#[derive(Debug, Subcommand)]
pub enum ProfileCommand {
    /// Walk through a profile on a device, change nothing, show each exchange
    Try(ProfileTryArgs),
}

/// Walk through a profile on a device, change nothing, show each exchange
#[derive(Debug, Args)]
pub struct ProfileTryArgs {
    /// Its name in the register, or its file
    #[arg(value_name = "PROFILE")]
    pub profile: String,
    /// The device
    #[arg(value_name = "HOST")]
    pub id: String,
    /// Whose keys are listed (default: those of the login)
    #[arg(long, value_name = "ACCOUNT")]
    pub account: Option<String>,
    #[command(flatten)]
    sign_in: SignInArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ProfileTryOut {
    schema: &'static str,
    profile: String,
    host: String,
    /// Everything that was typed and said, in order.
    exchanges: Vec<ExchangeOut>,
    /// Whose keys were listed.
    account: String,
    /// The keys, as the profile reads them; nothing where the walk ended before.
    keys: Option<Vec<ListedKeyOut>>,
    /// Why the walk ended early.
    fault: Option<String>,
}

/// A line that was typed, and what the device said.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ExchangeOut {
    /// Nothing at the beginning.
    sent: String,
    said: Vec<String>,
    prompt: String,
}

/// A key of the device.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ListedKeyOut {
    /// Its place in the list.
    place: String,
    /// Nothing where it is no key that can be read.
    fingerprint: Option<String>,
    comment: String,
}

/// Runs one of them.
pub fn run(command: &ProfileCommand, ui: &Ui) -> Result<Exit, CommandError> {
    match command {
        ProfileCommand::Try(args) => block_on(ui, try_out(args, ui)),
    }
}

async fn try_out(args: &ProfileTryArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let opened = args.register.open_for_hosts(ui)?;
    let register = &opened.reading.register;
    let host = find(register, &args.id)?;
    let profile = profile(&opened, &args.profile)?;
    let way = args.sign_in.way(&format!("the login on {}", host.id), &defaults::of(Some(register))?)?;
    let ways = Ways::of(register, way, args.sign_in.login.clone());
    let mut stop = ways.stop(host);
    (stop.reach, stop.profile) = (ReachKind::Dialogue, Some(profile.clone()));
    let account = args.account.clone().unwrap_or_else(|| stop.login.clone());
    let walked = ways.walk_profile(&stop, &account, LIMIT).await.map_err(|fault| host_fault(&host.id, &fault))?;
    let out = out_of(&profile.name, &host.id, account, walked);
    ui.give(&out, || text_of(&out, ui));
    Ok(if out.keys.is_some() { Exit::Done } else { Exit::NotChecked })
}

/// A profile of the register, or of a file that is not in it yet.
fn profile(opened: &OpenedRegister, named: &str) -> Result<Arc<Profile>, CommandError> {
    let profiles = &opened.reading.register.profiles;
    if let Some(known) = profiles.get(named) {
        return Ok(known.clone());
    }
    let Ok(path) = paths::typed(named);
    let text = std::fs::read_to_string(&path).map_err(|error| {
        let known: Vec<&str> = profiles.keys().map(String::as_str).collect();
        let fault = CommandError::file(&path, "read", &error);
        if known.is_empty() { fault } else { fault.because(format!("the register has: {}", known.join(", "))) }
    })?;
    let name = path.file_stem().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let reading = read(&[SourceFile { path: format!("{PROFILES}/{name}.toml"), text }]);
    if let Some(finding) = reading.findings.first() {
        return Err(CommandError::usage(format!(
            "{}: {}",
            paths::shown(&path),
            wording::register::message(&finding.fault)
        ))
        .because(wording::register::remedy(finding)));
    }
    reading
        .register
        .profiles
        .into_values()
        .next()
        .ok_or_else(|| CommandError::usage(format!("{named} holds no profile")))
}

fn out_of(profile: &str, host: &str, account: String, walked: Walked) -> ProfileTryOut {
    let plain = |text: &str| printable(text.as_bytes());
    let exchange = |one: &lavrin_reach::dialogue::Exchange| ExchangeOut {
        sent: plain(&one.sent),
        said: one.said.iter().map(|line| plain(line)).collect(),
        prompt: plain(&one.prompt),
    };
    let (keys, fault) = match walked.keys {
        Ok(Fact::Known(slots)) => (Some(slots.iter().map(listed).collect()), None),
        Ok(Fact::Unseen(why)) => (None, Some(wording::why_words(&why))),
        Ok(Fact::Absent) => (None, None),
        Err(fault) => (None, Some(fault.to_string())),
    };
    ProfileTryOut {
        schema: "lavrin/host-profile-try/1",
        profile: profile.to_owned(),
        host: host.to_owned(),
        exchanges: walked.exchanges.iter().map(exchange).collect(),
        account,
        keys,
        fault,
    }
}

fn listed(slot: &KeySlot) -> ListedKeyOut {
    let content = read_all(&slot.entry, None, &Dialect::default()).into_iter().next().map(|line| line.content);
    let (fingerprint, comment) = match content {
        Some(Content::Entry(entry)) => (Some(entry.fingerprint.to_string()), printable(entry.comment.trim_ascii())),
        _ => (None, printable(&slot.entry)),
    };
    ListedKeyOut { place: printable(slot.name.as_bytes()), fingerprint, comment }
}

fn text_of(out: &ProfileTryOut, ui: &Ui) -> String {
    let mut text = String::new();
    for one in &out.exchanges {
        if one.sent.is_empty() {
            text += &format!("{}\n", ui.paint(Label::Faint, "at first it says"));
        } else {
            text += &format!("{} {}\n", ui.paint(Label::Faint, "typed:"), ui.paint(Label::Type, &one.sent));
        }
        text += &one.said.iter().map(|line| format!("  {line}\n")).collect::<String>();
        text += &format!("  {}\n", ui.paint(Label::Faint, &one.prompt));
    }
    match (&out.keys, &out.fault) {
        (Some(keys), _) => {
            text += &format!("\n{}\n", ui.paint(Label::Strong, &format!("Keys of {} by this profile", out.account)));
            for key in keys {
                let print = key.fingerprint.as_deref().unwrap_or("not a key that can be read");
                text += &format!("  {}  {print}  {}\n", key.place, key.comment);
            }
            if keys.is_empty() {
                text += "  none\n";
            }
            text + "Nothing was changed.\n"
        }
        (None, fault) => {
            let why = fault.as_deref().unwrap_or("it says nothing of this account");
            text + &format!("\n{} {why}\nNothing was changed.\n", ui.paint(Label::Bad, "Stopped:"))
        }
    }
}
