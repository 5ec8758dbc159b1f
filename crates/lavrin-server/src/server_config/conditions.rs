//! The conditions of a Match line.

use super::fault::WrongMatch;
use super::values::ValueRules;
use super::{addresses, group_names};
use crate::account::Account;
use crate::server::Version;
use crate::survey::{LoginAttempt, Observation};
use lavrin_keys::patterns::list_matches;
use lavrin_keys::services::port;

/// Whether a block holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Applies {
    /// It does.
    Yes,
    /// It does not.
    No,
    /// It depends on something about the connection that is not known.
    Undecided,
}

/// Since this version the words of a Match line are split like those of any other line.
pub(super) const MATCH_AS_WORDS_SINCE: Version = Version(10, 0);

/// Whether a Match line holds for an account; `rules` are those of the server.
///
/// # Errors
/// What the server does not understand of it, so that it does not start.
pub fn condition(
    words: &[String],
    account: &Account,
    host_counts: bool,
    rules: &ValueRules<'_>,
    seen: &Observation,
) -> Result<Applies, WrongMatch> {
    let one = One { account, host_counts, rules, seen };
    let mut applies = Applies::Yes;
    let mut words = words.iter();
    let mut criteria = 0;
    while let Some(word) = words.next() {
        criteria += 1;
        // Older versions have split at the '=' before.
        let (criterion, joined) = match word.split_once('=') {
            Some((name, value)) if !value.is_empty() => (name, Some(value)),
            _ => (word.as_str(), None),
        };
        if criterion.eq_ignore_ascii_case("all") && joined.is_none() {
            if criteria > 1 || words.next().is_some() {
                return Err(WrongMatch::AllBesideOthers);
            }
            return Ok(Applies::Yes);
        }
        let said =
            if criterion.eq_ignore_ascii_case("invalid-user") && joined.is_none() && one.knows(INVALID_USER_SINCE) {
                if seen.account(&account.name).is_none() { Applies::Yes } else { Applies::No }
            } else {
                let value = joined.or_else(|| words.next().map(String::as_str)).filter(|value| !value.is_empty());
                one.holds(criterion, value.ok_or_else(|| WrongMatch::NoPattern(criterion.to_owned()))?)?
            };
        applies = match (applies, said) {
            (Applies::No, _) | (_, Applies::No) => Applies::No,
            (Applies::Undecided, _) | (_, Applies::Undecided) => Applies::Undecided,
            _ => Applies::Yes,
        };
    }
    Ok(applies)
}

const INVALID_USER_SINCE: Version = Version(9, 9);
const VERSION_SINCE: Version = Version(10, 0);

/// What one criterion is held against.
struct One<'a> {
    account: &'a Account,
    host_counts: bool,
    rules: &'a ValueRules<'a>,
    seen: &'a Observation,
}

impl One<'_> {
    fn knows(&self, since: Version) -> bool {
        self.rules.version >= since
    }

    fn holds(&self, criterion: &str, value: &str) -> Result<Applies, WrongMatch> {
        let connection = &self.seen.connection;
        let criterion = criterion.to_ascii_lowercase();
        if criterion.ends_with("address") && !addresses::list_is_sound(value, self.rules.version) {
            return Err(WrongMatch::Addresses(value.to_owned()));
        }
        let holds = match criterion.as_str() {
            "user" => Some(list_matches(value.split(','), &self.account.name)),
            "group" => Some(group_list_takes(value, self.account, self.seen)),
            "address" => connection.from.map(|from| addresses::list_takes(value, from, self.rules.version)),
            "host" => host_of(connection, self.host_counts).map(|host| {
                let lower = value.to_ascii_lowercase();
                list_matches(lower.split(','), &host.to_ascii_lowercase())
            }),
            "localaddress" => {
                connection.local_address.map(|local| addresses::list_takes(value, local, self.rules.version))
            }
            "localport" => {
                let port = port(value, self.rules.services).ok_or_else(|| WrongMatch::NoPort(value.to_owned()))?;
                connection.local_port.map(|local| local == port)
            }
            // No connection on Linux comes in at one.
            "rdomain" => Some(false),
            // It is held against the whole release with its build, which only a greeting tells.
            "version" if self.knows(VERSION_SINCE) => match self.seen.server_known.release() {
                Some(release) => Some(list_matches(value.split(','), release)),
                None => by_version(value, self.seen.server.version),
            },
            other => return Err(WrongMatch::UnknownCriterion(other.to_owned())),
        };
        Ok(match holds {
            Some(true) => Applies::Yes,
            Some(false) => Applies::No,
            None => Applies::Undecided,
        })
    }
}

/// Whether a list of patterns takes a release of which only the version is known, not the build behind it; `None`: that depends
/// on the build.
fn by_version(list: &str, version: Option<Version>) -> Option<bool> {
    let known = version.map(|version| format!("OpenSSH_{version}")).unwrap_or_default();
    let may_match = |pattern: &str| {
        let head = pattern.trim_start_matches('!').split(['*', '?']).next().unwrap_or_default();
        head.bytes().zip(known.bytes()).all(|(one, other)| one == other)
    };
    let possible: Vec<&str> = list.split(',').filter(|pattern| may_match(pattern)).collect();
    let takes_all = |pattern: &str| pattern.strip_suffix('*').is_some_and(|head| known.starts_with(head));
    match possible[..] {
        [] => Some(false),
        [one] if takes_all(one) => Some(true),
        _ => None,
    }
}

/// What a host pattern is held against: the name, where the server looks it up, else the address.
fn host_of(connection: &LoginAttempt, host_counts: bool) -> Option<String> {
    let name = connection.from_host.clone().filter(|_| host_counts);
    name.or_else(|| connection.from.map(|address| address.to_string()))
}

/// Whether a list of group patterns takes the account: one negated match refuses it, whichever group it is.
fn group_list_takes(list: &str, account: &Account, seen: &Observation) -> bool {
    let mut found = false;
    for group in group_names(account, &seen.groups) {
        for pattern in list.split(',') {
            match pattern.strip_prefix('!') {
                Some(negated) if super::matches(negated.as_bytes(), group.as_bytes()) => return false,
                None if super::matches(pattern.as_bytes(), group.as_bytes()) => found = true,
                _ => {}
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_release_of_which_the_version_is_known_decides_what_it_can() {
        let by = |list: &str| by_version(list, Some(Version(10, 0)));
        assert_eq!((by("x"), by("OpenSSH_9*"), by("!x,y*")), (Some(false), Some(false), Some(false)));
        assert_eq!((by("*"), by("OpenSSH_*"), by("OpenSSH_10.0*")), (Some(true), Some(true), Some(true)));
        assert_eq!((by("OpenSSH_10.0p2*"), by("*,!*Debian*"), by("?penSSH_9*")), (None, None, None));
        assert_eq!((by_version("*", None), by_version("x", None)), (Some(true), None));
    }
}
