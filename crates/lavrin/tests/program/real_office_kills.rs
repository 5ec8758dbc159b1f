//! The database is killed at any moment, while three collectors look and an administrator changes hosts: nothing is lost or doubled.

use crate::common::fleet::Fleet;
use crate::common::office::Office;
use crate::common::random::Random;
use crate::common::{World, key};
use lavrin_keys::key::container::line::parse_loosely;
use lavrin_standin::{Behaviour, Stopping};
use std::collections::{BTreeMap, BTreeSet};
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

/// How often the server is killed.
const KILLS: u64 = 100;

const HOSTS: [&str; 5] = ["horn-2", "kvarnholm", "lantern", "skerry", "ytterskar"];
const COLLECTORS: [&str; 3] = ["gull", "petrel", "tern"];

fn line(seed: u8, comment: &str) -> String {
    format!("{}\n", key(seed).public().line(comment))
}

/// A moment of its own for each round, a day after the one before, so that every host is due.
fn moment(round: u64) -> String {
    let day = round % 28 + 1;
    format!("2027-{:02}-{day:02}T08:00:00Z", round / 28 + 1)
}

fn begin(world: &World, now: &str, line: &str) -> Child {
    let words: Vec<&str> = line.split_whitespace().collect();
    let mut command = world.command(&words);
    command.env("LAVRIN_NOW", now).stdout(Stdio::null()).stderr(Stdio::null());
    command.spawn().unwrap()
}

#[test]
#[ignore = "starts a real PostgreSQL"]
fn whenever_the_database_is_killed_nothing_is_lost_or_doubled() {
    let mut fleet = Fleet::with_people("edda", "");
    for name in HOSTS {
        fleet.add(name, &line(1, "office"), Behaviour::default());
    }
    let mut office = Office::moved(fleet);
    office.server.run("lights", "CREATE ROLE petrel LOGIN IN ROLE lavrin_collector").unwrap();
    for login in COLLECTORS {
        office.desk(login);
    }
    let mut random = Random::new(26);
    let mut killed_at_work = 0;
    // How long a round takes where nothing happens to it, on a machine as busy as this one is.
    let mut whole_round = Duration::ZERO;
    for round in 0..=KILLS {
        // Something to find, and something to change, on another host each time.
        let host = random.below(HOSTS.len());
        let stranger = u8::try_from(10 + round % 40).unwrap();
        office.fleet.put(host, "/home/edda/.ssh/authorized_keys", &(line(1, "office") + &line(stranger, "stranger")));
        let other = random.below(HOSTS.len());
        office.fleet.put(other, "/home/edda/.ssh/authorized_keys", &line(1, "office"));
        let begun = Instant::now();
        let mut working = begin_all(&office, &moment(round));
        if round == 0 {
            working.iter_mut().for_each(ended);
            whole_round = begun.elapsed();
            continue;
        }
        let moment = usize::try_from(whole_round.as_millis()).unwrap().max(1);
        std::thread::sleep(Duration::from_millis(random.below(moment) as u64));
        killed_at_work += usize::from(working.iter_mut().any(|child| child.try_wait().unwrap().is_none()));
        office.server.stop(Stopping::Immediate).unwrap();
        working.iter_mut().for_each(ended);
        office.server.begin().unwrap();
    }
    assert!(killed_at_work > 30, "the server was killed while somebody worked only {killed_at_work} times");
    whole(&office);
}

/// Three collectors and an administrator.
fn begin_all(office: &Office, now: &str) -> Vec<Child> {
    let world = &office.fleet.world;
    let collect = |login| begin(world, now, &format!("survey --collect --identity home/office --register {login}"));
    let mut all: Vec<Child> = COLLECTORS.into_iter().map(collect).collect();
    all.push(begin(world, now, "enforce --identity home/office --yes --only add"));
    all
}

/// A database that is away is no crash.
fn ended(child: &mut Child) {
    let code = child.wait().unwrap().code();
    assert!(code.is_some_and(|code| code <= 5), "{code:?}");
}

/// Everything waits nowhere, fits together, and is what the hosts are.
fn whole(office: &Office) {
    let last = "2028-01-01T08:00:00Z";
    for login in COLLECTORS {
        let shown = office.at_time(login, last, "store show --format json").expect(0).json();
        assert_eq!(shown["waiting"], 0, "{login}");
    }
    let desks = office.fleet.world.path("home/.local/state/lavrin/registers");
    for desk in crate::common::names(&desks) {
        let spool = desks.join(desk).join("spool");
        let damaged = spool.exists() && crate::common::names(&spool).iter().any(|name| name.ends_with(".damaged"));
        assert!(!damaged, "{}", spool.display());
    }
    let run =
        |line: &str| office.fleet.world.run_with(&[("LAVRIN_NOW", last)], &line.split_whitespace().collect::<Vec<_>>());
    assert!(run("store check").expect(0).stdout.contains("in order"));
    let sql = |sql: &str| office.server.run("lights", sql).unwrap();
    // Nothing is there twice.
    for twice in [
        "SELECT count(*) FROM (SELECT 1 FROM lavrin.observation GROUP BY host, first, document HAVING count(*) > 1) t",
        "SELECT count(*) FROM (SELECT 1 FROM lavrin.sighting WHERE gone IS NULL GROUP BY host, account, key, comment HAVING count(*) > 1) t",
        "SELECT count(*) FROM (SELECT 1 FROM lavrin.journal GROUP BY id, entry HAVING count(*) > 1) t",
        "SELECT count(*) FROM lavrin.work WHERE until < 0",
    ] {
        assert_eq!(sql(twice), "0", "{twice}");
    }
    // Every intent has an outcome, or is listed as open.
    let entries: Vec<serde_json::Value> = sql("SELECT entry FROM lavrin.journal ORDER BY number")
        .lines()
        .map(|text| serde_json::from_str(text).unwrap())
        .collect();
    let mut ends: BTreeMap<&str, usize> = BTreeMap::new();
    for entry in &entries {
        let id = entry["id"].as_str().unwrap();
        match entry["event"].as_str().unwrap() {
            "intent" => assert!(ends.insert(id, 0).is_none(), "{id} was begun twice"),
            "outcome" => {
                *ends.entry(id).or_default() += 1;
            }
            other => panic!("{other}"),
        }
    }
    assert!(ends.len() > 10, "the administrator changed something only {} times", ends.len());
    let history = run("history").expect(0).stdout;
    for (id, ends) in ends {
        assert!(ends > 0 || history.contains("how it ended is not recorded"), "{id}");
    }
    // What is known is what is there.
    let _ = run("survey --identity home/office").expect(0);
    for (number, host) in HOSTS.iter().enumerate() {
        let text = std::fs::read_to_string(office.fleet.hosts[number].file("/home/edda/.ssh/authorized_keys")).unwrap();
        let there: BTreeSet<String> =
            text.lines().map(|line| parse_loosely(line.as_bytes()).unwrap().fingerprint().to_string()).collect();
        let known = sql(&format!(
            "SELECT key FROM lavrin.sighting WHERE gone IS NULL AND host = '{host}' AND account = 'edda'"
        ));
        let known: BTreeSet<String> = known.lines().map(ToOwned::to_owned).collect();
        assert_eq!(known, there, "{host}");
    }
}
