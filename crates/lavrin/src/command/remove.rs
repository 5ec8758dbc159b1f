//! `lavrin remove`: take a key out of an account, and prove that it is refused.

use super::change::{self, ChangeArgs, ChangeOut, ProofOut, UnderWay};
use super::place::Work;
use crate::account_target::AccountTarget;
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::host::{HostArgs, NeedsRoot};
use crate::ui::{Label, Ui};
use crate::{input, paths, wording};
use clap::Args;
use lavrin_core::key::PublicKey;
use lavrin_core::login;
use lavrin_core::steps::{Steps, guard, remove};
use lavrin_core::survey::Server;
use lavrin_core::text::count;
use lavrin_store::Outcome;
use lavrin_work::Proof;
use std::path::PathBuf;

/// Take a key out of an account, and prove that it is refused
#[derive(Debug, Args)]
pub struct RemoveArgs {
    /// File with the public key, or its fingerprint
    #[arg(value_name = "KEY.pub|SHA256:…")]
    pub key: String,
    /// The account: ACCOUNT@HOST, or ACCOUNT with --root
    #[arg(value_name = "ACCOUNT[@HOST]")]
    pub target: AccountTarget,
    /// Work in this local tree (an image, a chroot, / itself) instead of on a host
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub root: Option<PathBuf>,
    /// Remove the key even where it is the very one that this login uses; you may be locked out
    #[arg(long)]
    pub accept_lockout: bool,
    #[command(flatten)]
    change: ChangeArgs,
    #[command(flatten)]
    host: HostArgs,
}

/// Runs the command.
pub async fn run(args: &RemoveArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let account = &args.target.account;
    let (fingerprint, given) = input::fingerprint_or_file(&args.key)?;
    let mut work = Work::open(ui, &args.target, args.root.as_deref(), &args.host, NeedsRoot::Yes).await?;
    work.look(|seen| login::wants(account, seen)).await?;
    let steps = remove(account, &fingerprint, &work.seen).map_err(|fault| no_steps(&fault, account, &work.name))?;
    let key = given.map(|given| given.key).or_else(|| login::find_key(account, &fingerprint, &work.seen));
    let mut out = out_of(args, &steps, &work);
    let target = format!("{account} on {}", work.name);
    let login = work.remote.as_ref().map(|remote| remote.login.clone());
    let changes = guard(&steps, login.as_ref(), args.accept_lockout)?;
    if args.change.preview {
        let what = if steps.changes.is_empty() { "Nothing would be changed for" } else { "This would be done for" };
        change::finish(ui, &out, (Label::Strong, format!("{what} {target}; nothing was changed")));
        return Ok(Exit::Done);
    }
    let mut under_way = None;
    if !steps.changes.is_empty() {
        change::show(ui, &steps, &work);
        change::confirm(ui, &args.change)?;
        let begun = UnderWay::new("remove", &work, &steps, changes, args.change.reason.clone())?;
        begun.carry(&work, &steps).await?;
        out.state = "done";
        check_gone(&mut work, &fingerprint, account, &begun).await?;
        under_way = Some(begun);
    }
    count_sessions(&mut work, account, &mut out).await?;
    conclude(args, ui, &work, key, under_way.as_ref(), &mut out, &target).await
}

fn out_of(args: &RemoveArgs, steps: &Steps, work: &Work) -> ChangeOut {
    ChangeOut {
        schema: "lavrin/remove/1",
        account: args.target.account.clone(),
        place: work.name.clone(),
        fingerprint: steps.fingerprint.map(|key| key.to_string()).unwrap_or_default(),
        steps: wording::steps::changes(steps),
        state: if args.change.preview { "preview" } else { "nothing-to-do" },
        entry: None,
        limits: None,
        proof: None,
        login: work.remote.as_ref().map(|remote| wording::signed_in(&remote.signed, &work.name)),
        open_sessions: None,
        notes: steps.not_covered.iter().map(wording::steps::not_covered).collect(),
    }
}

/// Reads the files back: no line of the key may be left.
async fn check_gone(
    work: &mut Work,
    fingerprint: &lavrin_core::key::Fingerprint,
    account: &str,
    begun: &UnderWay,
) -> Result<(), CommandError> {
    work.look_again(|seen| login::wants(account, seen)).await?;
    let left = remove(account, fingerprint, &work.seen).map(|steps| steps.changes.len());
    if left == Ok(0) {
        return Ok(());
    }
    begun.close(Outcome::Unknown, "the key was written out and stands there again")?;
    Err(CommandError::with(Exit::Midway, "the key was taken out, and read back it stands there again")
        .because("something else writes this file: an agent or a configuration management")
        .hint(format!("lavrin why {account}@{} --key KEY.pub", work.name)))
}

/// Counts the sessions of the account that are still open, this login's own left out.
async fn count_sessions(work: &mut Work, account: &str, out: &mut ChangeOut) -> Result<(), CommandError> {
    let Some(remote) = &work.remote else { return Ok(()) };
    let own = usize::from(remote.signed.account == account);
    if out.state != "done" {
        work.look_again(|seen| login::wants(account, seen)).await?;
    }
    let counted = matches!(work.seen.server, Server::OpenSsh { .. });
    out.open_sessions = work.seen.sessions.get("").filter(|_| counted).map(|count| count.saturating_sub(own));
    out.notes.push(match out.open_sessions {
        Some(0) => format!("no other session of {account} is open"),
        Some(open) => format!(
            "{} of {account} still open; what is logged in stays logged in",
            count(open, "session is", "sessions are")
        ),
        None => format!("how many sessions of {account} are still open could not be counted here"),
    });
    Ok(())
}

async fn conclude(
    args: &RemoveArgs,
    ui: &Ui,
    work: &Work,
    key: Option<PublicKey>,
    under_way: Option<&UnderWay>,
    out: &mut ChangeOut,
    target: &str,
) -> Result<Exit, CommandError> {
    let mut exit = Exit::Done;
    let asked = match &key {
        Some(key) => change::proof(work, &args.target.account, key, None).await,
        None => None,
    };
    match &asked {
        Some((proof, _)) => {
            out.proof = Some(ProofOut::of(proof));
            exit = match proof {
                Proof::Refused => Exit::Done,
                Proof::Nothing(_) => Exit::NotChecked,
                _ => Exit::Findings,
            };
        }
        None if work.remote.is_none() => {
            out.proof = Some(ProofOut {
                kind: "read-back",
                detail: "read back: no line of the key is left; no server was asked".to_owned(),
            });
        }
        None => out
            .notes
            .push("the server could not be asked: only the fingerprint is known, and no file holds the key".to_owned()),
    }
    if let Some(begun) = under_way {
        begun.close(Outcome::Done, out.proof.as_ref().map_or("read back", |proof| proof.detail.as_str()))?;
    }
    let what = if under_way.is_some() { "Removed" } else { "Nothing to do: no file holds the key" };
    let headline = if exit == Exit::Findings {
        out.notes.push(
            "the key comes from somewhere else than the account's files: a command, a certificate, another file"
                .to_owned(),
        );
        (Label::Bad, format!("{what} for {target}, and the server STILL ACCEPTS it"))
    } else {
        (Label::Good, format!("{what} for {target}"))
    };
    change::finish(ui, out, headline);
    Ok(exit)
}
