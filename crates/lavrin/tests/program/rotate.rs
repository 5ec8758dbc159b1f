//! A key is replaced by another one over hosts that are stand-ins.

use crate::common::fleet::Fleet;
use crate::common::key;
use lavrin_standin::Behaviour;

const GO: &str = "--identity home/office --yes";

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment) + "\n"
}

/// edda may enter her account everywhere; from lantern on only with the key that is called `main`.
fn people(fleet: &Fleet) {
    let person = |name: &str, seed: u8, more: &str| {
        let line = line(seed, name);
        format!(
            "name = \"{name}\"\n\n[[key]]\nlabel = \"main\"\nline = \"{}\"\nadded = 2024-01-31\n{more}",
            line.trim()
        )
    };
    fleet.world.write("people/office.toml", person("office", 1, ""), 0o644);
    fleet.world.write("people/edda.toml", person("edda", 2, ""), 0o644);
    let access = "[[grant]]\nperson = \"office\"\naccount = \"root\"\nhosts = [\"*\"]\n\n\
                  [[grant]]\nperson = \"edda\"\nkey = \"main\"\naccount = \"edda\"\nhosts = [\"*\"]\nfrom = \"127.0.0.0/8\"\n";
    fleet.world.write("access.toml", access, 0o644);
}

fn keys_of(fleet: &Fleet, host: usize, path: &str) -> String {
    std::fs::read_to_string(fleet.hosts[host].file(path)).unwrap_or_default()
}

fn keys(fleet: &Fleet, host: usize) -> String {
    keys_of(fleet, host, "/home/edda/.ssh/authorized_keys")
}

fn entry(seed: u8, comment: &str) -> String {
    format!("from=\"127.0.0.0/8\" {}", line(seed, comment))
}

/// Three hosts with edda's key, of which the last one is off, and her new key in a file.
fn three() -> Fleet {
    three_like(&Behaviour::default())
}

fn three_like(behaviour: &Behaviour) -> Fleet {
    let mut fleet = Fleet::new();
    people(&fleet);
    for name in ["lantern", "skerry", "x-away"] {
        fleet.add(name, &format!("# kept\n{}", entry(2, "edda")), behaviour.clone());
    }
    off(&fleet, true);
    fleet.world.write("new.pub", line(6, "edda's new one"), 0o644);
    fleet
}

fn off(fleet: &Fleet, is_off: bool) {
    let host = &fleet.hosts[2];
    let port = if is_off { 1 } else { host.address().port() };
    fleet.register("x-away", port, &host.host_key_line(), "");
}

fn snapshot(name: &str, fleet: &Fleet, line: &str, exit: i32) {
    insta::with_settings!({filters => vec![(r"\d{8}-\d{6}-[0-9a-f]{6}", "RUN")]}, {
        insta::assert_snapshot!(name, fleet.run(line).expect(exit));
    });
}

#[test]
fn a_key_is_replaced_beside_proven_and_a_host_that_was_off_is_finished_by_enforce() {
    let fleet = three();
    snapshot("rotate_preview", &fleet, "rotate edda --from-file new.pub --identity home/office --preview", 3);
    assert!(!fleet.world.read("people/edda.toml").contains("replaces"));
    assert_eq!(keys(&fleet, 0), format!("# kept\n{}", entry(2, "edda")));
    snapshot("rotate", &fleet, &format!("rotate edda --from-file new.pub {GO}"), 3);
    for host in [0, 1] {
        // The options are those of the grant, and nothing else moves.
        assert_eq!(keys(&fleet, host), format!("# kept\n{}", entry(6, "edda's new one")));
    }
    assert_eq!(keys(&fleet, 2), format!("# kept\n{}", entry(2, "edda")));
    let person = fleet.world.read("people/edda.toml");
    assert!(person.contains("retired = 2026-11-23") && person.contains("replaces = \"main\""), "{person}");
    assert!(fleet.world.read("access.toml").contains("key = \"main-2\""));
    drop(fleet.run("register check").expect(0));
    off(&fleet, false);
    drop(fleet.survey("x-away").expect(0));
    snapshot("rotate_status", &fleet, "rotate --status", 1);
    drop(fleet.run(&format!("enforce {GO}")).expect(0));
    assert_eq!(keys(&fleet, 2), format!("# kept\n{}", entry(6, "edda's new one")));
    snapshot("rotate_status_done", &fleet, "rotate edda --status", 0);
    let again = fleet.run(&format!("rotate edda {GO}")).expect(0);
    assert!(again.stdout.contains("no host was changed"), "{again}");
}

