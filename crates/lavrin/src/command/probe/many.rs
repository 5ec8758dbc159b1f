//! Several keys, or several hosts of a register, asked about in one go.

use super::{ProbeArgs, Until};
use crate::account_target::AccountTarget;
use crate::command::pace::PaceArgs;
use crate::command::register::OpenedRegister;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::outcome::KeyAnswer;
use crate::table::columns;
use crate::ui::{Label, Ui};
use crate::wording::{self, heard};
use crate::{input, paths};
use lavrin_fleet::fleet::Index;
use lavrin_fleet::register::{Host, Register};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::text::{count, printable};
use lavrin_work::Heard;
use lavrin_work::ask::{AnswersOfHost, HostQuestion, ask};
use lavrin_work::pool::Pace;
use lavrin_work::ways::{Ways, unspoken};
use serde::Serialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::time::Instant;

/// The first pause before a question is asked again, and the longest.
const PAUSES: (Duration, Duration) = (Duration::from_secs(2), Duration::from_secs(30));

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ProbeManyOut {
    schema: &'static str,
    answers: Vec<AnswerOut>,
}

/// One key in one account.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct AnswerOut {
    host: String,
    account: String,
    key: String,
    /// Whose key it is, where the register knows.
    owner: Option<String>,
    /// What it says.
    answer: KeyAnswer,
    why: Option<String>,
}

/// What is asked, by host and account.
type AskedByHost = BTreeMap<(String, String), Vec<PublicKey>>;

/// Asks, again and again where something is waited for.
pub async fn run(args: &ProbeArgs, opened: &OpenedRegister, ui: &Ui) -> Result<Exit, CommandError> {
    let register = &opened.reading.register;
    let mut open = words(args, register)?;
    let ways = args.host.sign_in.ways(register)?;
    let pace = PaceArgs::default().pace(register, ui)?;
    let index = Index::of(register);
    let until = Instant::now() + args.wait.unwrap_or_default();
    let mut answers: BTreeMap<(String, String, String), AnswerOut> = BTreeMap::new();
    let mut pause = PAUSES.0;
    loop {
        for answer in round(&open, register, &ways, &index, &pace).await {
            answers.insert((answer.host.clone(), answer.account.clone(), answer.key.clone()), answer);
        }
        open.retain(|(host, account), keys| {
            keys.retain(|key| {
                let place = (host.clone(), account.clone(), key.fingerprint().to_string());
                answers.get(&place).is_some_and(|answer| !args.until.is_met_by(answer.answer))
            });
            !keys.is_empty()
        });
        if open.is_empty() || Instant::now() + pause > until || ui.interrupt.is_asked() {
            break;
        }
        ui.status(&format!("{} not as wanted yet; asking again", count(open.len(), "account is", "accounts are")));
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(PAUSES.1);
    }
    let answers: Vec<AnswerOut> = answers.into_values().collect();
    let exit = answers.iter().map(|answer| args.until.exit(answer.answer)).max().unwrap_or(Exit::Done);
    print(answers, args, ui);
    Ok(exit)
}

impl Until {
    fn is_met_by(self, answer: KeyAnswer) -> bool {
        match self {
            Self::Answered => matches!(answer, KeyAnswer::Accepted | KeyAnswer::Refused),
            Self::Accepted => answer == KeyAnswer::Accepted,
            Self::Refused => answer == KeyAnswer::Refused,
        }
    }

    /// A key that is refused is a finding, unless that is what is wanted.
    fn exit(self, answer: KeyAnswer) -> Exit {
        match (self, answer) {
            (Self::Refused, KeyAnswer::Refused) | (Self::Answered | Self::Accepted, KeyAnswer::Accepted) => Exit::Done,
            (_, KeyAnswer::Refused | KeyAnswer::Accepted) => Exit::Findings,
            _ => Exit::NotChecked,
        }
    }
}

/// Which keys, and where: each word is a key, a person, `ACCOUNT@HOST`, a host or a tag.
fn words(args: &ProbeArgs, register: &Register) -> Result<AskedByHost, CommandError> {
    let mut keys: Vec<PublicKey> = Vec::new();
    let mut places: Vec<(String, String)> = Vec::new();
    for word in &args.words {
        let Ok(path) = paths::typed(word);
        if word.starts_with("SHA256:") {
            keys.push(known_key(Fingerprint::parse(word)?, register)?);
        } else if path.is_file() {
            keys.push(input::public_key(&path)?.key);
        } else if let Some((account, host)) = word.split_once('@') {
            let target: AccountTarget = word.parse().map_err(CommandError::usage)?;
            let host = register.hosts.get(target.host.as_deref().unwrap_or(host)).ok_or_else(|| unknown(word))?;
            places.push((host.id.clone(), account.to_owned()));
        } else if let Some(person) = register.people.get(word) {
            keys.extend(person.keys.iter().map(|key| key.key.clone()));
        } else {
            let hosts = register.hosts_named(std::slice::from_ref(word)).map_err(|odd| unknown(&odd))?;
            places.extend(hosts.into_iter().flat_map(managed));
        }
    }
    if keys.is_empty() {
        return Err(CommandError::usage(
            "which key? Give its public half, its fingerprint, or a person of the register",
        )
        .hint("lavrin probe KEY.pub HOST; or: lavrin probe PERSON"));
    }
    if places.is_empty() {
        places = register.all_hosts().flat_map(managed).collect();
    }
    Ok(places.into_iter().map(|place| (place, keys.clone())).collect())
}

