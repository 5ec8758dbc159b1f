//! Where a way begins and where it ends, as people name it.

use crate::command::register::today;
use crate::command::unknown;
use crate::error::CommandError;
use lavrin_fleet::hops::{Spot, Start, WaysThrough};
use lavrin_fleet::register::{Register, near};
use lavrin_keys::text::printable;
use lavrin_store::database::Database;
use lavrin_work::fleet::accounts_seen;

/// Where a way begins.
pub enum From {
    /// At a person, who has their keys.
    Person(String),
    /// On hosts, with everything that lies there: a host, or those with a tag.
    Hosts(String, Vec<String>),
    /// In one account.
    Account(String, String),
}

impl From {
    /// What a name stands for.
    pub fn of(name: &str, register: &Register) -> Result<Self, CommandError> {
        if register.people.contains_key(name) {
            return Ok(Self::Person(name.to_owned()));
        }
        Ok(match To::of(name, register)? {
            To::Hosts(name, hosts) => Self::Hosts(name, hosts),
            To::Account(account, host) => Self::Account(account, host),
        })
    }

    /// As it is shown.
    pub fn name(&self) -> &str {
        match self {
            Self::Person(name) | Self::Hosts(name, _) | Self::Account(name, _) => name,
        }
    }

    /// Where that is among the ways.
    pub fn start(&self, ways: &WaysThrough<'_>) -> Result<Start, CommandError> {
        match self {
            Self::Person(person) => Ok(ways.with_keys(ways.keys_of(person, today()))),
            Self::Hosts(_, hosts) => {
                let spots = hosts.iter().filter_map(|host| ways.host(host)).flat_map(|host| ways.at_host(host).spots);
                Ok(Start { spots: spots.collect(), from_elsewhere: Vec::new() })
            }
            Self::Account(name, host) => {
                let (account, _) = name.split_once('@').unwrap_or((name, host));
                let start = ways.host(host).and_then(|host| ways.at_account(host, account));
                // An account with neither key nor entry leads nowhere; one that nobody saw is not known to.
                match start {
                    Some(start) => Ok(start),
                    None if ways.host(host).is_some() => Ok(Start::default()),
                    None => Err(CommandError::with(
                        crate::exit::Exit::NotChecked,
                        format!("nothing is known of {host}: no survey has seen it"),
                    )
                    .hint(format!("lavrin survey {host}"))),
                }
            }
        }
    }
}

/// Where a way ends.
pub enum To {
    /// On hosts: one, or those with a tag.
    Hosts(String, Vec<String>),
    /// In one account.
    Account(String, String),
}

/// An account has to be there, as far as its host was seen: that nothing leads to a name that nobody has says nothing.
pub fn check_account(name: &str, host: &str, store: Option<&Database>) -> Result<(), CommandError> {
    let seen = store.map(|store| store.observation_at(host, i64::MAX)).transpose()?.flatten();
    let Some(accounts) = seen.and_then(|seen| accounts_seen(&seen.document)) else { return Ok(()) };
    let account = name.split_once('@').map_or(name, |(account, _)| account);
    // A device may show only the account that signs in.
    if accounts.iter().any(|other| other == account) || accounts.len() < 2 {
        return Ok(());
    }
    let said = CommandError::usage(format!("the last survey of {host} saw no account '{account}'"));
    Err(match near(account, accounts.iter().map(String::as_str)) {
        Some(other) => said.because(format!("near to it: {other}")),
        None => said,
    }
    .hint(format!("lavrin host show {host}")))
}

impl To {
    /// What a name stands for.
    pub fn of(name: &str, register: &Register) -> Result<Self, CommandError> {
        if let Some((_, host)) = name.split_once('@') {
            if !register.hosts.contains_key(host) {
                return Err(unknown::host(register, host).hint("lavrin host list"));
            }
            return Ok(Self::Account(printable(name.as_bytes()), host.to_owned()));
        }
        let hosts = register.hosts_named(&[name.to_owned()]).map_err(|odd| unknown::anything(register, &odd))?;
        Ok(Self::Hosts(name.to_owned(), hosts.into_iter().map(|host| host.id.clone()).collect()))
    }

    /// As it is shown.
    pub fn name(&self) -> &str {
        match self {
            Self::Hosts(name, _) | Self::Account(name, _) => name,
        }
    }

    /// The accounts among the ways.
    pub fn spots(&self, ways: &WaysThrough<'_>) -> Vec<Spot> {
        match self {
            Self::Hosts(_, hosts) => {
                let hosts = hosts.iter().filter_map(|host| ways.host(host));
                hosts.flat_map(|host| ways.at_host(host).spots).collect()
            }
            Self::Account(name, host) => {
                let account = name.split_once('@').map_or(name.as_str(), |(account, _)| account);
                let start = ways.host(host).and_then(|host| ways.at_account(host, account));
                start.map(|start| start.spots).unwrap_or_default()
            }
        }
    }
}
