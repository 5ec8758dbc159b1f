//! Everything that goes wrong while hosts are changed: nothing is lost, no file is half written, and the run goes on.

use crate::common::fleet::Fleet;
use crate::common::{Run, key};
use lavrin_standin::Behaviour;
use std::os::unix::fs::symlink;
use std::time::Instant;

const ENFORCE: &str = "enforce --identity home/office --yes";

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment) + "\n"
}

fn person(seed: u8) -> String {
    format!("name = \"x\"\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line(seed, "a key").trim())
}

/// edda may enter her account everywhere, and root is the office's.
fn fleet() -> Fleet {
    let fleet = Fleet::new();
    for (id, seed) in [("office", 1), ("edda", 2)] {
        fleet.world.write(&format!("people/{id}.toml"), person(seed), 0o644);
    }
    let access = "[[grant]]\nperson = \"office\"\naccount = \"root\"\nhosts = [\"*\"]\n\n\
                  [[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"*\"]\n";
    fleet.world.write("access.toml", access, 0o644);
    fleet
}

fn on(connections: std::ops::RangeInclusive<usize>, change: impl Fn(&mut Behaviour)) -> Behaviour {
    let mut then = Behaviour::default();
    change(&mut then);
    Behaviour { episodes: vec![(connections, then)], ..Behaviour::default() }
}

fn keys(fleet: &Fleet, host: usize) -> String {
    std::fs::read_to_string(fleet.hosts[host].file("/home/edda/.ssh/authorized_keys")).unwrap_or_default()
}

fn left_over(fleet: &Fleet, host: usize) -> Vec<String> {
    let folder = fleet.hosts[host].file("/home/edda/.ssh");
    crate::common::names(&folder).into_iter().filter(|name| name.starts_with(".lavrin")).collect()
}

/// State by host.
fn states(run: &Run) -> Vec<(String, String)> {
    let json: serde_json::Value = serde_json::from_str(&run.stdout).unwrap();
    let text = |value: &serde_json::Value| value.as_str().unwrap().to_owned();
    json["hosts"].as_array().unwrap().iter().map(|host| (text(&host["host"]), text(&host["state"]))).collect()
}

#[test]
fn whatever_one_host_does_the_others_are_changed() {
    let mut fleet = fleet();
    let before = "# kept\n";
    fleet.add("a-good", before, Behaviour::default());
    let noise = b"Welcome to the harbour office!\nNothing to see.\n".to_vec();
    fleet.add("b-noise", before, Behaviour { noise, ..Behaviour::default() });
    // The look works, and then:
    fleet.add("c-silent", before, on(2..=99, |host| host.silent = true));
    fleet.add("d-endless", before, on(2..=99, |host| host.endless = true));
    fleet.add("e-menu", before, on(2..=99, |host| host.menu = true));
    fleet.add("f-refuses", before, on(2..=99, |host| host.refuses_commands = true));
    fleet.add("g-key", before, on(2..=99, |host| host.other_host_key = true));
    // After the change:
    fleet.add("h-no-login", before, on(3..=3, |host| host.other_host_key = true));
    fleet.add("i-closed", before, Behaviour::default());
    fleet.register("i-closed", 1, &fleet.hosts[8].host_key_line(), "");
    let run = fleet.run(&format!("{ENFORCE} --host-limit 45"));
    insta::with_settings!({filters => vec![(r"SHA256:[A-Za-z0-9+/]{43}", "SHA256:…"), (r"\d{8}-\d{6}-[0-9a-f]{6}", "RUN")]}, {
        insta::assert_snapshot!("enforce_on_bad_hosts", run.expect(4));
    });
    let after = format!("{before}{}", line(2, "a key"));
    assert_eq!([keys(&fleet, 0), keys(&fleet, 1)], [after.clone(), after]);
    for host in 2..9 {
        assert_eq!(keys(&fleet, host), before, "{host}");
        assert!(left_over(&fleet, host).is_empty());
    }
}

#[test]
fn a_line_that_is_cut_after_any_byte_leaves_the_old_or_the_new_file() {
    let mut fleet = fleet();
    let before = "# kept\n";
    let hosts = 48;
    for number in 0..hosts {
        // The key exchange takes some 2,000 bytes, the change and its proof some 40,000.
        let cut = 300 + number * 950;
        fleet.add(&format!("h{number:02}"), before, on(2..=2, move |host| host.cut_after = Some(cut)));
    }
    let run = fleet.run(&format!("{ENFORCE} --format json --parallel 12"));
    let after = format!("{before}{}", line(2, "a key"));
    let mut seen = std::collections::BTreeMap::new();
    for (number, (host, state)) in states(&run).into_iter().enumerate() {
        let now = keys(&fleet, number);
        match state.as_str() {
            "done" => assert_eq!(now, after, "{host}"),
            "as-before" | "not-begun" => assert_eq!(now, before, "{host}"),
            other => panic!("{host}: {other}\n{run}"),
        }
        assert!(left_over(&fleet, number).is_empty(), "{host}");
        *seen.entry(state).or_insert(0) += 1;
    }
    // Cut before anybody had signed in, while it was changed, and not at all.
    assert_eq!(seen.len(), 3, "{seen:?}");
    let again = fleet.run(&format!("{ENFORCE} --format json")).expect(0);
    assert!(states(&again).iter().all(|(_, state)| state == "done" || state == "nothing-to-do"), "{again}");
    assert!((0..fleet.hosts.len()).all(|host| keys(&fleet, host) == after));
}

#[test]
fn a_kill_leaves_each_host_with_the_old_or_the_new_file() {
    const KILLS: u32 = 30;
    let mut fleet = fleet();
    let old: String = (0..50).map(|number| format!("# line {number} of a file that is not small\n")).collect();
    let new = format!("{old}{}", line(2, "a key"));
    for name in ["lantern", "skerry", "gull"] {
        fleet.add(name, &old, Behaviour::default());
    }
    let words: Vec<&str> = ENFORCE.split(' ').collect();
    let reset = |fleet: &Fleet| (0..3).for_each(|host| fleet.put(host, "/home/edda/.ssh/authorized_keys", &old));
    let begun = Instant::now();
    drop(fleet.run(ENFORCE).expect(0));
    let whole = begun.elapsed();
    let (mut saw_old, mut saw_new) = (0, 0);
    let mut number = 0;
    while number < KILLS || (saw_new == 0 && number < 4 * KILLS) {
        reset(&fleet);
        let mut child = fleet.world.command(&words).stdout(std::process::Stdio::null()).spawn().unwrap();
        // A step that shares no factor with the number of kills; most of the time goes into the look. Later moments follow where
        // the machine has become slower than it was when the time was taken.
        let moment = if number < KILLS { number * 7 % KILLS } else { number };
        std::thread::sleep(whole * moment / KILLS);
        let _ = child.kill();
        child.wait().unwrap();
        fleet.wait_until_nothing_runs();
        for host in 0..3 {
            let now = keys(&fleet, host);
            assert!(now == old || now == new, "neither old nor new after {number} kills: {now:?}");
            saw_old += u32::from(now == old);
            saw_new += u32::from(now == new);
        }
        number += 1;
    }
    assert!(saw_old > 0 && saw_new > 0, "the kills did not spread: {saw_old} old, {saw_new} new");
    reset(&fleet);
    drop(fleet.run(ENFORCE).expect(0));
    for host in 0..3 {
        assert_eq!(keys(&fleet, host), new);
        assert!(left_over(&fleet, host).is_empty());
    }
    assert!(fleet.run("history").stdout.contains("begun; how it ended is not recorded"));
}

#[test]
fn what_somebody_else_changed_meanwhile_is_not_overwritten_but_told() {
    let mut fleet = fleet();
    // Somebody writes the file at each moment at which a command begins on the host.
    let [shell, commands, moment] = ["shell", "commands", "moment"].map(|name| fleet.world.path(name));
    let theirs = format!("# kept\n{}", line(20, "another administrator"));
    let text = fleet.world.write("theirs", &theirs, 0o644);
    fleet.add("lantern", "", Behaviour { shell: Some(shell.clone()), ..Behaviour::default() });
    let file = fleet.hosts[0].file("/home/edda/.ssh/authorized_keys");
    let script = format!(
        "#!/bin/sh\nread -r number <{commands}\necho $((number + 1)) >{commands}\nread -r moment <{moment}\n\
         [ \"$number\" != \"$moment\" ] || cat {text} >{file}\nexec /bin/sh \"$@\"\n",
        commands = commands.display(),
        moment = moment.display(),
        text = text.display(),
        file = file.display(),
    );
    fleet.world.write("shell", script, 0o755);
    let mut ends = Vec::new();
    for number in 0.. {
        std::fs::write(&file, "# kept\n").unwrap();
        std::fs::write(&commands, "0\n").unwrap();
        std::fs::write(&moment, format!("{number}\n")).unwrap();
        let run = fleet.run(ENFORCE);
        let after = keys(&fleet, 0);
        if std::fs::read_to_string(&commands).unwrap().trim().parse::<u32>().unwrap() <= number {
            break;
        }
        assert!(after.contains(&theirs), "{number}: {run}");
        ends.push(run.status);
        if run.status == 4 {
            assert_eq!(after, theirs);
            assert!(run.stdout.contains("differs now:") && run.stdout.contains("another administrator"), "{run}");
            assert!(!run.stdout.contains("lavrin undo"), "nothing is to be taken back: {run}");
        }
    }
    // Before the look: theirs stays beside ours. Before the change: stopped. Behind it: told as somebody else's writing.
    assert_eq!(ends, [0, 4, 5]);
}

#[test]
fn what_a_hostile_account_owner_lays_out_leads_nowhere() {
    let mut fleet = fleet();
    let host = fleet.add("lantern", "# kept\n", Behaviour::default());
    let (home, folder) = (host.file("/home/edda"), host.file("/home/edda/.ssh"));
    let outside = fleet.world.write("outside/authorized_keys", "somebody else's\n", 0o600);
    let outside = outside.parent().unwrap();
    let keys = folder.join("authorized_keys");
    let clear = || {
        let _ = std::fs::remove_file(&home);
        let _ = std::fs::remove_file(&folder);
        let _ = std::fs::remove_dir_all(&home);
        std::fs::create_dir_all(&folder).unwrap();
        for path in [&home, &folder] {
            std::fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(0o700)).unwrap();
        }
    };
    for lay in ["home", "folder", "file", "pipe", "hard link", "directory"] {
        clear();
        match lay {
            "home" => {
                std::fs::remove_dir_all(&home).unwrap();
                symlink(outside, &home).unwrap();
            }
            "folder" => {
                std::fs::remove_dir_all(&folder).unwrap();
                symlink(outside, &folder).unwrap();
            }
            "file" => symlink(outside.join("authorized_keys"), &keys).unwrap(),
            "pipe" => {
                rustix::fs::mknodat(rustix::fs::CWD, &keys, rustix::fs::FileType::Fifo, rustix::fs::Mode::RUSR, 0)
                    .unwrap();
            }
            "hard link" => std::fs::hard_link(outside.join("authorized_keys"), &keys).unwrap(),
            _ => std::fs::create_dir(&keys).unwrap(),
        }
        let run = fleet.run(&format!("{ENFORCE} --host-limit 20"));
        assert!(matches!(run.status, 0 | 3 | 4), "{lay}: {run}");
        assert_eq!(crate::common::names(outside), ["authorized_keys"], "{lay}");
        let kept = std::fs::read_to_string(outside.join("authorized_keys")).unwrap();
        assert_eq!(kept, "somebody else's\n", "{lay}");
    }
    // The folder is swapped again and again while it is worked on.
    clear();
    let stop = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let aside = home.join("aside");
            while !stop.load(std::sync::atomic::Ordering::Relaxed) {
                let _ = std::fs::rename(&folder, &aside);
                let _ = symlink(outside, &folder);
                std::thread::yield_now();
                let _ = std::fs::remove_file(&folder);
                let _ = std::fs::rename(&aside, &folder);
            }
        });
        for _ in 0..15 {
            let run = fleet.run(ENFORCE);
            assert!(matches!(run.status, 0 | 1 | 3 | 4 | 5), "{run}");
            assert_eq!(std::fs::read_to_string(outside.join("authorized_keys")).unwrap(), "somebody else's\n");
            assert_eq!(crate::common::names(outside), ["authorized_keys"]);
        }
        stop.store(true, std::sync::atomic::Ordering::Relaxed);
    });
}

