//! Only one change at a time at one place: the second run waits, and reports who is working there if the wait is too long.

use super::{Terms, Trouble};
use lavrin_store::{HostHold, Keeper};
use std::sync::Arc;
use std::time::Duration;

/// How often is asked, and how many times: half a minute, longer than most changes take.
const PAUSE: Duration = Duration::from_millis(250);
const TIMES: usize = 120;

/// A place that nobody else changes until this is let go.
pub(super) struct HeldPlace {
    keeper: Arc<dyn Keeper + Send + Sync>,
    place: String,
}

impl HeldPlace {
    /// Waits until the place is free and takes it.
    ///
    /// # Errors
    /// [`Trouble::AtWork`] where it stays taken, [`Trouble::Store`] where that cannot be found out.
    pub(super) async fn take(place: &str, terms: &Terms) -> Result<Self, Trouble> {
        let mut other = None;
        for _ in 0..TIMES {
            match terms.keeper.hold(place, terms.now)? {
                HostHold::Own => return Ok(Self { keeper: terms.keeper.clone(), place: place.to_owned() }),
                HostHold::Other(who) => other = who.or(other),
            }
            tokio::time::sleep(PAUSE).await;
        }
        let who = match other {
            Some((who, since)) => format!("{who} changes it since {}", clock_time(since)),
            None => "another run changes it".to_owned(),
        };
        Err(Trouble::AtWork { who })
    }
}

impl Drop for HeldPlace {
    fn drop(&mut self) {
        self.keeper.let_go(&self.place);
    }
}

/// The time of day of a moment, in UTC.
fn clock_time(seconds: i64) -> String {
    let minutes = seconds.rem_euclid(86_400) / 60;
    format!("{:02}:{:02} UTC", minutes / 60, minutes % 60)
}
