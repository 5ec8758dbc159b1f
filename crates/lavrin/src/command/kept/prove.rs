//! `lavrin kept prove`

use super::make::mark_proven;
use super::sealed::{open, set_back};
use super::{KeptName, OpenerArgs, SealOpener};
use crate::command::pace::PaceArgs;
use crate::command::register::{OpenedRegister, RegisterArgs, today};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::outcome::KeyAnswer;
use crate::sign_in::SignInArgs;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording;
use clap::Args;
use lavrin_fleet::register::{KeptAccount, KeptVersion, OwnedKey};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::{count, printable};
use lavrin_store::database::Database;
use lavrin_work::ask::{HostQuestion, ask};
use lavrin_work::kept::claimed_version;
use lavrin_work::ways::unspoken;
use lavrin_work::{Heard, Holder};
use serde::Serialize;
use std::collections::{BTreeMap, HashMap};

/// Sign in with kept keys: does each still open its account?
#[derive(Debug, Args)]
pub struct ProveArgs {
    /// Only these accounts (default: all)
    #[arg(value_name = "ACCOUNT@HOST")]
    pub names: Vec<KeptName>,
    #[command(flatten)]
    opener: OpenerArgs,
    #[command(flatten)]
    sign_in: SignInArgs,
    #[command(flatten)]
    pace: PaceArgs,
    #[command(flatten)]
    register: RegisterArgs,
}

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct KeptProveOut {
    schema: &'static str,
    kept: Vec<ProvenOut>,
}

/// One kept key.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct ProvenOut {
    account: String,
    host: String,
    version: u32,
    key: String,
    /// `opens`, `replaced` by a newer version, `not-yet-there` (a newer one), `refused`, `no-answer`, or `not-opened`: the seal could not be opened here.
    state: &'static str,
    why: Option<String>,
}

/// A version whose private half is at hand.
struct Ready<'a> {
    kept: &'a KeptAccount,
    version: (&'a OwnedKey, &'a KeptVersion),
    key: Fingerprint,
    holder: Holder,
}

/// Runs the command.
pub async fn run(args: &ProveArgs, ui: &Ui) -> Result<Exit, CommandError> {
    let mut opened = args.register.open_to_change_hosts(ui)?;
    let before = opened.clone();
    let register = before.register();
    let wanted: Vec<&KeptAccount> = if args.names.is_empty() {
        register.kept.iter().collect()
    } else {
        args.names.iter().map(|name| name.of(register)).collect::<Result<_, _>>()?
    };
    let mut opener = SealOpener::new(&args.opener, args.sign_in.identity.as_ref(), args.sign_in.passphrase());
    let (mut ready, mut rows) = (Vec::new(), Vec::new());
    for kept in wanted {
        if kept.current(today()).is_none()
            && let Some(last) = kept.all().next_back()
        {
            rows.push(row(kept, last, "not-opened", Some("no version is in use".to_owned())));
        }
        // While one replaces another both are asked about: which of them the host has is what is to be found out.
        for version in kept.all().filter(|(key, _)| key.is_active(today())) {
            match unseal(kept, version, &before, &mut opener) {
                Ok(one) => ready.push(one),
                Err(fault) => rows.push(row(kept, version, "not-opened", Some(fault.in_one_line()))),
            }
        }
    }
    let heard = ask_all(args, &ready, &before, ui).await?;
    for one in &ready {
        let said = heard.get(&one.key);
        let (state, why) = match said {
            Some(Ok(Heard::LoggedIn(_))) => {
                let name = KeptName { account: one.kept.account.clone(), host: one.kept.host.clone() };
                opened = mark_proven(&opened, &name, one.version.1.number, one.key, ui)?;
                ("opens", None)
            }
            Some(Ok(heard)) => {
                let (answer, why) = wording::heard(heard);
                let is_no = matches!(answer, KeyAnswer::Refused);
                (if is_no { "refused" } else { "no-answer" }, newer(one, &before).or(why))
            }
            Some(Err(why)) => ("no-answer", Some(why.clone())),
            None => ("no-answer", None),
        };
        rows.push(row(one.kept, one.version, state, why));
    }
    tell_under_way(&mut rows);
    let exit = rows.iter().map(|row| exit_of(row.state)).max().unwrap_or(Exit::Done);
    let out = KeptProveOut { schema: "lavrin/kept-prove/1", kept: rows };
    ui.give(&out, || text(&out, ui));
    Ok(exit)
}

/// Of two versions one is refused while a rotation is under way: that is no finding as long as the other one opens the account.
fn tell_under_way(rows: &mut [ProvenOut]) {
    let opens: Vec<(String, String, u32)> = rows
        .iter()
        .filter(|row| row.state == "opens")
        .map(|row| (row.account.clone(), row.host.clone(), row.version))
        .collect();
    for row in rows.iter_mut().filter(|row| row.state == "refused") {
        let other = opens.iter().find(|(account, host, _)| *account == row.account && *host == row.host);
        if let Some((account, host, version)) = other {
            row.state = if *version > row.version { "replaced" } else { "not-yet-there" };
            row.why = Some(crate::cli::complete(&format!(
                "version {version} opens it; to go on: lavrin rotate --account {account}@{host}"
            )));
        }
    }
}

