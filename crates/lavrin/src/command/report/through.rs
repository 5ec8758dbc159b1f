//! The ways through, as the page draws them.

use crate::command::paths::out::{PathsOut, SightedSince, StepKind, StepOut};
use crate::command::paths::text::evidence;
use crate::error::CommandError;
use lavrin_fleet::fleet::Moment;
use lavrin_fleet::hops::{Follow, WaysThrough};
use lavrin_fleet::register::Register;
use lavrin_report::page::{HopEdge, HopNode, Hops};
use lavrin_store::database::Database;
use lavrin_work::hops::behind;
use std::collections::HashMap;

/// Hosts from which ways are drawn, where nobody names any.
const DRAWN_MAX: usize = 3;

/// Accounts whose ways are looked at for that.
const LOOKED_AT: usize = 400;

/// Hosts in one drawing.
const NODES_MAX: usize = 40;

/// The ways from the hosts that are named, else from those from which most is reached.
pub fn ways(
    register: &Register,
    store: &Database,
    now: Moment,
    names: &[String],
    holders: &[String],
) -> Result<(Vec<Hops>, Vec<String>), CommandError> {
    let begin: Vec<String> = names.iter().chain(holders).cloned().collect();
    let facts = behind(register, store, now, &begin)?;
    let follow = Follow::default();
    let ways = WaysThrough::of(&facts.hosts, register, follow);
    let mut aside = PathsOut::default();
    aside.not_followed(&ways, follow, &facts);
    let from = if names.is_empty() {
        let worst = PathsOut::overview(&ways).overview.into_iter().take(DRAWN_MAX);
        worst.map(|one| one.host).collect()
    } else {
        names.to_vec()
    };
    let sighted = SightedSince::of(Some(store));
    let mut all = Vec::new();
    for host in from {
        let Some(number) = ways.host(&host) else { continue };
        let out =
            PathsOut::from(&ways, (host.clone(), &ways.at_host(number)), None, None, (false, LOOKED_AT), &sighted)?;
        all.push(drawn(host, &out));
    }
    Ok((all, aside_words(&aside)))
}

fn aside_words(out: &PathsOut) -> Vec<String> {
    let not = &out.not_followed;
    let mut words = Vec::new();
    if not.passphrases > 0 {
        words.push(format!("Not followed: {} private keys that a passphrase protects.", not.passphrases));
    }
    if not.agents > 0 {
        words.push(format!("Not followed: agents that people may forward to {} hosts.", not.agents));
    }
    if !not.unknown_keys.is_empty() {
        words.push(format!("Of {} private keys it is not known which key they are.", not.unknown_keys.len()));
    }
    if !out.not_read.is_empty() {
        words.push(format!("{} accounts were not read: a way may lead through them.", out.not_read.len()));
    }
    words
}

/// The host of `ACCOUNT@HOST`.
fn host_of(account: &str) -> &str {
    account.rsplit_once('@').map_or(account, |(_, host)| host)
}

/// Hosts in layers, and the first step that leads to each.
fn drawn(from: String, out: &PathsOut) -> Hops {
    let mut hops = Hops { hosts: out.hosts, from: from.clone(), ..Hops::default() };
    let mut numbers: HashMap<String, usize> = HashMap::new();
    hops.nodes.push(HopNode { host: from.clone(), accounts: Vec::new(), layer: 0 });
    numbers.insert(from, 0);
    for reached in &out.reached {
        let mut layer = 0;
        for step in &reached.steps {
            let (Some(before), to) = (step.from.as_deref().map(host_of), host_of(&step.to)) else { continue };
            if before == to {
                continue;
            }
            layer += 1;
            let Some(from) = numbers.get(before).copied() else { break };
            if !numbers.contains_key(to) {
                if hops.nodes.len() == NODES_MAX {
                    break;
                }
                numbers.insert(to.to_owned(), hops.nodes.len());
                hops.nodes.push(HopNode { host: to.to_owned(), accounts: Vec::new(), layer });
                hops.edges.push(edge(step, from, hops.nodes.len() - 1));
            }
        }
        let (account, host) = reached.account.rsplit_once('@').unwrap_or_default();
        let is_new = reached.steps.last().is_some_and(|step| step.kind != StepKind::Root);
        if let Some(number) = numbers.get(host).filter(|_| is_new) {
            hops.nodes[*number].accounts.push(account.to_owned());
        }
    }
    hops
}

fn edge(step: &StepOut, from: usize, to: usize) -> HopEdge {
    HopEdge { from, to, certain: step.certain, evidence: format!("{}: {}", step.to, evidence(step).join("; ")) }
}
