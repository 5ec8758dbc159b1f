//! Changes under way at one place, and the single steps that the conductor is made of.

use super::{End, Task, Terms};
use crate::heard::Holder;
use crate::pool::crash_if_told;
use crate::scope::Scope;
use crate::site::Site;
use crate::ways::WayFault;
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_reach::{Armed, CarryFault};
use lavrin_server::steps::{Change, Guarded};
use lavrin_server::survey::Observation;
use std::time::Duration;

/// How changes are proven, beside the fresh login that is always made.
#[derive(Clone)]
pub struct Proof {
    /// What is read back.
    pub scope: Scope,
    /// Whether the server is asked from outside about the keys that came and went.
    pub asks: bool,
    /// Keys of which no file of the account may hold a line any more.
    pub gone: Vec<(String, Fingerprint)>,
    /// Keys that the server should refuse for these accounts, beside those that the steps take away.
    pub refused: Vec<(String, PublicKey)>,
    /// After this time the host itself puts everything back, unless it is shown that keys alone still open the login and root's
    /// rights, and that no password is asked for.
    pub put_back: Option<Duration>,
    /// The private half of a key that comes, where it is at hand: then it has to open a login.
    pub holder: Option<Holder>,
}

impl Proof {
    /// Read back as far as this goes, and asked about from outside.
    #[must_use]
    pub fn of(scope: Scope) -> Self {
        Self { scope, asks: true, gone: Vec::new(), refused: Vec::new(), put_back: None, holder: None }
    }
}

/// The steps of one account that are under way.
pub(super) struct Begun {
    pub(super) task: Task,
    pub(super) changes: Vec<Guarded>,
    /// How it stands with them.
    pub(super) end: End,
}

impl Begun {
    /// The changes without what the guard said of them.
    pub(super) fn changes(&self) -> Vec<&Change> {
        self.changes.iter().map(Guarded::change).collect()
    }
}

/// Changes under way at one place.
pub(super) struct Running<'a> {
    pub(super) site: &'a mut Site,
    pub(super) all: Vec<Begun>,
    pub(super) proof: &'a Proof,
    pub(super) terms: &'a Terms,
    /// How the host puts the changes back by itself, as long as it would.
    pub(super) armed: Option<Armed>,
}

impl Running<'_> {
    /// A look over the connection that is open, as far as the proof goes.
    pub(super) async fn look(&mut self) -> Result<Box<Observation>, WayFault> {
        self.site.own_network_homes();
        let mut now = Box::<Observation>::default();
        let scope = &self.proof.scope;
        self.site.look(&mut now, &|seen| scope.wants(seen)).await?;
        Ok(now)
    }

    /// Whether no connection is left, and none comes about: then no further account is begun.
    pub(super) fn is_lost(&self) -> bool {
        self.site.is_host() && self.site.login().is_none()
    }

    pub(super) fn is_anything_done(&self) -> bool {
        self.all.iter().any(|begun| begun.end.is_done())
    }

    /// Makes the changes of one account in order. Where one fails: how many were made before it, and why.
    pub(super) async fn carry_out(&self, number: usize) -> Result<(), (usize, CarryFault)> {
        let Begun { task, changes, .. } = &self.all[number];
        for (done, change) in changes.iter().enumerate() {
            crash_if_told(self.site.name(), &format!("step-{done}"));
            let carried = self.site.carry(change, &task.steps.account, &task.seen).await;
            carried.map_err(|fault| (done, fault))?;
        }
        Ok(())
    }

    /// Takes the first changes of one account back, the last one first. Says whether all of that worked.
    pub(super) async fn take_back(&self, number: usize, done: usize) -> bool {
        let Begun { task, changes, .. } = &self.all[number];
        let back: Vec<&Guarded> = changes[..done].iter().collect();
        self.undo(number, &back, &task.seen).await
    }

    /// Takes these changes of one account back, the last one first, by what was seen.
    pub(super) async fn undo(&self, number: usize, changes: &[&Guarded], seen: &Observation) -> bool {
        let account = &self.all[number].task.steps.account;
        let mut worked = true;
        for change in Guarded::taken_back(changes) {
            worked &= self.site.carry(&change, account, seen).await.is_ok();
        }
        worked
    }
}
