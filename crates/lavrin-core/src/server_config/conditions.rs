//! The conditions of a Match line.

use super::group_names;
use super::patterns::list_matches;
use crate::account::Account;
use crate::login::address;
use crate::survey::Observation;
use std::net::IpAddr;

/// The login that is asked about, as far as it is known.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Connection {
    /// Where it comes from.
    pub from: Option<IpAddr>,
    /// The name that the server's name service gives for that address.
    pub from_host: Option<String>,
    /// Whether the name counts whatever `UseDNS` says, as in the server's test mode.
    pub host_counts: bool,
    /// The address it comes in at.
    pub local_address: Option<IpAddr>,
    /// The port it comes in at.
    pub local_port: Option<u16>,
}

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

/// Whether a Match line holds.
///
/// # Errors
/// What the server does not understand of it, so that it does not start.
pub fn condition(
    words: &[String],
    account: &Account,
    host_counts: bool,
    seen: &Observation,
) -> Result<Applies, String> {
    let mut applies = Applies::Yes;
    let mut criteria = 0;
    let mut words = words.iter().filter(|word| *word != "=");
    while let Some(word) = words.next() {
        let (criterion, joined) =
            word.split_once('=').map_or((word.as_str(), None), |(name, value)| (name, Some(value)));
        criteria += 1;
        if criterion.eq_ignore_ascii_case("all") {
            if criteria > 1 || words.next().is_some() {
                return Err("'all' cannot be combined with other Match attributes".to_owned());
            }
            return Ok(Applies::Yes);
        }
        let value = joined.filter(|value| !value.is_empty()).or_else(|| words.next().map(String::as_str));
        let value = value.ok_or_else(|| format!("Match {criterion} has no pattern"))?;
        match one(criterion, value, account, host_counts, seen)? {
            Applies::Yes => {}
            Applies::No => applies = Applies::No,
            Applies::Undecided if applies == Applies::Yes => applies = Applies::Undecided,
            Applies::Undecided => {}
        }
    }
    Ok(applies)
}

fn one(
    criterion: &str,
    value: &str,
    account: &Account,
    host_counts: bool,
    seen: &Observation,
) -> Result<Applies, String> {
    let connection = &seen.connection;
    if criterion.to_ascii_lowercase().ends_with("address") && !address::list_is_consistent(value) {
        return Err(format!("a range in '{value}' has a length that does not fit its address"));
    }
    let holds = match criterion.to_ascii_lowercase().as_str() {
        "user" => Some(list_matches(value.split(','), &account.name)),
        "group" => Some(group_list_takes(value, account, seen)),
        "address" => connection.from.map(|from| address::list_takes(value, from)),
        "host" => host_of(connection, host_counts).map(|host| {
            let lower = value.to_ascii_lowercase();
            list_matches(lower.split(','), &host.to_ascii_lowercase())
        }),
        "localaddress" => connection.local_address.map(|local| address::list_takes(value, local)),
        "localport" => {
            let port: u16 = value.parse().map_err(|_| format!("'{value}' is no port"))?;
            connection.local_port.map(|local| local == port)
        }
        "rdomain" => None,
        other => return Err(format!("no Match attribute is called '{other}'")),
    };
    Ok(match holds {
        Some(true) => Applies::Yes,
        Some(false) => Applies::No,
        None => Applies::Undecided,
    })
}

/// What a host pattern is held against: the name, where the server looks it up, else the address.
fn host_of(connection: &Connection, host_counts: bool) -> Option<String> {
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
