//! Devices that have nothing but a command line of their own: every command, and everything that goes wrong with them.

use crate::common::fleet::{Fleet, assert_fifty, fault_of_the_line};
use crate::common::{Run, key};
use lavrin_standin::{Behaviour, Console, ConsoleKnobs};
use std::time::{Duration, Instant};

const SIGN_IN: &str = "--identity home/office";

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment)
}

/// The office and sten may enter the account keeper of each device.
fn fleet() -> Fleet {
    Fleet::with_people("keeper", "")
}

fn add(
    fleet: &mut Fleet,
    name: &str,
    keys: &[&str],
    knobs: ConsoleKnobs,
    behaviour: Behaviour,
) -> std::sync::Arc<Console> {
    let console = Console::new(&[("keeper", Some("low water"), keys), ("horn", None, &[])], knobs);
    fleet.add_console(name, console, "[\"keeper\"]", "login = \"keeper\"\n", behaviour)
}

fn enforce(fleet: &Fleet, more: &str) -> Run {
    fleet.run(&format!("enforce {SIGN_IN} --yes {more}"))
}

#[test]
fn a_console_is_brought_into_line_proven_stored_and_taken_back() {
    let mut fleet = fleet();
    let many: Vec<String> = (20..32).map(|seed| line(seed, &format!("old {seed}"))).collect();
    let mut keys = vec![line(1, "office"), line(2, "edda")];
    keys.extend(many);
    let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
    let knobs = ConsoleKnobs { in_pieces: true, ..ConsoleKnobs::default() };
    let console = add(&mut fleet, "horn", &keys, knobs, Behaviour::default());
    let seen = fleet.survey("").expect(0);
    assert!(seen.stdout.contains("1 account, 14 entries"), "{seen}");
    let run = enforce(&fleet, "").expect(0);
    let held = console.keys("keeper");
    assert!(held.contains(&line(3, "sten@lantern")) && !held.contains(&line(2, "edda")), "{run}");
    assert!(console.is_stored() && !console.will_restart(), "{run}");
    drop(fleet.run(&format!("undo --last --yes --accept-lockout {SIGN_IN}")).expect(0));
    assert!(console.keys("keeper").contains(&line(2, "edda")) && console.is_stored());
    fleet.world.put_pair("sten", 3, "sten@lantern");
    drop(fleet.run(&format!("install home/sten.pub keeper@horn --yes {SIGN_IN}")).expect(0));
    drop(fleet.run(&format!("probe sten horn --until accepted {SIGN_IN}")).expect(0));
    let gone = fleet.run(&format!("offboard sten --yes {SIGN_IN}")).expect(0);
    assert!(!console.keys("keeper").iter().any(|own| own.contains("sten")), "{gone}");
    assert!(console.is_stored());
}

#[test]
fn what_is_not_proven_is_not_stored_and_the_device_is_as_it_was() {
    let mut fleet = fleet();
    let own = line(1, "office");
    // A key that opens nothing, a device that loses it, one without room, one that takes other keys only.
    let plain = ConsoleKnobs::default;
    let faults: [(ConsoleKnobs, &str); 3] = [
        (ConsoleKnobs { loses_changes: true, ..plain() }, "did not make it"),
        (ConsoleKnobs { keys_max: 1, ..plain() }, "no room"),
        (ConsoleKnobs { only_rsa: Some(8192), ..plain() }, "rsa only"),
    ];
    let devices: Vec<_> = (0..)
        .zip(&faults)
        .map(|(number, (knobs, _))| {
            add(&mut fleet, &format!("h{number}"), &[&own], knobs.clone(), Behaviour::default())
        })
        .collect();
    let run = enforce(&fleet, "").expect(4);
    for (number, (device, (_, told))) in devices.iter().zip(&faults).enumerate() {
        let host = format!("h{number}");
        assert!(run.stdout.lines().any(|line| line.contains(&host) && line.contains(told)), "{host} {told}: {run}");
        assert_eq!((device.keys("keeper").len(), device.is_stored(), device.will_restart()), (1, true, false), "{run}");
    }
}

