//! A survey of real servers: eight of OpenSSH at once, one behind another, one with sudo, one account with csh, and dropbear.

use crate::common::World;
use crate::common::servers::{Account, Server, Sudo};
use crate::common::site::{PLAIN, RootKeys, Site};
use std::fmt::Write as _;

fn public(world: &World, name: &str) -> String {
    world.read(&format!("home/keys/{name}.pub")).trim().to_owned()
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn eight_servers_and_a_small_device_are_surveyed_at_once() {
    let world = World::new();
    let roots = RootKeys::new();
    for name in ["office", "edda"] {
        drop(world.typed(&format!("key generate --passphrase none --folder home/keys --name {name}")).expect(0));
    }
    let (office, edda) = (public(&world, "office"), public(&world, "edda"));
    std::fs::write(&roots.0, format!("{office}\n")).unwrap();
    let accounts = [Account::new("/bin/sh"), Account::new("/bin/csh"), Account::new("/usr/sbin/nologin")];
    for account in &accounts {
        account.put(".ssh/authorized_keys", &format!("{office}\n{edda}\n"), "600", &account.name);
    }
    let _sudo = Sudo::for_account(&accounts[0].name);
    let config = format!("{PLAIN}Match User root\nAuthorizedKeysFile {}\n", roots.0.display());
    let servers: Vec<Server> = (0..8).map(|_| Server::sshd(&world, &config)).collect();
    let device = Server::dropbear(&world);
    world.write("lavrin.toml", "name = \"real\"\n", 0o644);
    let mut hosts = String::new();
    for (number, server) in servers.iter().enumerate() {
        let login = match number {
            1 => format!("login = \"{}\"\n", accounts[0].name),
            2 => format!("login = \"{}\"\n", accounts[1].name),
            _ => String::new(),
        };
        let through = if number == 7 { "through = \"s0\"\n" } else { "" };
        let _ = write!(hosts, "[s{number}]\naddress = \"127.0.0.1\"\nport = {}\n{login}{through}", server.port);
    }
    let login = &accounts[0].name;
    let _ = write!(hosts, "[zdevice]\naddress = \"127.0.0.1\"\nport = {}\nlogin = \"{login}\"\n", device.port);
    world.write("hosts.toml", hosts, 0o644);
    for (number, server) in servers.iter().enumerate().filter(|(number, _)| *number != 7) {
        drop(world.typed(&format!("host trust s{number} --expect-host-key {}", server.host_key)).expect(0));
    }
    // The key of a host behind another one is put into the register by hand; that of the device is what it shows.
    let shown = world.typed("host trust zdevice").expect(2).stderr;
    let print = shown.split_whitespace().find(|word| word.starts_with("SHA256:")).unwrap();
    drop(world.typed(&format!("host trust zdevice --expect-host-key {print}")).expect(0));
    let inner = servers[7].public_line(&world);
    let text = world.read("hosts.toml");
    let text = text.replace("through = \"s0\"\n", &format!("through = \"s0\"\nhost_keys = [\"{inner}\"]\n"));
    world.write("hosts.toml", text, 0o644);

    // The login with csh and that of the device cannot become root, so there the look is not whole.
    let seen = world.typed("survey --identity home/keys/office --format json").expect(3).json();
    let hosts = seen["hosts"].as_array().unwrap();
    assert_eq!(hosts.len(), 9);
    assert!(hosts.iter().all(|host| host["fault"].is_null()), "{seen}");
    // Root sees every account's file; so does sudo; the login with csh and the device see their own.
    let of = |id: &str| {
        let out = world.typed(&format!("host show {id} --format json")).expect(0).json();
        let entries = out["seen"].as_array().unwrap().clone();
        let ours = |name: &str| entries.iter().filter(|entry| entry["account"] == name).count();
        accounts.iter().map(|account| ours(&account.name)).collect::<Vec<_>>()
    };
    for id in ["s0", "s1", "s3", "s7"] {
        assert_eq!(of(id), [2, 2, 2], "{id}");
    }
    assert_eq!(of("s2"), [0, 2, 0]);
    assert_eq!(of("zdevice")[0], 2);
    assert!(hosts[0]["sessions"].as_u64().unwrap() >= 1, "{seen}");
    let audit = world.typed("audit s2 --format json").json();
    assert!(!audit["not_checked"].as_array().unwrap().is_empty(), "{audit}");
    let rules: Vec<&str> = world.typed("audit s0 --format json").json()["findings"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|found| found["account"].is_null())
        .map(|found| if found["rule"] == "passwords-on" { "passwords-on" } else { "another" })
        .collect();
    assert_eq!(rules, ["passwords-on"]);
    let then = world.typed("history --at 2026-11-23 --format json").json();
    let ways = then["access"].as_array().unwrap().iter().filter(|way| way["host"] == "s0");
    let accounts_in: Vec<&str> = ways.filter_map(|way| way["account"].as_str()).collect();
    assert!(accounts_in.contains(&accounts[0].name.as_str()) && accounts_in.contains(&"root"), "{then}");
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn what_sudo_keeps_from_a_survey_is_not_gone() {
    let world = World::new();
    let roots = RootKeys::new();
    for name in ["office", "edda"] {
        drop(world.typed(&format!("key generate --passphrase none --folder home/keys --name {name}")).expect(0));
    }
    let (office, edda) = (public(&world, "office"), public(&world, "edda"));
    std::fs::write(&roots.0, format!("{office}\n")).unwrap();
    let (account, other) = (Account::new("/bin/sh"), Account::new("/bin/sh"));
    account.put(".ssh/authorized_keys", &format!("{office}\n"), "600", &account.name);
    other.put(".ssh/authorized_keys", &format!("{edda}\n"), "600", &other.name);
    let server = Server::sshd(&world, &format!("{PLAIN}Match User root\nAuthorizedKeysFile {}\n", roots.0.display()));
    world.write("lavrin.toml", "name = \"real\"\n", 0o644);
    let host = format!("[s]\naddress = \"127.0.0.1\"\nport = {}\nlogin = \"root\"\n", server.port);
    world.write("hosts.toml", host, 0o644);
    drop(world.typed(&format!("host trust s --expect-host-key {}", server.host_key)).expect(0));
    let early = [("LAVRIN_NOW", "2026-11-20T08:00:00Z")];
    drop(world.run_with(&early, &["survey", "--identity", "home/keys/office"]).expect(0));
    // The login may not use sudo: what only root sees keeps its last known state, with its age.
    let line = format!("survey --login {} --identity home/keys/office", account.name);
    let seen = world.typed(&line).expect(3);
    assert!(seen.stdout.contains("because sudo refused: "), "{seen}");
    let kept = seen.stdout.split("kept as known from 2026-11-20: ").nth(1).unwrap_or_default();
    assert!(kept.contains(&other.name), "{seen}");
    assert!(seen.stderr.contains("next: lavrin survey --ask-root-password"), "{seen}");
    let history = world.typed("history --format json").expect(0).json();
    // Accounts of other tests come and go on this machine meanwhile.
    let own = |event: &&serde_json::Value| event["account"] == other.name.as_str();
    let events: Vec<&serde_json::Value> = history["events"].as_array().unwrap().iter().filter(own).collect();
    assert!(!events.is_empty() && events.iter().all(|event| event["what"] == "came"), "{history}");
    let then = world.typed("history --at today").expect(3);
    let kept = then.stdout.lines().find(|line| line.contains(&format!("{}@s", other.name))).unwrap_or_default();
    assert!(kept.contains("last read on 2026-11-20"), "{then}");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_clock_that_is_a_day_off_is_a_finding_and_ends_are_judged_by_it() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    // Whatever asks the clock of this host hears that it is tomorrow.
    let date = "#!/bin/sh\necho \"$(($(/bin/busybox date +%s) + 86400)) +0000\"\n";
    let date = world.write("date", date, 0o755);
    let session = format!("mount --bind {} /usr/bin/date; exec /bin/sh -c \"$SSH_ORIGINAL_COMMAND\"", date.display());
    let session = world.write("session", format!("#!/bin/sh\n{session}\n"), 0o755);
    let roots = site.root_keys.0.display();
    let forced = format!("ForceCommand unshare --mount --propagation private {}\n", session.display());
    let ahead = Server::sshd(world, &format!("{PLAIN}Match User root\nAuthorizedKeysFile {roots}\n{forced}"));
    site.write_register(&["edda"], &[("ahead", &ahead), ("lantern", &site.server)]);
    // It ends in fourteen days by the clock of that host, and in more by ours.
    let line = format!("expiry-time=\"20261207120000Z\" {}", world.read("home/keys/edda.pub"));
    site.account.put(".ssh/authorized_keys", &line, "600", &site.account.name);
    drop(world.typed("survey --login root --identity home/keys/root").expect(0));
    let audit = world.typed("audit --format json").json();
    let rules = |host: &str| -> Vec<String> {
        let all = audit["findings"].as_array().unwrap().iter().filter(|finding| finding["host"] == host);
        let rules = all.map(|finding| finding["rule"].as_str().unwrap().to_owned());
        rules.filter(|rule| ["clock-off", "entry-ends-soon"].contains(&rule.as_str())).collect()
    };
    assert_eq!(rules("lantern"), Vec::<String>::new(), "{audit}");
    let mut found = rules("ahead");
    found.sort();
    assert_eq!(found, ["clock-off", "entry-ends-soon"], "{audit}");
}
