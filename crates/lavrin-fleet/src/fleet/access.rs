//! Who can log in on a host, by what was seen of it.

use lavrin_keys::key::Fingerprint;
use lavrin_keys::keysfile::Content;
use lavrin_keys::text::printable;
use lavrin_server::abilities::Ability;
use lavrin_server::account::Account;
use lavrin_server::login::{self, AccountKeys, Limits, Outcome, Place, Question, ReasonKind, Verdict};
use lavrin_server::survey::{Want, Wanted};
use lavrin_server::system::System;
use std::collections::HashSet;

/// A key that opens an account, or may open it.
#[derive(Debug, Clone)]
pub struct Access {
    /// The account.
    pub account: String,
    /// The key.
    pub key: Fingerprint,
    /// The entry; the first one of this key.
    pub place: Place,
    /// The comment behind it, safe to show.
    pub comment: String,
    /// What limits it.
    pub limits: Limits,
    /// How certain that is.
    pub certainty: Certainty,
}

/// How certain it is that a key opens an account.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Certainty {
    /// Everything that decides was seen.
    Certain,
    /// It depends on the address that one comes from, and on nothing else.
    FromDecides,
    /// It stands in the list of a device, which does not show by which rules it lets somebody in.
    Listed,
    /// Something that decides was not seen.
    Perhaps,
}

/// Longest file of a client that is fetched, in bytes.
const CLIENT_FILE_BYTES_MAX: u64 = 1 << 20;

/// What a client writes down about servers, in the order in which it is listed.
pub(crate) const CLIENT_FILES: [&[u8]; 2] = [b"known_hosts", b"config"];

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
        wants.extend(seen.accounts.iter().flat_map(|account| wants_of_client(account, seen)));
        let mut told = HashSet::new();
        wants.retain(|want| told.insert(want.clone()));
    }
    wants
}

/// Where private keys lie, it is worth knowing where one goes from there.
fn wants_of_client(account: &Account, seen: &System<'_>) -> Vec<Want> {
    let folder = account.home.join(b".ssh");
    let keys = seen.private_keys.get(&folder).and_then(|keys| keys.known());
    if !seen.abilities.has(Ability::Files) || keys.is_none_or(Vec::is_empty) {
        return Vec::new();
    }
    let want = |name: &&[u8]| Want {
        what: Wanted::Bytes(folder.join(name), CLIENT_FILE_BYTES_MAX),
        account: Some(account.name.clone()),
    };
    CLIENT_FILES.iter().map(want).filter(|want| !seen.answers(want)).collect()
}

/// Every key that opened an account at this time (seconds since 1970), by account.
#[must_use]
pub fn who(seen: &System<'_>, at: i64) -> Vec<Access> {
    let mut found = Vec::new();
    for account in seen.accounts.iter() {
        let mut told = HashSet::new();
        for held in AccountKeys::of(account, seen, None).entries {
            let Some(key) = held.key().filter(|key| told.insert(key.fingerprint())) else { continue };
            let verdict = login::judge(&Question::plain(&account.name, key, at), seen);
            if verdict.outcome == Outcome::Refused {
                continue;
            }
            let certainty = certainty(&verdict);
            // Where the address decides, the verdict names no entry.
            let mut limits = match &held.content {
                Content::Entry(entry) if verdict.entry.is_none() => Limits::of(&entry.options),
                _ => verdict.limits,
            };
            limits.command = forced_command(account, seen).or(limits.command);
            found.push(Access {
                account: account.name.clone(),
                key: key.fingerprint(),
                place: verdict.entry.unwrap_or(held.place.clone()),
                comment: printable(held.comment().trim_ascii()),
                limits,
                certainty,
            });
        }
    }
    found
}

/// The server's own word, which goes before that of an entry (`sshd_config(5)`, `ForceCommand`).
fn forced_command(account: &Account, seen: &System<'_>) -> Option<String> {
    let settings = seen.settings(account);
    let forced = settings.get("forcecommand")?;
    Some(printable(forced.words.join(" ").as_bytes()))
}

fn certainty(verdict: &Verdict) -> Certainty {
    let open = || verdict.deciding.iter().chain(&verdict.also).map(|reason| &reason.kind);
    match verdict.outcome {
        Outcome::Accepted => Certainty::Certain,
        _ if open().all(|kind| matches!(kind, ReasonKind::FromUnknown { .. })) => Certainty::FromDecides,
        _ if open().all(|kind| *kind == ReasonKind::OnlyListed) => Certainty::Listed,
        _ => Certainty::Perhaps,
    }
}