#[test]
fn what_a_profile_does_not_expect_stops_the_work_and_says_what_was_said() {
    let mut fleet = fleet();
    let own = line(1, "office");
    let odd = ConsoleKnobs { odd_at: Some(2), ..ConsoleKnobs::default() };
    let console = add(&mut fleet, "horn", &[&own], odd, Behaviour::default());
    let run = fleet.run(&format!("survey {SIGN_IN}")).expect(3);
    assert!(run.stdout.contains("low water: pump started") && run.stdout.contains("show doors"), "{run}");
    let path = "profiles/fog-signal.toml";
    fleet.world.write(path, fleet.world.read(path).replace("\"fog>\"", "\"lamp>\""), 0o644);
    let begun = Instant::now();
    let run = fleet.run(&format!("survey --host-limit 2 {SIGN_IN}")).expect(3);
    assert!(run.stdout.contains("fog>") && begun.elapsed() < Duration::from_secs(30), "{run}");
    fleet.world.write(path, fleet.world.read(path).replace("%k", "%x"), 0o644);
    let checked = fleet.run("register check").expect(1);
    assert!(checked.stdout.contains("profiles/fog-signal.toml") && checked.stdout.contains("%u, %n, %k"), "{checked}");
    assert_eq!(console.keys("keeper").len(), 1);
}

/// Fifty devices with the same fault, each a little later than the one before.
fn fifty(fault: &str, number: usize) -> (ConsoleKnobs, Behaviour) {
    let (plain, usual) = (ConsoleKnobs::default(), Behaviour::default());
    match fault {
        "silent" => (ConsoleKnobs { silent_from: Some(1 + number % 20), ..plain }, usual),
        "breaks off" => (ConsoleKnobs { breaks_off_at: Some(1 + number % 20), ..plain }, usual),
        "odd" => (ConsoleKnobs { odd_at: Some(1 + number % 20), ..plain }, usual),
        "endless" => (ConsoleKnobs { endless: true, ..plain }, usual),
        "loses changes" => (ConsoleKnobs { loses_changes: true, ..plain }, usual),
        "full" => (ConsoleKnobs { keys_max: 1, ..plain }, usual),
        "slow" => (ConsoleKnobs { slow: Duration::from_millis(2 * number as u64), ..plain }, usual),
        "in pieces" => (ConsoleKnobs { in_pieces: true, is_mute: number.is_multiple_of(2), ..plain }, usual),
        _ => (plain, fault_of_the_line(fault, 3_000 + 80 * number as u64)),
    }
}

#[test]
#[ignore = "fifty runs of twelve faults take minutes: scripts/test.sh"]
fn fifty_runs_of_every_fault_end_in_time_and_say_what_is_so() {
    let faults = [
        "silent",
        "breaks off",
        "odd",
        "endless",
        "loses changes",
        "full",
        "slow",
        "in pieces",
        "cut",
        "cut for good",
        "other host key",
        "silent line",
    ];
    for fault in faults {
        let mut fleet = fleet();
        let old = line(1, "office");
        let devices: Vec<_> = (0..50)
            .map(|number| {
                let (knobs, behaviour) = fifty(fault, number);
                add(&mut fleet, &format!("h{number:02}"), &[&old], knobs, behaviour)
            })
            .collect();
        assert_fifty(&fleet, fault, |number| devices[number].keys("keeper").len() == 2);
    }
}

/// Where the first key ends the password, nobody may come to depend on one that nobody here has.
#[test]
fn the_first_key_goes_in_only_where_its_private_half_is_at_hand() {
    let mut fleet = fleet();
    let console = add(&mut fleet, "horn", &[], ConsoleKnobs::default(), Behaviour::default());
    let knobs = ConsoleKnobs { keys_open_nothing: true, ..ConsoleKnobs::default() };
    let broken = add(&mut fleet, "broken", &[], knobs, Behaviour::default());
    fleet.world.put_pair("sten", 3, "sten@lantern");
    let with_password = |line: &str| {
        let words = format!("{line} --password-env PW --yes");
        fleet.world.run_with(&[("PW", "low water")], &words.split(' ').collect::<Vec<_>>())
    };
    fleet.world.write("alone.pub", line(1, "office"), 0o644);
    let refused = with_password("install alone.pub keeper@horn").expect(4);
    assert!(refused.stderr.contains("no private half") && refused.stderr.contains("--identity FILE"), "{refused}");
    // That of another key is none.
    let refused = with_password("install alone.pub keeper@horn --identity home/sten").expect(4);
    assert!(refused.stderr.contains("no private half"), "{refused}");
    assert_eq!(console.keys("keeper").len(), 0);
    drop(with_password("install home/office.pub keeper@horn").expect(0));
    assert!(console.is_stored() && !console.takes("keeper", "low water"));
    assert_eq!(console.keys("keeper").len(), 1);
    // A key that opens nothing is taken back, and the password opens the account again.
    let back = with_password("install alone.pub keeper@broken --identity home/office").expect(4);
    assert!(broken.takes("keeper", "low water") && broken.is_stored(), "{back}");
}