#[test]
fn a_second_administrator_goes_on_where_the_first_one_stopped() {
    let fleet = three();
    off(&fleet, false);
    snapshot("rotate_keep_old", &fleet, &format!("rotate edda --from-file new.pub --keep-old {GO}"), 1);
    for host in 0..3 {
        assert_eq!(keys(&fleet, host), format!("# kept\n{}{}", entry(2, "edda"), entry(6, "edda's new one")));
    }
    // Meanwhile both keys belong there: nothing is missing and nothing is too much.
    drop(fleet.run("compare").expect(0));
    drop(fleet.run(&format!("enforce {GO}")).expect(0));
    // Somebody else, who has the register and nothing more.
    let _ = std::fs::remove_dir_all(fleet.world.path(".lavrin"));
    let other = fleet.run(&format!("rotate edda --first 1 {GO} --format json")).expect(1).json();
    let states: Vec<&str> = other["rotations"][0]["accounts"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["state"].as_str().unwrap())
        .collect();
    assert_eq!(states, ["replaced", "both", "both"]);
    assert_eq!(other["rotations"][0]["retired"], serde_json::Value::Null);
    let done = fleet.run(&format!("rotate edda --from-file new.pub {GO}")).expect(0);
    assert!(done.stdout.contains("3 replaced"), "{done}");
    for host in 0..3 {
        assert_eq!(keys(&fleet, host), format!("# kept\n{}", entry(6, "edda's new one")));
    }
    // It cannot come back by an undo: it is retired.
    let run = fleet.run("history runs --format json").json()["runs"][0]["run"].as_str().unwrap_or_default().to_owned();
    let undone = fleet.run(&format!("undo --run {run} {GO}"));
    assert_ne!(undone.status, 0, "{undone}");
    assert!((0..3).all(|host| keys(&fleet, host) == format!("# kept\n{}", entry(6, "edda's new one"))), "{undone}");
}

#[test]
fn the_key_of_the_login_itself_is_replaced_without_a_moment_without_a_way_in() {
    let fleet = three();
    off(&fleet, false);
    let unmanaged = fleet.run(&format!("rotate office --make home/office-2 --passphrase none {GO}")).expect(1);
    assert!(unmanaged.stdout.contains("--everywhere replaces it there too"), "{unmanaged}");
    assert!(!fleet.world.read("people/office.toml").contains("retired"), "{unmanaged}");
    let both = format!("rotate office --from-file home/office-2.pub --everywhere {GO}");
    let trial = fleet.run(&format!("{both} --first 1")).expect(1);
    assert!(trial.stdout.contains("--from-file home/office-2.pub --everywhere --identity home/office"), "{trial}");
    // With the old key alone there is no way onto the first host any more, and none to take it off the others.
    let old = fleet.run(&format!("rotate office --everywhere {GO}")).expect(3);
    assert!(old.stdout.contains("the old key is that of this login"), "{old}");
    let done = fleet.run(&both).expect(0);
    assert!(done.stdout.contains("from now on: --identity home/office-2"), "{done}");
    let new = fleet.world.read("home/office-2.pub");
    for host in 0..3 {
        assert_eq!(keys_of(&fleet, host, "/root/.ssh/authorized_keys"), new);
    }
    drop(fleet.run("survey --identity home/office-2").expect(0));
}

