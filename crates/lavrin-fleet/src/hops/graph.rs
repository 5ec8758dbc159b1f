//! The ways through a fleet as a graph: accounts, the keys that lie in them, and the entries that these fit.

use super::facts::{AccountFacts, HostFacts};
use crate::fleet::{Access, Certainty, Index, Owner};
use crate::register::Register;
use foldhash::quality::RandomState;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::patterns::list_matches;
use lavrin_keys::text::printable;
use lavrin_server::fs::BytePath;
use lavrin_server::server_config::addresses::list_takes_client;
use lavrin_server::survey::StrayKey;
use petgraph::graph::{DiGraph, NodeIndex};
use std::collections::HashMap;
use std::net::IpAddr;

/// A place on a way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Spot {
    /// Somebody acts as this account: the number of the host, and that of the account on it.
    Account(usize, usize),
    /// Somebody holds this private key.
    Key(usize),
    /// An entry takes somebody in: the number of the host, and that of the entry on it.
    Entry(usize, usize),
}

/// How one comes from one spot to the next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    /// The account has this private key, by its number.
    Holds(usize),
    /// The key fits the entry, from wherever one comes.
    Fits,
    /// The key fits the entry from this host, which its `from=` takes; perhaps only, where the host's address is not known.
    FitsFrom {
        /// The number of the private key in the account that one comes from.
        held: usize,
        /// Whether that is certain.
        certain: bool,
    },
    /// The entry opens its account.
    Opens,
    /// Root may do what any account may.
    IsRoot,
    /// Whoever is in the account may become root.
    BecomesRoot,
    /// The same home is on another host.
    SharedHome,
    /// Whoever signs in here may bring an agent along, which whoever is here can use meanwhile.
    Agent,
}

/// What is followed beside keys that anybody can use.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Follow {
    /// Keys that a passphrase protects.
    pub passphrases: bool,
    /// Agents that people forward.
    pub agents: bool,
}

/// What is on the way, and how it hangs together.
pub struct WaysThrough<'a> {
    /// The hosts.
    pub hosts: &'a [HostFacts],
    pub(super) register: &'a Register,
    pub(super) index: Index<'a>,
    pub(super) graph: DiGraph<Spot, Step>,
    pub(super) nodes: HashMap<Spot, NodeIndex, RandomState>,
    pub(super) keys: Vec<Fingerprint>,
    pub(super) key_numbers: HashMap<Fingerprint, usize, RandomState>,
    pub(super) openings: Vec<Vec<(usize, usize)>>,
    host_numbers: HashMap<&'a str, usize, RandomState>,
}

impl<'a> WaysThrough<'a> {
    /// Those of these hosts.
    #[must_use]
    pub fn of(hosts: &'a [HostFacts], register: &'a Register, follow: Follow) -> Self {
        let mut ways = Self {
            hosts,
            register,
            index: Index::of(register),
            graph: DiGraph::new(),
            nodes: HashMap::default(),
            keys: Vec::new(),
            key_numbers: HashMap::default(),
            openings: Vec::new(),
            host_numbers: hosts.iter().enumerate().map(|(number, host)| (host.host.as_str(), number)).collect(),
        };
        for (number, host) in hosts.iter().enumerate() {
            ways.add_entries(number, host);
        }
        for (number, host) in hosts.iter().enumerate() {
            ways.add_keys(number, host, follow);
            ways.add_root(number, host);
        }
        ways.add_shared_homes();
        if follow.agents {
            ways.add_agents();
        }
        ways
    }

