//! What is asked after the keys were taken out, and what the answers mean.

use super::Leaver;
use super::out::{Row, State};
use crate::command::compare::out::AccountOut;
use crate::command::fleet_change::{ResultOut, heard};
use crate::command::register::Opened;
use crate::command::survey::Ways;
use crate::error::CommandError;
use lavrin_core::key::{Fingerprint, PublicKey};
use lavrin_core::register::{Host, Whom};
use lavrin_core::text::printable;
use lavrin_store::database::Database;
use lavrin_work::Heard;
use lavrin_work::ask::{self, Answered, Question};
use lavrin_work::enforce::{Asked, Ended};
use lavrin_work::survey::Pace;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use tokio::sync::mpsc;

/// What is known when the keys have been taken out.
pub struct Asking<'a> {
    /// The register as it is now.
    pub opened: &'a Opened,
    /// Who left.
    pub leaver: &'a Leaver<'a>,
    /// How it ended on each host that had something to do.
    pub ended: &'a HashMap<String, Ended>,
    /// From which accounts of each host keys were to be taken.
    pub planned_on: &'a HashMap<String, Vec<String>>,
    /// Hosts that could not be looked at.
    pub unseen: &'a [String],
}

impl Asking<'_> {
    /// Every question that the hosts did not answer while keys were taken out. Hosts that could not be looked at are asked
    /// too: they may be reachable for a question.
    pub fn questions(&self, ways: &Ways) -> Result<Vec<Question>, CommandError> {
        let sighted = self.sighted()?;
        let mut questions = Vec::new();
        for host in self.opened.reading.register.hosts.values() {
            let mut names: BTreeSet<&str> = sighted.get(&host.id).into_iter().flatten().map(String::as_str).collect();
            names.extend(self.planned_on.get(&host.id).into_iter().flatten().map(String::as_str));
            if self.unseen.contains(&host.id) {
                names.extend(self.granted(host));
            } else {
                names.extend(host.accounts.iter().map(|account| account.value.as_str()));
            }
            let open = names.into_iter().map(|account| (account.to_owned(), self.open_keys(&host.id, account)));
            let accounts: Vec<(String, Vec<PublicKey>)> = open.filter(|(_, keys)| !keys.is_empty()).collect();
            if !accounts.is_empty() {
                questions.push(Question { stop: ways.stop(host), accounts });
            }
        }
        Ok(questions)
    }

    /// The keys about which a host has not been asked yet.
    fn open_keys(&self, host: &str, account: &str) -> Vec<PublicKey> {
        let asked: &[Asked] = match self.ended.get(host) {
            Some(Ended::Done { asked, .. }) => asked,
            _ => &[],
        };
        let told = |key: &PublicKey| {
            asked.iter().any(|asked| asked.account == account && asked.fingerprint == key.fingerprint())
        };
        self.leaver.keys.iter().filter(|key| !told(key)).cloned().collect()
    }

    /// Accounts in which surveys last saw a key of theirs, by host.
    fn sighted(&self) -> Result<HashMap<String, BTreeSet<String>>, CommandError> {
        let mut found: HashMap<String, BTreeSet<String>> = HashMap::new();
        let Some(store) = Database::open_existing(self.opened.folder.path())? else { return Ok(found) };
        for seen in store.sightings()?.into_iter().filter(|seen| seen.gone.is_none()) {
            if self.leaver.prints.contains(&seen.key) {
                found.entry(seen.host).or_default().insert(seen.account);
            }
        }
        Ok(found)
    }

    /// Accounts of a host into which the register has ever let them.
    fn granted(&self, host: &Host) -> Vec<&str> {
        let register = &self.opened.reading.register;
        let team = register.people.get(self.leaver.id).and_then(|person| person.team.as_deref());
        let theirs = register.grants.iter().filter(|grant| match &grant.whom.value {
            Whom::Person(id) => id == self.leaver.id,
            Whom::Team(name) => team == Some(name),
            Whom::Machine { .. } => false,
        });
        let here = theirs.filter(|grant| register.hosts_of(grant).any(|other| other.id == host.id));
        here.map(|grant| grant.account.as_str()).collect()
    }

    /// One row for each key in each account.
    pub fn rows(&self, answers: &[(Question, Answered)]) -> Vec<Row> {
        let mut rows = Vec::new();
        for (host, ended) in self.ended {
            if let Ended::Done { asked, .. } = ended {
                rows.extend(asked.iter().map(|asked| row(host, &asked.account, asked.fingerprint, &asked.heard, true)));
            }
        }
        for (question, (host, answer)) in answers {
            for (account, keys) in &question.accounts {
                let heard: Result<Vec<Heard>, _> = answer.as_ref().map(|answers| {
                    let own = answers.iter().find(|(name, _)| name == account);
                    own.map(|(_, heard)| heard.clone()).unwrap_or_default()
                });
                for (number, key) in keys.iter().enumerate() {
                    let print = key.fingerprint();
                    rows.push(match (self.failed(host, account), &heard) {
                        (Some((state, why)), _) => Row::of(host, account, print, state, Some(why)),
                        (None, Ok(heard)) => {
                            row(host, account, print, heard.get(number).unwrap_or(&Heard::LeftOut), false)
                        }
                        (None, Err(fault)) => {
                            let why = Some(printable(fault.to_string().as_bytes()));
                            Row::of(host, account, print, State::Unreachable, why)
                        }
                    });
                }
            }
        }
        rows
    }

    /// Where a key was to be taken out and that did not work.
    fn failed(&self, host: &str, account: &str) -> Option<(State, String)> {
        let ended = self.ended.get(host).filter(|ended| !matches!(ended, Ended::Done { .. }))?;
        self.planned_on.get(host)?.iter().find(|name| *name == account)?;
        let state = if matches!(ended, Ended::Unknown { .. }) { State::Unknown } else { State::NotRemoved };
        Some((state, why(host, ended)))
    }
}

