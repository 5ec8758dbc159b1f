//! Devices that take keys over the public key subsystem: every command, and everything that goes wrong with them.

use crate::common::fleet::{Fleet, assert_fifty, fault_of_the_line};
use crate::common::{Run, key};
use lavrin_standin::{Behaviour, KeyDevice, KeyDeviceKnobs};
use std::process::Command;
use std::time::{Duration, Instant};

const SIGN_IN: &str = "--identity home/office";

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment)
}

/// The office, and sten with a grant that has these further lines, may enter the account of each device.
fn fleet(more: &str) -> Fleet {
    Fleet::with_people("root", more)
}

fn enforce(fleet: &Fleet, more: &str) -> Run {
    fleet.run(&format!("enforce {SIGN_IN} --yes {more}"))
}

/// The comments of the keys that the device has.
fn held(device: &KeyDevice) -> Vec<String> {
    let comment = |attributes: &[(String, Vec<u8>)]| {
        let own = attributes.iter().find(|(name, _)| name == "comment");
        own.map(|(_, value)| String::from_utf8(value.clone()).unwrap()).unwrap_or_default()
    };
    device.keys().iter().map(|key| comment(&key.attributes)).collect()
}

#[test]
fn a_device_is_brought_into_line_with_limits_and_back() {
    let mut fleet = fleet("from = \"127.0.0.0/8\"\n");
    let old = [line(1, "office"), line(7, "a stranger"), line(2, "edda")];
    let (knobs, usual) = (KeyDeviceKnobs::default(), Behaviour::default());
    let device = fleet.add_key_device("buoy", &old.each_ref().map(String::as_str), knobs, usual);
    let seen = fleet.survey("").expect(0);
    assert!(seen.stdout.contains("1 account, 3 entries"), "{seen}");
    let compared = fleet.run("compare").expect(1);
    assert!(compared.stdout.contains("missing") && compared.stdout.contains("extra"), "{compared}");
    drop(enforce(&fleet, "").expect(0));
    assert_eq!(held(&device), ["office", "a stranger", "sten@lantern"]);
    let limit = device.keys()[2].attributes.clone();
    assert!(limit.contains(&("from".to_owned(), b"127.0.0.0/8".to_vec())), "{limit:?}");
    let again = fleet.run("compare").expect(1);
    assert!(again.stdout.contains("unknown") && !again.stdout.contains("sten"), "{again}");
    // The limit of a grant changes, and nothing else.
    let access = fleet.world.read("access.toml").replace("127.0.0.0/8", "127.0.0.1");
    fleet.world.write("access.toml", access, 0o644);
    drop(enforce(&fleet, "").expect(0));
    assert!(device.keys()[2].attributes.contains(&("from".to_owned(), b"127.0.0.1".to_vec())));
    let back = fleet.run(&format!("undo --last --yes {SIGN_IN}")).expect(0);
    assert!(device.keys()[2].attributes.contains(&("from".to_owned(), b"127.0.0.0/8".to_vec())), "{back}");
    fleet.world.put_pair("sten", 3, "sten@lantern");
    drop(fleet.run(&format!("probe sten buoy --until accepted {SIGN_IN}")).expect(0));
    drop(fleet.run(&format!("remove home/sten.pub root@buoy --yes {SIGN_IN} --accept-lockout")).expect(0));
    drop(fleet.run(&format!("install home/sten.pub root@buoy --yes {SIGN_IN}")).expect(0));
    let own = fleet.run(&format!("remove home/office.pub root@buoy --yes {SIGN_IN}")).expect(4);
    assert!(own.stderr.contains("key that this login uses"), "{own}");
    let new = line(5, "sten-2@lantern");
    fleet.world.write("sten-2.pub", format!("{new}\n"), 0o644);
    let rotated = fleet.run(&format!("rotate sten --from-file sten-2.pub --yes {SIGN_IN}")).expect(0);
    assert_eq!(held(&device), ["office", "a stranger", "sten-2@lantern"], "{rotated}");
    let gone = fleet.run(&format!("offboard sten --yes {SIGN_IN}")).expect(0);
    assert_eq!(held(&device), ["office", "a stranger"], "{gone}");
    let audited = fleet.run("audit");
    assert!(audited.stdout.contains("unknown-key") && !audited.stdout.contains("[mode"), "{audited}");
}

