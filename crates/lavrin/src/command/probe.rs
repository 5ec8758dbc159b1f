//! `lavrin probe`: ask a host from outside whether it takes a key. Changes nothing.

use super::change::ProofOut;
use crate::account_target::AccountTarget;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::host::HostArgs;
use crate::ui::{Format, Label, Ui};
use crate::{input, paths};
use clap::Args;
use lavrin_core::key::generate::SystemSource;
use lavrin_work::{Proof, prove};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::PathBuf;

/// Ask a host from outside whether it takes a key for an account; with --identity, sign in for real
#[derive(Debug, Args)]
pub struct ProbeArgs {
    /// File with the public key (not needed with --identity), then the account: ACCOUNT@HOST
    #[arg(value_name = "[KEY.pub] ACCOUNT@HOST", required = true, num_args = 1..=2)]
    pub words: Vec<String>,
    #[command(flatten)]
    host: HostArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize, JsonSchema)]
pub struct ProbeOut {
    schema: &'static str,
    account: String,
    host: String,
    fingerprint: String,
    /// `accepted`, `refused` or `no-answer`.
    answer: &'static str,
    proof: ProofOut,
}

/// Runs the command.
pub async fn run(args: &ProbeArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let (target, key_path) = words(args)?;
    let host = target.host.clone().ok_or_else(|| CommandError::usage("a probe asks a host: ACCOUNT@HOST"))?;
    let private = match &args.host.sign_in.identity {
        Some(path) => Some((Box::new(input::private_key(path, &args.host.sign_in.passphrase())?), paths::shown(path))),
        None => None,
    };
    let public = match (&key_path, &private) {
        (Some(path), _) => input::public_key(path)?.key,
        (None, Some((key, _))) => key.public().clone(),
        (None, None) => {
            return Err(CommandError::usage("which key? Give its public half, or the private one for a real login")
                .hint("lavrin probe KEY.pub ACCOUNT@HOST; or: lavrin probe ACCOUNT@HOST --identity FILE"));
        }
    };
    let mut ssh = args.host.target(ui, &host).await?;
    args.host.connect(ui, &mut ssh).await?.close().await;
    let private = private.filter(|(key, _)| *key.public() == public);
    let (proof, _) = prove(&ssh, &target.account, &public, private, &SystemSource).await;
    let (answer, exit, label) = match &proof {
        Proof::LoggedIn(_) | Proof::WouldAccept => ("accepted", Exit::Done, Label::Good),
        Proof::Refused | Proof::LoginRefused(_) => ("refused", Exit::Findings, Label::Bad),
        Proof::Nothing(_) => ("no-answer", Exit::NotChecked, Label::Warn),
    };
    let out = ProbeOut {
        schema: "lavrin/probe/1",
        account: target.account,
        host,
        fingerprint: public.fingerprint().to_string(),
        answer,
        proof: ProofOut::of(&proof),
    };
    if ui.format == Format::Json {
        ui.result(&crate::json::print(&out));
    } else {
        ui.result(&format!(
            "{} {} on {}\n  key     {}\n  proof   {}\n",
            ui.paint(label, out.answer),
            out.account,
            out.host,
            out.fingerprint,
            out.proof.detail
        ));
    }
    Ok(exit)
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
