//! With which limits an entry opens an account.

use crate::survey::HostClock;
use lavrin_keys::key::container::certificate::Certificate;
use lavrin_keys::keysfile::expiry::expiry;
use lavrin_keys::keysfile::options::Options;
use lavrin_keys::text::printable;

/// The limits of an accepted login.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Limits {
    /// Addresses it may come from.
    pub from: Option<String>,
    /// The only command it runs.
    pub command: Option<String>,
    /// When it ends, as it stands in the file.
    pub expires: Option<String>,
    /// What it may not do: agent, ports, terminal, X11, start-up file.
    pub denied: Vec<&'static str>,
    /// Ports it may open, where that is limited.
    pub permit: Vec<String>,
}

/// The permissions an entry can take away, in the order in which they are told.
const PERMISSIONS: [(&str, &str, &str); 5] = [
    ("agent-forwarding", "no-agent-forwarding", "agent forwarding"),
    ("port-forwarding", "no-port-forwarding", "port forwarding"),
    ("pty", "no-pty", "terminal"),
    ("user-rc", "no-user-rc", "start-up file"),
    ("x11-forwarding", "no-x11-forwarding", "X11 forwarding"),
];

impl Limits {
    /// The limits that options set. Their order decides, as for the server: `restrict,pty` gives a terminal.
    #[must_use]
    pub fn of(options: &Options) -> Self {
        let mut denied = Vec::new();
        for (allow, deny, words) in PERMISSIONS {
            let last = options.list().iter().rev().find(|option| [allow, deny, "restrict"].contains(&option.name));
            if last.is_some_and(|option| option.name != allow) {
                denied.push(words);
            }
        }
        let text = |name: &str| options.value(name).map(printable);
        let permit = ["permitopen", "permitlisten"];
        Self {
            from: text("from"),
            command: text("command"),
            expires: options.values("expiry-time").min().map(printable),
            denied,
            permit: permit
                .iter()
                .flat_map(|name| options.values(name).map(move |value| format!("{name}={}", printable(value))))
                .collect(),
        }
    }

    /// The same with what a certificate limits further.
    #[must_use]
    pub fn and_of(mut self, certificate: Option<&Certificate>) -> Self {
        let Some(critical) = certificate.map(|certificate| &certificate.critical) else { return self };
        self.command = self.command.or_else(|| critical.force_command.clone());
        let both = self.from.iter().chain(&critical.source_address).cloned().collect::<Vec<_>>();
        self.from = (!both.is_empty()).then(|| both.join(" and "));
        self
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// Whether an `expiry-time=` is over at `now`, by the host's own clock and time zone where they are known; one that does not
/// parse kills its line and does not come here.
pub(super) fn is_past(value: &[u8], now: i64, clock: Option<HostClock>) -> bool {
    let ahead = clock.and_then(|clock| clock.ahead).unwrap_or(0);
    let zone = clock.filter(|_| !value.ends_with(b"Z")).map_or(0, |clock| clock.zone);
    expiry(value).is_none_or(|at| now.saturating_add(ahead).saturating_add(zone) >= at)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_order_of_permissions_decides() {
        let denied = |text: &[u8]| Limits::of(&Options::parse(text).unwrap()).denied;
        assert_eq!(denied(b"pty,restrict").len(), 5);
        assert_eq!(denied(b"restrict,pty").len(), 4);
        assert_eq!(denied(b"no-pty"), ["terminal"]);
        assert!(denied(b"").is_empty());
    }

    #[test]
    fn an_end_is_judged_by_the_clock_and_the_zone_of_the_host() {
        let at = |clock| is_past(b"20261123", 1_795_392_000, clock);
        assert!(at(None));
        let clock = |ahead, zone| Some(HostClock { ahead, zone });
        assert!(!at(clock(Some(-60), 0)) && at(clock(Some(60), 0)) && at(clock(None, 3600)));
        // West of Greenwich that day has not begun yet; a time in UTC knows no zones.
        assert!(!at(clock(Some(0), -3600)));
        assert!(is_past(b"20261123Z", 1_795_392_000, clock(Some(0), -3600)));
        // What a host says must not overturn the sum.
        assert!(is_past(b"20261123", 1_795_392_000, clock(Some(i64::MAX), i64::MAX)));
    }

    #[test]
    fn a_clock_is_off_by_what_no_way_explains() {
        let ahead = |now| HostClock::of(now, 0, Some((1000, 1030))).ahead;
        assert_eq!((ahead(1000), ahead(1030), ahead(1089)), (Some(0), Some(0), Some(0)));
        assert_eq!((ahead(1090), ahead(940), ahead(941)), (Some(60), Some(-60), Some(0)));
        assert_eq!(HostClock::of(1000, 3600, None).ahead, None);
        assert_eq!(HostClock::of(i64::MIN, 0, Some((1000, 1030))).ahead.map(i64::signum), Some(-1));
    }
}
