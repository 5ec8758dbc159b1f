//! Ways through small fleets, and through random ones.

use super::*;
use crate::fleet::{Access, Certainty};
use crate::register::{Register, SourceFile, read};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::version::Version;
use lavrin_server::login::{Limits, Place};
use lavrin_server::survey::{PublicHalf, StrayKey};
use proptest::prelude::*;
use std::collections::BTreeSet;

fn key(number: usize) -> Fingerprint {
    Fingerprint::of(format!("key {number}").as_bytes())
}

fn held(number: usize, protected: Option<bool>) -> StrayKey {
    let public = Some(PublicHalf { fingerprint: key(number), beside: false });
    StrayKey { path: format!("/home/x/.ssh/{number}").as_str().into(), protected, public }
}

fn access(number: usize, limits: Limits) -> Access {
    Access {
        account: String::new(),
        key: key(number),
        place: Place::Line { path: "/x".into(), line: 1 },
        comment: String::new(),
        limits,
        certainty: Certainty::Certain,
    }
}

/// A host with root and keeper; which keys each of them holds, and which open it.
fn host(name: &str, holds: [&[usize]; 2], opened_by: [&[usize]; 2]) -> HostFacts {
    let names = ["root", "keeper"];
    let accounts = names.iter().zip(holds).map(|(name, keys)| AccountFacts {
        name: (*name).to_owned(),
        is_root: *name == "root",
        held: keys.iter().map(|key| held(*key, Some(false))).collect(),
        ..AccountFacts::default()
    });
    let open = opened_by.iter().enumerate().flat_map(|(account, keys)| {
        keys.iter()
            .map(move |key| (account, Access { account: names[account].to_owned(), ..access(*key, Limits::default()) }))
    });
    HostFacts {
        host: name.to_owned(),
        accounts: accounts.collect(),
        open: open.collect(),
        takes_agents: true,
        rules: Version(9, 2),
        not_looked_at: Vec::new(),
    }
}

fn register(text: &str) -> Register {
    let files = [
        SourceFile { path: "lavrin.toml".to_owned(), text: format!("name = \"x\"\n{text}") },
        SourceFile {
            path: "hosts.toml".to_owned(),
            text: "[buoy]\naddress = \"192.0.2.7\"\ntags = [\"exposed\"]\n[lamp]\naddress = \"192.0.2.9\"\n[office]\naddress = \"office.example\"\ntags = [\"inner\"]\n".to_owned(),
        },
    ];
    read(&files).register
}

/// The names of what is reached.
fn names(ways: &WaysThrough<'_>, reach: &ReachedFrom) -> Vec<String> {
    reach.accounts.iter().map(|(host, account)| ways.name(*host, *account)).collect()
}

#[test]
fn one_gets_from_host_to_host_over_the_keys_that_lie_there() {
    let facts = [
        host("buoy", [&[], &[1]], [&[], &[]]),
        host("lamp", [&[2], &[]], [&[], &[1]]),
        host("office", [&[], &[]], [&[2], &[]]),
    ];
    let register = register("");
    let ways = WaysThrough::of(&facts, &register, Follow::default());
    // The keeper of the lamp has not root's key.
    assert_eq!(names(&ways, &ways.reach(&ways.at_host(0), None)), ["keeper@lamp"]);
    let from_lamp = ways.reach(&ways.at_host(1), None);
    assert_eq!(names(&ways, &from_lamp), ["root@office", "keeper@office"]);
    assert_eq!(ways.came(&from_lamp, Spot::Account(2, 1)).map(|came| came.hops), Some(1));
    let way = ways.way_to(&from_lamp, Spot::Account(2, 0));
    assert_eq!(way.iter().map(|(_, step)| *step).collect::<Vec<_>>(), [Step::Holds(0), Step::Fits, Step::Opens]);
    assert_eq!(names(&ways, &ways.reach(&ways.with_keys([key(1)]), None)), ["keeper@lamp"]);
}

#[test]
fn limits_of_entries_end_a_way_or_ask_where_one_comes_from() {
    let only = |from: &str| Limits { from: Some(from.to_owned()), ..Limits::default() };
    let reached = |limits: Limits, from: usize| {
        let mut facts = [
            host("buoy", [&[1], &[]], [&[], &[]]),
            host("lamp", [&[], &[]], [&[], &[]]),
            host("office", [&[1], &[]], [&[], &[]]),
        ];
        facts[1].open.push((0, Access { account: "root".to_owned(), ..access(1, limits) }));
        let register = register("");
        let ways = WaysThrough::of(&facts, &register, Follow::default());
        let reach = ways.reach(&ways.at_host(from), None);
        let doubts = ways.came(&reach, Spot::Account(1, 0)).map(|came| came.doubts);
        (doubts, reach.commands.len())
    };
    assert_eq!(reached(only("192.0.2.0/28"), 0), (Some(0), 0));
    assert_eq!(reached(only("192.0.2.0/28,!192.0.2.7"), 0), (None, 0));
    // The address of the office is not known; a list that names it is taken at its word.
    assert_eq!(reached(only("192.0.2.0/28"), 2), (Some(1), 0));
    assert_eq!(reached(only("*.example"), 2), (Some(0), 0));
    let command = Limits { command: Some("tide".to_owned()), ..Limits::default() };
    assert_eq!(reached(command, 0), (None, 1));
}

