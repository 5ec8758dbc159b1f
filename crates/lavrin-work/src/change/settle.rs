//! A line that was lost: a new one shows which changes hold, and what is half done is taken back over it.

use super::run::Running;
use super::{End, Trouble};
use crate::interrupt::Stage;
use crate::ways::HostFault;
use lavrin_core::steps::{Change, Guarded};
use lavrin_core::survey::Observation;
use std::sync::Arc;
use std::time::Duration;

/// A connection that was lost is tried again so often, to see what state the host is in.
const TRIES: usize = 4;

/// Time between them; what a lost connection has begun on the host ends meanwhile.
const PAUSE: Duration = Duration::from_secs(1);

/// What a look says of an account's changes.
pub(super) enum State {
    /// Nothing of them is there.
    Old,
    /// All of them are there.
    New,
    /// Some are there.
    Half,
    /// Something is there that is neither.
    Other,
}

impl Running<'_> {
    /// Looks over a new connection what became of the changes of one account. All made: they stand, and are proven with the
    /// rest. Otherwise what was made is taken back.
    pub(super) async fn settle(&mut self, number: usize, why: Arc<Trouble>) -> End {
        let Some(now) = self.look_anew().await else { return End::Unknown(why) };
        match state_of(&self.all[number].changes(), &now) {
            State::New => End::Done,
            State::Old => End::AsBefore(why),
            State::Half => self.undo_what_holds(number, &now, why).await,
            State::Other => End::Unknown(why),
        }
    }

    /// Takes an account's changes back: over the session that is open, else over a new one.
    pub(super) async fn back(&mut self, number: usize, why: Arc<Trouble>) -> End {
        self.terms.stage(self.site.name(), Stage::Settling);
        if self.take_back(number, self.all[number].changes.len()).await {
            return End::AsBefore(why);
        }
        let Some(now) = self.look_anew().await else { return End::Unknown(why) };
        match state_of(&self.all[number].changes(), &now) {
            State::Old => End::AsBefore(why),
            State::New | State::Half => self.undo_what_holds(number, &now, why).await,
            State::Other => End::Unknown(why),
        }
    }

    async fn undo_what_holds(&self, number: usize, now: &Observation, why: Arc<Trouble>) -> End {
        let made: Vec<&Guarded> = self.all[number].changes.iter().filter(|made| made.change().holds(now)).collect();
        if self.undo(number, &made, now).await { End::AsBefore(why) } else { End::Unknown(why) }
    }

    /// A look over a new connection; `None` where none came about.
    pub(super) async fn look_anew(&mut self) -> Option<Observation> {
        self.terms.stage(self.site.name(), Stage::Settling);
        for _ in 0..TRIES {
            if self.site.is_host() {
                tokio::time::sleep(PAUSE).await;
            }
            if self.site.reopen().await.is_err() {
                continue;
            }
            if let Ok(now) = self.look().await {
                return Some(*now);
            }
        }
        None
    }

    /// A look over the connection that is open, as far as the proof goes.
    pub(super) async fn look(&mut self) -> Result<Box<Observation>, HostFault> {
        self.site.own_network_homes();
        let mut now = Box::<Observation>::default();
        let scope = &self.proof.scope;
        self.site.look(&mut now, |seen| scope.wants(seen)).await?;
        Ok(now)
    }

    /// Whether no connection is left, and none comes about: then no further account is begun.
    pub(super) fn is_lost(&self) -> bool {
        self.site.is_host() && self.site.login().is_none()
    }
}

/// What a look says of changes that were made, or begun, in this order.
pub(super) fn state_of(changes: &[&Change], now: &Observation) -> State {
    if last_of_each(changes).all(|change| change.holds(now)) {
        return State::New;
    }
    let (new, rest): (Vec<&Change>, Vec<&Change>) = changes.iter().partition(|change| change.holds(now));
    match (new.is_empty(), rest.iter().all(|change| change.is_undone(now))) {
        (true, true) => State::Old,
        (false, true) => State::Half,
        (_, false) => State::Other,
    }
}

/// Of several changes of one path only the last says how it is left.
pub(super) fn last_of_each<'a>(changes: &[&'a Change]) -> impl Iterator<Item = &'a Change> {
    let is_last = |number: usize| changes[number + 1..].iter().all(|later| later.path() != changes[number].path());
    (0..changes.len()).filter(move |number| is_last(*number)).map(|number| changes[number])
}
