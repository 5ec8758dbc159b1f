//! A part of the program that crashes, and a run that somebody ends: no host is forgotten, and the journal has an end for all.

use crate::common::fleet::Fleet;
use crate::common::{Run, key};
use lavrin_standin::Behaviour;
use std::os::unix::process::ExitStatusExt as _;
use std::process::Stdio;

const ENFORCE: &str = "enforce --identity home/office --yes --format json";

fn line(seed: u8) -> String {
    key(seed).public().line("a key") + "\n"
}

/// Three hosts, on which edda's key is missing.
fn fleet(behaviour: &Behaviour) -> Fleet {
    let mut fleet = Fleet::new();
    for (id, seed) in [("office", 1), ("edda", 2)] {
        let text = format!("name = \"x\"\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line(seed).trim());
        fleet.world.write(&format!("people/{id}.toml"), text, 0o644);
    }
    let grant = "[[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"*\"]\n";
    fleet.world.write("access.toml", grant, 0o644);
    for name in ["gull", "lantern", "skerry"] {
        fleet.add(name, "# kept\n", behaviour.clone());
    }
    fleet
}

impl Fleet {
    fn crash(&self, where_: &str, words: &str) -> Run {
        let words: Vec<&str> = words.split(' ').collect();
        self.world.run_with(&[("LAVRIN_TEST_CRASH", where_)], &words)
    }

    fn has_key(&self, host: usize) -> bool {
        let keys = std::fs::read_to_string(self.hosts[host].file("/home/edda/.ssh/authorized_keys")).unwrap();
        assert!(keys == "# kept\n" || keys == format!("# kept\n{}", line(2)), "{keys}");
        keys != "# kept\n"
    }

    fn nothing_is_open(&self) {
        let shown = self.run("history").expect(0).stdout;
        assert!(!shown.contains("begun; how it ended is not recorded"), "{shown}");
    }
}

/// One field of each row, by host.
fn told(rows: &serde_json::Value, field: &str) -> Vec<(String, String)> {
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_owned();
    rows.as_array().unwrap().iter().map(|row| (text(&row["host"]), text(&row[field]))).collect()
}

#[test]
fn a_look_that_crashes_is_told_and_the_others_are_seen() {
    let fleet = fleet(&Behaviour::default());
    let run = fleet.crash("look:lantern", "survey --identity home/office --format json").expect(3);
    let faults = told(&run.json()["hosts"], "fault");
    let names: Vec<&str> = faults.iter().map(|(host, _)| host.as_str()).collect();
    assert_eq!(names, ["gull", "lantern", "skerry"]);
    assert!(faults[0].1.is_empty() && faults[2].1.is_empty());
    assert!(faults[1].1.contains("the program failed while it worked there: told to crash"), "{faults:?}");
    // What the look before an enforcing does not see is not changed, and said so.
    let run = fleet.crash("look:lantern", ENFORCE).expect(3);
    let states = told(&run.json()["hosts"], "state");
    let states: Vec<&str> = states.iter().map(|(_, state)| state.as_str()).collect();
    assert_eq!(states, ["done", "not-seen", "done"]);
    assert_eq!([0, 1, 2].map(|host| fleet.has_key(host)), [true, false, true]);
}

#[test]
fn a_change_that_crashes_is_told_and_the_others_are_made() {
    for (moment, changed) in [("open", false), ("change", false), ("prove", true)] {
        let fleet = fleet(&Behaviour::default());
        let run = fleet.crash(&format!("{moment}:lantern"), ENFORCE).expect(5);
        let states = told(&run.json()["hosts"], "state");
        let states: Vec<&str> = states.iter().map(|(_, state)| state.as_str()).collect();
        assert_eq!(states, ["done", "unknown", "done"], "{run}");
        assert!(
            run.stdout.contains("the program failed while it was at work there, which is a fault of its own"),
            "{run}"
        );
        assert_eq!([0, 1, 2].map(|host| fleet.has_key(host)), [true, changed, true]);
        fleet.nothing_is_open();
        let history = fleet.run("history lantern --format json").json();
        let unknown = "its end is not known: the program ended in the middle of it";
        let told = history["events"].as_array().unwrap().iter().filter(|event| event["what"] == "enforce");
        let told: Vec<&str> = told.map(|event| event["detail"].as_str().unwrap()).collect();
        assert_eq!(told, if moment == "open" { Vec::new() } else { vec![unknown] }, "{moment}");
        drop(fleet.run(ENFORCE).expect(0));
        assert!((0..3).all(|host| fleet.has_key(host)));
    }
}

#[test]
fn a_question_and_a_leaving_that_crash_are_told() {
    let fleet = fleet(&Behaviour::default());
    let run = fleet.crash("ask:skerry", "probe edda --format json").expect(3);
    let answers = told(&run.json()["answers"], "answer");
    let answers: Vec<&str> = answers.iter().map(|(_, answer)| answer.as_str()).collect();
    assert_eq!(answers, ["refused", "refused", "no-answer"]);
    drop(fleet.run(ENFORCE).expect(0));
    let run = fleet.crash("change:gull", "offboard edda --identity home/office --yes --format json").expect(5);
    let rows = told(&run.json()["keys"], "state");
    let of =
        |host: &str| rows.iter().filter(|(own, _)| own == host).map(|(_, state)| state.as_str()).collect::<Vec<_>>();
    assert_eq!([of("gull"), of("lantern"), of("skerry")], [["unknown"], ["removed"], ["removed"]], "{run}");
    assert!(fleet.world.read("owed.toml").contains("gull"));
    fleet.nothing_is_open();
    drop(fleet.run("offboard edda --identity home/office --yes").expect(0));
    assert!(!fleet.has_key(0));
    assert!(!fleet.world.read("owed.toml").contains("gull"));
}

#[test]
fn a_crash_on_a_single_host_is_told_as_what_it_is() {
    let fleet = fleet(&Behaviour::default());
    let edda = key(2);
    fleet.world.write("home/edda.pub", edda.public().line("a key") + "\n", 0o644);
    let run = fleet.crash("change:gull", "install home/edda.pub edda@gull --login root --identity home/office --yes");
    let run = run.expect(5);
    assert!(run.stderr.contains("a fault of its own: told to crash"), "{run}");
    fleet.nothing_is_open();
}

/// Each command on a host takes a moment there, so that a signal meets it at work.
fn slow(fleet: &Fleet) -> Behaviour {
    let shell = fleet.world.write("slow", "#!/bin/sh\nsleep 0.3\nexec /bin/sh \"$@\"\n", 0o755);
    Behaviour { shell: Some(shell), ..Behaviour::default() }
}

/// Sends the program a signal once it has come so far that its journal holds this many intents.
fn interrupt(fleet: &Fleet, words: &str, intents: usize, signals: &[rustix::process::Signal]) -> Run {
    let words: Vec<&str> = words.split(' ').collect();
    let mut command = fleet.world.command(&words);
    let child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let pid = rustix::process::Pid::from_child(&child);
    let begun = std::time::Instant::now();
    let store = fleet.world.path("");
    let written = || {
        let store = lavrin_store::database::Database::open_existing(&store).ok().flatten();
        store.and_then(|store| store.journal().ok()).map_or(0, |lines| lines.len())
    };
    while written() < intents {
        assert!(begun.elapsed().as_secs() < 60, "no change was begun");
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    for signal in signals {
        rustix::process::kill_process(pid, *signal).unwrap();
        std::thread::sleep(std::time::Duration::from_millis(50));
    }
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.signal(), None, "the program ends by itself");
    let text = |bytes| String::from_utf8(bytes).unwrap();
    Run { stdout: text(output.stdout), stderr: text(output.stderr), status: output.status.code().unwrap() }
}

#[test]
fn a_signal_lets_the_host_at_work_finish_and_begins_no_other() {
    use rustix::process::Signal;
    for signal in [Signal::INT, Signal::TERM, Signal::HUP] {
        let mut fleet = fleet(&Behaviour::default());
        let slow = slow(&fleet);
        for (host, name) in ["x-slow", "y-slow", "z-slow"].into_iter().enumerate() {
            fleet.add(name, "# kept\n", slow.clone());
            assert_eq!(fleet.hosts.len(), host + 4);
        }
        let words = format!("{ENFORCE} --parallel 1 x-slow y-slow z-slow");
        let run = interrupt(&fleet, &words, 1, &[signal]);
        let states = told(&run.json()["hosts"], "state");
        let states: Vec<&str> = states.iter().map(|(_, state)| state.as_str()).collect();
        assert_eq!((run.status, states), (4, vec!["done", "not-begun", "not-begun"]), "{signal:?}");
        assert!(run.stdout.contains("not started, because the run was ended"), "{run:}");
        assert!(run.stderr.contains("ending: no further host is started"), "{run:}");
        assert_eq!([3, 4, 5].map(|host| fleet.has_key(host)), [true, false, false]);
        fleet.nothing_is_open();
    }
}

#[test]
fn a_second_signal_does_not_wait_and_says_where_each_host_stands() {
    use rustix::process::Signal;
    let mut fleet = fleet(&Behaviour::default());
    let slow = slow(&fleet);
    for name in ["y-slow", "z-slow"] {
        fleet.add(name, "# kept\n", slow.clone());
    }
    let words = format!("{ENFORCE} --parallel 1 y-slow z-slow");
    let run = interrupt(&fleet, &words, 1, &[Signal::INT, Signal::INT]);
    let states = told(&run.json()["hosts"], "state");
    let states: Vec<&str> = states.iter().map(|(_, state)| state.as_str()).collect();
    assert_eq!((run.status, states), (5, vec!["unknown", "not-begun"]));
    assert!(run.stdout.contains("ended by the user while edda was changed"), "{run}");
    fleet.nothing_is_open();
    fleet.wait_until_nothing_runs();
    drop(fleet.run(ENFORCE).expect(0));
    assert!((0..5).all(|host| fleet.has_key(host)));
}
