//! Proof that changes worked: read back, a new login while the old session is open, and questions from outside.

use super::running::{Begun, Running};
use super::state::last_of_each;
use super::{End, NotShown, Trouble};
use crate::heard::{Heard, NoProof};
use crate::interrupt::Stage;
use crate::pool::crash_if_told;
use crate::ways::WayFault;
use futures_util::stream::{self, StreamExt as _};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_reach::Boxed;
use lavrin_server::login::{self, NotGone, Question, Reason, Verdict};
use lavrin_server::survey::Observation;
use lavrin_server::system::System;
use std::sync::Arc;

/// About so many accounts a server is asked at once: each needs a connection of its own, and an OpenSSH of the usual settings takes
/// ten of them from all of its clients before it begins to drop some.
const ACCOUNTS_AT_ONCE: usize = 4;

/// An account, its keys, and whether each should open it.
type AccountQuestion = (String, Vec<(PublicKey, bool)>);

/// What a host says about a key after the change.
#[derive(Debug, Clone)]
pub struct Asked {
    /// The account.
    pub account: String,
    /// The key.
    pub fingerprint: Fingerprint,
    /// Whether it should open the account.
    pub should_open: bool,
    /// What the server says.
    pub heard: Heard,
    /// Reasons for a refusal from here that the entry or the settings give themselves.
    pub explained: Vec<Reason>,
}

impl Asked {
    /// Whether a key that should open the account does not, and nothing explains it. A server that says yes to any key says nothing
    /// against this one.
    fn fails(&self) -> bool {
        if matches!(self.heard, Heard::Nothing(NoProof::YesToAnything)) {
            return false;
        }
        let fails = matches!(self.heard, Heard::Refuses | Heard::LoginRefused(_) | Heard::Nothing(_));
        self.should_open && self.explained.is_empty() && fails
    }

    /// Whether a key still opens an account that it should not open any more.
    #[must_use]
    pub fn still_open(&self) -> bool {
        !self.should_open && self.heard.opens()
    }
}

