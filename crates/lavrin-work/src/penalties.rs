//! What questions cost. Since 9.8 OpenSSH counts each connection that ends without a login against the address it comes from,
//! and then takes no connection from there for a while: a good key is cut off as well. So what is spent is counted here, and a
//! question waits until it can be afforded.

use lavrin_server::server::{Server, Software, Version};
use std::collections::HashMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::Duration;
use tokio::time::Instant;

/// Since this version connections are counted.
const SINCE: Version = Version(9, 8);

/// What one connection that asked and did not log in costs (`PerSourcePenalties`, `authfail`), in seconds.
const COST: f64 = 5.0;

/// What may be owed before another is begun: the server cuts off above 15, and somebody else may come from here too.
const AFFORDED: f64 = 10.0;

/// How long to wait before a server that holds us off is asked again.
pub(crate) const PAUSE: Duration = Duration::from_secs(5);

/// What is owed to the servers that a command speaks to, by host.
#[derive(Debug, Default)]
pub struct Penalties(Mutex<HashMap<String, Spent>>);

#[derive(Debug, Clone, Copy)]
struct Spent {
    seconds: f64,
    at: Instant,
}

impl Spent {
    /// What is left of it now: a second goes with each second.
    fn now(self) -> f64 {
        (self.seconds - self.at.elapsed().as_secs_f64()).max(0.0)
    }
}

impl Penalties {
    fn owed(&self) -> MutexGuard<'_, HashMap<String, Spent>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes in how a server calls itself. Only one that counts is counted with.
    pub(crate) fn greeted(&self, host: &str, banner: &str) {
        let server = Server::from_banner(banner);
        let counts = server.software == Software::OpenSsh && server.version.is_some_and(|version| version >= SINCE);
        if counts {
            self.owed().entry(host.to_owned()).or_insert_with(|| Spent { seconds: 0.0, at: Instant::now() });
        }
    }

    /// Whether the server is known to count.
    pub(crate) fn counts(&self, host: &str) -> bool {
        self.owed().contains_key(host)
    }

    /// A connection has asked and ends without a login.
    pub(crate) fn spend(&self, host: &str) {
        if let Some(owed) = self.owed().get_mut(host) {
            *owed = Spent { seconds: owed.now() + COST, at: Instant::now() };
        }
    }

    /// How long to wait until another question can be afforded.
    pub(crate) fn wait(&self, host: &str) -> Duration {
        let owed = self.owed().get(host).map_or(0.0, |owed| owed.now());
        Duration::from_secs_f64((owed - AFFORDED).max(0.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn what_is_spent_is_waited_for_where_the_server_counts() {
        let penalties = Penalties::default();
        penalties.greeted("skerry", "SSH-2.0-OpenSSH_9.2p1 Debian-2");
        penalties.greeted("lantern", "SSH-2.0-OpenSSH_10.0p2 Debian-7");
        for _ in 0..4 {
            penalties.spend("skerry");
            penalties.spend("lantern");
        }
        assert_eq!(penalties.wait("skerry"), Duration::ZERO);
        assert_eq!(penalties.wait("lantern"), Duration::from_secs(10));
        tokio::time::advance(Duration::from_secs(7)).await;
        assert_eq!(penalties.wait("lantern"), Duration::from_secs(3));
        assert!(penalties.counts("lantern") && !penalties.counts("skerry"));
    }
}
