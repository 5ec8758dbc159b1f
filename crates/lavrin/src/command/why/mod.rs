//! `lavrin why`: would this key open this account, and if not, which rule refuses it.

mod asked;

use crate::account_target::AccountTarget;
use crate::command::register::RegisterArgs;
use crate::connection::{ConnectionArgs, ServerArgs};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::host::HostArgs;
use crate::input::Offered;
use crate::input::typed_fingerprint;
use crate::json::{LimitsOut, PlaceOut, ReasonOut};
use crate::ui::{Label, Ui};
use crate::{clock, input, paths, wording};
use asked::AskedPlace;
use clap::Args;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::count;
use lavrin_server::abilities::Ability;
use lavrin_server::login::{self, Outcome, Question, Reason, ReasonKind, Verdict};
use lavrin_server::server_config;
use lavrin_server::survey::{Observation, Want};
use lavrin_server::system::System;
use serde::Serialize;
use std::path::PathBuf;
use time::OffsetDateTime;
use time::format_description::well_known::Rfc3339;

/// Would this key open this account, and if not, which rule refuses it
#[derive(Debug, Args)]
pub struct WhyArgs {
    /// The account: ACCOUNT@HOST, or ACCOUNT with --tree
    #[arg(value_name = "ACCOUNT[@HOST]")]
    pub target: AccountTarget,
    /// The public key or certificate; without a key: who can log in at all
    #[arg(long, value_name = "KEY.pub", value_parser = paths::typed, conflicts_with = "fingerprint")]
    pub key: Option<PathBuf>,
    /// The key's fingerprint
    #[arg(long, value_name = "SHA256:…", value_parser = typed_fingerprint)]
    pub fingerprint: Option<Fingerprint>,
    /// A local tree (an image, a chroot, / itself) instead of a host
    #[arg(long, value_name = "DIR", value_parser = paths::typed)]
    pub tree: Option<PathBuf>,
    #[command(flatten)]
    pub connection: ConnectionArgs,
    /// The client's signature algorithm (default: the best the server accepts)
    #[arg(long, value_name = "ALGORITHM")]
    pub signature: Option<String>,
    /// Time of the login, for expiry-time= (RFC 3339; default: now)
    #[arg(long, value_name = "TIME")]
    pub at: Option<String>,
    #[command(flatten)]
    server: ServerArgs,
    #[command(flatten)]
    host: HostArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct WhyOut {
    schema: &'static str,
    account: String,
    fingerprint: String,
    /// `accepted`, `refused` or `undecided`.
    verdict: &'static str,
    deciding: Option<ReasonOut>,
    also: Vec<ReasonOut>,
    limits: LimitsOut,
    entry: Option<PlaceOut>,
    /// By which server's rules, and how that is known.
    server: String,
    /// Of when the answer is, where the host was not reached and the last survey answers (RFC 3339).
    #[serde(skip_serializing_if = "Option::is_none")]
    as_of: Option<String>,
    /// Whether the host lists keys only, and nobody sees by which rules it lets somebody in.
    #[serde(skip)]
    lists_only: bool,
}

/// What `--format json` prints where no key is named.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct WhoOut {
    schema: &'static str,
    account: String,
    /// One answer for each key that stands in a key file of the account.
    keys: Vec<WhoKeyOut>,
}

/// The answer for one key.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct WhoKeyOut {
    comment: String,
    algorithm: &'static str,
    #[serde(flatten)]
    why: WhyOut,
}

/// Runs the command.
pub async fn run(args: &WhyArgs, ui: &Ui) -> Result<Exit, CommandError> {
    if args.key.is_none() && args.fingerprint.is_none() {
        return everybody(args, ui).await;
    }
    let account = &args.target.account;
    let question = question(args)?;
    let register = args.register.here_for_host(args.tree.as_deref(), ui)?;
    let mut work = AskedPlace::open(args, register.as_ref(), ui).await?;
    work.look(&|seen| wants(account, seen)).await?;
    let mut verdict = login::judge(&question, &System::of(work.seen()));
    if verdict
        .deciding
        .as_ref()
        .is_some_and(|reason| matches!(reason.kind, ReasonKind::NoEntry | ReasonKind::NoKeyFile))
    {
        // The right key for the wrong account is a common mistake, and worth a second look.
        work.look(&|seen| login::wants_of_others(&System::of(seen))).await?;
        verdict = login::judge(&question, &System::of(work.seen()));
    }
    let out = out_of(args, &question, &verdict, &work);
    ui.give(&out, || text_of(&out, &verdict, args, ui));
    tell_newer(&work, ui);
    Ok(work.exit(match verdict.outcome {
        Outcome::Accepted => Exit::Done,
        Outcome::Refused => Exit::Findings,
        Outcome::Undecided => Exit::NotChecked,
    }))
}

