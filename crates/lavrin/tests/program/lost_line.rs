//! A line that is cut at a hundred places, and a program that is killed at random moments: never a change that is not told,
//! never an intent without an outcome, and an exit code that is true to the state.

use crate::common::fleet::Fleet;
use crate::common::{Run, World, key};
use lavrin_standin::{Behaviour, StandIn, TreeAccount};
use std::collections::BTreeMap;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;
use tokio::runtime::Runtime;

/// Places at which the line is cut, and how many bytes they are apart; the last ones lie behind the end of the work.
const PLACES: u64 = 100;
const APART: u64 = 750;

/// Programs at once: most of the time they wait for a line to come back.
const AT_ONCE: usize = 10;

/// How long the shell of a host may take to sweep up on a busy machine.
const SWEPT_WITHIN: Duration = Duration::from_mins(1);

const KILLS: u32 = 10;

/// Later than what is still thought to be under way.
const LATER: &str = "2026-11-23T09:00:00Z";

fn line(seed: u8) -> String {
    key(seed).public().line("a key") + "\n"
}

fn cut(after: u64) -> Behaviour {
    let then = Behaviour { cut_after: Some(after), ..Behaviour::default() };
    // On the first connection the host's key is seen for the first time.
    Behaviour { episodes: vec![(2..=2, then)], ..Behaviour::default() }
}

/// What one command does to one account, and what its key file is before and after.
struct Deed {
    line: &'static str,
    old: String,
    new: String,
}

impl Deed {
    fn restores(&self) -> bool {
        self.line.starts_with("undo")
    }
}

fn deeds() -> [Deed; 4] {
    let (kept, edda) = ("# kept\n".to_owned(), line(2));
    let with = format!("{kept}{edda}");
    [
        Deed { line: "install home/edda.pub edda@127.0.0.1 --login root", old: kept.clone(), new: with.clone() },
        Deed { line: "remove home/edda.pub edda@127.0.0.1 --login root", old: with.clone(), new: kept.clone() },
        Deed { line: "mend edda@127.0.0.1 --login root", old: with.replace('\n', "\r\n"), new: with.clone() },
        // Takes the installation back that is made before the line is cut.
        Deed { line: "undo CHANGE --login root", old: with, new: kept },
    ]
}

/// A host with its own program state, so that many can be worked on at once.
struct Place {
    world: World,
    host: StandIn,
}

impl Place {
    fn new(runtime: &Runtime, keys: &str, behaviour: Behaviour) -> Self {
        let world = World::new();
        world.put_pair("office", 1, "office");
        let edda = key(2);
        world.write("home/edda.pub", edda.public().line("a key") + "\n", 0o644);
        let root = line(1);
        let account = |name, keys| TreeAccount { name, shell: "/bin/sh", keys: Some(keys) };
        let accounts = [account("root", root.as_str()), account("edda", keys)];
        let host = runtime.block_on(StandIn::with("lantern", &accounts, behaviour)).unwrap();
        Self { world, host }
    }

    /// A place on which the deed can be done, the words that do it, and how many changes are on record before.
    fn ready(runtime: &Runtime, deed: &Deed, behaviour: Behaviour) -> (Self, Vec<String>, usize) {
        if !deed.restores() {
            let place = Self::new(runtime, &deed.old, behaviour);
            let words = place.words(deed.line);
            return (place, words, 0);
        }
        let place = Self::new(runtime, &deed.new, behaviour);
        drop(place.world.run(&place.words("install home/edda.pub edda@127.0.0.1 --login root")).expect(0));
        let history = place.world.typed("history --format json").expect(0).json();
        let id = history["events"][0]["id"].as_str().unwrap();
        let words = place.words(&deed.line.replace("CHANGE", id));
        (place, words, 1)
    }

    fn words(&self, line: &str) -> Vec<String> {
        let (port, print) = (self.host.address().port(), self.host.host_key());
        let line = format!("{line} --yes --identity home/office --port {port} --expect-host-key {print}");
        line.split(' ').map(str::to_owned).collect()
    }

    fn keys(&self) -> String {
        std::fs::read_to_string(self.host.file("/home/edda/.ssh/authorized_keys")).unwrap_or_default()
    }

    /// The last outcome of each intent in the journal, in order; `None`: it is open.
    fn outcomes(&self) -> Vec<Option<String>> {
        let path = self.world.path("home/.local/state/lavrin/journal.jsonl");
        let text = std::fs::read_to_string(path).unwrap_or_default();
        let mut all: Vec<(String, Option<String>)> = Vec::new();
        for line in text.lines() {
            let line: serde_json::Value = serde_json::from_str(line).unwrap();
            let (id, word) = (line["id"].as_str().unwrap().to_owned(), line["outcome"].as_str().map(str::to_owned));
            match all.iter_mut().find(|(own, _)| *own == id) {
                Some((_, outcome)) => *outcome = word,
                None => all.push((id, word)),
            }
        }
        all.into_iter().map(|(_, outcome)| outcome).collect()
    }