impl Running<'_> {
    /// Proves what was done and takes back what does not prove itself. Gives what the host says about the keys, and what it
    /// is like now.
    pub(super) async fn prove(&mut self) -> (Vec<Asked>, Option<Box<Observation>>) {
        if !self.is_anything_done() {
            // Somebody else may have changed it: what it is like now is worth telling.
            return (Vec::new(), self.look().await.ok());
        }
        self.terms.stage(self.site.name(), Stage::Proving);
        crash_if_told(self.site.name(), "prove");
        let Some(after) = self.read_back().await else { return (Vec::new(), None) };
        let fresh = match self.proof.put_back {
            Some(_) => self.takes_keys_only().await,
            None => self.fresh_login().await.map_err(Trouble::NoLogin),
        };
        if let Err(why) = fresh {
            let why = Arc::new(why);
            self.back_where(&|_| true, &why).await;
            return (Vec::new(), self.look().await.ok());
        }
        // What is asked from outside is what the device keeps.
        if self.proof.put_back.is_none() {
            self.end_timer().await;
        }
        let asked = if self.proof.asks { self.ask(&after).await } else { Vec::new() };
        let unproven: Vec<&Asked> = asked.iter().filter(|asked| asked.fails()).collect();
        for one in &unproven {
            let by_files = self.verdict(one, &after).and_then(|verdict| verdict.deciding).map(Box::new);
            let (account, fingerprint, heard) = (one.account.clone(), one.fingerprint, one.heard.clone());
            let why = Arc::new(Trouble::NoProof { account, fingerprint, heard, by_files });
            self.back_where(&|account| account == one.account, &why).await;
        }
        let after = if unproven.is_empty() { Some(after) } else { self.look().await.ok() };
        if let Some(reason) = self.terms.reason.as_ref().filter(|_| self.is_anything_done()) {
            self.site.note(&format!("{}: {reason}", self.terms.command)).await;
        }
        (asked, after)
    }

    /// Somebody who comes now gets in: with what the command signs in with, else with the key that came.
    async fn fresh_login(&self) -> Result<(), WayFault> {
        let refused = match self.site.fresh_login().await {
            Err(refused @ WayFault::Rejected(_)) => refused,
            other => return other,
        };
        let Some((login, holder)) = self.site.login().zip(self.proof.holder.as_ref()) else { return Err(refused) };
        let is_own = self.all.iter().any(|begun| begun.end.is_done() && begun.task.steps.account.name == login.account);
        let connection = if is_own { self.site.log_in(&login.account, holder).await } else { None };
        let Some(connection) = connection else { return Err(refused) };
        connection.close().await;
        Ok(())
    }

    /// Takes back what was done for these accounts.
    async fn back_where(&mut self, is_meant: &(dyn Fn(&str) -> bool + Sync), why: &Arc<Trouble>) {
        for number in (0..self.all.len()).rev() {
            let begun = &self.all[number];
            if begun.end.is_done() && is_meant(&begun.task.steps.account.name) {
                self.all[number].end = self.back(number, why.clone()).await;
            }
        }
    }

    /// Reads back over the open session, else over a new one. What is not as it was written is not known any more.
    async fn read_back(&mut self) -> Option<Box<Observation>> {
        let after = match self.look().await {
            Ok(after) => after,
            Err(fault) => {
                let why = Arc::new(Trouble::Host(fault));
                let Some(now) = self.look_again().await else {
                    self.end_done_as(|_| Some(End::Unknown(why.clone())));
                    return None;
                };
                self.end_what_the_line_took_back(&why, &now);
                Box::new(now)
            }
        };
        let (gone, system) = (&self.proof.gone, System::of(&after));
        let stands_again = |account: &str| {
            let own = gone.iter().filter(|(name, _)| name == account);
            let stands = |key: &Fingerprint| matches!(login::not_gone(account, key, &system), Some(NotGone::Stands(_)));
            own.map(|(_, key)| *key).find(stands)
        };
        self.end_done_as(|begun| {
            let changes = begun.changes();
            let missed = last_of_each(&changes).find(|change| !change.holds(&after));
            let missed = missed.map(|change| Trouble::NotHeld { subject: change.subject() });
            let missed = missed.or_else(|| stands_again(&begun.task.steps.account.name).map(Trouble::StandsAgain));
            missed.map(|why| End::Unknown(Arc::new(why)))
        });
        Some(after)
    }

    /// Keys that went from accounts for which all is done, and may stand there still.
    pub(super) fn not_shown(&self, after: &Observation) -> Vec<NotShown> {
        let (mut found, system): (Vec<NotShown>, _) = (Vec::new(), System::of(after));
        for begun in self.all.iter().filter(|begun| begun.end.is_done()) {
            let account = &begun.task.steps.account.name;
            let named = self.proof.gone.iter().filter(|(name, _)| name == account).map(|(_, key)| *key);
            let gone = begun.task.steps.effect().gone.into_iter().map(|key| key.fingerprint());
            for key in named.chain(gone) {
                let Some(why) = login::not_gone(account, &key, &system) else { continue };
                if !found.iter().any(|one| one.account == *account && one.key == key) {
                    found.push(NotShown { account: account.clone(), key, why });
                }
            }
        }
        found
    }

    pub(super) fn end_done_as(&mut self, end: impl Fn(&Begun) -> Option<End>) {
        for begun in self.all.iter_mut().filter(|begun| begun.end.is_done()) {
            if let Some(end) = end(begun) {
                begun.end = end;
            }
        }
    }

    /// Asks the host about every key that came or went.
    async fn ask(&self, after: &Observation) -> Vec<Asked> {
        if !self.site.is_host() {
            // A tree has no server.
            return Vec::new();
        }
        let mut questions = self.questions().into_iter();
        let mut asked = Vec::new();
        // The first answer shows whether the server counts questions.
        if let Some(question) = questions.next() {
            asked.extend(self.ask_of_account(question, after).await);
        }
        let at_once = if self.site.counts_questions() { 1 } else { ACCOUNTS_AT_ONCE };
        let rest: Vec<_> = questions.map(|question| self.ask_of_account(question, after)).collect();
        let mut rest = stream::iter(rest).buffered(at_once);
        while let Some(answers) = rest.next().await {
            asked.extend(answers);
        }
        asked
    }

    /// Asks about the keys of one account.
    fn ask_of_account<'a>(&'a self, question: AccountQuestion, after: &'a Observation) -> Boxed<'a, Vec<Asked>> {
        Box::pin(async move {
            let (account, keys) = question;
            let only: Vec<PublicKey> = keys.iter().map(|(key, _)| key.clone()).collect();
            let heard = self.site.hear(&account, &only, self.proof.holder.as_ref()).await;
            let answer = |((key, should_open), heard): ((PublicKey, bool), Heard)| {
                let explained = if should_open { self.explained(&account, &key, after) } else { Vec::new() };
                Asked { account: account.clone(), fingerprint: key.fingerprint(), should_open, heard, explained }
            };
            keys.into_iter().zip(heard).map(answer).collect()
        })
    }

    /// Keys by account, and whether each should open it.
    fn questions(&self) -> Vec<AccountQuestion> {
        let mut questions: Vec<AccountQuestion> = Vec::new();
        let mut add = |account: &str, key: PublicKey, should_open: bool| {
            let number = questions.iter().position(|(name, _)| name == account).unwrap_or_else(|| {
                questions.push((account.to_owned(), Vec::new()));
                questions.len() - 1
            });
            if !questions[number].1.iter().any(|(other, _)| *other == key) {
                questions[number].1.push((key, should_open));
            }
        };
        for begun in self.all.iter().filter(|begun| begun.end.is_done()) {
            let (effect, account) = (begun.task.steps.effect(), &begun.task.steps.account.name);
            let comes = effect.came.iter().chain(&effect.limited).map(|key| (key, true));
            for (key, should_open) in comes.chain(effect.gone.iter().map(|key| (key, false))) {
                add(account, (**key).clone(), should_open);
            }
        }
        for (account, key) in &self.proof.refused {
            add(account, key.clone(), false);
        }
        questions
    }

    /// What the file itself says why a key is refused from here.
    fn explained(&self, account: &str, key: &PublicKey, after: &Observation) -> Vec<Reason> {
        let verdict = login::judge(&Question::plain(account, key, self.terms.now), &System::of(after));
        let reasons = verdict.deciding.into_iter().chain(verdict.also);
        reasons.filter(|reason| reason.kind.refuses_only_from_here()).collect()
    }

    fn verdict(&self, asked: &Asked, after: &Observation) -> Option<Verdict> {
        let system = System::of(after);
        let key = login::find_key(&asked.account, &asked.fingerprint, &system)?;
        Some(login::judge(&Question::plain(&asked.account, &key, self.terms.now), &system))
    }
}

/// What was proven, for the journal.
pub(super) fn detail(asked: &[Asked], account: &str, is_host: bool) -> String {
    let own = || asked.iter().filter(|asked| asked.account == account);
    let count = |fits: fn(&Heard) -> bool| own().filter(|asked| fits(&asked.heard)).count();
    if !is_host {
        return "read back".to_owned();
    }
    if own().next().is_none() {
        return "read back; a new login worked".to_owned();
    }
    format!(
        "read back; a new login worked; asked from outside: {} accepted, {} refused, {} without an answer",
        count(Heard::opens),
        count(|heard| matches!(heard, Heard::Refuses | Heard::LoginRefused(_))),
        count(|heard| matches!(heard, Heard::Nothing(_) | Heard::LeftOut)),
    )
}