#[test]
fn what_a_device_cannot_say_is_refused_and_never_left_away() {
    let mut fleet = fleet("command = \"date\"\n");
    let without = KeyDeviceKnobs { attributes: &["comment"], ..KeyDeviceKnobs::default() };
    let device = fleet.add_key_device("buoy", &[&line(1, "office")], without, Behaviour::default());
    let run = enforce(&fleet, "").expect(4);
    assert!(run.stdout.contains("attribute not supported: command-override"), "{run}");
    assert_eq!(held(&device), ["office"]);
    // One that does not say what it understands refuses the key itself, and another takes no key without something.
    let mute = KeyDeviceKnobs { attributes: &["comment"], lists_attributes: false, ..KeyDeviceKnobs::default() };
    let mute = fleet.add_key_device("mute", &[&line(1, "office")], mute, Behaviour::default());
    let strict = KeyDeviceKnobs {
        attributes: &["comment", "command-override", "x-seal"],
        compulsory: &["x-seal"],
        ..KeyDeviceKnobs::default()
    };
    let strict = fleet.add_key_device("strict", &[&line(1, "office")], strict, Behaviour::default());
    let run = enforce(&fleet, "mute strict").expect(4);
    assert!(
        run.stdout.contains("attribute not supported") && run.stdout.contains("without the attribute x-seal"),
        "{run}"
    );
    assert_eq!((held(&mute), held(&strict)), (vec!["office".to_owned()], vec!["office".to_owned()]));
    for host in ["mute", "strict"] {
        std::fs::remove_file(fleet.world.path(&format!("hosts/{host}.toml"))).unwrap();
    }
    // No device knows a day on which a key ends.
    let access = fleet.world.read("access.toml").replace("command = \"date\"", "until = 2027-01-31");
    fleet.world.write("access.toml", access, 0o644);
    let run = enforce(&fleet, "").expect(4);
    assert!(run.stdout.contains("nothing like the option expiry-time"), "{run}");
    assert_eq!(held(&device), ["office"]);
    let hosts = fleet.world.read("hosts/buoy.toml").replace("[\"root\"]", "[\"root\", \"keeper\"]");
    fleet.world.write("hosts/buoy.toml", hosts, 0o644);
    let checked = fleet.run("register check");
    assert!(checked.stdout.contains("account-not-of-login"), "{checked}");
}

#[test]
fn a_device_needs_no_register() {
    let mut fleet = Fleet::new();
    fleet.world.write("lavrin.toml", "", 0o644);
    let device = fleet.add_key_device("buoy", &[&line(1, "office")], KeyDeviceKnobs::default(), Behaviour::default());
    let (port, print) = (fleet.hosts[0].address().port(), fleet.hosts[0].host_key());
    for file in ["lavrin.toml", "hosts/buoy.toml"] {
        std::fs::remove_file(fleet.world.path(file)).unwrap();
    }
    fleet.world.put_pair("sten", 3, "sten@lantern");
    let there = format!("root@127.0.0.1 --reach publickey-subsystem --port {port} --expect-host-key {print} {SIGN_IN}");
    drop(fleet.run(&format!("install home/sten.pub {there} --yes")).expect(0));
    assert_eq!(held(&device), ["office", "sten@lantern"]);
    drop(fleet.run(&format!("remove home/sten.pub {there} --yes")).expect(0));
    // The first key of a device comes in by its password.
    let fresh = KeyDevice::new("root", &[], KeyDeviceKnobs::default()).with_password("low water at noon");
    let (first, host) = fleet.start_key_device("new", fresh);
    let there = format!("root@127.0.0.1 --reach publickey-subsystem --port {} --expect-host-key {}", host.0, host.1);
    let words = format!("install home/sten.pub {there} --password-env PW --yes");
    let words: Vec<&str> = words.split(' ').collect();
    drop(fleet.world.run_with(&[("PW", "low water at noon")], &words).expect(0));
    assert_eq!(held(&first), ["sten@lantern"]);
    let there = format!("root@127.0.0.1 --reach publickey-subsystem --port {port} --expect-host-key {print} {SIGN_IN}");
    let audited = fleet.run(&format!("audit {} --login root", there.replace("root@", ""))).expect(0);
    assert!(audited.stdout.contains("not applicable: key files"), "{audited}");
    assert_eq!(held(&device), ["office"]);
    // Without a word it would be a server with a shell.
    let shell = there.replace("--reach publickey-subsystem", "");
    drop(fleet.run(&format!("install home/sten.pub {shell} --yes")).expect(3));
}

