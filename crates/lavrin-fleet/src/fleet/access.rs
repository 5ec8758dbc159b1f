//! Who can log in on a host, by what was seen of it.

use lavrin_keys::key::Fingerprint;
use lavrin_keys::text::printable;
use lavrin_server::account::Account;
use lavrin_server::login::{self, Limits, Outcome, Question};
use lavrin_server::survey::Want;
use lavrin_server::system::System;

/// A key that opens an account, or may open it.
#[derive(Debug, Clone)]
pub struct Access {
    /// The account.
    pub account: String,
    /// The key.
    pub key: Fingerprint,
    /// The comment behind it, safe to show.
    pub comment: String,
    /// What limits it.
    pub limits: Limits,
    /// Whether that is certain; something that decides may not have been seen.
    pub certain: bool,
}

/// What has to be looked at on a host, so that an audit and [`who`] can say everything.
#[must_use]
pub fn wants(seen: &System<'_>) -> Vec<Want> {
    let mut wants = lavrin_server::audit::wants(seen);
    if seen.looked {
        let with_keys = |account: &&Account| {
            login::key_files(account, seen)
                .iter()
                .any(|file| seen.content(file).known().is_some_and(|bytes| !bytes.is_empty()))
        };
        let more = seen.accounts.iter().filter(with_keys).flat_map(|account| login::wants(&account.name, seen));
        wants.extend(more);
        let mut told = std::collections::HashSet::new();
        wants.retain(|want| told.insert(want.clone()));
    }
    wants
}

/// Every key that opened an account at this time (seconds since 1970), by account.
#[must_use]
pub fn who(seen: &System<'_>, at: i64) -> Vec<Access> {
    let mut found = Vec::new();
    for account in seen.accounts.iter() {
        for (key, comment) in login::keys_of(&account.name, seen) {
            let verdict = login::judge(&Question::plain(&account.name, &key, at), seen);
            if verdict.outcome != Outcome::Refused {
                found.push(Access {
                    account: account.name.clone(),
                    key: key.fingerprint(),
                    comment: printable(comment.trim_ascii()),
                    limits: verdict.limits,
                    certain: verdict.outcome == Outcome::Accepted,
                });
            }
        }
    }
    found
}
