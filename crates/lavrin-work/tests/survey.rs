//! Many stand-ins at once.

use lavrin_keys::hostkey::line_for;
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_reach::ssh::{Credential, Target};
use lavrin_standin::{Behaviour, StandIn, TreeAccount};
use lavrin_work::Scope;
use lavrin_work::interrupt::Interrupt;
use lavrin_work::pool::Pace;
use lavrin_work::survey::{LookResult, survey};
use lavrin_work::ways::{Stop, Way, WayFault, Ways};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::mpsc;

fn key() -> PrivateKey {
    PrivateKey::ed25519(&[1; 32]).unwrap()
}

async fn host(name: &str, behaviour: Behaviour) -> StandIn {
    let keys = key().public().line("office") + "\n";
    let accounts = [TreeAccount { name: "root", shell: "/bin/sh", keys: Some(&keys) }];
    StandIn::with(name, &accounts, behaviour).await.unwrap()
}

fn stop(name: &str, host: &StandIn, through: Option<&str>) -> Stop {
    let port = host.address().port();
    let public = public(&host.host_key_line());
    let target = Target {
        through: None,
        host: "127.0.0.1".to_owned(),
        port,
        pinned_as: None,
        known_hosts: line_for("127.0.0.1", port, &public).into_bytes(),
        expected: None,
        required: None,
        revoked_in: std::sync::Arc::default(),
        old_algorithms: false,
    };
    Stop {
        reach: lavrin_fleet::register::ReachKind::default(),
        places: lavrin_server::device::KeyPlaces::default(),
        managed: Vec::new(),
        profile: None,
        first_key_ends_passwords: false,
        after_change: Vec::new(),
        host: name.to_owned(),
        target,
        login: "root".to_owned(),
        through: through.map(str::to_owned),
        first: Vec::new(),
        root_by: None,
    }
}

fn public(line: &str) -> PublicKey {
    lavrin_keys::key::container::line::parse(line.as_bytes()).unwrap().map(|line| (*line.key).clone()).unwrap()
}

async fn all(stops: Vec<Stop>, jumps: Vec<Stop>, parallel: usize, seconds: u64) -> Vec<(String, LookResult)> {
    let way = Way {
        credentials: vec![Credential::Key { key: Arc::new(key()), source: "office".to_owned() }],
        root_ways: Vec::new(),
        root_is_named: false,
        ..Way::default()
    };
    // Room for one: the survey has to wait for whoever takes what it saw.
    let (done, mut looked) = mpsc::channel(1);
    let pace = Pace { parallel, limit: Duration::from_secs(seconds), interrupt: Interrupt::default() };
    let ways = Arc::new(Ways::over_these(jumps, way));
    let stops = stops.into_iter().map(|stop| (stop, Scope::Survey)).collect();
    let looking = tokio::spawn(async move { survey(stops, ways, &pace, done).await });
    let mut found = Vec::new();
    while let Some(one) = looked.recv().await {
        found.push(one);
    }
    looking.await.unwrap();
    found.sort_by(|one, other| one.0.cmp(&other.0));
    found
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_host_is_told_of_once() {
    let mut hosts = Vec::new();
    for number in 0..12 {
        hosts.push(host(&format!("buoy{number:02}"), Behaviour::default()).await);
    }
    let stops = hosts.iter().enumerate().map(|(number, host)| stop(&format!("buoy{number:02}"), host, None)).collect();
    let found = all(stops, Vec::new(), 3, 60).await;
    let names: Vec<&str> = found.iter().map(|(name, _)| name.as_str()).collect();
    assert_eq!(names, (0..12).map(|number| format!("buoy{number:02}")).collect::<Vec<_>>());
    for (name, seen) in &found {
        assert!(seen.as_ref().is_ok_and(|looked| looked.seen.account("root").is_some()), "{name}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_host_that_never_answers_costs_its_time_and_no_more() {
    let silent = host("silent", Behaviour { silent: true, ..Behaviour::default() }).await;
    let good = host("good", Behaviour::default()).await;
    let found = all(vec![stop("a-silent", &silent, None), stop("b-good", &good, None)], Vec::new(), 1, 2).await;
    assert!(matches!(found[0].1, Err(WayFault::Timeout { seconds: 2 })), "{:?}", found[0].1.as_ref().err());
    assert!(found[1].1.is_ok());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn hosts_behind_another_share_the_way_and_its_faults() {
    let gate = host("gate", Behaviour { forwards: true, ..Behaviour::default() }).await;
    let closed = host("closed", Behaviour::default()).await;
    let inner = host("inner", Behaviour::default()).await;
    let stops = vec![
        stop("a", &inner, Some("gate")),
        stop("b", &inner, Some("gate")),
        stop("c", &inner, Some("closed")),
        stop("d", &inner, Some("nowhere")),
    ];
    let found = all(stops, vec![stop("gate", &gate, None), stop("closed", &closed, None)], 4, 60).await;
    assert!(found[0].1.is_ok() && found[1].1.is_ok());
    assert!(matches!(found[2].1, Err(WayFault::Connect(_))));
    assert!(matches!(&found[3].1, Err(WayFault::NoWay { host }) if host == "nowhere"));
    // A gate that shows another key than the pinned one is not passed.
    let mut wrong = stop("gate", &gate, None);
    wrong.target.known_hosts = line_for("127.0.0.1", gate.address().port(), key().public()).into_bytes();
    let found = all(vec![stop("a", &inner, Some("gate"))], vec![wrong], 1, 60).await;
    assert!(matches!(&found[0].1, Err(WayFault::Through { host, .. }) if host == "gate"));
}