/// Who can open this account at all: one answer for each key in its files.
async fn everybody(args: &WhyArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let account = &args.target.account;
    let now = moment(args)?;
    let register = args.register.here_for_host(args.tree.as_deref(), ui)?;
    let mut work = AskedPlace::open(args, register.as_ref(), ui).await?;
    work.look(&|seen| wants(account, seen)).await?;
    if work.seen().account(account).is_none() {
        return Err(CommandError::with(Exit::Findings, format!("there is no account {account} on {}", work.name())));
    }
    let keys = login::keys_of(account, &System::of(work.seen()));
    let judged: Vec<_> = keys
        .iter()
        .map(|(key, comment)| {
            let question = Question { signature: args.signature.clone(), ..Question::plain(account, key, now) };
            let verdict = login::judge(&question, &System::of(work.seen()));
            let why = out_of(args, &question, &verdict, &work);
            (WhoKeyOut { comment: wording::comment(comment), algorithm: key.algorithm().name(), why }, verdict)
        })
        .collect();
    let opens = judged.iter().any(|(_, verdict)| verdict.outcome == Outcome::Accepted);
    let open = judged.iter().any(|(_, verdict)| verdict.outcome == Outcome::Undecided);
    let (keys, verdicts): (Vec<_>, Vec<_>) = judged.into_iter().unzip();
    let out = WhoOut { schema: "lavrin/why-all/1", account: account.clone(), keys };
    ui.give(&out, || everybody_text(&out.keys, &verdicts, args, ui));
    tell_newer(&work, ui);
    Ok(work.exit(match (opens, open) {
        (_, true) => Exit::NotChecked,
        (true, false) => Exit::Done,
        (false, false) => Exit::Findings,
    }))
}

fn everybody_text(keys: &[WhoKeyOut], verdicts: &[Verdict], args: &WhyArgs, ui: &Ui) -> String {
    let account = ui.paint(Label::Strong, &args.target.account);
    if keys.is_empty() {
        return format!("there is no key in the files of {account}\n");
    }
    let mut text = String::new();
    for (key, verdict) in keys.iter().zip(verdicts) {
        let comment = ui.paint(Label::Strong, &key.comment);
        text += &format!("{comment}  {}\n  ", key.algorithm);
        text += &text_of(&key.why, verdict, args, ui);
    }
    let opening = verdicts.iter().filter(|verdict| verdict.outcome == Outcome::Accepted).count();
    let undecided = verdicts.iter().filter(|verdict| verdict.outcome == Outcome::Undecided).count();
    let all = count(keys.len(), "key", "keys");
    let mut said = match opening {
        0 => format!("none of {all} opens {account}"),
        1 => format!("1 of {all} opens {account}"),
        more => format!("{more} of {all} open {account}"),
    };
    if undecided > 0 {
        said += &format!("; {undecided} undecided");
    }
    text + &format!("\n{said}\n")
}

/// What decides, and the files of the configuration: they tell where a setting is that the server prints without its place.
fn wants(account: &str, seen: &Observation) -> Vec<Want> {
    let mut wants = login::wants(account, &System::of(seen));
    if seen.looked && seen.said_by_server.is_some() {
        wants.extend(server_config::wants(seen).into_iter().filter(|want| !seen.answers(want)));
    }
    wants
}

/// This verdict follows the files; the running server may not have read them yet.
fn tell_newer(work: &AskedPlace, ui: &Ui) {
    if let Some(newer) = &work.seen().config_newer {
        let time = |seconds: i64| clock::date_of(u64::try_from(seconds).unwrap_or_default()).replace('T', " ");
        ui.warn(&format!(
            "{} changed at {}, after the server started at {}: unless it was reloaded since, it still uses the old \
             settings, and lavrin probe shows those",
            newer.path,
            time(newer.changed),
            time(newer.started)
        ));
    }
}