    /// What was staged is swept up by the host's own shell, once it notices that the line is cut.
    fn nothing_left_over(&self) {
        let names = || crate::common::names(&self.host.file("/home/edda/.ssh"));
        let is_clean = || names().iter().all(|name| !name.starts_with(".lavrin"));
        let begun = std::time::Instant::now();
        while !is_clean() && begun.elapsed() < SWEPT_WITHIN {
            std::thread::sleep(Duration::from_millis(20));
        }
        assert!(is_clean(), "{:?}", names());
    }

    /// Whatever happened: the file, the exit code and the journal say the same.
    fn agrees(&self, run: &Run, deed: &Deed, before: usize) {
        let now = self.keys();
        assert!(now == deed.old || now == deed.new, "{}: {run}\n{now}", deed.line);
        let outcomes = self.outcomes();
        let told: Vec<&str> = outcomes[before..].iter().map(|one| one.as_deref().expect("an open intent")).collect();
        let fits = match (run.status, &told[..]) {
            (0, ["done"]) => now == deed.new,
            (3, []) | (3 | 4, ["as-before"]) => now == deed.old,
            (5, ["unknown"]) => true,
            _ => false,
        };
        assert!(fits, "{}: {told:?}: {run}\n{now}", deed.line);
        self.nothing_left_over();
    }
}

/// Does something for each number, several at once.
fn at_once(numbers: u64, work: impl Fn(u64) + Sync) {
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE {
            scope.spawn(|| {
                loop {
                    let number = next.fetch_add(1, Ordering::SeqCst) as u64;
                    if number >= numbers {
                        return;
                    }
                    work(number);
                }
            });
        }
    });
}

fn runtime() -> Runtime {
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap()
}

/// How many ended how, so that a test shows that its places were spread.
type Counts = std::sync::Mutex<BTreeMap<i32, usize>>;

#[test]
fn a_single_change_over_a_line_that_is_cut_is_always_told_as_it_is() {
    let runtime = runtime();
    for deed in deeds() {
        let counts = Counts::default();
        at_once(PLACES, |number| {
            let mut behaviour = cut(300 + number * APART);
            if deed.restores() {
                // An installation takes four connections: the key, the work, the new login, and questions.
                behaviour.episodes[0].0 = 5..=5;
            }
            let (place, words, before) = Place::ready(&runtime, &deed, behaviour);
            let run = place.world.run(&words);
            place.agrees(&run, &deed, before);
            *counts.lock().unwrap().entry(run.status).or_default() += 1;
        });
        let counts = counts.into_inner().unwrap();
        // Cut before anybody had signed in, while it was changed, and not at all.
        assert!([0, 3, 4].iter().all(|status| counts.contains_key(status)), "{}: {counts:?}", deed.line);
        assert!(!counts.contains_key(&5), "{}: the line came back each time: {counts:?}", deed.line);
    }
}

