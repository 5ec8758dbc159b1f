//! Who can reach what: the shortest ways through the graph, with as little doubt as possible.

use super::graph::{Spot, Step, WaysThrough};
use crate::register::Date;
use lavrin_keys::key::Fingerprint;
use petgraph::graph::NodeIndex;
use petgraph::visit::EdgeRef as _;
use std::cmp::Reverse;
use std::collections::{BTreeSet, BinaryHeap};

/// Where somebody is to begin with.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Start {
    /// Spots at which they are.
    pub spots: Vec<Spot>,
    /// Entries that take their keys from some addresses only: it is not known from where they come.
    pub from_elsewhere: Vec<(Spot, Spot)>,
}

/// How somebody came to a spot.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Came {
    /// How many steps are doubtful.
    pub doubts: u32,
    /// How many times they entered an account.
    pub hops: u32,
    /// The spot before, and the step; none at the start.
    pub before: Option<(Spot, Step)>,
}

/// Everything that can be reached from a start.
#[derive(Debug, Clone, Default)]
pub struct ReachedFrom {
    /// How each node was reached, by its number.
    came: Vec<Option<Came>>,
    /// The accounts that are reached, the nearest first, those of the start left out.
    pub accounts: Vec<(usize, usize)>,
    /// Entries that let somebody in for one command only.
    pub commands: Vec<(usize, usize)>,
}

impl ReachedFrom {
    /// The hosts of which an account is reached, by number.
    #[must_use]
    pub fn hosts(&self) -> BTreeSet<usize> {
        self.accounts.iter().map(|(host, _)| *host).collect()
    }
}

/// The way from a node to an end: doubts, accounts that are entered, and the account that it ends in.
type Onward = (u32, u32, (usize, usize));

/// What is open while one searches: the least doubtful first, then the nearest.
type OpenNodes = BinaryHeap<Reverse<(u32, u32, NodeIndex)>>;

