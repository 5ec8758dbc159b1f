//! Routers that keep accounts and keys behind NETCONF: every command, and everything that goes wrong with them.

use crate::common::fleet::{Fleet, assert_fifty, fault_of_the_line};
use crate::common::{Run, key};
use lavrin_standin::{Behaviour, Router, RouterKnobs};
use std::time::{Duration, Instant};

const SIGN_IN: &str = "--identity home/office";

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment)
}

/// The office may be root everywhere, edda and sten may enter edda's account.
fn fleet() -> Fleet {
    let fleet = Fleet::with_three_people();
    let grant =
        |who: &str, account: &str| format!("[[grant]]\nperson = \"{who}\"\naccount = \"{account}\"\nhosts = [\"*\"]\n");
    let access = grant("office", "root") + &grant("edda", "edda") + &grant("sten", "edda");
    fleet.world.write("access.toml", access, 0o644);
    fleet
}

/// The kinds of routers that there are: what is in force is written at once, or a candidate is taken over, on approval or not.
fn kinds() -> [RouterKnobs; 4] {
    let plain = RouterKnobs::default();
    [
        RouterKnobs { startup: true, bases: &["1.0"], ..plain.clone() },
        RouterKnobs { candidate: true, bases: &["1.1"], ..plain.clone() },
        RouterKnobs { candidate: true, confirmed_commit: Some("1.0"), chunk_max: 7, folds_keys: true, ..plain.clone() },
        RouterKnobs { candidate: true, confirmed_commit: Some("1.1"), startup: true, warns: true, ..plain },
    ]
}

fn enforce(fleet: &Fleet, more: &str) -> Run {
    fleet.run(&format!("enforce {SIGN_IN} --yes {more}"))
}

/// The names of the places in which edda's account has keys.
fn held(router: &Router) -> Vec<String> {
    let running = router.running();
    let edda = running.iter().find(|user| user.name == "edda").unwrap();
    edda.keys.iter().map(|key| key.name.split(" [").next().unwrap().to_owned()).collect()
}

#[test]
fn a_router_is_brought_into_line_in_one_request_and_back() {
    for knobs in kinds() {
        let mut fleet = fleet();
        let old = [line(2, "edda@lantern"), line(7, "a stranger"), line(4, "of nobody")];
        let router = fleet.add_router("skerry", &old.each_ref().map(String::as_str), knobs);
        fleet.world.write("people/runa.toml", left(4), 0o644);
        let seen = fleet.survey("").expect(0);
        assert!(seen.stdout.contains("2 accounts, 4 entries"), "{seen}");
        let compared = fleet.run("compare").expect(1);
        for told in ["sten", "runa", "unknown"] {
            assert!(compared.stdout.contains(told), "{compared}");
        }
        let done = enforce(&fleet, "").expect(0);
        assert!(done.stdout.contains("done"), "{done}");
        assert_eq!(held(&router), ["edda@lantern", "a stranger", "sten@lantern"], "{done}");
        assert_eq!((router.edits(), router.shows_passwords()), (1, false));
        assert_eq!(router.after_a_restart(), router.running());
        let again = fleet.run("compare").expect(1);
        assert!(again.stdout.contains("unknown") && !again.stdout.contains("sten"), "{again}");
        let history = fleet.run("history skerry").expect(0);
        assert!(history.stdout.contains("sten") && history.stdout.contains("runa"), "{history}");
        let probed = fleet.run("probe sten --until accepted").expect(0);
        assert!(probed.stdout.contains("accepted"), "{probed}");
        // sten has a grant, and loses the key again.
        let back = fleet.run(&format!("undo --last --yes {SIGN_IN} --even-leavers --accept-lockout")).expect(0);
        assert!(back.stdout.contains("done"), "{back}");
        let mut names = held(&router);
        names.sort();
        assert_eq!(names, ["a stranger", "edda@lantern", "of nobody"], "{back}");
        assert_eq!(router.after_a_restart(), router.running());
    }
}

