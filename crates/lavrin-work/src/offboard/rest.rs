//! What is asked after the keys were taken out, and what the answers mean.

use super::{ALL, KeyNotShown, KeyState, KeyStateReason, Leaver, NotShownByHost, Row};
use crate::ask::{Answered, HostQuestion};
use crate::change::{Asked, End, Ended};
use crate::heard::Heard;
use crate::ways::{WayFault, Ways, unspoken};
use lavrin_fleet::register::{Host, Register, Whom};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_server::login::NotGone;
use lavrin_store::database::{Database, DatabaseFault};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What is known when the keys have been taken out.
pub struct Rest<'a> {
    /// The register as it is now.
    pub register: &'a Register,
    /// Who left.
    pub leaver: &'a Leaver,
    /// How it ended on each host that had something to do.
    pub ended: &'a BTreeMap<String, Ended>,
    /// Hosts that could not be looked at.
    pub unseen: &'a [String],
    /// What the files show, after all was done.
    pub shown: &'a NotShownByHost,
}

impl Rest<'_> {
    /// Every question that the hosts did not answer while keys were taken out; those for hosts that are not spoken to have
    /// their answer already. Hosts that could not be looked at are asked too: they may be reachable for a question.
    ///
    /// # Errors
    /// [`DatabaseFault`].
    pub fn questions(
        &self,
        store: Option<&Database>,
        ways: &Ways,
    ) -> Result<(Vec<HostQuestion>, Vec<Answered>), DatabaseFault> {
        let sighted = store.map(|store| self.sighted(store)).transpose()?.unwrap_or_default();
        let (mut questions, mut unasked) = (Vec::new(), Vec::new());
        for host in self.register.all_hosts() {
            let mut names: BTreeSet<&str> = sighted.get(&host.id).into_iter().flatten().map(String::as_str).collect();
            let planned = self.ended.get(&host.id).into_iter().flat_map(|ended| &ended.accounts);
            names.extend(planned.map(|(name, _)| name.as_str()));
            if self.unseen.contains(&host.id) {
                names.extend(self.granted(host));
            } else {
                names.extend(host.accounts.iter().map(|account| account.value.as_str()));
            }
            let open = names.into_iter().map(|account| (account.to_owned(), self.open_keys(&host.id, account)));
            let accounts: Vec<(String, Vec<PublicKey>)> = open.filter(|(_, keys)| !keys.is_empty()).collect();
            if accounts.is_empty() {
                continue;
            }
            let question = HostQuestion::of(ways.stop(host), accounts);
            match unspoken(self.register, host) {
                None => questions.push(question),
                Some(why) => unasked.push((question, Err(why))),
            }
        }
        Ok((questions, unasked))
    }

    /// The keys about which a host has not been asked yet.
    fn open_keys(&self, host: &str, account: &str) -> Vec<PublicKey> {
        let told = |key: &PublicKey| {
            let is_about = |asked: &&Asked| asked.account == account && asked.fingerprint == key.fingerprint();
            self.answers(host).any(|asked| is_about(&asked))
        };
        self.leaver.keys.iter().filter(|key| !told(key)).cloned().collect()
    }

    /// What a host said while keys were taken out of accounts for which that ended well.
    fn answers(&self, host: &str) -> impl Iterator<Item = &Asked> {
        let ended = self.ended.get(host);
        let asked = ended.into_iter().flat_map(|ended| &ended.asked);
        asked.filter(move |asked| ended.and_then(|ended| ended.of(&asked.account)).is_none_or(End::is_done))
    }

    /// Accounts in which surveys last saw a key of theirs, by host.
    fn sighted(&self, store: &Database) -> Result<HashMap<String, BTreeSet<String>>, DatabaseFault> {
        let mut found: HashMap<String, BTreeSet<String>> = HashMap::new();
        for seen in store.sightings()?.into_iter().filter(|seen| seen.gone.is_none()) {
            if self.leaver.prints.contains(&seen.key) {
                found.entry(seen.host).or_default().insert(seen.account);
            }
        }
        Ok(found)
    }

    /// Accounts of a host into which the register has ever let them.
    fn granted(&self, host: &Host) -> Vec<&str> {
        let team = self.register.people.get(&self.leaver.id).and_then(|person| person.team.as_deref());
        let theirs = self.register.grants.iter().filter(|grant| match &grant.whom.value {
            Whom::Person(id) => *id == self.leaver.id,
            Whom::Team(name) => team == Some(name),
            Whom::Machine { .. } | Whom::Kept { .. } => false,
        });
        let here = theirs.filter(|grant| grant.covers(host));
        here.map(|grant| grant.account.as_str()).collect()
    }

    /// One row for each key in each account.
    #[must_use]
    pub fn rows(&self, answers: &[Answered]) -> Vec<Row> {
        let mut rows = Vec::new();
        for host in self.ended.keys() {
            let row = |asked: &Asked| row(host, &asked.account, asked.fingerprint, &asked.heard, true);
            rows.extend(self.answers(host).map(row));
        }
        for (question, said) in answers {
            let host = &question.stop.host;
            for (account, keys) in &question.accounts {
                let heard: Result<&[Heard], &WayFault> = said.as_ref().map(|answers| {
                    let own = answers.iter().find(|(name, _)| name == account);
                    own.map(|(_, heard)| heard.as_slice()).unwrap_or_default()
                });
                for (number, key) in keys.iter().enumerate() {
                    rows.push(self.told(host, account, key.fingerprint(), number, heard));
                }
            }
        }
        self.hold_against_files(&mut rows);
        rows
    }

    /// What a host says is held against what its files show: a key that is not shown to be gone is not done with.
    fn hold_against_files(&self, rows: &mut Vec<Row>) {
        for host in self.register.all_hosts() {
            match self.shown.of(&host.id) {
                Some(standing) => standing.iter().for_each(|standing| not_gone(host, standing, rows)),
                None => self.not_read(host, rows),
            }
        }
    }

    /// A host whose files were not seen: that it refuses a key from here says nothing of elsewhere.
    fn not_read(&self, host: &Host, rows: &mut Vec<Row>) {
        for row in rows.iter_mut().filter(|row| row.host == host.id && row.is_quiet()) {
            (row.state, row.why) = (KeyState::NotShown, Some(row.why.take().unwrap_or(KeyStateReason::NotRead)));
        }
        for key in &self.leaver.prints {
            if !rows.iter().any(|row| row.host == host.id && row.key == Some(*key)) {
                let (host, account) = (host.id.clone(), ALL.to_owned());
                rows.push(Row {
                    state: KeyState::NotShown,
                    host,
                    account,
                    key: Some(*key),
                    why: Some(KeyStateReason::NotRead),
                });
            }
        }
    }

    fn told(
        &self,
        host: &str,
        account: &str,
        key: Fingerprint,
        number: usize,
        heard: Result<&[Heard], &WayFault>,
    ) -> Row {
        let plain = |state, why| {
            let (host, account) = (host.to_owned(), account.to_owned());
            Row { state, host, account, key: Some(key), why: Some(why) }
        };
        // Where a key was to be taken out and that did not work.
        let end = self.ended.get(host).and_then(|ended| ended.of(account));
        if let Some(why) = end.and_then(End::why) {
            let state = if matches!(end, Some(End::Unknown(_))) { KeyState::Unknown } else { KeyState::NotRemoved };
            return plain(state, KeyStateReason::Change(why));
        }
        match heard {
            Ok(heard) => row(host, account, key, heard.get(number).unwrap_or(&Heard::LeftOut), end.is_some()),
            Err(fault) => plain(KeyState::Unreachable, KeyStateReason::Host(fault.clone())),
        }
    }
}