#[test]
fn what_needs_more_than_a_key_is_followed_only_where_that_is_asked() {
    let mut facts = [host("buoy", [&[], &[]], [&[], &[]]), host("lamp", [&[], &[]], [&[1], &[]])];
    facts[0].accounts[0].held = vec![held(1, Some(true))];
    let register = register("");
    let reached = |facts: &[HostFacts], follow: Follow| {
        let ways = WaysThrough::of(facts, &register, follow);
        let reach = ways.reach(&ways.at_host(0), None);
        ways.came(&reach, Spot::Account(1, 0)).map(|came| came.doubts)
    };
    assert_eq!(reached(&facts, Follow::default()), None);
    assert_eq!(reached(&facts, Follow { passphrases: true, agents: false }), Some(1));
    facts[0].accounts[0].held = vec![held(1, None)];
    assert_eq!(reached(&facts, Follow::default()), Some(1));
    // A home that both have, and an account that may become root.
    facts[0].accounts[0].held.clear();
    for facts in &mut facts {
        facts.accounts[1].shared_home = Some("/srv/homes/keeper".into());
    }
    facts[1].accounts[1].becomes_root = Some(BecomesRoot::Group("wheel".to_owned()));
    assert_eq!(reached(&facts, Follow::default()), Some(1));
}

#[test]
fn agents_bring_the_keys_of_their_owners_along() {
    let line = lavrin_keys::key::PrivateKey::ed25519(&[3; 32]).unwrap().public().line("sten");
    let files = [
        SourceFile { path: "lavrin.toml".to_owned(), text: "name = \"x\"\n".to_owned() },
        SourceFile {
            path: "people/sten.toml".to_owned(),
            text: format!("name = \"Sten\"\n[[key]]\nlabel = \"main\"\nline = \"{line}\"\n"),
        },
    ];
    let register = read(&files).register;
    let stens = register.people["sten"].keys[0].fingerprint;
    let mut facts = [host("buoy", [&[], &[]], [&[], &[]]), host("office", [&[], &[]], [&[], &[]])];
    facts[0].open.push((1, Access { key: stens, account: "keeper".to_owned(), ..access(0, Limits::default()) }));
    facts[1].open.push((0, Access { key: stens, account: "root".to_owned(), ..access(0, Limits::default()) }));
    let reached = |facts: &[HostFacts], agents: bool| {
        let ways = WaysThrough::of(facts, &register, Follow { agents, passphrases: false });
        {
            let reach = ways.reach(&ways.at_account(0, "root").unwrap(), None);
            ways.came(&reach, Spot::Account(1, 0)).is_some()
        }
    };
    assert!(!reached(&facts, false) && reached(&facts, true));
    facts[0].open[0].1.limits.denied = vec!["agent forwarding"];
    assert!(!reached(&facts, true));
}

#[test]
fn the_fewest_entries_cut_all_ways_and_one_closes_most() {
    // Two ways from the buoy to the lamp, one from there to the office.
    let facts = [
        host("buoy", [&[1], &[2]], [&[], &[]]),
        host("lamp", [&[3], &[]], [&[1, 2], &[]]),
        host("office", [&[], &[]], [&[3], &[]]),
    ];
    let register = register("");
    let ways = WaysThrough::of(&facts, &register, Follow::default());
    let start = ways.at_host(0);
    let ends = |host| vec![Spot::Account(host, 0), Spot::Account(host, 1)];
    assert_eq!(ways.cut(&start, &ends(2)), Cut::Entries(vec![(2, 0)]));
    assert_eq!(ways.cut(&start, &ends(1)), Cut::Entries(vec![(1, 0), (1, 1)]));
    assert_eq!(ways.cut(&ways.at_host(2), &ends(0)), Cut::NoWay);
    assert_eq!(ways.cut(&start, &ends(0)), Cut::NotByEntries);
    let singles = ways.singles(&start, None);
    assert_eq!(singles, [Single { entry: (2, 0), accounts: 2, hosts: 1 }]);
}

#[test]
fn the_worst_ways_are_findings() {
    let facts = [
        host("buoy", [&[], &[1]], [&[], &[]]),
        host("lamp", [&[2], &[]], [&[1], &[]]),
        host("office", [&[], &[]], [&[2], &[]]),
    ];
    let register = register("[[policy.no_way]]\nfrom = \"exposed\"\nto = \"inner\"\n");
    let ways = WaysThrough::of(&facts, &register, Follow::default());
    let told = |hosts: &[&str]| -> Vec<String> {
        let found = findings(&ways, &hosts.iter().copied().collect());
        found.into_iter().map(|(host, finding)| format!("{host}: {:?}", finding.fault)).collect()
    };
    let all = told(&["buoy", "lamp", "office"]);
    assert_eq!(all.len(), 3, "{all:?}");
    assert!(all[0].starts_with("buoy: Host(KeyOpensRoot") && all[0].contains("opens: \"root@lamp\", hosts: 2"));
    assert!(all[1].starts_with("lamp: Host(KeyOpensRoot") && all[1].contains("opens: \"root@office\", hosts: 1"));
    assert!(all[2].starts_with("buoy: Host(ForbiddenWay") && all[2].contains("end: \"root@office\", hops: 2"));
    assert_eq!(told(&["office"]), [""; 0]);
}

