//! Which entries have to go so that nobody comes from one place to another, and which single one closes most.

use super::graph::{Spot, Step, WaysThrough};
use super::search::Start;
use petgraph::algo::dominators::simple_fast;
use petgraph::algo::maximum_flow::dinics;
use petgraph::graph::{DiGraph, NodeIndex};
use petgraph::visit::EdgeRef as _;
use std::collections::{BTreeSet, HashSet};

/// More than all entries of a fleet: what cannot be cut.
const UNCUT: u64 = 1 << 40;

/// Single entries that are tried one by one.
const TRIED_MAX: usize = 8;

/// What cuts the ways from one place to another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cut {
    /// No way leads there.
    NoWay,
    /// Some way leads there without any entry: no entry that goes closes it.
    NotByEntries,
    /// As few entries as possible: without them no way is left. Each by the number of its host and its own.
    Entries(Vec<(usize, usize)>),
}

/// An entry that closes ways all by itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Single {
    /// The number of its host, and its own.
    pub entry: (usize, usize),
    /// Accounts that are not reached without it, and hosts of which none is.
    pub accounts: usize,
    /// Such hosts.
    pub hosts: usize,
}

impl WaysThrough<'_> {
    /// The fewest entries that have to go so that no account of these hosts (or this account) is reached any more.
    #[must_use]
    pub fn cut(&self, start: &Start, ends: &[Spot]) -> Cut {
        let mut net: DiGraph<Spot, u64> =
            self.graph.map(|_, spot| *spot, |_, step| if *step == Step::Opens { 1 } else { UNCUT });
        let (source, sink) = (net.add_node(Spot::Key(usize::MAX)), net.add_node(Spot::Key(usize::MAX)));
        let node = |spot: &Spot| self.nodes.get(spot).copied();
        let begins = start.spots.iter().chain(start.from_elsewhere.iter().map(|(_, entry)| entry));
        for begin in begins.filter_map(node).collect::<BTreeSet<NodeIndex>>() {
            net.add_edge(source, begin, UNCUT);
        }
        for end in ends.iter().filter_map(node) {
            net.add_edge(end, sink, UNCUT);
        }
        let (flow, of_edges) = dinics(&net, source, sink);
        match flow {
            0 => Cut::NoWay,
            flow if flow >= UNCUT => Cut::NotByEntries,
            _ => Cut::Entries(cut_edges(&net, source, &of_edges)),
        }
    }

    /// The entries without which most accounts, of these ends or of all, are not reached; the first one closes most.
    #[must_use]
    pub fn singles(&self, start: &Start, ends: Option<&[Spot]>) -> Vec<Single> {
        let mut graph: DiGraph<Spot, ()> = self.graph.map(|_, spot| *spot, |_, _| ());
        let source = graph.add_node(Spot::Key(usize::MAX));
        let begins = start.spots.iter().chain(start.from_elsewhere.iter().map(|(_, entry)| entry));
        for begin in begins.filter_map(|spot| self.nodes.get(spot)) {
            graph.add_edge(source, *begin, ());
        }
        let dominators = simple_fast(&graph, source);
        let ends: Option<HashSet<Spot>> = ends.map(|ends| ends.iter().copied().collect());
        let begins: HashSet<&Spot> = start.spots.iter().collect();
        let is_end = |spot: &Spot| match &ends {
            Some(ends) => ends.contains(spot),
            None => matches!(spot, Spot::Account(..)) && !begins.contains(spot),
        };
        let mut closed = vec![0usize; graph.node_count()];
        for node in graph.node_indices().filter(|node| is_end(&graph[*node])) {
            for above in dominators.strict_dominators(node).into_iter().flatten() {
                closed[above.index()] += 1;
            }
        }
        let mut entries: Vec<(usize, Spot)> = graph
            .node_indices()
            .filter(|node| matches!(graph[*node], Spot::Entry(..)) && closed[node.index()] > 0)
            .map(|node| (closed[node.index()], graph[node]))
            .collect();
        entries.sort_unstable_by(|one, other| other.0.cmp(&one.0).then(one.1.cmp(&other.1)));
        entries.truncate(TRIED_MAX);
        self.tried(start, ends.as_ref(), entries)
    }

    /// How many hosts each of them closes: tried by leaving it out.
    fn tried(&self, start: &Start, ends: Option<&HashSet<Spot>>, entries: Vec<(usize, Spot)>) -> Vec<Single> {
        let hosts = |without: Option<Spot>| -> usize {
            let reach = self.reach(start, without);
            let ended = reach
                .accounts
                .iter()
                .filter(|(host, account)| ends.is_none_or(|ends| ends.contains(&Spot::Account(*host, *account))));
            ended.map(|(host, _)| *host).collect::<BTreeSet<_>>().len()
        };
        let all = hosts(None);
        let mut singles: Vec<Single> = entries
            .into_iter()
            .filter_map(|(accounts, spot)| {
                let Spot::Entry(host, entry) = spot else { return None };
                Some(Single { entry: (host, entry), accounts, hosts: all - hosts(Some(spot)) })
            })
            .collect();
        singles.sort_by_key(|one| std::cmp::Reverse((one.hosts, one.accounts)));
        singles
    }
}

/// The full edges between what can still be reached from the source and what cannot.
fn cut_edges(net: &DiGraph<Spot, u64>, source: NodeIndex, flows: &[u64]) -> Vec<(usize, usize)> {
    let mut reached = vec![false; net.node_count()];
    reached[source.index()] = true;
    let mut open = vec![source];
    while let Some(node) = open.pop() {
        let onward = net.edges(node).filter(|edge| flows[edge.id().index()] < *edge.weight()).map(|edge| edge.target());
        let incoming = net.edges_directed(node, petgraph::Direction::Incoming);
        let back = incoming.filter(|edge| flows[edge.id().index()] > 0).map(|edge| edge.source());
        for next in onward.chain(back).collect::<Vec<_>>() {
            if !std::mem::replace(&mut reached[next.index()], true) {
                open.push(next);
            }
        }
    }
    let is_cut = |edge: &petgraph::graph::EdgeReference<'_, u64>| {
        reached[edge.source().index()] && !reached[edge.target().index()]
    };
    let mut entries: Vec<(usize, usize)> = net
        .edge_references()
        .filter(is_cut)
        .filter_map(|edge| match net[edge.source()] {
            Spot::Entry(host, entry) => Some((host, entry)),
            _ => None,
        })
        .collect();
    entries.sort_unstable();
    entries
}
