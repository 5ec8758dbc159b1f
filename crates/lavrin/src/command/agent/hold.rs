//! `lavrin agent hold`

use super::{SocketArgs, fault, record};
use crate::command::probe::typed_time;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::secret::PassphraseArgs;
use crate::ui::{Label, Ui};
use crate::{clock, input, paths};
use clap::Args;
use lavrin_reach::agent::hold;
use std::path::PathBuf;
use std::time::Duration;

/// Hand a key to the agent, so that its passphrase is typed once
#[derive(Debug, Args)]
pub struct HoldArgs {
    /// The private key
    #[arg(value_name = "FILE", value_parser = paths::typed)]
    pub file: PathBuf,
    /// How long the agent holds it: 30m, 8h, 2d; or always, until it ends
    #[arg(long = "for", value_name = "TIME", default_value = "8h", value_parser = typed_hold)]
    pub time: HoldTime,
    /// The agent asks at each use
    #[arg(long)]
    pub confirm: bool,
    #[command(flatten)]
    agent: SocketArgs,
    #[command(flatten)]
    passphrase: PassphraseArgs,
}

/// How long; none: until the agent ends.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HoldTime(Option<Duration>);

fn typed_hold(text: &str) -> Result<HoldTime, String> {
    if text == "always" {
        return Ok(HoldTime(None));
    }
    let time = typed_time(text).map_err(|_| "write it as 30m, 8h, 2d, or always".to_owned())?;
    Ok(HoldTime(Some(time)))
}

/// Runs the command.
pub async fn run(args: &HoldArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let socket = args.agent.get()?;
    // Before a passphrase is asked for.
    lavrin_reach::agent::held(&socket).await.map_err(|why| fault(&why))?;
    let (key, comment) = input::private_with_comment(&args.file, &args.passphrase.given())?;
    let comment = if comment.is_empty() { paths::shown(&args.file) } else { comment };
    let seconds = args.time.0.map(|time| u32::try_from(time.as_secs()).unwrap_or(u32::MAX));
    hold(&socket, &key, &comment, seconds, args.confirm).await.map_err(|why| fault(&why))?;
    let print = key.public().fingerprint();
    let now = clock::unix();
    let until = seconds.map(|seconds| now + i64::from(seconds));
    record::remember(record::Handed { key: print.to_string(), socket, until, confirm: args.confirm }, now)?;
    let until = match until {
        Some(until) => format!("until {} UTC", clock::text_of(until).replace('T', " ").trim_end_matches('Z')),
        None => ui.paint(Label::Warn, "until it ends"),
    };
    let asks = if args.confirm { "; it asks at each use" } else { "" };
    ui.result(&format!("the agent holds {print} ({comment}) {until}{asks}"));
    ui.status(&format!("earlier: lavrin agent release {print}"));
    Ok(Exit::Done)
}