fn row(host: &str, account: &str, key: Fingerprint, said: &Heard, removed: bool) -> Row {
    let state = match said {
        Heard::Accepts | Heard::LoggedIn(_) => KeyState::StillAccepted,
        Heard::Refuses | Heard::LoginRefused(_) | Heard::LeftOut if removed => KeyState::Removed,
        Heard::Refuses | Heard::LoginRefused(_) => KeyState::Refused,
        Heard::Nothing(_) | Heard::LeftOut => KeyState::NotAnswered { removed },
    };
    let why = match said {
        Heard::Nothing(why) => Some(KeyStateReason::NoProof(why.clone())),
        Heard::LeftOut => Some(KeyStateReason::NotAsked),
        _ => None,
    };
    let (host, account) = (host.to_owned(), account.to_owned());
    Row { state, host, account, key: Some(key), why }
}

/// A key that is not shown to be gone: the row about it says so, unless it says worse.
fn not_gone(host: &Host, standing: &KeyNotShown, rows: &mut Vec<Row>) {
    let KeyNotShown { account, key, why } = standing;
    let is_managed = host.accounts.iter().any(|managed| managed.value == *account);
    let state = match why {
        NotGone::Stands(_) if is_managed => KeyState::NotRemoved,
        NotGone::Stands(_) => KeyState::NotManaged,
        _ => KeyState::NotShown,
    };
    let is_about = |row: &&mut Row| row.host == host.id && row.account == *account && row.key == Some(*key);
    match rows.iter_mut().find(is_about) {
        Some(row) if row.is_quiet() || row.state == KeyState::NotShown => {
            (row.state, row.why) = (state, Some(KeyStateReason::NotGone(why.clone())));
        }
        Some(_) => {}
        None => {
            let (host, account, why) = (host.id.clone(), account.clone(), Some(KeyStateReason::NotGone(why.clone())));
            rows.push(Row { state, host, account, key: Some(*key), why });
        }
    }
}
