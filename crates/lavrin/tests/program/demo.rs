//! `lavrin demo`

use crate::common::World;
use crate::common::terminal::talk;

#[test]
fn the_demo_shows_the_whole_job_and_cleans_up() {
    let world = World::new();
    std::fs::create_dir(world.path("tmp")).unwrap();
    let temporary = world.path("tmp").to_string_lossy().into_owned();
    let run = world.run_with(&[("TMPDIR", &temporary)], &["demo"]).expect(0);
    for told in [
        "$ lavrin key generate --name edda",
        "$ lavrin key inspect",
        "This would be done for edda on 127.0.0.1; nothing was changed",
        "Installed: the key opens edda on 127.0.0.1",
        "a new login as edda with publickey",
        "[mode-too-open]",
        "[weak-rsa-short]",
        "[private-key-on-server]",
        "2 hosts: 2 surveyed, 1 changed",
        "2 hosts: 2 done",
        "the host puts everything back by itself within 10 s",
        "ytterskar  done: it takes keys only",
        "not applicable: key files, modes, owners",
        "$ lavrin host profile try fog-signal horn-2",
        "Written below it by hand: after_change = [\"/sbin/overlay\", \"save\"]",
        "5 hosts: 5 done",
        "removed               keeper@horn-2",
        "removed               keeper@tide-archive",
        "runa may have a copy from now on",
        "4. Somebody joins",
        "$ lavrin person add --request ~/tove-request.txt",
        "Host kvarnholm",
        "$ lavrin offboard runa --rotate-kept",
        "kept key: a new version is sealed, and the old one opens nothing",
        "is the key that this login uses",
        "Removed for edda on 127.0.0.1",
        "refused edda on 127.0.0.1",
        "root@buoy-7  owner unknown: closes 1 host, 2 accounts",
        "The report stays: open ",
    ] {
        assert!(run.stdout.contains(told), "{told}\n{run}");
    }
    assert!(!run.stdout.contains("low water at the old pier"), "the passphrase was shown\n{run}");
    // Nothing is left but the report, and it says where that lies.
    let left = crate::common::names(&world.path("tmp"));
    assert_eq!(left.len(), 1, "{left:?}");
    let page = format!("tmp/{}/halvmark.html", left[0]);
    assert!(run.stdout.contains(&format!("open $WORK/{page} in a browser")), "{run}");
    assert!(world.read(&page).contains("Halvmark lights"));
}

#[test]
fn on_a_terminal_it_stops_after_each_chapter_and_jumps() {
    let world = World::new();
    let dialogue = [("q ends:", "1"), ("That chapter is over", "9"), ("The report", "7"), ("chapter 8", "q")];
    let (said, done) = talk(&world, "demo", &dialogue);
    assert!(done, "{said}");
    assert!(said.contains("1. One server") && said.contains("7. Somebody leaves"), "{said}");
    // What is jumped over is done, and not shown; what comes behind the end is neither.
    assert!(said.contains("  4  Somebody joins …"), "{said}");
    assert!(!said.contains("lavrin person request") && said.contains("lavrin offboard runa"), "{said}");
    assert!(!said.contains("8. The report") && said.contains("are gone again"), "{said}");
}
