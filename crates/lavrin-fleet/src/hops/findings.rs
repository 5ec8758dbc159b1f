//! The worst of the ways through, as findings on the hosts that they begin at.

use super::behind::Behind;
use super::graph::WaysThrough;
use crate::fleet::What;
use crate::host_fault::HostFault;
use crate::register::{NoWay, Register};
use lavrin_server::finding::Finding;
use std::collections::BTreeSet;

/// Findings on these hosts, each with its host.
#[must_use]
pub fn findings(ways: &WaysThrough<'_>, hosts: &BTreeSet<&str>) -> Vec<(String, Finding<What>)> {
    let mut found = open_roots(ways, hosts);
    for no_way in &ways.register().rules.no_ways {
        found.extend(forbidden(ways, hosts, no_way));
    }
    found
}

/// Private keys that nothing protects and that open root on another host.
fn open_roots(ways: &WaysThrough<'_>, hosts: &BTreeSet<&str>) -> Vec<(String, Finding<What>)> {
    let mut behind: Option<Behind> = None;
    let mut found = Vec::new();
    for (number, facts) in ways.hosts.iter().enumerate().filter(|(_, facts)| hosts.contains(facts.host.as_str())) {
        for (account, of) in facts.accounts.iter().enumerate() {
            for (held, key) in of.held.iter().enumerate().filter(|(_, key)| key.protected == Some(false)) {
                let Some(public) = key.public else { continue };
                let Some(opens) = ways.root_elsewhere(number, account, held) else { continue };
                let reached = behind.get_or_insert_with(|| Behind::of(ways));
                let (behind, _) = reached.hosts(ways, &ways.with_keys([public.fingerprint]).spots, number);
                let fault = HostFault::KeyOpensRoot {
                    fingerprint: public.fingerprint,
                    opens: ways.name(opens.0, opens.1),
                    hosts: behind,
                };
                let finding = Finding {
                    fault: What::Host(fault),
                    account: Some(of.name.clone()),
                    path: Some(key.path.clone()),
                    line: None,
                };
                found.push((facts.host.clone(), finding));
            }
        }
    }
    found
}

/// Ways that policy forbids.
fn forbidden(ways: &WaysThrough<'_>, hosts: &BTreeSet<&str>, no_way: &NoWay) -> Vec<(String, Finding<What>)> {
    let tagged = |tag: &str| numbers_of(ways, ways.register(), tag);
    let from: Vec<usize> = tagged(&no_way.from.value);
    let from: Vec<usize> = from.into_iter().filter(|host| hosts.contains(ways.hosts[*host].host.as_str())).collect();
    let finding = |(host, end, hops): (usize, (usize, usize), u32)| {
        let fault = HostFault::ForbiddenWay {
            from: no_way.from.value.clone(),
            to: no_way.to.value.clone(),
            end: ways.name(end.0, end.1),
            hops,
        };
        (ways.hosts[host].host.clone(), Finding::of(What::Host(fault)))
    };
    ways.between(&from, &tagged(&no_way.to.value)).into_iter().map(finding).collect()
}

fn numbers_of(ways: &WaysThrough<'_>, register: &Register, tag: &str) -> Vec<usize> {
    let tagged = register.all_hosts().filter(|host| host.tags.iter().any(|own| own == tag));
    tagged.filter_map(|host| ways.host(&host.id)).collect()
}