#[test]
fn what_cannot_be_meant_is_told_with_what_to_type() {
    let fleet = three();
    let says = |line: &str, exit: i32, words: &[&str]| {
        let run = fleet.run(&format!("{line} {GO}")).expect(exit);
        for word in words {
            assert!(run.stderr.contains(word), "{word}: {run}");
        }
    };
    says("rotate edda", 2, &["no key of edda is being replaced", "next: lavrin rotate edda --from-file NEW.pub"]);
    says("rotate eda --from-file new.pub", 2, &["there is no person 'eda'", "near to it: edda"]);
    says("rotate edda --label x --from-file new.pub", 2, &["edda has no key 'x'"]);
    says("rotate edda --from-file home/office.pub", 4, &["office has it already"]);
    says("rotate edda --from-file home/office", 4, &["PRIVATE"]);
    let two = format!("[[key]]\nlabel = \"sea\"\nline = \"{}\"\n", line(7, "edda at sea").trim());
    let one = fleet.world.read("people/edda.toml");
    fleet.world.write("people/edda.toml", format!("{one}\n{two}"), 0o644);
    says("rotate edda --from-file new.pub", 2, &["which key of edda is replaced? main, sea", "--label main"]);
    drop(fleet.run(&format!("rotate edda --label main --from-file new.pub --keep-old {GO}")).expect(3));
    fleet.world.write("newer.pub", line(8, "another one"), 0o644);
    says(
        "rotate edda --label main --from-file newer.pub",
        4,
        &["main is being replaced by main-2 already", "--status"],
    );
    // A key that is somebody else's too stays where that one has a grant.
    let shared =
        fleet.world.read("people/edda.toml").replace("\"edda\"", "\"runa\"").replace(&line(6, "edda's new one"), "");
    let shared = shared.split("[[key]]").take(2).collect::<Vec<_>>().join("[[key]]");
    fleet.world.write("people/runa.toml", shared, 0o644);
    let access = fleet.world.read("access.toml");
    fleet.world.write(
        "access.toml",
        access.clone() + &access[access.rfind("[[grant]]").unwrap()..].replace("edda\"\nkey", "runa\"\nkey"),
        0o644,
    );
    let run = fleet.run(&format!("rotate edda --label main {GO}"));
    assert!(run.stdout.contains("somebody else's too"), "{run}");
    assert!(keys(&fleet, 0).contains(line(2, "edda").trim()));
}

#[test]
fn every_command_of_the_guide_does_what_it_says() {
    let fleet = three();
    off(&fleet, false);
    fleet.world.put_pair(".ssh/office", 1, "office");
    fleet.world.write("edda-2.pub", line(6, "edda's new one"), 0o644);
    let guide = include_str!("../../../../docs/guide.md");
    let (_, guide) = guide.split_once("## A key is replaced").unwrap();
    let (guide, _) = guide.split_once("## What ends by itself").unwrap();
    let mut told = String::new();
    for line in guide.lines().filter_map(|line| line.strip_prefix("    lavrin ")) {
        let run = fleet.run(line);
        // While both keys are there something is left to do.
        let expected = i32::from(line.contains("--keep-old") || line.contains("--status"));
        assert_eq!(run.status, expected, "{line}\n{run}");
        told += &format!("$ lavrin {line}\n{}\n", run.stdout);
    }
    insta::with_settings!({filters => vec![(r"SHA256:[A-Za-z0-9+/]{43}", "SHA256:…"), (r"\d{8}-\d{6}-[0-9a-f]{6}", "RUN"), (r"AAAA[A-Za-z0-9+/=]+", "AAAA…")]}, {
        insta::assert_snapshot!("guide", told);
    });
}

