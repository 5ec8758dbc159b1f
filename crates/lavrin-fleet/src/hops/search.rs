//! Who can reach what: the shortest ways through the graph, with as little doubt as possible.

use super::graph::{Spot, Step, Ways};
use crate::register::Date;
use foldhash::quality::RandomState;
use lavrin_keys::key::Fingerprint;
use petgraph::graph::NodeIndex;
use petgraph::visit::EdgeRef as _;
use std::cmp::Reverse;
use std::collections::{BTreeSet, BinaryHeap, HashMap};

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
pub struct Reach {
    came: HashMap<Spot, Came, RandomState>,
    /// The accounts that are reached, the nearest first, those of the start left out.
    pub accounts: Vec<(usize, usize)>,
    /// Entries that let somebody in for one command only.
    pub commands: Vec<(usize, usize)>,
}

impl Reach {
    /// How a spot is reached.
    #[must_use]
    pub fn came(&self, spot: Spot) -> Option<Came> {
        self.came.get(&spot).copied()
    }

    /// The steps to a spot, from the start on: each spot with the step that leaves it.
    #[must_use]
    pub fn way_to(&self, spot: Spot) -> Vec<(Spot, Step)> {
        let mut steps = Vec::new();
        let mut here = spot;
        while let Some((before, step)) = self.came.get(&here).and_then(|came| came.before) {
            steps.push((before, step));
            here = before;
        }
        steps.reverse();
        steps
    }

    /// The hosts of which an account is reached, by number.
    #[must_use]
    pub fn hosts(&self) -> BTreeSet<usize> {
        self.accounts.iter().map(|(host, _)| *host).collect()
    }
}

impl Ways<'_> {
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

    /// Everything that is reached from a start. A way with fewer doubts goes before a shorter one. `without` is left out.
    #[must_use]
    pub fn reach(&self, start: &Start, without: Option<Spot>) -> Reach {
        let mut reach = Reach::default();
        let mut open: BinaryHeap<Reverse<(u32, u32, Spot)>> = BinaryHeap::new();
        let begin = Came { doubts: 0, hops: 0, before: None };
        for spot in &start.spots {
            reach.came.insert(*spot, begin);
            open.push(Reverse((0, 0, *spot)));
        }
        for (key, entry) in start.from_elsewhere.iter().filter(|(_, entry)| Some(*entry) != without) {
            let came = Came { doubts: 1, hops: 0, before: Some((*key, Step::Fits)) };
            if let std::collections::hash_map::Entry::Vacant(new) = reach.came.entry(*entry) {
                new.insert(came);
                open.push(Reverse((1, 0, *entry)));
            }
        }
        while let Some(Reverse((doubts, hops, spot))) = open.pop() {
            let is_old = reach.came.get(&spot).is_some_and(|came| (came.doubts, came.hops) < (doubts, hops));
            let Some(node) = self.nodes.get(&spot).filter(|_| !is_old) else { continue };
            for edge in self.graph.edges(*node) {
                let (next, step) = (self.graph[edge.target()], *edge.weight());
                if Some(next) == without {
                    continue;
                }
                let enters = u32::from(matches!(next, Spot::Account(..)) && step != Step::IsRoot);
                let came = Came {
                    doubts: doubts + self.doubt(spot, next, step),
                    hops: hops + enters,
                    before: Some((spot, step)),
                };
                let is_better =
                    reach.came.get(&next).is_none_or(|old| (came.doubts, came.hops) < (old.doubts, old.hops));
                if is_better {
                    reach.came.insert(next, came);
                    open.push(Reverse((came.doubts, came.hops, next)));
                }
            }
        }
        self.list(&mut reach);
        reach
    }

    fn list(&self, reach: &mut Reach) {
        let mut accounts = Vec::new();
        for (spot, came) in &reach.came {
            match spot {
                Spot::Account(host, account) if came.before.is_some() => {
                    // What one enters goes before what one may do there.
                    let is_led = came.before.is_some_and(|(_, step)| step == Step::IsRoot);
                    accounts.push(((came.doubts, came.hops, is_led), (*host, *account)));
                }
                Spot::Entry(host, entry) if self.entry(*host, *entry).limits.command.is_some() => {
                    reach.commands.push((*host, *entry));
                }
                _ => {}
            }
        }
        accounts.sort_unstable();
        reach.accounts = accounts.into_iter().map(|(_, account)| account).collect();
        reach.commands.sort_unstable();
    }

    /// From which of these hosts one comes to one of the others, the shortest way for each: the host one begins at, and the
    /// account one ends in.
    #[must_use]
    pub fn between(&self, from: &[usize], to: &[usize]) -> Vec<(usize, Reach, (usize, usize))> {
        let able = self.hosts_that_reach(to);
        let begin = from.iter().copied().filter(|host| able.contains(host) && !to.contains(host));
        let way = |host: usize| {
            let reach = self.reach(&self.at_host(host), None);
            let end = reach.accounts.iter().copied().find(|(end, _)| to.contains(end))?;
            Some((host, reach, end))
        };
        begin.filter_map(way).collect()
    }

    /// The hosts from which an account of one of these is reached, with those themselves.
    fn hosts_that_reach(&self, to: &[usize]) -> BTreeSet<usize> {
        let mut found: BTreeSet<usize> = to.iter().copied().collect();
        let ends = to.iter().flat_map(|host| self.at_host(*host).spots);
        let mut open: Vec<NodeIndex> = ends.filter_map(|spot| self.nodes.get(&spot).copied()).collect();
        let mut seen = vec![false; self.graph.node_count()];
        for node in &open {
            seen[node.index()] = true;
        }
        while let Some(node) = open.pop() {
            if let Spot::Account(host, _) = self.graph[node] {
                found.insert(host);
            }
            for before in self.graph.neighbors_directed(node, petgraph::Direction::Incoming) {
                if !std::mem::replace(&mut seen[before.index()], true) {
                    open.push(before);
                }
            }
        }
        found
    }

    /// How many hosts are behind each key that opens something, its own hosts left out; the keys are those that lie somewhere.
    #[must_use]
    pub fn behind_key(&self, key: Fingerprint) -> BTreeSet<usize> {
        self.reach(&self.with_keys([key]), None).hosts()
    }
}