#[test]
fn what_is_not_there_is_not_applicable_and_what_is_not_shown_is_not_denied() {
    let mut fleet = fleet("");
    let device = fleet.add_key_device("buoy", &[&line(1, "office")], KeyDeviceKnobs::default(), Behaviour::default());
    fleet.world.put_pair("sten", 3, "sten@lantern");
    let refused = |line: &str, told: &str| {
        let run = fleet.run(&format!("{line} {SIGN_IN}")).expect(4);
        assert!(run.stderr.contains(told) || run.stdout.contains(told), "{told}: {run}");
    };
    refused("host settings buoy", "not applicable: settings");
    refused("keys-only buoy --preview", "not applicable: settings");
    refused("mend root@buoy --preview", "not applicable: key files");
    refused("install home/sten.pub new@buoy --create-account --login root --yes", "shows nothing of new to this login");
    let why = fleet.run(&format!("why keeper@buoy --login root --key home/sten.pub {SIGN_IN}")).expect(3);
    assert!(why.stdout.contains("undecided") && !why.stdout.contains("rules of"), "{why}");
    // Nobody looks for sessions and files where there are none.
    let gone = fleet.run(&format!("offboard edda --preview {SIGN_IN}")).expect(0);
    assert!(!gone.stdout.contains("not checked"), "{gone}");
    assert_eq!(held(&device), ["office"]);
}

#[test]
fn whatever_a_device_does_it_is_told_and_the_others_are_changed() {
    let mut fleet = fleet("");
    let old = line(1, "office");
    let plain = KeyDeviceKnobs::default();
    let refuses = |code| KeyDeviceKnobs { refuses_with: Some(code), ..KeyDeviceKnobs::default() };
    let mut faults: Vec<(KeyDeviceKnobs, &str)> = vec![
        (KeyDeviceKnobs { version: 1, ..plain.clone() }, "version 1"),
        (KeyDeviceKnobs { version: 3, ..plain.clone() }, "version not supported"),
        (KeyDeviceKnobs { keys_max: 1, ..plain.clone() }, "storage exceeded"),
        (KeyDeviceKnobs { loses_changes: true, ..plain.clone() }, "did not make it"),
        (KeyDeviceKnobs { breaks_off_in: Some(1), ..plain.clone() }, "broke off"),
        (KeyDeviceKnobs { endless: true, ..plain.clone() }, "longer than"),
    ];
    let words = ["access denied", "storage exceeded", "key not supported", "general failure", "request not supported"];
    faults.extend([1, 2, 5, 7, 8].into_iter().map(refuses).zip(words));
    faults.push((refuses(99), "unknown status"));
    let good = fleet.add_key_device("a-good", &[&old], plain.clone(), Behaviour::default());
    let bare = KeyDeviceKnobs { attributes: &["from"], ..plain };
    let without_comments = fleet.add_key_device("a-bare", &[&old], bare, Behaviour::default());
    let bad: Vec<_> = faults
        .iter()
        .enumerate()
        .map(|(number, (knobs, _))| {
            fleet.add_key_device(&format!("b-{number:02}"), &[&old], knobs.clone(), Behaviour::default())
        })
        .collect();
    let run = enforce(&fleet, "");
    assert_eq!(run.status, 4, "{run}");
    for (number, (_, told)) in faults.iter().enumerate() {
        let host = format!("b-{number:02}");
        assert!(run.stdout.lines().any(|line| line.contains(&host) && line.contains(told)), "{host} {told}: {run}");
    }
    assert_eq!((held(&good), without_comments.keys().len()), (vec!["office".to_owned(), "sten@lantern".to_owned()], 2));
    assert!(bad.iter().all(|device| device.keys().len() == 1), "{run}");
    let again = fleet.run("compare a-bare").expect(0);
    assert!(!again.stdout.contains("missing"), "{again}");
}

#[test]
fn a_line_that_is_cut_after_any_byte_and_a_device_that_falls_silent() {
    let mut fleet = fleet("");
    let old = line(1, "office");
    let devices: Vec<_> = (0..30)
        .map(|number| {
            let cut = Behaviour { cut_after: Some(3_000 + number * 120), ..Behaviour::default() };
            let behaviour = Behaviour { episodes: vec![(2..=2, cut)], ..Behaviour::default() };
            fleet.add_key_device(&format!("h{number:02}"), &[&old], KeyDeviceKnobs::default(), behaviour)
        })
        .collect();
    let run = enforce(&fleet, "--format json");
    let json = run.json();
    let hosts = json["hosts"].as_array().unwrap();
    let mut seen = std::collections::BTreeSet::new();
    for (device, host) in devices.iter().zip(hosts) {
        let (is_new, state) = (device.keys().len() == 2, host["state"].as_str().unwrap());
        assert_eq!(state == "done", is_new, "{host}");
        seen.insert(is_new);
    }
    assert_eq!((seen.len(), hosts.len()), (2, 30), "{run}");
    drop(enforce(&fleet, "").expect(0));
    assert!(devices.iter().all(|device| device.keys().len() == 2));
    let silent = KeyDeviceKnobs { silent_from: Some(1), ..KeyDeviceKnobs::default() };
    let silent = fleet.add_key_device("silent", &[&old], silent, Behaviour::default());
    let slow = KeyDeviceKnobs { slow: Duration::from_millis(200), ..KeyDeviceKnobs::default() };
    let slow = fleet.add_key_device("slow", &[&old], slow, Behaviour::default());
    let begun = Instant::now();
    let run = enforce(&fleet, "--host-limit 20");
    assert!(begun.elapsed() < Duration::from_mins(2), "{run}");
    assert_eq!((run.status, silent.keys().len(), slow.keys().len()), (3, 1, 2), "{run}");
}

