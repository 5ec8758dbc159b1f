//! Changes that the host itself puts back unless they are proven in time: armed before the first of them, disarmed by the proof.

use super::running::{Begun, Running};
use super::state::{TaskState, state_of};
use super::{End, Trouble};
use crate::scope::Scope;
use crate::ways::WayFault;
use lavrin_reach::{Armed, CarryFault, TimerKind};
use lavrin_server::fs::BytePath;
use lavrin_server::steps::Change;
use lavrin_server::survey::Observation;
use std::sync::Arc;
use std::time::Duration;

/// A server that reads its settings again answers a moment later, so it is asked so often.
const TRIES: usize = 6;

/// Time between them.
const PAUSE: Duration = Duration::from_secs(1);

/// How long a device that takes changes on approval waits for it.
const APPROVAL: Duration = Duration::from_mins(2);

/// What was proven, for the journal.
pub(super) const PROVEN: &str =
    "read back; over new connections a key opened the login and root's rights, and no password was asked for";

/// The methods of a login that a password opens (RFC 4252; RFC 4256).
const BY_PASSWORD: [&str; 2] = ["password", "keyboard-interactive"];

impl Running<'_> {
    /// Has the host count the time, where that is wanted; a device that makes all changes at once makes them now.
    pub(super) async fn arm(&mut self) -> Result<(), CarryFault> {
        let changes: Vec<_> = self.all.iter().flat_map(|begun| begun.changes.clone()).collect();
        self.armed = match self.proof.put_back {
            Some(after) => Some(self.site.arm(&changes, after).await?),
            None => self.site.begin(&changes, APPROVAL).await?,
        };
        Ok(())
    }

    /// Whether a key alone still opens the login and root's rights over a new connection, and no password is asked for.
    pub(super) async fn takes_keys_only(&mut self) -> Result<(), Trouble> {
        let mut tried = 1;
        loop {
            match self.ask_for_keys_only().await {
                Err(_) if tried < TRIES => tried += 1,
                told => return told,
            }
            tokio::time::sleep(PAUSE).await;
        }
    }

    async fn ask_for_keys_only(&mut self) -> Result<(), Trouble> {
        let fresh = self.site.fresh_rights().await.map_err(Trouble::NoLogin)?;
        if fresh.signed.key.is_none() {
            return Err(Trouble::NotByKey(fresh.signed.method));
        }
        if let Some(refused) = fresh.refused {
            return Err(Trouble::NoRights(refused.to_string()));
        }
        let login = fresh.signed.account;
        // The login's own account first, which costs nothing; root once that is fine.
        let others = Some("root").filter(|root| login != *root);
        for account in std::iter::once(login.as_str()).chain(others) {
            let Some(methods) = self.site.offered(account).await else { return Err(Trouble::NothingOffered) };
            if methods.iter().any(|method| BY_PASSWORD.contains(&method.as_str())) {
                return Err(Trouble::StillOffered { account: account.to_owned(), methods });
            }
        }
        Ok(())
    }

    /// Has the host put everything back at once, for all accounts of which something was done. Gives how it ended for this one.
    pub(super) async fn back_by_host(&mut self, number: usize, armed: &Armed, why: Arc<Trouble>) -> End {
        if self.site.put_back(armed).await.is_err() {
            let trouble = Trouble::LeftToHost { seconds: armed.after.as_secs(), why };
            let left = Arc::new(trouble);
            self.end_done_as(|_| Some(End::Unknown(left.clone())));
            return End::Unknown(left);
        }
        self.armed = None;
        let now = self.look_at_files().await.ok();
        let end = |begun: &Begun| match &now {
            Some(now) if matches!(state_of(&begun.changes(), now), TaskState::Old) => End::AsBefore(why.clone()),
            _ => End::Unknown(why.clone()),
        };
        self.end_done_as(|begun| Some(end(begun)));
        end(&self.all[number])
    }

    /// A look at what was written, also where the server that read it is gone and nobody can tell where its settings are.
    async fn look_at_files(&mut self) -> Result<Observation, WayFault> {
        let changes = self.all.iter().flat_map(Begun::changes);
        let files: Vec<BytePath> = changes.filter_map(Change::path).cloned().collect();
        let (scope, mut now) = (Scope::With(files.into()), Observation::default());
        self.site.look(&mut now, &|seen| scope.wants(seen)).await?;
        Ok(now)
    }

    /// Proven: the host keeps what was changed. Everything else it puts back.
    pub(super) async fn end_timer(&mut self) {
        let Some(armed) = self.armed.clone() else { return };
        if !self.is_anything_done() {
            let back = self.all.iter().position(|begun| matches!(begun.end, End::AsBefore(_)));
            if let Some((number, why)) = back.and_then(|number| Some((number, self.all[number].end.why()?))) {
                self.all[number].end = self.back_by_host(number, &armed, why).await;
            }
            self.armed = None;
            return;
        }
        self.armed = None;
        match self.site.disarm(&armed).await {
            Ok(()) => {}
            Err(fault @ CarryFault::PutBack) => {
                let why = Arc::new(Trouble::Carry(fault));
                self.end_done_as(|_| Some(End::AsBefore(why.clone())));
            }
            Err(fault) => {
                let why = Arc::new(Trouble::Carry(fault));
                let left = Arc::new(Trouble::LeftToHost { seconds: armed.after.as_secs(), why: why.clone() });
                // A device that takes back what nobody confirmed, once the session has ended, has done so when it shows it.
                let now = if armed.kind == TimerKind::Device { self.look_again().await } else { None };
                let is_back = |begun: &Begun| {
                    now.as_ref().is_some_and(|now| matches!(state_of(&begun.changes(), now), TaskState::Old))
                };
                self.end_done_as(|begun| {
                    Some(if is_back(begun) { End::AsBefore(why.clone()) } else { End::Unknown(left.clone()) })
                });
            }
        }
    }

    /// A device that holds changes on approval takes them back when its session ends: what a new one shows decides.
    pub(super) fn end_what_the_line_took_back(&mut self, why: &Arc<Trouble>, now: &Observation) {
        if self.armed.as_ref().is_none_or(|armed| armed.kind != TimerKind::Device) {
            return;
        }
        self.armed = None;
        self.end_done_as(|begun| {
            let is_back = matches!(state_of(&begun.changes(), now), TaskState::Old);
            is_back.then(|| End::AsBefore(why.clone()))
        });
    }

    /// What was done is there after a restart too. Where nothing was, nothing is: others may have left something in force on trial.
    pub(super) async fn keep(&mut self) {
        if !self.is_anything_done() {
            return;
        }
        let Err(fault) = self.site.keep().await else { return };
        // The line may have been lost behind the proof.
        if self.site.reopen().await.is_err() || self.site.keep().await.is_err() {
            let why = Arc::new(Trouble::NotKept(fault.to_string()));
            self.end_done_as(|_| Some(End::Unknown(why.clone())));
        }
    }
}
