//! What a new machine gets: rebuilt from each form, and asked who gets in; read by the real cloud-init on a whole machine.

use crate::common::machine::{Machine, TreeCopy};
use crate::common::{World, key};
use std::os::unix::fs::MetadataExt as _;
use std::process::Command;

fn world() -> World {
    let world = World::new();
    let line = |seed: u8| key(seed).public().line("").trim().to_owned();
    world.write("lavrin.toml", "name = \"Skerry lights\"\n[policy]\nkeys_only = [\"lights\"]\n", 0o644);
    for (name, seed) in [("edda", 1), ("sten", 2)] {
        let text =
            format!("name = \"{name}\"\nteam = \"lights\"\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line(seed));
        world.write(&format!("people/{name}.toml"), text, 0o644);
    }
    let host = |name: &str| {
        format!("[{name}]\naddress = \"192.0.2.7\"\ntags = [\"lights\"]\naccounts = [\"root\", \"lamp\"]\n")
    };
    world.write(
        "hosts.toml",
        host("lantern") + &host("skerry") + "[horn]\naddress = \"192.0.2.8\"\nreach = \"netconf\"\n",
        0o644,
    );
    let access = "[[grant]]\nperson = \"edda\"\naccount = \"root\"\nhosts = [\"*\"]\n\
        [[grant]]\nteam = \"lights\"\naccount = \"keeper\"\ntags = [\"lights\"]\nuntil = 2027-01-31\nfrom = \"192.0.2.0/24\"\n\
        create = true\ngroups = [\"tide\"]\nshell = \"/bin/sh\"\n";
    world.write("access.toml", access, 0o644);
    world
}

#[test]
fn each_form_holds_what_the_register_grants() {
    let world = world();
    insta::assert_snapshot!("firstboot_cloud_config", world.typed("firstboot lantern").expect(1));
    insta::assert_snapshot!("firstboot_shell", world.typed("firstboot lantern --form shell").expect(1));
    let run = world.typed("firstboot lantern --form authorized-keys").expect(2);
    assert!(run.stderr.contains("--account keeper"), "{run}");
    let run = world.typed("firstboot lantern --form authorized-keys --account keeper").expect(0);
    assert_eq!(run.stdout.lines().count(), 2);
    for (line, code, words) in [
        ("firstboot horn", 2, "netconf"),
        ("firstboot lantern --host-key", 2, "--out lantern.yaml"),
        ("firstboot lights", 2, "--out lights"),
        ("firstboot lantern --form shell --host-key --out x", 2, "--form cloud-config"),
        ("firstboot lanter", 2, "near to it: lantern"),
        ("firstboot lantern --form tree --out lantern.tar", 2, "--owner keeper=1000"),
    ] {
        let run = world.typed(line).expect(code);
        assert!(run.stderr.contains(words), "{line}: {run}");
    }
}

#[test]
fn a_machine_proves_itself_by_a_key_that_was_pinned_before_it_existed() {
    let world = world();
    drop(world.typed("firstboot lights --host-key --out images").expect(1));
    for host in ["lantern", "skerry"] {
        let file = format!("images/{host}.yaml");
        assert_eq!(world.mode(&file), "0600");
        let text = world.read(&file);
        let public = text.lines().find_map(|line| line.strip_prefix("  ed25519_public: \"")).unwrap();
        let public = public.split(' ').take(2).collect::<Vec<_>>().join(" ");
        let shown = world.typed(&format!("host show {host} --format json")).expect(0).json();
        assert_eq!(shown["host_keys"].as_array().unwrap().len(), 1);
        assert!(world.read("hosts.toml").contains(&public), "{host}");
    }
    // Neither the file nor the pin is replaced unasked.
    let hosts = world.read("hosts.toml");
    drop(world.typed("firstboot lantern --host-key --out new.yaml").expect(4));
    drop(world.typed("firstboot lantern --out images/lantern.yaml").expect(2));
    assert_eq!((world.read("hosts.toml"), world.path("new.yaml").exists()), (hosts, false));
    drop(world.typed("firstboot lantern --host-key --replace --out new.yaml").expect(1));
}

#[test]
fn one_host_never_stops_the_others() {
    let world = world();
    let hosts = world.read("hosts.toml") + "[mole]\naddress = \"192.0.2.9\"\ntags = [\"lights\"]\n";
    world.write("hosts.toml", hosts, 0o644);
    let access = world.read("access.toml").replace("hosts = [\"*\"]", "hosts = [\"lantern\"]");
    let odd = "[[grant]]\nperson = \"edda\"\naccount = \"a;b\"\nhosts = [\"mole\"]\n";
    world.write("access.toml", access + odd, 0o644);
    let out = world.typed("firstboot lights --form shell --out images --format json").expect(4).json();
    let problems: Vec<bool> = out["hosts"].as_array().unwrap().iter().map(|host| host["problem"].is_string()).collect();
    assert_eq!(problems, [false, true, false], "{out}");
    assert_eq!(crate::common::names(&world.path("images")), ["lantern.sh", "skerry.sh"]);
}

#[test]
fn no_value_of_a_register_is_carried_out_as_root() {
    let world = world();
    let access = |account: &str, more: &str| {
        format!("[[grant]]\nperson = \"edda\"\naccount = \"{account}\"\nhosts = [\"lantern\"]\n{more}")
    };
    for (account, more) in [
        ("a;touch x", ""),
        ("keeper", "create = true\nhome = \"/home/$(touch x)\"\n"),
        ("keeper", "create = true\nhome = \"/home/../etc\"\n"),
        ("keeper", "create = true\nshell = \"/bin/sh -c x\"\n"),
        ("keeper", "create = true\ngroups = [\"a b\"]\n"),
    ] {
        world.write("access.toml", access(account, more), 0o644);
        for form in ["cloud-config", "shell"] {
            let run = world.typed(&format!("firstboot lantern --form {form}"));
            assert!(run.status != 0 && run.stdout.is_empty(), "{account} {more} {run}");
        }
    }
    // What an entry says stays one line, whatever stands in it.
    world.write("access.toml", access("keeper", "command = \"x\\nEND_OF_KEYS\\ntouch x\"\n"), 0o644);
    let run = world.typed("firstboot lantern --form shell");
    assert!(!run.stdout.lines().any(|line| line.starts_with("touch")), "{run}");
}

/// Whether the rebuilt system lets the key in.
fn why(world: &World, tree: &str, account: &str, seed: u8) -> i32 {
    world.write("asked.pub", key(seed).public().line(""), 0o644);
    let line =
        format!("why {account} --tree {tree} --key asked.pub --from-address 192.0.2.17 --server openssh-9.2+debian");
    world.typed(&line).status
}

#[test]
fn a_tree_that_is_rebuilt_from_the_archive_lets_in_who_is_granted() {
    let world = world();
    let me = std::fs::metadata(world.path("")).unwrap();
    let (uid, gid) = (me.uid(), me.gid());
    let line =
        format!("firstboot lantern --form tree --out lantern.tar --owner keeper={uid}:{gid} --owner root={uid}:{gid}");
    drop(world.typed(&line).expect(1));
    let passwd = format!("root:x:{uid}:{gid}::/root:/bin/sh\nkeeper:x:{uid}:{gid}::/home/keeper:/bin/sh\n");
    for folder in ["tree/root", "tree/home/keeper"] {
        std::fs::create_dir_all(world.path(folder)).unwrap();
    }
    world.write("tree/etc/passwd", passwd, 0o644);
    world.write("tree/etc/ssh/sshd_config", "Include /etc/ssh/sshd_config.d/*.conf\nStrictModes yes\n", 0o644);
    let unpacked =
        Command::new("tar").args(["-xpf"]).arg(world.path("lantern.tar")).arg("-C").arg(world.path("tree")).output();
    let unpacked = unpacked.unwrap();
    assert!(unpacked.status.success(), "{}", String::from_utf8_lossy(&unpacked.stderr));
    assert_eq!(
        (world.mode("tree/home/keeper/.ssh"), world.mode("tree/home/keeper/.ssh/authorized_keys")),
        ("0700".into(), "0600".into())
    );
    assert_eq!(why(&world, "tree", "keeper", 1), 0);
    assert_eq!(why(&world, "tree", "keeper", 2), 0);
    assert_eq!(why(&world, "tree", "root", 1), 0);
    assert_eq!(why(&world, "tree", "root", 2), 1);
    assert_eq!(world.read("tree/etc/ssh/sshd_config.d/00-keys-only.conf").lines().count(), 2);
}

#[test]
#[ignore = "needs root and trees of whole machines: scripts/test.sh"]
fn the_fragment_makes_accounts_on_real_systems_and_runs_twice() {
    for suite in ["bookworm", "trixie"] {
        let world = world();
        let copy = TreeCopy::of(suite);
        let made = copy.root();
        drop(world.typed("firstboot lantern --form shell --out first.sh").expect(1));
        std::fs::copy(world.path("first.sh"), made.join("root/first.sh")).unwrap();
        for _ in 0..2 {
            let ran = Command::new("chroot").arg(&made).args(["/bin/sh", "/root/first.sh"]).output().unwrap();
            assert!(ran.status.success() && ran.stderr.is_empty(), "{}", String::from_utf8_lossy(&ran.stderr));
        }
        let keys = std::fs::read_to_string(made.join("home/keeper/.ssh/authorized_keys")).unwrap();
        assert_eq!(keys.lines().count(), 2, "{keys}");
        let tree = made.to_string_lossy().into_owned();
        for (account, seed, code) in [("keeper", 1, 0), ("keeper", 2, 0), ("root", 1, 0), ("root", 2, 1)] {
            assert_eq!(why(&world, &tree, account, seed), code, "{suite} {account} {seed}");
        }
        let groups = Command::new("chroot").arg(&made).args(["id", "-nG", "keeper"]).output().unwrap();
        assert!(String::from_utf8_lossy(&groups.stdout).contains("tide"));
    }
}

#[test]
#[ignore = "needs root and trees of whole machines: scripts/test.sh"]
fn the_real_cloud_init_makes_the_accounts_and_a_login_proves_it() {
    for suite in ["bookworm", "trixie"] {
        let world = world();
        for name in ["root", "edda"] {
            drop(world.typed(&format!("key generate --passphrase none --folder home/keys --name {name}")).expect(0));
        }
        let line = world.read("home/keys/edda.pub");
        world.write(
            "people/edda.toml",
            format!("name = \"edda\"\nteam = \"lights\"\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line.trim()),
            0o644,
        );
        let access = world.read("access.toml").replace("192.0.2.0/24", "127.0.0.0/8");
        world.write("access.toml", access, 0o644);
        drop(world.typed("firstboot lantern --host-key --out lantern.yaml").expect(1));
        let machine = Machine::boot(suite, &world, |root, _, _| {
            std::fs::remove_file(root.join("etc/cloud/cloud-init.disabled")).unwrap();
            // Nothing on the network is asked, and the network is left as it is.
            let settings = "datasource_list: [NoCloud]\nnetwork: {config: disabled}\n";
            std::fs::write(root.join("etc/cloud/cloud.cfg.d/99-test.cfg"), settings).unwrap();
            let seed = root.join("var/lib/cloud/seed/nocloud");
            std::fs::create_dir_all(&seed).unwrap();
            std::fs::write(seed.join("meta-data"), "instance-id: lantern-1\n").unwrap();
            std::fs::copy(world.path("lantern.yaml"), seed.join("user-data")).unwrap();
            // Only what cloud-init puts there opens anything.
            std::fs::remove_dir_all(root.join("root/.ssh")).unwrap();
        });
        // Pinned before it existed: the client is told nothing else.
        let hosts = world.read("hosts.toml").replacen("192.0.2.7", &machine.address, 1);
        world.write("hosts.toml", hosts.replacen("tags", &format!("port = {}\ntags", machine.port), 1), 0o644);
        let line = "shortcuts edda --identity home/keys/edda --write --yes";
        drop(world.typed(line));
        let says = |alias: &str, command: &str| {
            let output = Command::new("/usr/bin/ssh")
                .arg("-F")
                .arg(world.path("home/.ssh/config"))
                .args(["-o", "BatchMode=yes", alias, command])
                .env_remove("SSH_AUTH_SOCK")
                .output()
                .unwrap();
            (String::from_utf8_lossy(&output.stdout).into_owned(), String::from_utf8_lossy(&output.stderr).into_owned())
        };
        let done = || machine.path("var/lib/cloud/instances/lantern-1/boot-finished").exists();
        crate::common::site::wait_for(done);
        let (said, refused) = says("lantern+keeper", "id -un; id -nG; stat -c %a .ssh/authorized_keys");
        assert_eq!(
            said.split_whitespace().collect::<Vec<_>>(),
            ["keeper", "keeper", "tide", "600"],
            "{suite} {refused}"
        );
        let (said, refused) = says("lantern+root", "sshd -T | grep -E '^(passwordauthentication|permitrootlogin)'");
        assert!(said.contains("passwordauthentication no"), "{suite} {said} {refused}");
        drop(machine);
    }
}