#[test]
fn a_device_that_takes_rsa_only_gets_a_key_that_it_takes() {
    let mut fleet = fleet();
    let limits = "[limits]\nalgorithms = [\"ssh-rsa\"]\nrsa_bits_max = 2048\ncomment_bytes_max = 8\n";
    let made = fleet
        .world
        .typed("key generate --name old --folder home --passphrase none --algorithm rsa-3072 --comment office-of-old")
        .expect(0);
    let rsa = fleet.world.read("home/old.pub");
    let knobs = ConsoleKnobs { only_rsa: Some(3072), ..ConsoleKnobs::default() };
    let console = Console::new(&[("keeper", None, &[&rsa])], knobs);
    let console = fleet.add_console(
        "horn",
        console,
        "[\"keeper\"]",
        &format!("login = \"keeper\"\n{limits}"),
        Behaviour::default(),
    );
    let more = format!("[[key]]\nlabel = \"rsa\"\nline = \"{}\"\n", rsa.trim());
    fleet.world.write("people/office.toml", fleet.world.read("people/office.toml") + &more, 0o644);
    fleet.world.write("hosts/horn.toml", fleet.world.read("hosts/horn.toml").replace("2048", "3072"), 0o644);
    drop(fleet.run("survey --identity home/old").expect(0));
    // Of the office's two keys one is taken, which is enough; sten has none.
    let compared = fleet.run("compare").expect(1);
    assert!(
        compared.stdout.contains("sten has no key that it takes: ssh-rsa only") && !compared.stdout.contains("office"),
        "{compared}"
    );
    let run = fleet.run("enforce --identity home/old --yes").expect(4);
    assert!(run.stdout.contains("sten has no key that horn takes: ssh-rsa only"), "{run}");
    assert_eq!(console.keys("keeper").len(), 1, "{run} {made}");
    let refused = fleet
        .world
        .typed("key generate --for horn --algorithm ed25519 --name new --folder home --passphrase none")
        .expect(4);
    assert!(refused.stderr.contains("ssh-rsa, RSA up to 3072 bits"), "{refused}");
    let made = fleet
        .world
        .typed("key generate --for horn --name new --folder home --passphrase none --comment sten-at-horn")
        .expect(0);
    assert!(made.stdout.contains("ssh-rsa 3072 bits"), "{made}");
    let line = fleet.world.read("home/new.pub");
    let more = format!("[[key]]\nlabel = \"rsa\"\nline = \"{}\"\n", line.trim());
    fleet.world.write("people/sten.toml", fleet.world.read("people/sten.toml") + &more, 0o644);
    let limited = |text: &str, number: &str| text.replace("[limits]\n", &format!("[limits]\nkeys_max = {number}\n"));
    fleet.world.write("hosts/horn.toml", limited(&fleet.world.read("hosts/horn.toml"), "1"), 0o644);
    let full = fleet.run("compare").expect(1);
    assert!(full.stdout.contains("sten has no key that it takes: at most 1 key for one account"), "{full}");
    fleet.world.write("hosts/horn.toml", fleet.world.read("hosts/horn.toml").replace("keys_max = 1\n", ""), 0o644);
    let refused = fleet.run("install home/office.pub keeper@horn --identity home/old --yes").expect(4);
    assert!(refused.stderr.contains("horn does not take this key: ssh-rsa only"), "{refused}");
    let granted = fleet.run("grant edda keeper --host horn").expect(0);
    assert!(granted.stderr.contains("edda has no key that horn takes (ssh-rsa only)"), "{granted}");
    drop(fleet.run("withdraw edda keeper --host horn").expect(0));
    let shown = fleet.run("host show horn").expect(0);
    assert!(
        shown.stdout.contains("takes     ssh-rsa only; RSA keys up to 3072 bits; comments up to 8 bytes"),
        "{shown}"
    );
    drop(fleet.run("enforce --identity home/old --yes").expect(0));
    let held = console.keys("keeper");
    assert!(held.len() == 2 && held[1].ends_with(" sten-at-"), "{held:?}");
    fleet.world.write("lavrin.toml", "name = \"Skerry lights\"\n[policy]\nalgorithms = [\"ssh-ed25519\"]\n", 0o644);
    let none = fleet.world.typed("key generate --for horn --name none --folder home --passphrase none").expect(4);
    assert!(none.stderr.contains("there is no key that horn takes and the register's policy allows"), "{none}");
}