    /// The register that the hosts are from.
    #[must_use]
    pub fn register(&self) -> &'a Register {
        self.register
    }

    /// The number of a host.
    #[must_use]
    pub fn host(&self, name: &str) -> Option<usize> {
        self.host_numbers.get(name).copied()
    }

    /// An account.
    #[must_use]
    pub fn account(&self, host: usize, account: usize) -> &'a AccountFacts {
        &self.hosts[host].accounts[account]
    }

    /// An entry.
    #[must_use]
    pub fn entry(&self, host: usize, entry: usize) -> &'a Access {
        &self.hosts[host].open[entry].1
    }

    /// A private key on a host.
    #[must_use]
    pub fn held(&self, host: usize, account: usize, held: usize) -> &'a StrayKey {
        &self.account(host, account).held[held]
    }

    /// `ACCOUNT@HOST`, safe to show.
    #[must_use]
    pub fn name(&self, host: usize, account: usize) -> String {
        format!("{}@{}", printable(self.account(host, account).name.as_bytes()), self.hosts[host].host)
    }

    /// An account of root on another host that a private key opens from where it lies.
    #[must_use]
    pub fn root_elsewhere(&self, host: usize, account: usize, held: usize) -> Option<(usize, usize)> {
        let key = self.key_numbers.get(&self.held(host, account, held).public?.fingerprint)?;
        self.openings[*key].iter().find_map(|(target, entry)| {
            let (on, access) = &self.hosts[*target].open[*entry];
            let is_open = access.limits.from.is_none() || self.takes_from(host, *target, *entry).is_some();
            let leads_on = access.limits.command.is_none() && self.account(*target, *on).is_root;
            (*target != host && is_open && leads_on).then_some((*target, *on))
        })
    }

    /// The key of this number.
    #[must_use]
    pub fn key(&self, number: usize) -> Fingerprint {
        self.keys[number]
    }

    /// Whose a key is.
    #[must_use]
    pub fn owner(&self, key: Fingerprint) -> Option<&Owner> {
        self.index.owner(key)
    }

    /// The number of accounts, keys and entries, and that of the steps between them.
    #[must_use]
    pub fn size(&self) -> (usize, usize) {
        (self.graph.node_count(), self.graph.edge_count())
    }

    pub(super) fn node(&mut self, spot: Spot) -> NodeIndex {
        *self.nodes.entry(spot).or_insert_with(|| self.graph.add_node(spot))
    }

    fn key_number(&mut self, key: Fingerprint) -> usize {
        *self.key_numbers.entry(key).or_insert_with(|| {
            self.keys.push(key);
            self.openings.push(Vec::new());
            self.keys.len() - 1
        })
    }

    fn step(&mut self, from: Spot, to: Spot, step: Step) {
        let (from, to) = (self.node(from), self.node(to));
        self.graph.add_edge(from, to, step);
    }

    fn add_entries(&mut self, host: usize, facts: &HostFacts) {
        for (number, (account, access)) in facts.open.iter().enumerate() {
            let key = self.key_number(access.key);
            self.openings[key].push((host, number));
            let entry = Spot::Entry(host, number);
            if access.limits.from.is_none() {
                self.step(Spot::Key(key), entry, Step::Fits);
            }
            // Where one command is all that runs, the way ends at the entry.
            if access.limits.command.is_none() {
                self.step(entry, Spot::Account(host, *account), Step::Opens);
            }
        }
    }

    fn add_keys(&mut self, host: usize, facts: &HostFacts, follow: Follow) {
        for (account, of_account) in facts.accounts.iter().enumerate() {
            for (held, key) in of_account.held.iter().enumerate() {
                let Some(public) = key.public.filter(|_| follow.passphrases || key.protected != Some(true)) else {
                    continue;
                };
                let number = self.key_number(public.fingerprint);
                let here = Spot::Account(host, account);
                self.step(here, Spot::Key(number), Step::Holds(held));
                for (target, entry) in self.openings[number].clone() {
                    if let Some(certain) = self.takes_from(host, target, entry) {
                        self.step(here, Spot::Entry(target, entry), Step::FitsFrom { held, certain });
                    }
                }
            }
        }
    }

    /// Whether the `from=` of an entry takes whoever comes from a host; `None`: it does not, or there is none.
    fn takes_from(&self, from: usize, target: usize, entry: usize) -> Option<bool> {
        let list = self.entry(target, entry).limits.from.as_deref()?;
        let host = self.register.hosts.get(&self.hosts[from].host)?;
        match host.address.parse::<IpAddr>() {
            Ok(address) => list_takes_client(list, address, None, self.hosts[target].rules).then_some(true),
            // Which address a name has is not known here; a list that names it is taken at its word.
            Err(_) => Some(list_matches(list.split(','), &host.address.to_ascii_lowercase())),
        }
    }

    fn add_root(&mut self, host: usize, facts: &HostFacts) {
        let Some(root) = facts.accounts.iter().position(|account| account.is_root) else { return };
        for (number, account) in facts.accounts.iter().enumerate().filter(|(number, _)| *number != root) {
            self.step(Spot::Account(host, root), Spot::Account(host, number), Step::IsRoot);
            if account.is_root {
                self.step(Spot::Account(host, number), Spot::Account(host, root), Step::IsRoot);
            } else if account.becomes_root.is_some() {
                self.step(Spot::Account(host, number), Spot::Account(host, root), Step::BecomesRoot);
            }
        }
    }

    /// Whoever may write in a home may let himself in wherever that home is.
    fn add_shared_homes(&mut self) {
        let mut homes: HashMap<(&BytePath, &str), Vec<Spot>, RandomState> = HashMap::default();
        for (host, facts) in self.hosts.iter().enumerate() {
            for (number, account) in facts.accounts.iter().enumerate() {
                if let Some(home) = &account.shared_home {
                    homes.entry((home, &account.name)).or_default().push(Spot::Account(host, number));
                }
            }
        }
        // One after the other in a circle: all of them are reached, with as many steps as there are hosts.
        let mut homes: Vec<Vec<Spot>> = homes.into_values().filter(|spots| spots.len() > 1).collect();
        homes.sort_unstable();
        for spots in homes {
            for at in 0..spots.len() {
                self.step(spots[at], spots[(at + 1) % spots.len()], Step::SharedHome);
            }
        }
    }

    /// An agent holds all keys of its owner.
    fn add_agents(&mut self) {
        for (host, facts) in self.hosts.iter().enumerate().filter(|(_, facts)| facts.takes_agents) {
            let root = facts.accounts.iter().position(|account| account.is_root);
            for (account, access) in &facts.open {
                let Some(Owner::Person { id, .. }) = self.index.owner(access.key) else { continue };
                if access.limits.denied.contains(&"agent forwarding") || access.limits.command.is_some() {
                    continue;
                }
                let keys = self.register.people.get(id).map(|person| person.keys.as_slice()).unwrap_or_default();
                for key in keys.iter().map(|key| key.fingerprint) {
                    let number = self.key_number(key);
                    for here in [Some(*account), root].into_iter().flatten() {
                        self.step(Spot::Account(host, here), Spot::Key(number), Step::Agent);
                    }
                }
            }
        }
    }

    /// How doubtful a step is: one that was not seen to work counts, and a key beside which nothing says whether it is protected.
    pub(super) fn doubt(&self, from: Spot, to: Spot, step: Step) -> u32 {
        let is_doubtful = match (step, from, to) {
            (Step::Holds(held), Spot::Account(host, account), _) => {
                self.held(host, account, held).protected != Some(false)
            }
            (Step::FitsFrom { held, certain }, Spot::Account(host, account), _) => {
                !certain || self.held(host, account, held).protected != Some(false)
            }
            (Step::Opens, Spot::Entry(host, entry), _) => self.entry(host, entry).certainty == Certainty::Perhaps,
            (Step::BecomesRoot | Step::Agent, ..) => true,
            _ => false,
        };
        u32::from(is_doubtful)
    }
}