#[test]
fn a_trial_stops_failures_stop_and_pairs_are_kept_apart() {
    let mut fleet = fleet();
    let pair = "tags = [\"pair-north\"]\n";
    fleet.add_with("a-one", "", on(2..=99, |host| host.menu = true), pair);
    fleet.add_with("b-two", "", Behaviour::default(), pair);
    fleet.add("c", "", Behaviour::default());
    fleet.add("d", "", Behaviour::default());
    fleet.add("ca", "", on(2..=99, |host| host.menu = true));
    let state = |run: &Run| states(run).into_iter().map(|(_, state)| state).collect::<Vec<_>>();
    // One of a pair failed, so the other is left alone.
    let run = fleet.run(&format!("{ENFORCE} --format json a-one b-two --parallel 1")).expect(4);
    assert!(run.stdout.contains("another host with the tag pair-north failed"), "{run}");
    assert_eq!(keys(&fleet, 1), "");
    let run = fleet.run(&format!("{ENFORCE} --format json --first 1 c d")).expect(1);
    assert_eq!(state(&run), ["done", "waiting"]);
    let run = fleet.run(&format!("{ENFORCE} --format json --parallel 1 --stop-after-failures 1 ca d")).expect(4);
    assert_eq!(state(&run)[1], "not-begun");
    assert!(run.stdout.contains("not started, because 1 host failed"), "{run}");
    let run = fleet.run(&format!("{ENFORCE} --format json d --preview")).expect(0);
    assert_eq!((state(&run), keys(&fleet, 3)), (vec!["preview".to_owned()], String::new()));
    drop(fleet.run("enforce --identity home/office d").expect(2));
    drop(fleet.run(&format!("{ENFORCE} b-two d")).expect(0));
    assert_eq!([keys(&fleet, 1), keys(&fleet, 3)], [line(2, "a key"), line(2, "a key")]);
}