#[test]
fn a_profile_is_tried_without_a_change_and_shows_what_it_reads() {
    let mut fleet = fleet();
    let keys: Vec<String> =
        (20..26).map(|seed| line(seed, &format!("lamp {seed}"))).chain([line(1, "office")]).collect();
    let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
    let console = add(&mut fleet, "horn", &keys, ConsoleKnobs::default(), Behaviour::default());
    let tried = fleet.run(&format!("host profile try fog-signal horn {SIGN_IN}")).expect(0);
    insta::assert_snapshot!("profile_try", tried.stdout);
    let text = fleet.world.read("profiles/fog-signal.toml").replace("  %n. %k", "%n: %k");
    fleet.world.write("new.toml", text, 0o644);
    let tried = fleet.run(&format!("host profile try new.toml horn {SIGN_IN}")).expect(3);
    assert!(tried.stdout.contains("Stopped:") && tried.stdout.contains("does not expect"), "{tried}");
    fleet.world.write("new.toml", "prompts = [\"fog>\"]\n", 0o644);
    let tried = fleet.run(&format!("host profile try new.toml horn {SIGN_IN}")).expect(2);
    assert!(tried.stderr.contains("list"), "{tried}");
    let tried = fleet.run(&format!("host profile try nothing horn {SIGN_IN}")).expect(2);
    assert!(tried.stderr.contains("the register has: fog-signal"), "{tried}");
    assert_eq!((console.keys("keeper").len(), console.is_stored()), (7, true));
}

/// A device that was reset has no keys, another host key, and its password again.
#[test]
fn a_device_that_was_reset_is_led_back() {
    let mut fleet = fleet();
    let own = line(1, "office");
    let console = add(&mut fleet, "horn", &[&own], ConsoleKnobs::default(), Behaviour::default());
    let (pinned, path) = (fleet.hosts[0].host_key().to_string(), "hosts/horn.toml");
    let reset = add(&mut fleet, "reset", &[], ConsoleKnobs::default(), Behaviour::default());
    let port = |fleet: &Fleet, number: usize| fleet.hosts[number].address().port().to_string();
    let (old, new) = (port(&fleet, 0), port(&fleet, 1));
    std::fs::remove_file(fleet.world.path("hosts/reset.toml")).unwrap();
    fleet.world.write(path, fleet.world.read(path).replace(&old, &new), 0o644);
    let reopen = |more: &str| {
        let words = format!("host reopen horn --password-env PW --yes {SIGN_IN} {more}");
        fleet.world.run_with(&[("PW", "low water")], &words.trim().split(' ').collect::<Vec<_>>())
    };
    let print = fleet.hosts[1].host_key().to_string();
    let stopped = reopen("").expect(4);
    assert!(
        stopped.stderr.contains(&format!("--replace {pinned}")) && stopped.stderr.contains("it stops here: host trust"),
        "{stopped}"
    );
    let done = reopen(&format!("--replace {pinned} --expect-host-key {print}")).expect(0);
    assert!(done.stdout.contains("horn is open to the keys that the register names"), "{done}");
    assert_eq!((reset.keys("keeper").len(), reset.is_stored(), reset.takes("keeper", "low water")), (2, true, false));
    assert_eq!(console.keys("keeper").len(), 1);
    let without = fleet.world.typed("host reopen horn --password-env PW").expect(2);
    assert!(without.stderr.contains("--identity FILE"), "{without}");
}

