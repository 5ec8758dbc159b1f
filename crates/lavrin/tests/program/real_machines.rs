//! Whole Debian systems with systemd: the timer of the host, a restart in the middle, socket activation.

use crate::common::machine::Machine;
use crate::common::servers::system;
use crate::common::{Run, World};
use std::path::Path;
use std::time::{Duration, Instant};

fn world() -> World {
    let world = World::new();
    drop(world.typed("key generate --passphrase none --folder home/keys --name root --comment root@lantern").expect(0));
    world
}

fn run(world: &World, machine: &Machine, line: &str, variables: &[(&str, &str)]) -> Run {
    let key = machine.host_key(world);
    let more = format!("--login root --identity home/keys/root --port {} --expect-host-key {key}", machine.port);
    let line = format!("{} {more}", line.replace("HOST", &machine.address));
    let words: Vec<&str> = line.split_whitespace().collect();
    world.run_with(variables, &words)
}

/// The methods that the server offers, by the stock client.
fn offered(world: &World, machine: &Machine) -> String {
    let none = ["-v", "-o", "PreferredAuthentications=none"];
    let said = String::from_utf8_lossy(&machine.ssh(world, &none, "true").stderr).into_owned();
    let list = said.split("Authentications that can continue: ").nth(1).unwrap_or_default();
    list.lines().next().unwrap_or_default().trim().to_owned()
}

/// What a timer has left on the machine.
fn left_behind(machine: &Machine) -> Vec<String> {
    let mut left = Vec::new();
    for folder in
        ["etc/ssh", "etc/ssh/sshd_config.d", "etc/systemd/system", "etc/systemd/system/multi-user.target.wants"]
    {
        let names = crate::common::names(&machine.path(folder));
        left.extend(names.into_iter().filter(|name| name.contains("put-back") || name.contains("lavrin")));
    }
    left
}

fn wait(limit: u64, done: impl Fn() -> bool) {
    let begun = Instant::now();
    while !done() {
        assert!(begun.elapsed() < Duration::from_secs(limit), "it did not happen in time");
        std::thread::sleep(Duration::from_millis(300));
    }
}

const KEYS_ONLY: &str = "keys-only HOST --yes";
const OPEN: &str = "publickey,password";

fn the_host_keeps_what_is_proven_and_takes_the_rest_back(suite: &str) {
    let world = world();
    let mut machine = Machine::boot(suite, &world, |_, _, _| ());
    assert!(offered(&world, &machine).starts_with(OPEN));
    let done = run(&world, &machine, KEYS_ONLY, &[]).expect(0);
    assert!(done.stdout.contains("a timer of systemd, also over a restart); disarmed"), "{done}");
    assert_eq!(offered(&world, &machine), "publickey");
    assert_eq!(left_behind(&machine), ["00-lavrin-keys-only.conf"]);
    assert!(!machine.says(&world, "systemctl list-units --all; systemctl list-timers --all").contains("put-back"));
    drop(run(&world, &machine, "keys-only HOST --undo --yes", &[]).expect(0));
    wait(10, || offered(&world, &machine).starts_with(OPEN));

    // Nobody comes back: the timer of the host.
    let prove = format!("prove:{}", machine.address);
    let begun = Instant::now();
    drop(run(&world, &machine, "keys-only HOST --yes --heal-after 10", &[("LAVRIN_TEST_CRASH", &prove)]).expect(5));
    wait(8, || offered(&world, &machine) == "publickey");
    wait(40, || left_behind(&machine).is_empty());
    assert!(begun.elapsed() >= Duration::from_secs(10));
    wait(10, || offered(&world, &machine).starts_with(OPEN));
    assert!(machine.says(&world, "journalctl -t lavrin").contains("are as they were before"));

    // The host is started anew before the time is over: it comes up as it was.
    drop(run(&world, &machine, "keys-only HOST --yes --heal-after 600", &[("LAVRIN_TEST_CRASH", &prove)]).expect(5));
    wait(30, || offered(&world, &machine) == "publickey");
    machine.restart(&world);
    wait(20, || offered(&world, &machine).starts_with(OPEN));
    wait(20, || left_behind(&machine).is_empty());
    // A later look tells how it ended.
    let later = [("LAVRIN_NOW", "2026-11-23T09:00:00Z")];
    drop(run(&world, &machine, "keys-only HOST --preview", &later).expect(0));
    let told = world.run_with(&later, &["history"]);
    assert!(told.stdout.contains("everything as before"), "{told}");
}

#[test]
#[ignore = "boots a machine: scripts/test.sh"]
fn debian_12_keeps_what_is_proven_and_takes_the_rest_back() {
    the_host_keeps_what_is_proven_and_takes_the_rest_back("bookworm");
}

#[test]
#[ignore = "boots a machine: scripts/test.sh"]
fn debian_13_keeps_what_is_proven_and_takes_the_rest_back() {
    the_host_keeps_what_is_proven_and_takes_the_rest_back("trixie");
}

