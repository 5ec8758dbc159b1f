//! What one host adds to the ways through a fleet: which private keys lie there, and which keys open its accounts.

use crate::fleet::{Access, CLIENT_FILES};
use crate::register::{Host, USUAL_LOGIN};
use lavrin_keys::version::Version;
use lavrin_server::account::Account;
use lavrin_server::audit::takes_agents;
use lavrin_server::fs::{BytePath, Fact};
use lavrin_server::server_config::group_names;
use lavrin_server::steps::gives_root;
use lavrin_server::survey::StrayKey;
use lavrin_server::system::System;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// What is known of one host.
#[derive(Debug, Clone)]
pub struct HostFacts {
    /// Its name in the register.
    pub host: String,
    /// The accounts that matter: root, those with private keys, and those that a key opens.
    pub accounts: Vec<AccountFacts>,
    /// Which keys open which of them: the number of the account, and how.
    pub open: Vec<(usize, Access)>,
    /// Whether an agent can be forwarded to it.
    pub takes_agents: bool,
    /// By the rules of which version its lists of addresses are read.
    pub rules: Version,
    /// Accounts in whose folder nobody could look for private keys.
    pub not_looked_at: Vec<String>,
}

/// What is known of an account.
#[derive(Debug, Clone, Default)]
pub struct AccountFacts {
    /// Its name.
    pub name: String,
    /// Whether it has root's rights.
    pub is_root: bool,
    /// How whoever is in it may become root.
    pub becomes_root: Option<BecomesRoot>,
    /// The private keys in its folder.
    pub held: Vec<StrayKey>,
    /// Its home, where other hosts have that too.
    pub shared_home: Option<BytePath>,
    /// What its client wrote down about other servers: the file, and what is in it.
    pub client: Vec<(BytePath, Vec<u8>)>,
}

/// How somebody may become root.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum BecomesRoot {
    /// Surveys do, as this account.
    AsSurveys,
    /// Members of this group usually can.
    Group(String),
}

impl HostFacts {
    /// Those of a host, where it is known already who gets in.
    #[must_use]
    pub fn of(host: &Host, seen: &System<'_>, open: &[Access]) -> Self {
        let opened: HashSet<&str> = open.iter().map(|access| access.account.as_str()).collect();
        let held: BTreeMap<&BytePath, &Vec<StrayKey>> = seen
            .private_keys
            .iter()
            .filter_map(|(folder, keys)| Some((folder, keys.known().filter(|keys| !keys.is_empty())?)))
            .collect();
        let matters = |account: &&Account| {
            account.is_root()
                || opened.contains(account.name.as_str())
                || held.contains_key(&account.home.join(b".ssh"))
        };
        let accounts: Vec<AccountFacts> =
            seen.accounts.iter().filter(matters).map(|account| account_facts(host, account, &held, seen)).collect();
        let number: BTreeMap<&str, usize> =
            accounts.iter().enumerate().map(|(number, account)| (account.name.as_str(), number)).collect();
        let open =
            open.iter().filter_map(|access| Some((*number.get(access.account.as_str())?, access.clone()))).collect();
        let is_unseen =
            |account: &&Account| matches!(seen.private_keys.get(&account.home.join(b".ssh")), Some(Fact::Unseen(_)));
        Self {
            host: host.id.clone(),
            open,
            takes_agents: takes_agents(seen),
            rules: seen.server.rules(),
            accounts,
            not_looked_at: seen.accounts.iter().filter(is_unseen).map(|account| account.name.clone()).collect(),
        }
    }
}

fn account_facts(
    host: &Host,
    account: &Account,
    held: &BTreeMap<&BytePath, &Vec<StrayKey>>,
    seen: &System<'_>,
) -> AccountFacts {
    let folder = account.home.join(b".ssh");
    let held = held.get(&folder).copied().cloned().unwrap_or_default();
    let client = CLIENT_FILES.iter().filter(|_| !held.is_empty()).filter_map(|name| {
        let path = folder.join(name);
        let bytes = seen.content(&path).into_known()?.clone();
        Some((path, bytes))
    });
    let is_surveyor = seen.viewer == Some(0) && host.login.as_deref().unwrap_or(USUAL_LOGIN) == account.name;
    let group = group_names(account, &seen.groups).filter(|group| gives_root(group)).collect::<BTreeSet<_>>();
    let becomes_root = match group.into_iter().next() {
        _ if account.is_root() => None,
        _ if is_surveyor => Some(BecomesRoot::AsSurveys),
        group => group.map(|group| BecomesRoot::Group(group.to_owned())),
    };
    AccountFacts {
        name: account.name.clone(),
        is_root: account.is_root(),
        becomes_root,
        client: client.collect(),
        held,
        shared_home: seen.shared_homes.contains(&account.home).then(|| account.home.clone()),
    }
}