/// Fifty devices with the same fault, each a little later than the one before.
fn fifty(fault: &str, number: usize) -> (KeyDeviceKnobs, Behaviour) {
    let (plain, usual) = (KeyDeviceKnobs::default(), Behaviour::default());
    match fault {
        "silent" => (KeyDeviceKnobs { silent_from: Some(1 + number % 10), ..plain }, usual),
        "breaks off" => (KeyDeviceKnobs { breaks_off_in: Some(1 + number % 10), ..plain }, usual),
        "endless" => (KeyDeviceKnobs { endless: true, ..plain }, usual),
        "loses changes" => (KeyDeviceKnobs { loses_changes: true, ..plain }, usual),
        "refuses" => (KeyDeviceKnobs { refuses_with: u32::try_from(1 + number).ok(), ..plain }, usual),
        "full" => (KeyDeviceKnobs { keys_max: 1, ..plain }, usual),
        "another version" => (KeyDeviceKnobs { version: [0, 1, 3, 99][number % 4], ..plain }, usual),
        "no attributes" => (KeyDeviceKnobs { attributes: &[], ..plain }, usual),
        "slow" => (KeyDeviceKnobs { slow: Duration::from_millis(4 * number as u64), ..plain }, usual),
        _ => (plain, fault_of_the_line(fault, 3_000 + 60 * number as u64)),
    }
}

#[test]
#[ignore = "fifty runs of thirteen faults take minutes: scripts/test.sh"]
fn fifty_runs_of_every_fault_end_in_time_and_say_what_is_so() {
    let faults = [
        "silent",
        "breaks off",
        "endless",
        "loses changes",
        "refuses",
        "full",
        "another version",
        "no attributes",
        "slow",
        "cut",
        "cut for good",
        "other host key",
        "silent line",
    ];
    for fault in faults {
        let mut fleet = fleet("");
        let old = line(1, "office");
        let devices: Vec<_> = (0..50)
            .map(|number| {
                let (knobs, behaviour) = fifty(fault, number);
                fleet.add_key_device(&format!("h{number:02}"), &[&old], knobs, behaviour)
            })
            .collect();
        assert_fifty(&fleet, fault, |number| devices[number].keys().len() == 2);
    }
}

/// The layout of the packets is not only our own reading of the description: another client speaks to the stand-in.
#[test]
#[ignore = "needs libssh2: scripts/test.sh"]
fn the_client_of_libssh2_understands_the_stand_in() {
    let mut fleet = fleet("");
    let device = fleet.add_key_device("buoy", &[&line(1, "office")], KeyDeviceKnobs::default(), Behaviour::default());
    let port = fleet.hosts[0].address().port();
    let world = &fleet.world;
    let program = world.path("libssh2");
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/program/libssh2.c");
    let built = Command::new("cc").args(["-o", program.to_str().unwrap(), source, "-lssh2"]).output().unwrap();
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    // It reads the older forms of private keys only, and RSA in them.
    let pem = world.path("office.pem");
    let run =
        |program: &str, args: &[&str]| assert!(Command::new(program).args(args).output().unwrap().status.success());
    run("openssl", &["genrsa", "-traditional", "-out", pem.to_str().unwrap(), "3072"]);
    let public = world.typed("key convert office.pem --to line --comment pem").expect(0).stdout;
    world.write("office.pem.pub", public.lines().find(|line| line.starts_with("ssh-rsa")).unwrap(), 0o644);
    world.write("blob", key(9).public().blob(), 0o600);
    drop(fleet.run(&format!("install office.pem.pub root@buoy --yes {SIGN_IN}")).expect(0));
    let path = |name: &str| world.path(name).to_string_lossy().into_owned();
    let said = Command::new(&program)
        .args([port.to_string(), path("office.pem"), path("office.pem.pub"), path("blob")])
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&said.stdout);
    assert!(said.status.success(), "{:?} {text}", said.status);
    let told = "before 2 comment=office comment=pem\nadded 3 comment=office comment=pem comment=of the fog signal\n\
                again 1\nremoved 2 comment=office comment=pem\n";
    assert_eq!(text, told);
    assert_eq!(held(&device), ["office", "pem"]);
}
