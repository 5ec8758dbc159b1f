//! A line that was lost: a new one shows which changes hold, and what is half done is taken back over it.

use super::running::Running;
use super::state::{TaskState, state_of};
use super::{End, Trouble};
use crate::interrupt::Stage;
use crate::ways::WayFault;
use lavrin_reach::ssh::ExecFault;
use lavrin_server::steps::Guarded;
use lavrin_server::survey::Observation;
use std::sync::Arc;
use std::time::Duration;

/// A connection that was lost is tried again so often, to see what state the host is in.
const TRIES: usize = 4;

/// Time between them; what a lost connection has begun on the host ends meanwhile.
const PAUSE: Duration = Duration::from_secs(1);

impl Running<'_> {
    /// Looks over a new connection what became of the changes of one account. All made: they stand, and are proven with the
    /// rest. Otherwise what was made is taken back.
    pub(super) async fn settle(&mut self, number: usize, why: Arc<Trouble>) -> End {
        let Some(now) = self.look_again().await else { return End::Unknown(why) };
        self.settled(number, &now, why).await
    }

    async fn settled(&self, number: usize, now: &Observation, why: Arc<Trouble>) -> End {
        match state_of(&self.all[number].changes(), now) {
            TaskState::New => End::Done,
            TaskState::Old => End::AsBefore(why),
            TaskState::Half => self.undo_what_holds(number, now, why).await,
            TaskState::Other => End::Unknown(why),
        }
    }

    /// The same for all accounts, where the line was lost while a device made all changes at once.
    pub(super) async fn settle_all(&mut self, why: &Arc<Trouble>) {
        let Some(now) = self.look_again().await else { return self.all_end(&End::Unknown(why.clone())) };
        for number in 0..self.all.len() {
            self.all[number].end = self.settled(number, &now, why.clone()).await;
        }
    }

    /// Takes an account's changes back: over the session that is open, else over a new one.
    pub(super) async fn back(&mut self, number: usize, why: Arc<Trouble>) -> End {
        self.terms.stage(self.site.name(), Stage::Settling);
        if let Some(armed) = self.armed.clone() {
            return self.back_by_host(number, &armed, why).await;
        }
        if self.take_back(number, self.all[number].changes.len()).await {
            return End::AsBefore(why);
        }
        self.back_anew(number, why).await
    }

    /// Takes an account's changes back over a new session, as far as they hold.
    pub(super) async fn back_anew(&mut self, number: usize, why: Arc<Trouble>) -> End {
        let Some(now) = self.look_again().await else { return End::Unknown(why) };
        match state_of(&self.all[number].changes(), &now) {
            TaskState::Old => End::AsBefore(why),
            TaskState::New | TaskState::Half => self.undo_what_holds(number, &now, why).await,
            TaskState::Other => End::Unknown(why),
        }
    }

    async fn undo_what_holds(&self, number: usize, now: &Observation, why: Arc<Trouble>) -> End {
        let made: Vec<&Guarded> = self.all[number].changes.iter().filter(|made| made.change().holds(now)).collect();
        if self.undo(number, &made, now).await { End::AsBefore(why) } else { End::Unknown(why) }
    }

    /// A look over a new connection; `None` where none came about.
    pub(super) async fn look_again(&mut self) -> Option<Observation> {
        self.terms.stage(self.site.name(), Stage::Settling);
        for _ in 0..TRIES {
            if self.site.is_host() {
                tokio::time::sleep(PAUSE).await;
            }
            let looked = match self.site.reopen().await {
                Ok(()) => self.look().await,
                Err(fault) => Err(fault),
            };
            match looked {
                Ok(now) => return Some(*now),
                // One that takes all the time it has costs that once.
                Err(WayFault::Timeout { .. } | WayFault::Exec(ExecFault::Timeout { .. })) => return None,
                Err(_) => {}
            }
        }
        None
    }
}