/// The keys that root and the keeper hold, and those that open them.
type Four = (Vec<usize>, Vec<usize>, Vec<usize>, Vec<usize>);

/// Some hosts, which keys lie where, and which open what.
fn fleets() -> impl Strategy<Value = Vec<HostFacts>> {
    let keys = || prop::collection::vec(0usize..5, 0..3);
    let one = (keys(), keys(), keys(), keys());
    prop::collection::vec(one, 2..5).prop_map(|hosts| {
        let of = |(number, (a, b, c, d)): (usize, Four)| host(&format!("host-{number}"), [&a, &b], [&c, &d]);
        hosts.into_iter().enumerate().map(of).collect()
    })
}

/// What is reached, found by trying again and again.
fn reached_plainly(facts: &[HostFacts], from: usize, gone: &BTreeSet<(usize, usize)>) -> BTreeSet<(usize, usize)> {
    let mut here: BTreeSet<(usize, usize)> = [(from, 0), (from, 1)].into();
    loop {
        let before = here.len();
        let keys: BTreeSet<Fingerprint> = here
            .iter()
            .flat_map(|(host, account)| &facts[*host].accounts[*account].held)
            .filter_map(|key| Some(key.public?.fingerprint))
            .collect();
        for (host, facts) in facts.iter().enumerate() {
            for (number, (account, access)) in facts.open.iter().enumerate() {
                if keys.contains(&access.key) && !gone.contains(&(host, number)) {
                    here.insert((host, *account));
                    // Root is everybody.
                    here.extend((*account == 0).then_some((host, 1)));
                }
            }
        }
        if here.len() == before {
            return here;
        }
    }
}

proptest! {
    #[test]
    fn every_fleet_is_searched_as_by_hand_and_cut_as_sparingly(facts in fleets()) {
        let register = register("");
        let ways = WaysThrough::of(&facts, &register, Follow::default());
        let start = ways.at_host(0);
        let plainly = reached_plainly(&facts, 0, &BTreeSet::new());
        let mut reached: BTreeSet<(usize, usize)> = ways.reach(&start, None).accounts.into_iter().collect();
        reached.extend([(0, 0), (0, 1)]);
        prop_assert_eq!(&reached, &plainly);

        let behind = Behind::of(&ways);
        for host in 0..facts.len() {
            let plainly = reached_plainly(&facts, host, &BTreeSet::new());
            let others = |root: bool| {
                let some = plainly.iter().filter(|(on, account)| *on != host && (!root || *account == 0));
                some.map(|(on, _)| on).collect::<BTreeSet<_>>().len()
            };
            prop_assert_eq!(behind.hosts(&ways, &ways.at_host(host).spots, host), (others(false), others(true)));
        }

        let last = facts.len() - 1;
        let between: Vec<usize> = ways.between(&(0..last).collect::<Vec<_>>(), &[last]).iter().map(|one| one.0).collect();
        let leads = |host: &usize| reached_plainly(&facts, *host, &BTreeSet::new()).iter().any(|(on, _)| *on == last);
        prop_assert_eq!(between, (0..last).filter(leads).collect::<Vec<_>>());
        let ends = [Spot::Account(last, 0), Spot::Account(last, 1)];
        let is_reached = |gone: &BTreeSet<(usize, usize)>| {
            reached_plainly(&facts, 0, gone).iter().any(|(host, _)| *host == last)
        };
        let entries: Vec<(usize, usize)> =
            facts.iter().enumerate().flat_map(|(host, facts)| (0..facts.open.len()).map(move |entry| (host, entry))).collect();
        match ways.cut(&start, &ends) {
            Cut::NoWay => prop_assert!(!is_reached(&BTreeSet::new())),
            Cut::NotByEntries => prop_assert!(false, "the hosts are not the same"),
            Cut::Entries(cut) => {
                prop_assert!(is_reached(&BTreeSet::new()));
                prop_assert!(!is_reached(&cut.iter().copied().collect()));
                // None with one entry less does it.
                if cut.len() == 2 {
                    prop_assert!(entries.iter().all(|one| is_reached(&[*one].into())));
                }
                prop_assert!(cut.len() != 1 || is_reached(&BTreeSet::new()));
            }
        }
        for single in ways.singles(&start, None) {
            let without = reached_plainly(&facts, 0, &[single.entry].into());
            prop_assert_eq!(plainly.len() - without.len(), single.accounts);
        }
    }
}
