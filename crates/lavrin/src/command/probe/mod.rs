//! `lavrin probe`: ask hosts from outside whether they take a key. Changes nothing.

mod many;

#[cfg(test)]
pub use many::ProbeManyOut;

use super::change::ProofOut;
use super::register::RegisterArgs;
use crate::account_target::AccountTarget;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::host::HostArgs;
use crate::outcome::KeyAnswer;
use crate::ui::{Label, Ui};
use crate::{input, paths};
use clap::{Args, ValueEnum};
use lavrin_keys::key::generate::SystemSource;
use lavrin_reach::ssh::Credential;
use lavrin_work::{Heard, Holder, NoProof, prove};
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

/// Ask hosts from outside whether they take a key; with --identity and one account, sign in for real
#[derive(Debug, Args)]
pub struct ProbeArgs {
    /// The key: a file with its public half (not needed with --identity), a fingerprint, or a person of the register. Then
    /// where: ACCOUNT@HOST, or hosts and tags of the register, of which every managed account is asked
    #[arg(value_name = "KEY|PERSON|WHERE", required = true)]
    pub words: Vec<String>,
    /// Keep asking for so long: 90s, 10m, 2h
    #[arg(long, value_name = "TIME", value_parser = typed_time)]
    pub wait: Option<Duration>,
    /// What is wanted
    #[arg(long, value_name = "ANSWER", default_value = "answered")]
    pub until: Until,
    #[command(flatten)]
    register: RegisterArgs,
    #[command(flatten)]
    host: HostArgs,
}

/// What is waited for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Until {
    /// Either answer
    Answered,
    /// That every host takes the key
    Accepted,
    /// That every host refuses it
    Refused,
}

/// How long a question may take that is asked once.
const PATIENCE: Duration = Duration::from_mins(1);

/// A length of time that was typed.
pub fn typed_time(text: &str) -> Result<Duration, String> {
    let (number, unit) = text.split_at(text.len() - text.chars().last().map_or(0, char::len_utf8));
    let seconds = match unit {
        "s" => 1,
        "m" => 60,
        "h" => 3600,
        "d" => 86_400,
        _ => 0,
    };
    let time = number.parse::<u64>().ok().filter(|number| seconds > 0 && *number <= 40_000);
    time.map(|number| Duration::from_secs(number * seconds)).ok_or_else(|| "write it as 90s, 10m or 2h".to_owned())
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ProbeOut {
    schema: &'static str,
    account: String,
    host: String,
    fingerprint: String,
    /// `accepted`, `refused` or `no-answer`.
    answer: KeyAnswer,
    proof: ProofOut,
}

/// Runs the command.
pub async fn run(args: &ProbeArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if !is_single(args) {
        let opened = args.register.open_for_hosts(ui)?;
        return many::run(args, &opened, ui).await;
    }
    let (target, key_path) = words(args)?;
    let host = target.host.clone().ok_or_else(|| CommandError::usage("a probe asks a host: ACCOUNT@HOST"))?;
    let private = match &args.host.sign_in.identity {
        Some(path) => {
            let key = Arc::new(input::private_key(path, &args.host.sign_in.passphrase())?);
            Some(Holder { key, source: paths::shown(path) })
        }
        None => None,
    };
    let public = match (&key_path, &private) {
        (Some(path), _) => input::public_key(path)?.key,
        (None, Some(holder)) => holder.key.public().clone(),
        (None, None) => {
            return Err(CommandError::usage("which key? Give its public half, or the private one for a real login")
                .hint("lavrin probe KEY.pub ACCOUNT@HOST; or: lavrin probe ACCOUNT@HOST --identity FILE"));
        }
    };
    let register = args.register.here_for_host(None, ui)?;
    let (mut stop, ways) = args.host.stop(ui, register.as_ref(), &host, &target.account)?;
    let ssh = args.host.greet(ui, &mut stop, &ways).await?;
    let holder = private.filter(|holder| *holder.key.public() == public);
    let own = holder.iter().map(|holder| Credential::Key { key: holder.key.clone(), source: holder.source.clone() });
    let own: Vec<Credential> = own.collect();
    let mut terms = ways.terms(&SystemSource, args.wait.unwrap_or(PATIENCE));
    terms.login = (!own.is_empty()).then_some((own.as_slice(), &[]));
    let (heard, _) = prove(&ssh, &target.account, &public, holder.as_ref(), &terms).await;
    let (answer, exit, label) = match &heard {
        Heard::LoggedIn(_) | Heard::Accepts => (KeyAnswer::Accepted, Exit::Done, Label::Good),
        Heard::Refuses | Heard::LoginRefused(_) => (KeyAnswer::Refused, Exit::Findings, Label::Strong),
        Heard::Nothing(NoProof::HeldOff) => (KeyAnswer::NotAsked, Exit::NotChecked, Label::Warn),
        Heard::Nothing(_) | Heard::LeftOut => (KeyAnswer::NoAnswer, Exit::NotChecked, Label::Warn),
    };
    let out = ProbeOut {
        schema: "lavrin/probe/1",
        account: target.account,
        host,
        fingerprint: public.fingerprint().to_string(),
        answer,
        proof: ProofOut::of(&heard),
    };
    ui.give(&out, || {
        format!(
            "{} {} on {}\n  key     {}\n  proof   {}\n",
            ui.paint(label, out.answer.word()),
            out.account,
            out.host,
            out.fingerprint,
            out.proof.detail
        )
    });
    Ok(exit)
}

/// Whether a word means a file, be it there or not.
fn is_file(word: &str) -> bool {
    word.contains('/')
        || word == "-"
        || Path::new(word).is_file()
        || Path::new(word).extension().is_some_and(|end| end == "pub")
}

/// One key and one account, which need no register.
fn is_single(args: &ProbeArgs) -> bool {
    let is_account = |word: &String| word.contains('@') && !Path::new(word).exists();
    let asks_one = match &args.words[..] {
        [account] => is_account(account),
        [key, account] => is_account(account) && !is_account(key) && is_file(key),
        _ => false,
    };
    asks_one && args.wait.is_none() && args.until == Until::Answered
}

fn words(args: &ProbeArgs) -> Result<(AccountTarget, Option<PathBuf>), CommandError> {
    let last = args.words.last().map(String::as_str).unwrap_or_default();
    let target: AccountTarget = last.parse().map_err(CommandError::usage)?;
    let key = (args.words.len() == 2).then(|| {
        let Ok(path) = paths::typed(&args.words[0]);
        path
    });
    Ok((target, key))
}
