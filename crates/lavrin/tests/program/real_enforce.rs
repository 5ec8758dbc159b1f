//! Enforcing and leaving on real servers: eight of OpenSSH at once, one behind another, one with sudo, one that knows only
//! a password yet, an account without a shell, and dropbear.

use crate::common::World;
use crate::common::servers::{Account, PASSWORD, Server, Sudo, SystemLog, system};
use crate::common::site::{PLAIN, RootKeys, Site};
use std::fmt::Write as _;

struct Fleet {
    world: World,
    accounts: Vec<Account>,
    servers: Vec<Server>,
    device: Server,
    roots: RootKeys,
    _sudo: Sudo,
}

/// The eight servers and the device, each with an account of its own that the register manages there.
fn fleet() -> Fleet {
    let world = World::new();
    let roots = RootKeys::new();
    for name in ["office", "edda", "sten"] {
        drop(world.typed(&format!("key generate --passphrase none --folder home/keys --name {name}")).expect(0));
    }
    std::fs::write(&roots.0, world.read("home/keys/office.pub")).unwrap();
    let shell = |number| if number == 2 { "/usr/sbin/nologin" } else { "/bin/sh" };
    let accounts: Vec<Account> = (0..10).map(|number| Account::new(shell(number))).collect();
    for (number, account) in accounts.iter().enumerate() {
        let keys = match number {
            // Knows only a password yet.
            3 => continue,
            8 | 9 => world.read("home/keys/office.pub"),
            _ => world.read("home/keys/sten.pub"),
        };
        account.put(".ssh/authorized_keys", &format!("# kept\n{keys}"), "600", &account.name);
    }
    // The last account is the login with sudo on the second server.
    let sudo = Sudo::for_account(&accounts[9].name);
    let revoked = roots.0.with_file_name("revoked");
    std::fs::write(&revoked, "# nobody yet\n").unwrap();
    let rest = format!("Match User root\nAuthorizedKeysFile {}\n", roots.0.display());
    let config = |number: usize| {
        let list = if number == 0 { format!("RevokedKeys {}\n", revoked.display()) } else { String::new() };
        format!("{PLAIN}{list}{rest}")
    };
    let servers: Vec<Server> = (0..8).map(|number| Server::sshd(&world, &config(number))).collect();
    let device = Server::dropbear(&world);
    Fleet { world, accounts, servers, device, roots, _sudo: sudo }
}

impl Fleet {
    fn write_register(&self) {
        let world = &self.world;
        world.write("lavrin.toml", "name = \"real\"\n", 0o644);
        for (name, more) in [("office", ""), ("edda", ""), ("sten", "left = 2026-10-01\n")] {
            let key = world.read(&format!("home/keys/{name}.pub"));
            let text = format!("name = \"{name}\"\n{more}\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", key.trim());
            world.write(&format!("people/{name}.toml"), text, 0o644);
        }
        let (mut hosts, mut access) = (String::new(), String::new());
        let ports = self.servers.iter().chain([&self.device]).map(|server| server.port);
        for (number, port) in ports.enumerate() {
            let account = &self.accounts[number].name;
            let more = match number {
                1 => format!("login = \"{}\"\n", self.accounts[9].name),
                3 | 8 => format!("login = \"{account}\"\n"),
                7 => "through = \"s0\"\n".to_owned(),
                _ => String::new(),
            };
            let (mut host_key, address) = (String::new(), "address = \"127.0.0.1\"");
            if number < 8 {
                host_key = format!("host_keys = [\"{}\"]\n", self.servers[number].public_line(world));
            }
            let _ = write!(
                hosts,
                "[s{number}]\n{address}\nport = {port}\naccounts = [\"{account}\"]\ntags = [\"all\"]\n{more}{host_key}"
            );
            let grant = |who: &str| {
                format!("[[grant]]\nperson = \"{who}\"\naccount = \"{account}\"\nhosts = [\"s{number}\"]\n")
            };
            access += &grant("edda");
            if number == 3 || number == 8 {
                access += &grant("office");
            }
        }
        world.write("hosts.toml", hosts, 0o644);
        world.write("access.toml", access, 0o644);
        let shown = world.typed("host trust s8").expect(2).stderr;
        let print = shown.split_whitespace().find(|word| word.starts_with("SHA256:")).unwrap().to_owned();
        drop(world.typed(&format!("host trust s8 --expect-host-key {print}")).expect(0));
    }

    fn keys(&self, number: usize) -> String {
        std::fs::read_to_string(self.accounts[number].keys_file()).unwrap_or_default()
    }