fn left(seed: u8) -> String {
    format!("name = \"Runa\"\nleft = 2026-11-22\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line(seed, "runa"))
}

#[test]
fn single_keys_come_and_go_and_a_listed_one_is_not_claimed_to_open_anything() {
    let mut fleet = fleet();
    let router = fleet.add_router("skerry", &[], RouterKnobs { candidate: true, ..RouterKnobs::default() });
    fleet.world.put_pair("sten", 3, "sten@lantern");
    let put = fleet.run(&format!("install home/sten.pub edda@skerry --yes {SIGN_IN} --login root")).expect(0);
    assert_eq!(held(&router), ["sten@lantern"], "{put}");
    let why = fleet.run(&format!("why edda@skerry --key home/sten.pub --login root {SIGN_IN}")).expect(3);
    assert!(why.stdout.contains("undecided"), "{why}");
    let gone =
        fleet.run(&format!("remove home/sten.pub edda@skerry --yes {SIGN_IN} --login root --accept-lockout")).expect(0);
    assert_eq!(held(&router), [""; 0], "{gone}");
    // The key of the very login stays.
    let own = fleet.run(&format!("remove home/office.pub root@skerry --yes {SIGN_IN}")).expect(4);
    assert!(own.stderr.contains("key that this login uses"), "{own}");
    let none = fleet.run(&format!("install home/sten.pub runa@skerry --yes {SIGN_IN} --login root"));
    assert!(none.status != 0 && router.running().len() == 2, "an account is never made by the way: {none}");
    let made = format!("install home/sten.pub runa@skerry --create-account --yes {SIGN_IN} --login root");
    assert!(fleet.run(&made).expect(4).stderr.contains("not applicable: making accounts"));
    // What the device cannot say is refused there, and never left away.
    let access =
        fleet.world.read("access.toml").replace("person = \"sten\"\n", "person = \"sten\"\nfrom = \"192.0.2.0/24\"\n");
    fleet.world.write("access.toml", access, 0o644);
    let limited = enforce(&fleet, "");
    assert!(limited.status == 4 && limited.stdout.contains("options"), "{limited}");
    assert!(!held(&router).contains(&"sten@lantern".to_owned()), "never wider than it was asked for");
}

#[test]
fn a_leaver_is_gone_and_a_key_is_rolled_over() {
    for knobs in kinds() {
        let mut fleet = fleet();
        let (edda, sten) = (line(2, "edda@lantern"), line(3, "an old name"));
        // The same key stands there twice.
        let router = fleet.add_router("skerry", &[&edda, &sten, &line(3, "and a newer one")], knobs);
        let new = line(5, "edda-2@lantern");
        fleet.world.write("edda-2.pub", format!("{new}\n"), 0o644);
        drop(fleet.survey("").expect(0));
        let rotated = fleet.run(&format!("rotate edda --from-file edda-2.pub --yes {SIGN_IN}")).expect(0);
        assert!(rotated.stdout.contains("new key accepted, old key refused"), "{rotated}");
        let gone = fleet.run(&format!("offboard sten --yes {SIGN_IN}")).expect(0);
        assert!(gone.stdout.contains("removed"), "{gone}");
        assert_eq!(held(&router), ["edda-2@lantern"]);
        let audited = fleet.run("audit").expect(0);
        assert!(!audited.stdout.contains("[mode"), "{audited}");
    }
}

/// What went wrong: the knobs, whether the line says so at the look, and what is told.
fn faults() -> Vec<(&'static str, RouterKnobs, i32, &'static str)> {
    let plain = RouterKnobs { candidate: true, ..RouterKnobs::default() };
    let with = |change: fn(&mut RouterKnobs)| {
        let mut knobs = plain.clone();
        change(&mut knobs);
        knobs
    };
    vec![
        ("no accounts", with(|knobs| knobs.hides_model = true), 3, "does not say that it keeps accounts"),
        ("shows none", with(|knobs| knobs.hides_accounts = true), 3, "shows no accounts to this login"),
        ("denied", with(|knobs| knobs.denies_changes = true), 4, "access-denied"),
        ("lost", with(|knobs| knobs.loses_changes = true), 4, "did not make it"),
        ("locked", with(|knobs| knobs.is_locked = true), 4, "lock-denied"),
        ("full", with(|knobs| knobs.keys_max = 1), 4, "resource-denied"),
        ("bad chunks", with(|knobs| knobs.bad_chunks_from = Some(1)), 3, "RFC 6242"),
        ("other base", with(|knobs| knobs.bases = &["2.0"]), 3, "neither base:1.0 nor base:1.1"),
        ("wrong answers", with(|knobs| knobs.wrong_ids = true), 3, "another request"),
        ("breaks off", with(|knobs| knobs.breaks_off_in = Some(1)), 3, "broke off"),
        ("endless", with(|knobs| knobs.endless = true), 3, "RFC 6242"),
    ]
}

#[test]
fn whatever_a_router_does_it_is_told_and_the_others_are_changed() {
    let mut fleet = fleet();
    let old = line(2, "edda@lantern");
    let good = fleet.add_router("a-good", &[&old], RouterKnobs { warns: true, ..RouterKnobs::default() });
    let hurried = RouterKnobs { hangs_when_hurried: true, ..RouterKnobs::default() };
    let hurried = fleet.add_router("a-hurried", &[&old], hurried);
    let library = RouterKnobs { hides_model: true, library: true, ..RouterKnobs::default() };
    let library = fleet.add_router("a-library", &[&old], library);
    let bad: Vec<_> = faults()
        .into_iter()
        .enumerate()
        .map(|(number, (_, knobs, ..))| fleet.add_router(&format!("b-{number:02}"), &[&old], knobs))
        .collect();
    let run = enforce(&fleet, "");
    assert_eq!(run.status, 4, "{run}");
    for (number, (name, _, _, told)) in faults().iter().enumerate() {
        let host = format!("b-{number:02}");
        let line = run.stdout.lines().find(|line| line.contains(&host) && line.contains(told));
        assert!(line.is_some(), "{name}: {run}");
    }
    for router in [&good, &hurried, &library] {
        assert_eq!(held(router), ["edda@lantern", "sten@lantern"], "{run}");
    }
    assert!(bad.iter().all(|router| held(router) == ["edda@lantern"]), "{run}");
}

#[test]
fn what_others_have_on_trial_is_not_made_lasting_where_nothing_was_changed() {
    let mut fleet = fleet();
    let locked = RouterKnobs { startup: true, is_locked: true, ..RouterKnobs::default() };
    let router = fleet.add_router("skerry", &[&line(2, "edda@lantern")], locked);
    router.put_on_trial("edda", &line(7, "a trial"));
    drop(enforce(&fleet, "").expect(4));
    assert!(held(&router).contains(&"a trial".to_owned()) && router.after_a_restart() != router.running());
}

#[test]
fn an_account_that_cannot_be_changed_does_not_stop_the_others() {
    for knobs in kinds() {
        let mut fleet = fleet();
        let full = [line(2, "edda@lantern"), line(7, "a stranger")];
        let knobs = RouterKnobs { keys_max: 2, ..knobs };
        let router = fleet.add_router("skerry", &full.each_ref().map(String::as_str), knobs);
        let hosts = fleet.world.read("hosts/skerry.toml").replace("[\"edda\"]", "[\"edda\", \"root\"]");
        fleet.world.write("hosts/skerry.toml", hosts, 0o644);
        let more = "[[grant]]\nperson = \"sten\"\naccount = \"root\"\nhosts = [\"*\"]\n";
        fleet.world.write("access.toml", fleet.world.read("access.toml") + more, 0o644);
        let run = enforce(&fleet, "").expect(4);
        assert!(run.stdout.contains("resource-denied"), "{run}");
        assert_eq!(held(&router), ["edda@lantern", "a stranger"], "{run}");
        let roots = &router.running()[0].keys;
        assert!(roots.len() == 2 && roots[1].name.starts_with("sten@lantern ["), "{run}");
    }
}

#[test]
fn a_line_that_is_cut_after_any_byte_leaves_the_old_or_the_new_keys() {
    for knobs in kinds() {
        let mut fleet = fleet();
        let old = line(2, "edda@lantern");
        let routers: Vec<_> = (0..30)
            .map(|number| {
                let cut = Behaviour { cut_after: Some(3_000 + number * 600), ..Behaviour::default() };
                // The second connection changes.
                let behaviour = Behaviour { episodes: vec![(2..=2, cut)], ..Behaviour::default() };
                fleet.add_router_that(&format!("h{number:02}"), &[&old], knobs.clone(), behaviour)
            })
            .collect();
        let run = enforce(&fleet, "--format json");
        let states: Vec<(String, String)> = run.json()["hosts"]
            .as_array()
            .unwrap()
            .iter()
            .map(|host| (host["host"].as_str().unwrap().to_owned(), host["state"].as_str().unwrap().to_owned()))
            .collect();
        assert_eq!(states.len(), 30, "each has one result");
        let mut seen = std::collections::BTreeSet::new();
        for (router, (host, state)) in routers.iter().zip(&states) {
            let is_new = held(router) == ["edda@lantern", "sten@lantern"];
            assert!(is_new || held(router) == ["edda@lantern"], "{host}");
            // Where the answer to the confirmation was lost nobody knows whether it came.
            let fits = match state.as_str() {
                "done" => is_new,
                "unknown" => true,
                _ => !is_new,
            };
            assert!(fits, "{host} {state}: {:?}", held(router));
            seen.insert(is_new);
        }
        assert_eq!(seen.len(), 2, "some were cut before, some after: {states:?}");
        // The store and the devices agree: what is left is done by the next run.
        drop(enforce(&fleet, "").expect(0));
        assert!(routers.iter().all(|router| held(router).len() == 2));
    }
}

#[test]
fn a_router_on_which_the_new_login_fails_takes_everything_back() {
    for version in ["1.0", "1.1"] {
        let mut fleet = fleet();
        let knobs =
            RouterKnobs { candidate: true, confirmed_commit: Some(version), startup: true, ..RouterKnobs::default() };
        // The third connection is the new login.
        let refused = Behaviour { cut_after: Some(0), ..Behaviour::default() };
        let behaviour = Behaviour { episodes: vec![(3..=3, refused)], ..Behaviour::default() };
        let router = fleet.add_router_that("skerry", &[], knobs, behaviour);
        let run = enforce(&fleet, "").expect(4);
        assert!(run.stdout.contains("a new login failed"), "{run}");
        assert_eq!(held(&router), [""; 0], "{run}");
        assert_eq!(router.after_a_restart(), router.running());
    }
}

#[test]
fn a_router_that_falls_silent_costs_its_time_and_no_more() {
    let mut fleet = fleet();
    let old = line(2, "edda@lantern");
    let silent = RouterKnobs { candidate: true, silent_from: Some(1), ..RouterKnobs::default() };
    let router = fleet.add_router("silent", &[&old], silent);
    let good = fleet.add_router("good", &[&old], RouterKnobs::default());
    let slow = RouterKnobs { slow: Duration::from_millis(200), ..RouterKnobs::default() };
    let slow = fleet.add_router("slow", &[&old], slow);
    let begun = Instant::now();
    let run = enforce(&fleet, "--host-limit 20");
    assert!(begun.elapsed() < Duration::from_mins(2), "{run}");
    assert!(run.status == 3 && held(&router) == ["edda@lantern"], "{run}");
    assert_eq!((held(&good).len(), held(&slow).len()), (2, 2), "{run}");
}

/// Fifty routers with the same fault, each a little later than the one before.
fn fifty(fault: &str, number: usize) -> (RouterKnobs, Behaviour) {
    let plain = kinds()[number % 4].clone();
    let usual = Behaviour::default();
    match fault {
        "silent" => (RouterKnobs { silent_from: Some(1 + number % 25), ..plain }, usual),
        "breaks off" => (RouterKnobs { breaks_off_in: Some(1 + number % 25), ..plain }, usual),
        "bad chunks" => (RouterKnobs { bad_chunks_from: Some(1 + number % 25), ..plain }, usual),
        "wrong answers" => (RouterKnobs { wrong_ids: true, ..plain }, usual),
        "endless" => (RouterKnobs { endless: true, ..plain }, usual),
        "loses changes" => (RouterKnobs { loses_changes: true, ..plain }, usual),
        "denies" => (RouterKnobs { denies_changes: true, ..plain }, usual),
        "locked" => (RouterKnobs { is_locked: true, ..plain }, usual),
        "full" => (RouterKnobs { keys_max: 1, ..plain }, usual),
        "shows none" => (RouterKnobs { hides_accounts: true, ..plain }, usual),
        "slow" => (RouterKnobs { slow: Duration::from_millis(4 * number as u64), ..plain }, usual),
        _ => (plain, fault_of_the_line(fault, 3_000 + 300 * number as u64)),
    }
}

#[test]
#[ignore = "fifty runs of fifteen faults take minutes: scripts/test.sh"]
fn fifty_runs_of_every_fault_end_in_time_and_say_what_is_so() {
    let faults = [
        "silent",
        "breaks off",
        "bad chunks",
        "wrong answers",
        "endless",
        "loses changes",
        "denies",
        "locked",
        "full",
        "shows none",
        "slow",
        "cut",
        "cut for good",
        "other host key",
        "silent line",
    ];
    for fault in faults {
        let mut fleet = fleet();
        let old = line(2, "edda@lantern");
        let routers: Vec<_> = (0..50)
            .map(|number| {
                let (knobs, behaviour) = fifty(fault, number);
                fleet.add_router_that(&format!("h{number:02}"), &[&old], knobs, behaviour)
            })
            .collect();
        assert_fifty(&fleet, fault, |number| held(&routers[number]).contains(&"sten@lantern".to_owned()));
        let has_old = |router: &std::sync::Arc<Router>| held(router).contains(&"edda@lantern".to_owned());
        assert!(routers.iter().all(has_old), "{fault}");
    }
}