#[test]
fn nobody_shuts_himself_out_and_only_what_was_asked_is_done() {
    let mut fleet = fleet();
    fleet.add("lantern", &line(7, "nobody's"), Behaviour::default());
    let file = fleet.world.path("hosts/lantern.toml");
    let managed = |accounts: &str, more: &str| {
        let text = std::fs::read_to_string(&file).unwrap();
        let rest: String = text
            .lines()
            .filter(|line| !line.starts_with("accounts") && !line.starts_with("complete"))
            .map(|line| format!("{line}\n"))
            .collect();
        std::fs::write(&file, format!("accounts = [{accounts}]\n{more}{rest}")).unwrap();
    };
    managed("\"edda\", \"root\"", "");
    // Without the office's grant its key would go, which is the very key of this login.
    let access = fleet.world.read("access.toml");
    fleet.world.write("access.toml", access.split("\n\n").nth(1).unwrap(), 0o644);
    let run = fleet.run(ENFORCE).expect(4);
    assert!(run.stdout.contains("is the key of this login"), "{run}");
    assert_eq!(keys(&fleet, 0), line(7, "nobody's"));
    fleet.world.write("access.toml", access, 0o644);
    // Keys of nobody go only where the register is complete.
    drop(fleet.run(&format!("{ENFORCE} --only remove")).expect(0));
    assert_eq!(keys(&fleet, 0), line(7, "nobody's"));
    managed("\"edda\"", "complete = true\n");
    drop(fleet.run(&format!("{ENFORCE} --only add")).expect(0));
    assert_eq!(keys(&fleet, 0), line(7, "nobody's") + &line(2, "a key"));
    drop(fleet.run(&format!("{ENFORCE} --only remove")).expect(0));
    assert_eq!(keys(&fleet, 0), line(2, "a key"));
    let folder = fleet.hosts[0].file("/home/edda/.ssh");
    std::fs::set_permissions(&folder, std::os::unix::fs::PermissionsExt::from_mode(0o777)).unwrap();
    drop(fleet.run(&format!("{ENFORCE} --only add")).expect(0));
    assert_eq!(std::os::unix::fs::MetadataExt::mode(&folder.metadata().unwrap()) & 0o777, 0o777);
    drop(fleet.run(&format!("{ENFORCE} --only modes")).expect(0));
    assert_eq!(std::os::unix::fs::MetadataExt::mode(&folder.metadata().unwrap()) & 0o777, 0o700);
    drop(fleet.run("compare --live --identity home/office").expect(0));
    // A register that does not read whole changes nothing.
    fleet.world.write("people/edda.toml", "name = ", 0o644);
    drop(fleet.run(ENFORCE).expect(2));
}