    fn client_gets_in(&self, number: usize, key: &str) -> bool {
        let port = self.servers.get(number).map_or(self.device.port, |server| server.port);
        let mut ssh = std::process::Command::new("/usr/bin/ssh");
        let options = "-F none -o BatchMode=yes -o IdentitiesOnly=yes -o StrictHostKeyChecking=no -o LogLevel=ERROR";
        ssh.args(options.split(' '))
            .arg("-o")
            .arg(format!("UserKnownHostsFile={}", self.world.path("client_known_hosts").display()));
        ssh.arg("-i").arg(self.world.path(&format!("home/keys/{key}"))).args(["-p", &port.to_string()]);
        ssh.arg(format!("{}@127.0.0.1", self.accounts[number].name)).arg("id").env_remove("SSH_AUTH_SOCK");
        ssh.stdin(std::process::Stdio::null()).stderr(std::process::Stdio::null()).status().unwrap().success()
    }
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn eight_servers_and_a_small_device_are_enforced_and_left() {
    let fleet = fleet();
    fleet.write_register();
    let world = &fleet.world;
    world.write("pw", PASSWORD, 0o600);
    let log = SystemLog::take();
    let way = "--identity home/keys/office --password-file pw";
    let run = world.typed(&format!("enforce {way} --yes --reason tidy-up --format json"));
    let json: serde_json::Value = serde_json::from_str(&run.stdout).unwrap();
    for host in json["hosts"].as_array().unwrap() {
        assert_eq!(host["state"], "done", "{run}");
        let heard: Vec<&str> =
            host["proofs"].as_array().unwrap().iter().map(|proof| proof["answer"].as_str().unwrap()).collect();
        // dropbear answers a question about a nologin account as about any other.
        assert!(heard.contains(&"accepted"), "{run}");
    }
    assert_eq!(run.status, 0, "{run}");
    if let Some(log) = log {
        let said = log.end();
        assert!(said.contains("lavrin") && said.contains("enforce: tidy-up"), "{said}");
    }
    let edda = world.read("home/keys/edda.pub");
    for number in [0, 1, 2, 4, 5, 6, 7] {
        assert_eq!(fleet.keys(number), format!("# kept\n{edda}"), "{number}");
    }
    assert!(fleet.keys(3).contains(edda.trim()) && fleet.keys(8).contains(edda.trim()));
    for number in [0, 1, 3, 4, 5, 6, 7, 8] {
        assert!(fleet.client_gets_in(number, "edda"), "{number}");
        assert!(!fleet.client_gets_in(number, "sten"), "{number}");
    }
    assert!(!fleet.client_gets_in(2, "edda"), "the account has no shell");
    // Made by the account itself, with its own rights, on the server that knew only a password.
    let stat = system("stat", &["-c", "%U %a", &fleet.accounts[3].keys_file()]);
    assert_eq!(stat.trim(), format!("{} 600", fleet.accounts[3].name));
    drop(world.typed("compare").expect(0));
    let again = world.typed(&format!("enforce {way} --yes")).expect(0);
    assert!(again.stdout.contains("9 with nothing to do"), "{again}");
    leave(&fleet, way);
}

/// edda leaves; on the first server her key is shut out by its own list before anything else.
fn leave(fleet: &Fleet, way: &str) {
    let world = &fleet.world;
    // All servers are one machine here, so each shows the accounts that only another one manages; and a login without root's
    // rights may not read them.
    let gone = world.typed(&format!("offboard edda --revoke-first {way} --yes --format json")).expect(3).json();
    let states: Vec<&str> = gone["keys"].as_array().unwrap().iter().map(|row| row["state"].as_str().unwrap()).collect();
    assert_eq!(states.iter().filter(|state| **state == "removed").count(), 9, "{gone}");
    let revoked = std::fs::read_to_string(fleet.roots.0.with_file_name("revoked")).unwrap();
    let blob = world.read("home/keys/edda.pub").split(' ').nth(1).unwrap().to_owned();
    assert!(revoked.starts_with("# nobody yet\n") && revoked.contains(&blob), "{revoked}");
    for number in [0, 1, 3, 4, 8] {
        assert!(!fleet.client_gets_in(number, "edda"), "{number}");
    }
    drop(world.typed(&format!("probe edda --until refused {way}")).expect(0));
    // Who left stays away when all of it is taken back, but for an explicit word.
    let run = gone["run"].as_str().unwrap();
    let away = world.typed(&format!("undo --run {run} {way} --yes")).expect(1);
    assert!(away.stderr.contains("stays away") && !fleet.client_gets_in(0, "edda"), "{away}");
    drop(world.typed(&format!("undo --run {run} {way} --yes --even-leavers")).expect(0));
    assert!(fleet.client_gets_in(0, "edda") && fleet.client_gets_in(4, "edda"));
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn a_full_disk_and_a_read_only_one_change_nothing() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    drop(world.typed("key generate --passphrase none --folder home/keys --name sten").expect(0));
    let before = world.read("home/keys/root.pub");
    site.account.put(".ssh/authorized_keys", &before, "600", &site.account.name);
    let folder = site.account.file(".ssh");
    let name = &site.account.name;
    site.write_register(&["root", "sten"], &[("s", &site.server)]);
    let key = world.read("home/keys/sten.pub");
    // A small disk of its own for the folder, filled to the last byte.
    let _mount = Mount::tmpfs(&folder, name, "size=16k");
    site.account.put(".ssh/authorized_keys", &before, "600", name);
    let _ = std::process::Command::new("dd")
        .args(["if=/dev/zero", &format!("of={folder}/filler"), "bs=1k", "count=64"])
        .stderr(std::process::Stdio::null())
        .status();
    for state in ["full", "read-only"] {
        if state == "read-only" {
            std::fs::remove_file(format!("{folder}/filler")).unwrap();
            system("mount", &["-o", "remount,ro", &folder]);
        }
        let run = world.typed("enforce --identity home/keys/root --yes").expect(4);
        assert!(run.stdout.contains("as before"), "{state}: {run}");
        assert_eq!(site.keys(), before, "{state}");
        let names = crate::common::names(std::path::Path::new(&folder));
        assert!(names.iter().all(|name| !name.starts_with(".lavrin")), "{state}: {names:?}");
    }
    system("mount", &["-o", "remount,rw", &folder]);
    drop(world.typed("enforce --identity home/keys/root --yes").expect(0));
    assert_eq!(site.keys(), before + &key);
}

/// A file system of its own, taken away when dropped.
struct Mount(String);

impl Mount {
    fn tmpfs(folder: &str, owner: &str, size: &str) -> Self {
        system("mount", &["-t", "tmpfs", "-o", &format!("{size},mode=700"), "tmpfs", folder]);
        system("chown", &[&format!("{owner}:{owner}"), folder]);
        Self(folder.to_owned())
    }
}

impl Drop for Mount {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount").arg(&self.0).status();
    }
}