/// A register in which edda may enter her account everywhere.
fn leaving() -> Fleet {
    let fleet = Fleet::new();
    let person = |seed| format!("name = \"x\"\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line(seed).trim());
    for (id, seed) in [("office", 1), ("edda", 2)] {
        fleet.world.write(&format!("people/{id}.toml"), person(seed), 0o644);
    }
    let grant = "[[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"*\"]\n";
    fleet.world.write("access.toml", grant, 0o644);
    fleet
}

#[test]
fn a_leaving_over_lines_that_are_cut_is_always_told_as_it_is() {
    let mut fleet = leaving();
    for number in 0..PLACES {
        let behaviour = cut(300 + number * APART);
        fleet.add(&format!("h{number:02}"), &format!("# kept\n{}", line(2)), behaviour);
    }
    let run = fleet.run("offboard edda --identity home/office --yes --format json");
    let rows: Vec<serde_json::Value> = run.json()["keys"].as_array().unwrap().clone();
    assert_eq!(rows.len(), fleet.hosts.len());
    let owed = std::fs::read_to_string(fleet.world.path("owed.toml")).unwrap_or_default();
    let history = fleet.run("history --format json").json();
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for (number, host) in fleet.hosts.iter().enumerate() {
        let name = format!("h{number:02}");
        let keys = std::fs::read_to_string(host.file("/home/edda/.ssh/authorized_keys")).unwrap();
        let row = rows.iter().find(|row| row["host"] == name.as_str()).unwrap();
        let state = row["state"].as_str().unwrap();
        let is_gone = keys == "# kept\n";
        assert!(is_gone || keys == format!("# kept\n{}", line(2)), "{name}: {keys}");
        assert_eq!(is_gone, state == "removed", "{name}: {row}");
        assert_eq!(!is_gone, owed.contains(&format!("\"{name}\"")), "{name}: {row}\n{owed}");
        *counts.entry(state.to_owned()).or_default() += 1;
        let told: Vec<&str> = history["events"]
            .as_array()
            .unwrap()
            .iter()
            .filter(|event| event["host"] == name.as_str() && event["what"] == "offboard")
            .map(|event| event["detail"].as_str().unwrap())
            .collect();
        match &told[..] {
            [] => assert!(!is_gone, "{name}: changed and not on record"),
            [one] => assert_eq!(one.starts_with("done"), is_gone, "{name}: {one}"),
            more => panic!("{name}: {more:?}"),
        }
    }
    assert!(counts.len() >= 2 && counts["removed"] > 10, "{counts:?}");
    assert_eq!(run.status, 4, "{run}");
    // What is owed is done by the next run.
    let again = fleet.run("offboard edda --identity home/office --yes --format json").expect(0).json();
    assert!(again["keys"].as_array().unwrap().iter().all(|row| row["state"] != "not-removed"), "{again}");
}

#[test]
fn a_kill_at_any_moment_leaves_the_old_or_the_new_file_and_the_next_look_says_which() {
    let runtime = runtime();
    for deed in deeds() {
        let (place, words, _) = Place::ready(&runtime, &deed, Behaviour::default());
        let begun = std::time::Instant::now();
        drop(place.world.run(&words).expect(0));
        let whole = begun.elapsed();
        at_once(KILLS.into(), |number| {
            let number = u32::try_from(number).unwrap();
            let (place, words, before) = Place::ready(&runtime, &deed, Behaviour::default());
            let mut child = place.world.command(&words).stdout(std::process::Stdio::null()).spawn().unwrap();
            std::thread::sleep(whole * number / KILLS);
            let _ = child.kill();
            child.wait().unwrap();
            crate::common::fleet::wait_until_nothing_runs(&[&place.host]);
            let now = place.keys();
            assert!(now == deed.old || now == deed.new, "{}: {now}", deed.line);
            let outcomes = place.outcomes().split_off(before);
            assert!(now == deed.old || !outcomes.is_empty(), "{}: changed and not on record", deed.line);
            // While it may still be under way it is told as begun; later the next command at this place says how it ended.
            let shown = place.world.typed("history").expect(0).stdout;
            let open = outcomes.iter().filter(|outcome| outcome.is_none()).count();
            assert_eq!(shown.matches("begun; how it ended is not recorded").count(), open, "{shown}");
            let run = place.world.run_with(&[("LAVRIN_NOW", LATER)], &words).expect(0);
            assert_eq!(place.keys(), deed.new, "{run}");
            let outcomes = place.outcomes().split_off(before);
            for (number, outcome) in outcomes.iter().enumerate() {
                let told = outcome.as_deref().expect("an open intent");
                let is_first_of_two = number == 0 && outcomes.len() == 2;
                assert_eq!(told, if is_first_of_two && now == deed.old { "as-before" } else { "done" }, "{run}");
            }
            place.nothing_left_over();
        });
    }
}

#[test]
fn a_kill_during_a_leaving_is_on_record_and_the_next_leaving_ends_it() {
    let mut fleet = leaving();
    let keys = format!("# kept\n{}", line(2));
    for name in ["gull", "lantern", "skerry"] {
        fleet.add(name, &keys, Behaviour::default());
    }
    let words: Vec<&str> = "offboard edda --identity home/office --yes".split(' ').collect();
    let begun = std::time::Instant::now();
    drop(fleet.world.run(&words).expect(0));
    let whole = begun.elapsed();
    let (mut saw_old, mut saw_new) = (0, 0);
    // Where the machine has become slower than it was when the time was taken, the kills go on at later moments, until one has
    // come in the middle.
    let (mut number, mut saw_open) = (0, false);
    while number < KILLS || ((saw_new == 0 || !saw_open) && number < 8 * KILLS) {
        (0..3).for_each(|host| fleet.put(host, "/home/edda/.ssh/authorized_keys", &keys));
        let mut child = fleet.world.command(&words).stdout(std::process::Stdio::null()).spawn().unwrap();
        std::thread::sleep(whole * (number * 7 % (2 * KILLS)) / KILLS + whole * number / (40 * KILLS));
        let _ = child.kill();
        child.wait().unwrap();
        fleet.wait_until_nothing_runs();
        for host in &fleet.hosts {
            let now = std::fs::read_to_string(host.file("/home/edda/.ssh/authorized_keys")).unwrap();
            assert!(now == keys || now == "# kept\n", "{now}");
            saw_old += u32::from(now == keys);
            saw_new += u32::from(now != keys);
        }
        number += 1;
        saw_open |= fleet.run("history").expect(0).stdout.contains("begun; how it ended is not recorded");
    }
    assert!(saw_old > 0 && saw_new > 0, "the kills did not spread: {saw_old} old, {saw_new} new");
    let run = fleet.world.run_with(&[("LAVRIN_NOW", LATER)], &words).expect(0);
    assert!(run.stdout.contains("edda: "), "{run}");
    let shown = fleet.run("history").expect(0).stdout;
    assert!(!shown.contains("begun; how it ended is not recorded"), "{shown}");
    assert!(shown.contains("a later look found"), "{shown}");
}