/// systemd holds the socket and starts the server for it: one for all connections as Debian does, or one for each.
fn by_socket(root: &Path, address: &str, port: u16, one_for_each: bool) {
    let root_text = root.to_str().unwrap();
    for line in ["disable ssh.service", "enable ssh.socket"] {
        let words: Vec<&str> = line.split(' ').collect();
        system("chroot", &[&[root_text, "systemctl"], &words[..]].concat());
    }
    let units = root.join("etc/systemd/system");
    std::fs::create_dir_all(units.join("ssh.socket.d")).unwrap();
    let accept = if one_for_each { "yes" } else { "no" };
    let text = format!("[Socket]\nListenStream=\nListenStream={address}:{port}\nAccept={accept}\n");
    std::fs::write(units.join("ssh.socket.d/test.conf"), text).unwrap();
    if one_for_each {
        let text = "[Service]\nExecStart=-/usr/sbin/sshd -i\nStandardInput=socket\nRuntimeDirectory=sshd\nRuntimeDirectoryPreserve=yes\nKillMode=process\n";
        std::fs::write(units.join("ssh@.service"), text).unwrap();
    }
}

fn it_works_behind_a_socket(suite: &str, one_for_each: bool) {
    let world = world();
    let machine = Machine::boot(suite, &world, |root, address, port| by_socket(root, address, port, one_for_each));
    assert!(offered(&world, &machine).starts_with(OPEN));
    let done = run(&world, &machine, KEYS_ONLY, &[]).expect(0);
    assert!(done.stdout.contains("disarmed"), "{done}");
    assert_eq!(offered(&world, &machine), "publickey");
    drop(run(&world, &machine, "keys-only HOST --undo --yes", &[]).expect(0));
    assert!(offered(&world, &machine).starts_with(OPEN));
    let prove = format!("prove:{}", machine.address);
    drop(run(&world, &machine, "keys-only HOST --yes --heal-after 10", &[("LAVRIN_TEST_CRASH", &prove)]).expect(5));
    wait(40, || left_behind(&machine).is_empty());
    wait(10, || offered(&world, &machine).starts_with(OPEN));
}

#[test]
#[ignore = "boots a machine: scripts/test.sh"]
fn a_server_that_is_started_for_its_socket_reads_again() {
    it_works_behind_a_socket("bookworm", false);
    it_works_behind_a_socket("trixie", false);
}

#[test]
#[ignore = "boots a machine: scripts/test.sh"]
fn a_server_that_is_started_for_each_connection_needs_no_reload() {
    it_works_behind_a_socket("bookworm", true);
    it_works_behind_a_socket("trixie", true);
}

/// The other server, as Debian starts it, instead of the usual one.
fn with_dropbear(root: &Path, address: &str, port: u16) {
    let root_text = root.to_str().unwrap();
    for line in ["disable ssh.service ssh.socket", "enable dropbear.service"] {
        let words: Vec<&str> = line.split(' ').collect();
        system("chroot", &[&[root_text, "systemctl"], &words[..]].concat());
    }
    let text = format!("# Where it listens.\nDROPBEAR_PORT=\"{address}:{port}\"\nDROPBEAR_EXTRA_ARGS=\"-j\"\n");
    std::fs::write(root.join("etc/default/dropbear"), text).unwrap();
}

fn dropbear_keeps_what_is_proven(suite: &str) {
    let world = world();
    let machine = Machine::boot(suite, &world, with_dropbear);
    let file = || std::fs::read_to_string(machine.path("etc/default/dropbear")).unwrap();
    let hidden = || crate::common::names(&machine.path("etc/default")).iter().any(|name| name.contains("put-back"));
    let before = file();
    let line = format!("keys-only {} --login root --identity home/keys/root --port {}", machine.address, machine.port);
    let words: Vec<&str> = line.split(' ').collect();
    let shown = world.run(&words).stderr;
    let print = shown.split_whitespace().find(|word| word.starts_with("SHA256:")).unwrap().to_owned();
    let run = |more: &str, variables: &[(&str, &str)]| {
        let line = format!("{line} --expect-host-key {print} --yes {more}");
        let words: Vec<&str> = line.split_whitespace().collect();
        world.run_with(variables, &words)
    };
    assert!(offered(&world, &machine).contains("password"));
    let done = run("", &[]).expect(0);
    assert!(done.stderr.contains("DROPBEAR_EXTRA_ARGS without -s") && done.stdout.contains("disarmed"), "{done}");
    assert_eq!((offered(&world, &machine).as_str(), hidden()), ("publickey", false));
    assert_eq!(file(), before.replace("\"-j\"", "\"-s -j\""));
    drop(run("--undo", &[]).expect(0));
    wait(10, || offered(&world, &machine).contains("password"));
    assert_eq!(file(), before);
    // Nobody comes back.
    let prove = format!("prove:{}", machine.address);
    drop(run("--heal-after 10", &[("LAVRIN_TEST_CRASH", &prove)]).expect(5));
    wait(8, || offered(&world, &machine) == "publickey");
    wait(40, || !hidden());
    wait(10, || offered(&world, &machine).contains("password"));
    assert_eq!(file(), before);
}

#[test]
#[ignore = "boots a machine: scripts/test.sh"]
fn dropbear_gets_its_switches_in_the_file_that_debian_keeps() {
    dropbear_keeps_what_is_proven("bookworm");
    dropbear_keeps_what_is_proven("trixie");
}