/// Asks them all.
pub async fn ask(questions: Vec<Question>, ways: &Ways, pace: Pace) -> Vec<(Question, Answered)> {
    let (done, mut answered) = mpsc::channel(64);
    let work = tokio::spawn(ask::ask(questions.clone(), ways.jumps.clone(), ways.way.clone(), pace, done));
    let mut by_host: HashMap<String, Question> =
        questions.into_iter().map(|question| (question.stop.host.clone(), question)).collect();
    let mut all = Vec::new();
    while let Some(answer) = answered.recv().await {
        if let Some(question) = by_host.remove(&answer.0) {
            all.push((question, answer));
        }
    }
    let _ = work.await;
    all
}

/// Why something was not done on a host.
pub fn why(host: &str, ended: &Ended) -> String {
    ResultOut::of(host, ended, |_| Vec::new()).why.unwrap_or_default()
}

fn row(host: &str, account: &str, key: Fingerprint, said: &Heard, removed: bool) -> Row {
    let (_, why) = heard(said);
    let state = match said {
        Heard::Accepts => State::StillAccepted,
        Heard::Refuses | Heard::LeftOut if removed => State::Removed,
        Heard::Refuses => State::Refused,
        Heard::Nothing(_) | Heard::LeftOut => State::NotAnswered { removed },
    };
    Row::of(host, account, key, state, why)
}

/// Keys of theirs in accounts that are not managed: only told.
pub fn not_managed(accounts: &BTreeMap<String, Vec<AccountOut>>) -> Vec<Row> {
    let mut rows = Vec::new();
    for (host, accounts) in accounts {
        for account in accounts.iter().filter(|account| !account.managed) {
            for key in account.differences.iter().filter_map(|difference| difference.key.as_deref()) {
                let Ok(key) = Fingerprint::parse(key) else { continue };
                let why = "the register does not manage this account".to_owned();
                rows.push(Row::of(host, &account.account, key, State::NotManaged, Some(why)));
            }
        }
    }
    rows
}