/// One switch ends the passwords of all accounts: taken back by the device itself where nobody proves that keys still open it.
#[test]
fn a_switch_ends_passwords_once_keys_are_proven() {
    let mut fleet = fleet();
    let own = line(1, "office");
    let knobs = ConsoleKnobs { first_key_ends_password: false, ..ConsoleKnobs::default() };
    let console = add(&mut fleet, "horn", &[&own], knobs, Behaviour::default());
    let status = fleet.run("survey --identity home/office").expect(0);
    assert!(console.takes("keeper", "low water"), "{status}");
    let open = fleet.run("keys-only horn --status").expect(1);
    assert!(open.stdout.contains("horn") && open.stdout.contains("passwords on"), "{open}");
    let preview = fleet.run(&format!("keys-only horn --preview {SIGN_IN}")).expect(0);
    assert!(preview.stderr.contains("the device's own switch ends the passwords of all accounts"), "{preview}");
    let done = fleet.run(&format!("keys-only horn --yes {SIGN_IN}")).expect(0);
    assert!(done.stdout.contains("it takes keys only"), "{done}");
    assert!(console.takes_keys_only() && console.is_stored() && !console.will_restart(), "{done}");
    console.restart();
    assert!(console.takes_keys_only());
    let back = fleet.run(&format!("undo --last --yes {SIGN_IN}")).expect(0);
    assert!(!console.takes_keys_only() && console.is_stored(), "{back}");
    // An account that has a password and no key stops it.
    let account = Console::new(&[("keeper", None, &[&own]), ("horn", Some("fog"), &[])], ConsoleKnobs::default());
    let other =
        fleet.add_console("other", account, "[\"keeper\", \"horn\"]", "login = \"keeper\"\n", Behaviour::default());
    let refused = fleet.run(&format!("keys-only other --yes {SIGN_IN}")).expect(4);
    assert!(refused.stdout.contains("horn would lose the only way in"), "{refused}");
    assert!(!other.takes_keys_only());
    // Without anything that puts it back the switch is not turned.
    let path = "profiles/fog-signal.toml";
    let text = fleet.world.read(path);
    fleet.world.write(path, text.split("[reload]").next().unwrap(), 0o644);
    let refused = fleet.run(&format!("keys-only horn --yes {SIGN_IN}")).expect(4);
    assert!(refused.stdout.contains("would put the switch back") && !console.takes_keys_only(), "{refused}");
}

#[test]
fn a_key_comes_in_a_file_that_is_put_there_or_fetched() {
    let mut fleet = fleet();
    let own = line(1, "office");
    let served = fleet.world.path("served");
    std::fs::create_dir(&served).unwrap();
    let knobs = ConsoleKnobs { closes_files: true, fetches_from: Some(served.clone()), ..ConsoleKnobs::default() };
    let put = add(&mut fleet, "a-put", &[&own], knobs.clone(), Behaviour::default());
    let fetched = add(&mut fleet, "b-fetched", &[&own], knobs, Behaviour::default());
    let path = "profiles/fog-signal.toml";
    let text = fleet.world.read(path);
    let transfer = "[transfer]\nopen = { send = [\"files on\"] }\nclose = { send = [\"files off\"] }\n";
    let file = "[add.file]\npath = \"/flash/%u.pub\"\nkeys_form = \"blocks\"\nline_ends = \"crlf\"\n";
    let own = text.replace("take %k", "take file %f") + transfer + file;
    fleet.world.write("profiles/put.toml", own, 0o644);
    let file = "[add.file]\nfetched_from = \"harbour:%f\"\n";
    fleet.world.write(path, text.replace("take %k", "take from %f") + file, 0o644);
    fleet.world.write("hosts/a-put.toml", fleet.world.read("hosts/a-put.toml").replace("fog-signal", "put"), 0o644);
    let without = enforce(&fleet, "").expect(4);
    assert!(without.stdout.contains("LAVRIN_FETCH_FOLDER=DIR"), "{without}");
    assert_eq!((put.keys("keeper").len(), fetched.keys("keeper").len(), put.takes_files()), (2, 1, false), "{without}");
    let words = format!("enforce {SIGN_IN} --yes");
    let folder = served.to_string_lossy().into_owned();
    let run =
        fleet.world.run_with(&[("LAVRIN_FETCH_FOLDER", &folder)], &words.split(' ').collect::<Vec<_>>()).expect(0);
    assert_eq!((fetched.keys("keeper").len(), crate::common::names(&served).len()), (2, 0), "{run}");
}
