//! `lavrin remove`: take a key out of an account, and prove that it is refused.

use super::change::{self, ChangeArgs, ChangeOut, ProofOut};
use super::place::Work;
use super::register::RegisterArgs;
use crate::account_target::AccountTarget;
use crate::error::{CommandError, no_steps};
use crate::exit::Exit;
use crate::host::HostArgs;
use crate::outcome::{ChangeState, ProofKind};
use crate::ui::{Label, Ui};
use crate::{input, paths, wording};
use clap::Args;
use lavrin_keys::key::PublicKey;
use lavrin_keys::text::count;
use lavrin_server::login;
use lavrin_server::server::Software;
use lavrin_server::steps::{Steps, remove};
use lavrin_server::system::System;
use lavrin_work::change::Proof;
use lavrin_work::ways::Rights;
use lavrin_work::{Heard, Scope};
use std::path::PathBuf;

/// Take a key out of an account, and prove that it is refused
#[derive(Debug, Args)]
pub struct RemoveArgs {
    /// File with the public key, or its fingerprint
    #[arg(value_name = "KEY.pub|SHA256:…")]
    pub key: String,
    /// The account: ACCOUNT@HOST, or ACCOUNT with --tree
    #[arg(value_name = "ACCOUNT[@HOST]")]
    pub target: AccountTarget,
    /// A local tree (an image, a chroot, / itself) instead of a host
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub tree: Option<PathBuf>,
    /// Remove the key even if this login uses it; you may be locked out
    #[arg(long)]
    pub accept_lockout: bool,
    #[command(flatten)]
    change: ChangeArgs,
    #[command(flatten)]
    host: HostArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// Runs the command.
pub async fn run(args: &RemoveArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let account = &args.target.account;
    let (fingerprint, given) = input::fingerprint_or_file(&args.key)?;
    let register = args.register.here_for_host(args.tree.as_deref(), ui)?;
    let (root, needed) = (args.tree.as_deref(), Rights::Needed);
    let mut work = Work::open(ui, register.as_ref(), &args.target, root, &args.host, needed).await?;
    let scope = Scope::Account(account.clone());
    work.look(&|seen| scope.wants(seen)).await?;
    change::close_left_open(&work, register.as_ref())?;
    let plan = remove(account, &fingerprint, &System::of(&work.seen))
        .map_err(|fault| no_steps(&fault, account, &work.name))?;
    let key = given.map(|given| given.key).or_else(|| login::find_key(account, &fingerprint, &System::of(&work.seen)));
    let steps = plan.steps;
    let mut out = out_of(args, &steps, &work);
    let target = format!("{account} on {}", work.name);
    let tasks = change::guarded(vec![steps.clone()], &mut work, register.as_ref(), args.accept_lockout).await?;
    if args.change.preview {
        let what = if steps.changes.is_empty() { "Nothing would be changed for" } else { "This would be done for" };
        change::finish(ui, &out, (Label::Strong, format!("{what} {target}; nothing was changed")));
        return Ok(Exit::Done);
    }
    let not_shown;
    let heard = if steps.changes.is_empty() {
        not_shown = login::not_gone(account, &fingerprint, &System::of(&work.seen));
        ask(&work, account, key.as_ref()).await
    } else {
        change::show(ui, &steps, &work);
        change::confirm(ui, &args.change)?;
        let terms = change::terms("remove", register.as_ref(), args.change.reason.clone(), args.accept_lockout, ui)?;
        let gone = vec![(account.clone(), fingerprint)];
        let refused = key.iter().map(|key| (account.clone(), key.clone())).collect();
        let proof = Proof { gone, refused, ..Proof::of(scope.clone()) };
        let (back, ended) = change::carry(work, tasks, proof, terms, ui).await;
        if let Some(error) = change::error_of(ended.worst(), account, &out.place) {
            return Err(error);
        }
        work = back.ok_or_else(|| CommandError::with(Exit::Midway, "the program failed"))?;
        out.state = ChangeState::Done;
        not_shown = ended.not_shown.first().map(|one| one.why.clone());
        ended.asked.into_iter().find(|asked| asked.fingerprint == fingerprint).map(|asked| asked.heard)
    };
    count_sessions(&mut work, &scope, account, &mut out).await?;
    if let Some(why) = &not_shown {
        out.notes.push(format!("that the key is gone is not shown: {}", wording::not_gone(why)));
    }
    let shown = if not_shown.is_some() { Exit::NotChecked } else { Exit::Done };
    Ok(conclude(ui, &work, heard.as_ref(), &mut out, &target).max(shown))
}

/// Nothing is to be taken out: what the server says counts all the same.
async fn ask(work: &Work, account: &str, key: Option<&PublicKey>) -> Option<Heard> {
    let key = key.filter(|_| work.site.is_host())?;
    work.site.hear(account, std::slice::from_ref(key), None).await.pop()
}

fn out_of(args: &RemoveArgs, steps: &Steps, work: &Work) -> ChangeOut {
    ChangeOut {
        schema: "lavrin/remove/1",
        account: args.target.account.clone(),
        place: work.name.clone(),
        fingerprint: steps.fingerprint.map(|key| key.to_string()).unwrap_or_default(),
        steps: wording::steps::changes(steps),
        state: if args.change.preview { ChangeState::Preview } else { ChangeState::NothingToDo },
        entry: None,
        limits: None,
        proof: None,
        login: work.login_words(),
        open_sessions: None,
        notes: steps.not_covered.iter().map(wording::steps::not_covered).collect(),
    }
}

/// Counts the sessions of the account that are still open, this login's own left out.
async fn count_sessions(
    work: &mut Work,
    scope: &Scope,
    account: &str,
    out: &mut ChangeOut,
) -> Result<(), CommandError> {
    let Some(signed) = work.site.signed() else { return Ok(()) };
    let own = usize::from(signed.account == account);
    if out.state != ChangeState::Done {
        work.look_again(&|seen| scope.wants(seen)).await?;
    }
    let counted = work.seen.server.software == Software::OpenSsh;
    out.open_sessions = work.seen.sessions.get("").filter(|_| counted).map(|count| count.saturating_sub(own));
    out.notes.push(match out.open_sessions {
        Some(0) => format!("no other session of {account} is open"),
        Some(open) => {
            let verb = if open == 1 { "is" } else { "are" };
            format!("{} of {account} {verb} still open; open sessions stay open", count(open, "session", "sessions"))
        }
        None => format!("open sessions of {account} could not be counted"),
    });
    Ok(())
}

fn conclude(ui: &Ui, work: &Work, heard: Option<&Heard>, out: &mut ChangeOut, target: &str) -> Exit {
    let mut exit = Exit::Done;
    match heard {
        Some(heard) => {
            out.proof = Some(ProofOut::of(heard));
            exit = match heard {
                Heard::Refuses => Exit::Done,
                Heard::Nothing(_) | Heard::LeftOut => Exit::NotChecked,
                _ => Exit::Findings,
            };
        }
        None if !work.site.is_host() => {
            out.proof = Some(ProofOut {
                kind: ProofKind::ReadBack,
                detail: "read back: the key is in no line any more; no server was asked".to_owned(),
            });
        }
        None => out
            .notes
            .push("the server could not be asked: only the fingerprint is known, and the key is in no file".to_owned()),
    }
    let what = if out.state == ChangeState::Done { "Removed" } else { "Nothing to do: the key is in no file" };
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
    exit
}