fn unseal<'a>(
    kept: &'a KeptAccount,
    (key, version): (&'a OwnedKey, &'a KeptVersion),
    opened: &OpenedRegister,
    opener: &mut SealOpener,
) -> Result<Ready<'a>, CommandError> {
    set_back(opened, kept)?;
    let unsealed = open(opened, kept, (key, version), opener)?;
    let source = format!("kept key of {}", kept.name());
    let holder = Holder { key: unsealed.key, source };
    Ok(Ready { kept, version: (key, version), key: key.fingerprint, holder })
}

type AnswersByKey = HashMap<Fingerprint, Result<Heard, String>>;

/// One question to each host about all its kept keys.
async fn ask_all(
    args: &ProveArgs,
    ready: &[Ready<'_>],
    opened: &OpenedRegister,
    ui: &Ui,
) -> Result<AnswersByKey, CommandError> {
    if ready.is_empty() {
        return Ok(AnswersByKey::new());
    }
    let register = opened.register();
    let ways = args.sign_in.ways(register)?;
    let pace = args.pace.pace(register, ui)?;
    let mut questions: BTreeMap<&str, HostQuestion> = BTreeMap::new();
    let mut said = AnswersByKey::new();
    for one in ready {
        let Some(host) = register.hosts.get(&one.kept.host) else {
            said.insert(one.key, Err("the register does not know this host".to_owned()));
            continue;
        };
        if let Some(why) = unspoken(register, host) {
            said.insert(one.key, Err(wording::host_fault(&why)));
            continue;
        }
        let question = questions.entry(&one.kept.host).or_insert_with(|| HostQuestion::of(ways.stop(host), Vec::new()));
        let key = one.holder.key.public().clone();
        match question.accounts.iter_mut().find(|(account, _)| *account == one.kept.account) {
            Some((_, keys)) => keys.push(key),
            None => question.accounts.push((one.kept.account.clone(), vec![key])),
        }
        question.holders.push(one.holder.clone());
    }
    for (question, answer) in ask(questions.into_values().collect(), &ways, &pace).await {
        for (account, keys) in &question.accounts {
            for (number, key) in keys.iter().enumerate() {
                let own = |all: &Vec<(String, Vec<Heard>)>| {
                    let own = all.iter().find(|(name, _)| name == account);
                    own.and_then(|(_, heard)| heard.get(number).cloned())
                };
                let heard = match &answer {
                    Ok(all) => own(all).map_or_else(|| Err(wording::not_asked()), Ok),
                    Err(fault) => Err(wording::host_fault(fault)),
                };
                said.insert(key.fingerprint(), heard);
            }
        }
    }
    Ok(said)
}

/// An entry of the account that says of itself that it is a newer version, by what was last seen there.
fn newer(one: &Ready<'_>, opened: &OpenedRegister) -> Option<String> {
    let store = Database::open_existing(opened.folder.path()).ok()??;
    let here = |seen: &lavrin_store::database::Seen| seen.gone.is_none() && seen.account == one.kept.account;
    let seen = store.sightings_on(&one.kept.host).ok()?.into_iter().filter(here);
    let newest = seen.filter_map(|seen| claimed_version(one.kept, &seen.comment)).max()?;
    (newest > one.kept.newest()).then(|| {
        format!(
            "an entry in the account says that it is version {newest}, and the register knows up to {}: \
             perhaps the register was set back",
            one.kept.newest()
        )
    })
}

fn row(
    kept: &KeptAccount,
    (key, version): (&OwnedKey, &KeptVersion),
    state: &'static str,
    why: Option<String>,
) -> ProvenOut {
    ProvenOut {
        account: kept.account.clone(),
        host: kept.host.clone(),
        version: version.number,
        key: key.fingerprint.to_string(),
        state,
        why,
    }
}

fn exit_of(state: &str) -> Exit {
    match state {
        "opens" | "replaced" | "not-yet-there" => Exit::Done,
        "refused" => Exit::Findings,
        _ => Exit::NotChecked,
    }
}

fn text(out: &KeptProveOut, ui: &Ui) -> String {
    let row = |one: &ProvenOut| {
        let (words, label) = match one.state {
            "opens" => ("opens", Label::Good),
            "replaced" => ("replaced", Label::Warn),
            "not-yet-there" => ("not yet there", Label::Warn),
            "refused" => ("REFUSED", Label::Bad),
            "no-answer" => ("no answer", Label::Warn),
            _ => ("not opened", Label::Bad),
        };
        let version = format!("version {}", one.version);
        let name = printable(format!("{}@{}", one.account, one.host).as_bytes());
        let why = one.why.clone().or_else(|| (one.state == "opens").then(|| "a new login with it worked".to_owned()));
        vec![ui.paint(label, words), ui.paint(Label::Strong, &name), version, why.unwrap_or_default()]
    };
    let rows: Vec<Vec<String>> = out.kept.iter().map(row).collect();
    let lines: String = columns(&rows, 0).into_iter().map(|line| line + "\n").collect();
    format!("{lines}{}", count(out.kept.len(), "private key", "private keys"))
}
