//! A walk through the profile of a device, to see whether it fits: nothing is changed.

use crate::ways::{Stop, WayFault, Ways};
use lavrin_reach::dialogue::Exchange;
use lavrin_reach::ssh::ExecFault;
use lavrin_reach::{Boxed, Reach as _};
use lavrin_server::fs::Fact;
use lavrin_server::survey::{KeySlot, Observation, Want, Wanted};
use std::time::Duration;

/// What a walk through a profile showed.
pub struct Walked {
    /// Everything that was typed and said, in order.
    pub exchanges: Vec<Exchange>,
    /// The keys of the account.
    pub keys: Result<Fact<Vec<KeySlot>>, ExecFault>,
}

impl Ways {
    /// Walks through the profile of a device, without a change: signs in, types what comes first, lists the keys of an account.
    ///
    /// # Errors
    /// [`WayFault`] where it does not come to the list.
    pub fn walk_profile<'a>(
        &'a self,
        stop: &'a Stop,
        account: &'a str,
        limit: Duration,
    ) -> Boxed<'a, Result<Walked, WayFault>> {
        Box::pin(async move {
            let (connection, ..) = self.sign_in(stop).await?;
            let mut device = self.dialogue(connection, stop, limit).await?;
            let (mut seen, want) =
                (Observation::default(), Want { what: Wanted::Slots(account.to_owned()), account: None });
            let looked = device.look(std::slice::from_ref(&want), &mut seen).await;
            let keys = looked.map(|()| seen.slots.remove(account).unwrap_or(Fact::Absent));
            let exchanges = device.exchanges().to_vec();
            Box::new(device).close().await;
            Ok(Walked { exchanges, keys })
        })
    }
}