#[test]
fn a_grant_that_ends_is_written_with_its_end_as_the_guide_says() {
    // Only where the server is known to understand it.
    let banner = Some("SSH-2.0-OpenSSH_9.2p1 Debian-2+deb12u3".to_owned());
    let fleet = three_like(&Behaviour { banner, ..Behaviour::default() });
    off(&fleet, false);
    let office = "[[grant]]\nperson = \"office\"\naccount = \"root\"\nhosts = [\"*\"]\n";
    fleet.world.write("access.toml", office, 0o644);
    let guide = include_str!("../../../../docs/guide.md");
    let (_, guide) = guide.split_once("## What ends by itself").unwrap();
    let (guide, _) = guide.split_once("## The agent").unwrap();
    for line in guide.lines().filter_map(|line| line.strip_prefix("    lavrin ")) {
        let run = fleet.run(line);
        // The other hosts have an account that nobody may use any more.
        assert_eq!(run.status, i32::from(line == "register check"), "{run}");
    }
    drop(fleet.run(&format!("enforce lantern {GO}")).expect(0));
    assert_eq!(keys(&fleet, 0), format!("# kept\nexpiry-time=\"20270201\" {}", line(2, "edda")));
    drop(fleet.run("grant edda edda --host lantern --until 2026-12-01").expect(0));
    insta::assert_snapshot!("grant_ends_soon", fleet.run("register check --fail-on low").expect(1));
    drop(fleet.run(&format!("enforce lantern {GO}")).expect(0));
    insta::assert_snapshot!("entry_ends_soon", fleet.run("audit lantern --fail-on low").expect(1));
}

#[test]
fn keys_that_are_too_old_are_listed_and_those_with_a_new_one_are_replaced() {
    let fleet = three();
    off(&fleet, false);
    let none = fleet.run("rotate --due").expect(2);
    assert!(none.stderr.contains("no key_age_days_max"), "{none}");
    let policy = format!("{}[policy]\nkey_age_days_max = 365\n", fleet.world.read("lavrin.toml"));
    fleet.world.write("lavrin.toml", policy, 0o644);
    drop(fleet.run(&format!("rotate edda --from-file new.pub --first 1 {GO}")).expect(1));
    snapshot("rotate_due", &fleet, &format!("rotate --due {GO}"), 1);
    for host in 0..3 {
        assert_eq!(keys(&fleet, host), format!("# kept\n{}", entry(6, "edda's new one")));
    }
    let json = fleet.run(&format!("rotate --due --format json {GO}")).expect(1).json();
    assert_eq!((json["rotations"].as_array().unwrap().len(), &json["due"][0]["owner"]), (0, &"office".into()));
}

#[test]
fn nothing_is_retired_where_nothing_was_reached() {
    let fleet = three();
    for (number, name) in ["lantern", "skerry", "x-away"].into_iter().enumerate() {
        fleet.register(name, 1, &fleet.hosts[number].host_key_line(), "");
    }
    let run = fleet.run(&format!("rotate edda --from-file new.pub {GO}")).expect(3);
    assert!(!fleet.world.read("people/edda.toml").contains("retired"), "{run}");
    assert!(run.stdout.contains("3 not reached"), "{run}");
}