fn managed(host: &Host) -> Vec<(String, String)> {
    host.accounts.iter().map(|account| (host.id.clone(), account.value.clone())).collect()
}

fn unknown(word: &str) -> CommandError {
    let word = printable(word.as_bytes());
    CommandError::usage(format!("'{word}' is not a key file, person, host or tag"))
        .hint("lavrin host list")
        .hint("lavrin person list")
}

/// A fingerprint says which key is meant, and the register has to know the key itself.
fn known_key(print: Fingerprint, register: &Register) -> Result<PublicKey, CommandError> {
    let people = register.people.values().flat_map(|person| &person.keys);
    let hosts = register.all_hosts().flat_map(|host| &host.keys);
    let kept = register.kept.iter().flat_map(|kept| &kept.keys);
    let found = people.chain(hosts).chain(kept).find(|key| key.fingerprint == print).map(|key| key.key.clone());
    found.ok_or_else(|| {
        CommandError::usage(format!("the key {print} is not in the register, so it cannot be asked about"))
            .hint("give its public half: lavrin probe KEY.pub")
    })
}

/// One question to each host about everything that is open.
async fn round(
    open: &AskedByHost,
    register: &Register,
    ways: &Arc<Ways>,
    index: &Index<'_>,
    pace: &Pace,
) -> Vec<AnswerOut> {
    let mut by_host: BTreeMap<&str, Vec<(String, Vec<PublicKey>)>> = BTreeMap::new();
    for ((host, account), keys) in open {
        by_host.entry(host).or_default().push((account.clone(), keys.clone()));
    }
    let (mut questions, mut answered) = (Vec::new(), Vec::new());
    for (host, accounts) in by_host {
        let Some(known) = register.hosts.get(host) else { continue };
        let question = HostQuestion::of(ways.stop(known), accounts);
        match unspoken(register, known) {
            None => questions.push(question),
            Some(fault) => answered.push((question, Err(fault))),
        }
    }
    answered.extend(ask(questions, ways, pace).await);
    answered.iter().flat_map(|(question, said)| told(question, said, index)).collect()
}

fn told(question: &HostQuestion, said: &AnswersOfHost, index: &Index<'_>) -> Vec<AnswerOut> {
    answers(&question.stop.host, &question.accounts, index, |account, number| match said {
        Ok(all) => {
            let own = all.iter().find(|(name, _)| name == account).map(|(_, heard)| heard.as_slice());
            heard(own.and_then(|own| own.get(number)).unwrap_or(&Heard::LeftOut))
        }
        Err(fault) => (KeyAnswer::NoAnswer, Some(wording::host_fault(fault))),
    })
}

fn answers(
    host: &str,
    accounts: &[(String, Vec<PublicKey>)],
    index: &Index<'_>,
    said: impl Fn(&str, usize) -> (KeyAnswer, Option<String>),
) -> Vec<AnswerOut> {
    let mut all = Vec::new();
    for (account, keys) in accounts {
        for (number, key) in keys.iter().enumerate() {
            let (answer, why) = said(account, number);
            let owner = index.owner(key.fingerprint()).map(lavrin_fleet::fleet::Owner::name);
            let (host, account, key) = (host.to_owned(), account.clone(), key.fingerprint().to_string());
            all.push(AnswerOut { host, account, key, owner, answer, why });
        }
    }
    all
}

fn print(answers: Vec<AnswerOut>, args: &ProbeArgs, ui: &Ui) {
    let out = ProbeManyOut { schema: "lavrin/probe-many/1", answers };
    ui.give(&out, || text(&out.answers, args, ui));
}

fn text(answers: &[AnswerOut], args: &ProbeArgs, ui: &Ui) -> String {
    let row = |one: &AnswerOut| {
        let label = match args.until.exit(one.answer) {
            Exit::Done => Label::Good,
            Exit::Findings => Label::Bad,
            _ => Label::Warn,
        };
        vec![
            ui.paint(label, one.answer.word()),
            ui.paint(Label::Strong, &format!("{}@{}", one.account, one.host)),
            one.owner.clone().unwrap_or_else(|| "no known owner".to_owned()),
            one.key.clone(),
            one.why.clone().unwrap_or_default(),
        ]
    };
    let rows: Vec<Vec<String>> = answers.iter().map(row).collect();
    let lines: String = columns(&rows, 0).into_iter().map(|line| line + "\n").collect();
    let number = |what: KeyAnswer| answers.iter().filter(|one| one.answer == what).count();
    let told = KeyAnswer::ALL.into_iter().filter(|what| number(*what) > 0);
    let told: Vec<String> = told.map(|what| format!("{} {}", number(what), what.word())).collect();
    format!("{lines}{}: {}", count(answers.len(), "question", "questions"), told.join(", "))
}
