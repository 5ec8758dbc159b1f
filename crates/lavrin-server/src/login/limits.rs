//! With which limits an entry opens an account.

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

/// Whether an `expiry-time=` is over at `now`; one that does not parse kills its line and does not come here.
pub(super) fn is_past(value: &[u8], now: i64) -> bool {
    expiry(value).is_none_or(|at| now >= at)
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
}