/// Killed at any moment of a rotation each account has the old key, both, or the new one; and what was begun comes to its end.
#[test]
fn a_kill_leaves_a_way_in_and_the_next_run_goes_on() {
    const KILLS: u32 = 16;
    let fleet = three();
    off(&fleet, false);
    let old = format!("# kept\n{}", entry(2, "edda"));
    let new = format!("# kept\n{}", entry(6, "edda's new one"));
    let both = format!("{old}{}", entry(6, "edda's new one"));
    let (person, access) = (fleet.world.read("people/edda.toml"), fleet.world.read("access.toml"));
    let reset = || {
        (0..3).for_each(|host| fleet.put(host, "/home/edda/.ssh/authorized_keys", &old));
        fleet.world.write("people/edda.toml", &person, 0o644);
        fleet.world.write("access.toml", &access, 0o644);
    };
    let line = format!("rotate edda --from-file new.pub {GO}");
    let words: Vec<&str> = line.split(' ').collect();
    let begun = std::time::Instant::now();
    drop(fleet.run(&line).expect(0));
    let whole = begun.elapsed();
    let mut seen = std::collections::BTreeSet::new();
    for number in 0..KILLS {
        reset();
        let mut child = fleet.world.command(&words).stdout(std::process::Stdio::null()).spawn().unwrap();
        // A step that shares no factor with the number of kills.
        std::thread::sleep(whole * (number * 7 % KILLS) / KILLS);
        let _ = child.kill();
        child.wait().unwrap();
        fleet.wait_until_nothing_runs();
        for host in 0..3 {
            let now = keys(&fleet, host);
            let stage = [&old, &both, &new].iter().position(|one| **one == now);
            seen.insert(stage.unwrap_or_else(|| panic!("after {number} kills: {now:?}")));
        }
        // Whatever it came to, the same command ends it, and the register reads.
        drop(fleet.run(&line).expect(0));
        assert!((0..3).all(|host| keys(&fleet, host) == new), "after {number} kills");
        assert!(fleet.world.read("people/edda.toml").contains("retired = 2026-11-23"));
    }
    assert!(seen.len() > 1, "the kills did not spread: {seen:?}");
}

#[test]
fn one_of_twelve_keys_is_replaced_in_whatever_form_the_new_one_comes() {
    let mut fleet = Fleet::new();
    people(&fleet);
    let own = |number: u8| line(20 + number, &format!("edda {number}"));
    let key_of = |number: u8| format!("[[key]]\nlabel = \"k{number}\"\nline = \"{}\"\n", own(number).trim());
    let all: String = (0..12).map(key_of).collect();
    fleet.world.write("people/edda.toml", format!("name = \"edda\"\n\n{all}"), 0o644);
    let access = fleet.world.read("access.toml").replace("key = \"main\"\n", "");
    fleet.world.write("access.toml", access, 0o644);
    let entries =
        |seeds: &[String]| seeds.iter().map(|line| format!("from=\"127.0.0.0/8\" {line}")).collect::<String>();
    let mut there: Vec<String> = (0..12).map(own).collect();
    fleet.add("lantern", &entries(&there), Behaviour::default());
    for (number, form) in ["line", "rfc4716", "spki", "paste", "private"].into_iter().enumerate() {
        let (number, comment) = (u8::try_from(number).unwrap(), format!("edda {number} again"));
        let new = line(40 + number, &comment);
        fleet.world.write("given", &new, 0o600);
        let command = format!("rotate edda --label k{number} {GO}");
        let run = match form {
            "paste" => {
                let words: Vec<&str> = command.split(' ').chain(["--paste"]).collect();
                fleet.world.with_input(&format!("Hello, here it is:\n\n> {new}\n"), &words)
            }
            // A private half is refused loudly, and nothing is begun.
            "private" => {
                fleet.world.put_pair("own", 40 + number, &comment);
                let run = fleet.run(&format!("{command} --from-file home/own")).expect(4);
                assert!(run.stderr.contains("PRIVATE"), "{run}");
                continue;
            }
            "line" => fleet.run(&format!("{command} --from-file given")),
            form => {
                drop(fleet.run(&format!("key convert given --to {form} --out other --replace")).expect(0));
                fleet.run(&format!("{command} --from-file other"))
            }
        };
        drop(run.expect(0));
        let key = new.split(' ').nth(1).unwrap();
        let old = there.remove(0);
        let now = keys(&fleet, 0);
        assert!(now.contains(key) && !now.contains(old.split(' ').nth(1).unwrap()), "{form}: {now}");
        assert!(there.iter().all(|line| now.contains(line.split(' ').nth(1).unwrap())), "{form}: {now}");
        assert_eq!(now.lines().count(), 12, "{form}: {now}");
    }
    drop(fleet.run("register check").expect(0));
}
