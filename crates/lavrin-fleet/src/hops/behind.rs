//! How much is behind each spot: for all of them at once, since what is reached from one is part of what is reached from the next.

use super::graph::{Spot, WaysThrough};
use fixedbitset::FixedBitSet;
use petgraph::algo::tarjan_scc;
use std::rc::Rc;

/// The hosts that are reached from each spot.
pub struct Behind {
    /// By the number of a node.
    of_node: Vec<Rc<HostsBehind>>,
}

/// Hosts by number: those of which an account is reached, and those of which root is.
#[derive(Debug, Clone, Default, PartialEq)]
struct HostsBehind {
    hosts: FixedBitSet,
    roots: FixedBitSet,
}

impl Behind {
    /// For every spot of these ways.
    #[must_use]
    pub fn of(ways: &WaysThrough<'_>) -> Self {
        let all = ways.hosts.len();
        let none =
            Rc::new(HostsBehind { hosts: FixedBitSet::with_capacity(all), roots: FixedBitSet::with_capacity(all) });
        let mut of_node: Vec<Rc<HostsBehind>> = vec![none.clone(); ways.graph.node_count()];
        // Spots that reach each other reach the same; what comes later reaches what came before.
        for together in tarjan_scc(&ways.graph) {
            let mut reached: Option<Rc<HostsBehind>> = None;
            for node in &together {
                let own = match ways.graph[*node] {
                    Spot::Account(host, account) => Some((host, ways.account(host, account).is_root)),
                    Spot::Key(_) | Spot::Entry(..) => None,
                };
                if let Some((host, is_root)) = own {
                    let reached = Rc::make_mut(reached.get_or_insert_with(|| none.clone()));
                    reached.hosts.insert(host);
                    reached.roots.set(host, is_root || reached.roots.contains(host));
                }
                for next in ways.graph.neighbors(*node) {
                    let next = &of_node[next.index()];
                    match &mut reached {
                        // Most spots lead to one other only: what that reaches is shared.
                        None => reached = Some(next.clone()),
                        Some(own) if next.hosts.is_subset(&own.hosts) && next.roots.is_subset(&own.roots) => {}
                        Some(own) => {
                            let own = Rc::make_mut(own);
                            own.hosts.union_with(&next.hosts);
                            own.roots.union_with(&next.roots);
                        }
                    }
                }
            }
            let reached = reached.unwrap_or_else(|| none.clone());
            for node in together {
                of_node[node.index()] = reached.clone();
            }
        }
        Self { of_node }
    }

    /// How many hosts are reached from some spots, and on how many of them root; one host is left out.
    #[must_use]
    pub fn hosts(&self, ways: &WaysThrough<'_>, spots: &[Spot], without: usize) -> (usize, usize) {
        let mut nodes = spots.iter().filter_map(|spot| ways.nodes.get(spot)).map(|node| &self.of_node[node.index()]);
        let Some(first) = nodes.next() else { return (0, 0) };
        let mut all = (**first).clone();
        for one in nodes {
            all.hosts.union_with(&one.hosts);
            all.roots.union_with(&one.roots);
        }
        let count = |set: &FixedBitSet| set.count_ones(..) - usize::from(set.contains(without));
        (count(&all.hosts), count(&all.roots))
    }
}