impl WaysThrough<'_> {
    /// Every account of a host.
    #[must_use]
    pub fn at_host(&self, host: usize) -> Start {
        let spots = (0..self.hosts[host].accounts.len()).map(|account| Spot::Account(host, account)).collect();
        Start { spots, from_elsewhere: Vec::new() }
    }

    /// One account; `None` where nothing is known of it.
    #[must_use]
    pub fn at_account(&self, host: usize, name: &str) -> Option<Start> {
        let account = self.hosts[host].accounts.iter().position(|account| account.name == name)?;
        Some(Start { spots: vec![Spot::Account(host, account)], from_elsewhere: Vec::new() })
    }

    /// Whoever holds these keys.
    #[must_use]
    pub fn with_keys(&self, keys: impl IntoIterator<Item = Fingerprint>) -> Start {
        let mut start = Start::default();
        for number in keys.into_iter().filter_map(|key| self.key_numbers.get(&key).copied()) {
            let key = Spot::Key(number);
            start.spots.push(key);
            for (host, entry) in &self.openings[number] {
                if self.entry(*host, *entry).limits.from.is_some() {
                    start.from_elsewhere.push((key, Spot::Entry(*host, *entry)));
                }
            }
        }
        start
    }

    /// The keys of a person: their own that are in use, and the kept ones that are sealed for them.
    #[must_use]
    pub fn keys_of(&self, person: &str, today: Date) -> Vec<Fingerprint> {
        let own = self.register.people.get(person).into_iter().flat_map(|person| &person.keys);
        let own = own.filter(|key| key.is_active(today)).map(|key| key.fingerprint);
        let is_administrator = self.register.administrators.iter().any(|name| name.value == person);
        let kept = self.register.kept.iter().filter(|_| is_administrator);
        let kept = kept.flat_map(|kept| &kept.keys).filter(|key| key.is_active(today)).map(|key| key.fingerprint);
        own.chain(kept).collect()
    }

    /// How a spot is reached.
    #[must_use]
    pub fn came(&self, reach: &ReachedFrom, spot: Spot) -> Option<Came> {
        *reach.came.get(self.nodes.get(&spot)?.index())?
    }

    /// The steps to a spot, from the start on: each spot with the step that leaves it.
    #[must_use]
    pub fn way_to(&self, reach: &ReachedFrom, spot: Spot) -> Vec<(Spot, Step)> {
        let mut steps = Vec::new();
        let mut here = spot;
        while let Some((before, step)) = self.came(reach, here).and_then(|came| came.before) {
            steps.push((before, step));
            here = before;
        }
        steps.reverse();
        steps
    }

    /// Everything that is reached from a start. A way with fewer doubts goes before a shorter one. `without` is left out.
    #[must_use]
    pub fn reach(&self, start: &Start, without: Option<Spot>) -> ReachedFrom {
        self.reach_some(start, without, usize::MAX)
    }

    /// The same until so many hosts are reached, the nearest ones.
    #[must_use]
    pub fn reach_some(&self, start: &Start, without: Option<Spot>, hosts_max: usize) -> ReachedFrom {
        let mut reach = ReachedFrom { came: vec![None; self.graph.node_count()], ..ReachedFrom::default() };
        let mut open = OpenNodes::new();
        let put = |reach: &mut ReachedFrom, open: &mut OpenNodes, node: NodeIndex, came: Came| {
            let old = reach.came[node.index()];
            if old.is_none_or(|old| (came.doubts, came.hops) < (old.doubts, old.hops)) {
                reach.came[node.index()] = Some(came);
                open.push(Reverse((came.doubts, came.hops, node)));
            }
        };
        for node in start.spots.iter().filter_map(|spot| self.nodes.get(spot)) {
            put(&mut reach, &mut open, *node, Came { doubts: 0, hops: 0, before: None });
        }
        for (key, entry) in start.from_elsewhere.iter().filter(|(_, entry)| Some(*entry) != without) {
            let came = Came { doubts: 1, hops: 0, before: Some((*key, Step::Fits)) };
            if let Some(node) = self.nodes.get(entry) {
                put(&mut reach, &mut open, *node, came);
            }
        }
        let mut hosts: BTreeSet<usize> = BTreeSet::new();
        while let Some(Reverse((doubts, hops, node))) = open.pop() {
            let Some(here) = reach.came[node.index()].filter(|came| (came.doubts, came.hops) == (doubts, hops)) else {
                continue;
            };
            let spot = self.graph[node];
            self.list(&mut reach, spot, here);
            if let Spot::Account(host, _) = spot
                && here.before.is_some()
            {
                hosts.insert(host);
                if hosts.len() >= hosts_max {
                    break;
                }
            }
            for edge in self.graph.edges(node) {
                let (next, step) = (self.graph[edge.target()], *edge.weight());
                if Some(next) == without {
                    continue;
                }
                let came = Came {
                    doubts: doubts + self.doubt(spot, next, step),
                    hops: hops + enters(next, step),
                    before: Some((spot, step)),
                };
                put(&mut reach, &mut open, edge.target(), came);
            }
        }
        let mut accounts = std::mem::take(&mut reach.accounts);
        // What one enters goes before what one may do there as root.
        let led = |account: &(usize, usize)| {
            let came = self.came(&reach, Spot::Account(account.0, account.1));
            came.map(|came| (came.doubts, came.hops, came.before.is_some_and(|(_, step)| step == Step::IsRoot)))
        };
        accounts.sort_by_cached_key(|account| (led(account), *account));
        reach.commands.sort_unstable();
        ReachedFrom { accounts, ..reach }
    }

    fn list(&self, reach: &mut ReachedFrom, spot: Spot, came: Came) {
        match spot {
            Spot::Account(host, account) if came.before.is_some() => reach.accounts.push((host, account)),
            Spot::Entry(host, entry) if self.entry(host, entry).limits.command.is_some() => {
                reach.commands.push((host, entry));
            }
            _ => {}
        }
    }

    /// From which of these hosts one comes to one of the others: the host one begins at, the account that the shortest way ends
    /// in, and how many accounts are entered on it.
    #[must_use]
    pub fn between(&self, from: &[usize], to: &[usize]) -> Vec<(usize, (usize, usize), u32)> {
        let toward = self.toward(to);
        let nearest = |host: usize| {
            let begins = self.at_host(host).spots.into_iter().filter_map(|spot| self.nodes.get(&spot));
            begins.filter_map(|node| toward[node.index()]).min()
        };
        let begin = from.iter().copied().filter(|host| !to.contains(host));
        begin.filter_map(|host| nearest(host).map(|(_, hops, end)| (host, end, hops))).collect()
    }

    /// For each node the way to the nearest account of these hosts: doubts, accounts that are entered, and where it ends. Searched
    /// once, from the end.
    fn toward(&self, to: &[usize]) -> Vec<Option<Onward>> {
        let mut found: Vec<Option<Onward>> = vec![None; self.graph.node_count()];
        let mut open = OpenNodes::new();
        for spot in to.iter().flat_map(|host| self.at_host(*host).spots) {
            if let (Spot::Account(host, account), Some(node)) = (spot, self.nodes.get(&spot)) {
                found[node.index()] = Some((0, 0, (host, account)));
                open.push(Reverse((0, 0, *node)));
            }
        }
        while let Some(Reverse((doubts, hops, node))) = open.pop() {
            let Some((_, _, end)) = found[node.index()].filter(|best| (best.0, best.1) == (doubts, hops)) else {
                continue;
            };
            for edge in self.graph.edges_directed(node, petgraph::Direction::Incoming) {
                let (before, step) = (self.graph[edge.source()], *edge.weight());
                let doubts = doubts + self.doubt(before, self.graph[node], step);
                let hops = hops + enters(self.graph[node], step);
                if found[edge.source().index()].is_none_or(|best| (doubts, hops) < (best.0, best.1)) {
                    found[edge.source().index()] = Some((doubts, hops, end));
                    open.push(Reverse((doubts, hops, edge.source())));
                }
            }
        }
        found
    }
}

/// Whether a step enters an account.
fn enters(next: Spot, step: Step) -> u32 {
    u32::from(matches!(next, Spot::Account(..)) && step != Step::IsRoot)
}