/// The moment of the login.
fn moment(args: &WhyArgs) -> Result<i64, CommandError> {
    let now = match &args.at {
        None => clock::now(),
        Some(text) => OffsetDateTime::parse(text, &Rfc3339).map_err(|_| {
            CommandError::usage(format!("'{text}' is not a time")).again("", "--at 2026-11-23T18:00:00Z")
        })?,
    };
    Ok(now.unix_timestamp())
}

fn question(args: &WhyArgs) -> Result<Question, CommandError> {
    let offered = match (&args.key, args.fingerprint) {
        (Some(path), _) => input::offered(path)?,
        (None, Some(fingerprint)) => Offered { fingerprint, key: None, certificate: None, algorithm: None },
        (None, None) => return Err(CommandError::usage("which key? --key KEY.pub or --fingerprint SHA256:…")),
    };
    Ok(Question {
        account: args.target.account.clone(),
        fingerprint: offered.fingerprint,
        key: offered.key,
        certificate: offered.certificate,
        signature: args.signature.clone().or(offered.algorithm),
        now: moment(args)?,
    })
}

fn out_of(args: &WhyArgs, question: &Question, verdict: &Verdict, work: &AskedPlace) -> WhyOut {
    let account = &args.target.account;
    let place = match &args.tree {
        Some(root) => format!("{account} --tree {}", lavrin_keys::text::shell_word(&paths::shown(root))),
        None => format!("{account}@{}", work.name()),
    };
    let reason = |reason: &Reason| {
        let path = reason.path.as_ref().map(|path| work.typed_path(path)).unwrap_or_default();
        ReasonOut::of(reason, account, &place, &path)
    };
    WhyOut {
        schema: "lavrin/why/1",
        account: account.clone(),
        fingerprint: question.fingerprint.to_string(),
        verdict: match verdict.outcome {
            Outcome::Accepted => "accepted",
            Outcome::Refused => "refused",
            Outcome::Undecided => "undecided",
        },
        deciding: verdict.deciding.as_ref().map(reason),
        also: verdict.also.iter().map(reason).collect(),
        limits: LimitsOut::from(&verdict.limits),
        entry: verdict.entry.as_ref().map(PlaceOut::from),
        server: wording::server(work.seen()),
        as_of: work.as_of(),
        lists_only: !work.seen().abilities.has(Ability::Settings),
    }
}

fn text_of(out: &WhyOut, verdict: &Verdict, args: &WhyArgs, ui: &Ui) -> String {
    let label = match verdict.outcome {
        Outcome::Accepted => Label::Good,
        Outcome::Refused => Label::Bad,
        Outcome::Undecided => Label::Warn,
    };
    let mut text = format!(
        "{} {} with {}\n",
        ui.paint(label, out.verdict),
        ui.paint(Label::Strong, &args.target.account),
        out.fingerprint
    );
    if let Some(entry) = &out.entry {
        let limits = wording::limits(&verdict.limits);
        let limits = if limits.is_empty() { "no limits".to_owned() } else { limits.join("; ") };
        text += &format!("  entry    {}\n  limits   {limits}\n", entry.words());
    }
    if let Some(reason) = &out.deciding {
        text += &reason_text(reason, "because", ui);
    }
    for reason in &out.also {
        text += &reason_text(reason, "and then", ui);
    }
    if out.lists_only {
        return text;
    }
    text + &ui.paint(Label::Faint, &format!("  rules of {}", out.server)) + "\n"
}

fn reason_text(reason: &ReasonOut, word: &str, ui: &Ui) -> String {
    let mut text =
        format!("  {word:<8} {} {}\n", reason.message, ui.paint(Label::Faint, &format!("[{}]", reason.rule)));
    if let Some(path) = &reason.path {
        let line = reason.line.map(|line| format!(" line {line}")).unwrap_or_default();
        text += &format!("           at {path}{line}\n");
    }
    if let Some(remedy) = &reason.remedy {
        text += &format!("           next: {}\n", ui.paint(Label::Type, remedy));
    }
    text
}
