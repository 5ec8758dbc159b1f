//! The configuration of a person's client: what is in it, where it goes, and that the stock client works with it.

use crate::common::servers::Server;
use crate::common::site::{PLAIN, Site};
use crate::common::{World, key, names};
use std::process::{Command, Output, Stdio};

/// A register of three hosts, one behind the other, and somebody who may use them.
fn world() -> World {
    let world = World::new();
    let line = |seed: u8| key(seed).public().line("").trim().to_owned();
    world.write("lavrin.toml", "name = \"Skerry lights\"\n", 0o644);
    let edda = format!(
        "name = \"Edda\"\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n[[key]]\nlabel = \"tablet\"\nline = \"{}\"\n",
        line(1),
        line(4)
    );
    world.write("people/edda.toml", edda, 0o644);
    let hosts = format!(
        "[office]\naddress = \"192.0.2.2\"\nhost_keys = [\"{}\"]\n\
         [lantern]\naddress = \"192.0.2.7\"\nport = 2222\nthrough = \"office\"\nhost_keys = [\"{}\"]\n\
         [buoy-7]\naddress = \"192.0.2.70\"\n[horn]\naddress = \"192.0.2.80\"\nreach = \"netconf\"\n",
        line(2),
        line(3)
    );
    world.write("hosts.toml", hosts, 0o644);
    let grant = |account: &str, host: &str, more: &str| {
        format!("[[grant]]\nperson = \"edda\"\naccount = \"{account}\"\nhosts = [\"{host}\"]\n{more}")
    };
    let access = grant("edda", "office", "")
        + &grant("keeper", "lantern", "until = 2027-01-31\nfrom = \"192.0.2.0/24\"\n")
        + &grant("edda", "lantern", "")
        + &grant("root", "buoy-7", "key = \"tablet\"\n")
        + &grant("edda", "horn", "");
    world.write("access.toml", access, 0o644);
    let _ = world.put_pair(".ssh/edda", 1, "edda");
    world
}

#[test]
fn a_person_gets_a_block_for_each_account_and_is_told_what_is_left_out() {
    let world = world();
    let run = world.typed("shortcuts edda").expect(1);
    insta::assert_snapshot!("shortcuts_of_a_person", run);
    // Where the key is another one, other accounts open.
    world.write("home/tablet.pub", key(4).public().line("edda"), 0o644);
    let out = world.typed("shortcuts edda --identity home/tablet.pub --format json").expect(1).json();
    let aliases: Vec<&str> =
        out["shortcuts"].as_array().unwrap().iter().map(|one| one["alias"].as_str().unwrap()).collect();
    assert_eq!(aliases, ["buoy-7", "lantern+edda", "lantern+keeper", "office"]);
    world.write("home/other.pub", key(9).public().line("edda"), 0o644);
    let run = world.typed("shortcuts edda --identity home/other.pub").expect(4);
    assert!(run.stderr.contains("is no key in use of edda"), "{run}");
    let run = world.typed("shortcuts eda").expect(2);
    assert!(run.stderr.contains("near to it: edda"), "{run}");
    let crlf = world.typed("shortcuts edda --crlf").expect(1);
    assert!(
        crlf.stdout.lines().count() > 20
            && crlf
                .stdout
                .trim_end()
                .split('\n')
                .all(|line| line.is_empty() || line.ends_with('\r') || line.starts_with("#   ")),
        "{crlf}"
    );
}

#[test]
fn the_clients_own_file_gets_one_line_and_loses_it_again() {
    let world = world();
    let own = "# mine\r\nHost *\r\n  User nobody\r\n";
    world.write("home/.ssh/config", own, 0o640);
    // Nobody is there to say yes: the files are written, the line is not.
    let run = world.typed("shortcuts edda --write").expect(2);
    assert!(run.stderr.contains("--yes") && world.read("home/.ssh/config") == own, "{run}");
    let run = world.typed("shortcuts edda --write --yes").expect(1);
    let line = format!("Include {}", world.path("home/.ssh/lavrin/*.conf").display());
    assert_eq!(world.read("home/.ssh/config"), format!("{line}\r\n{own}"), "{run}");
    assert_eq!(world.mode("home/.ssh/config"), "0640");
    assert_eq!(
        (world.mode("home/.ssh/lavrin"), world.mode("home/.ssh/lavrin/edda.conf")),
        ("0700".into(), "0600".into())
    );
    let kept = names(&world.path("home/.ssh")).into_iter().find(|name| name.starts_with("config.until-")).unwrap();
    assert_eq!(world.read(&format!("home/.ssh/{kept}")), own);
    // Again: nothing is doubled.
    drop(world.typed("shortcuts edda --write --yes").expect(1));
    assert_eq!(world.read("home/.ssh/config").matches("Include").count(), 1);
    // What somebody else wrote there is left alone.
    world.write("home/.ssh/lavrin/other.conf", "Host other\n", 0o600);
    drop(world.typed("shortcuts edda --remove --yes").expect(0));
    assert!(world.read("home/.ssh/config").contains("Include"), "other.conf is still read");
    world.write("home/.ssh/lavrin/edda.conf", "Host mine\n", 0o600);
    drop(world.typed("shortcuts edda --write --yes").expect(4));
    drop(world.typed("shortcuts edda --remove --yes").expect(4));
    assert_eq!(world.read("home/.ssh/lavrin/edda.conf"), "Host mine\n");
    for name in ["other.conf", "edda.conf"] {
        std::fs::remove_file(world.path(&format!("home/.ssh/lavrin/{name}"))).unwrap();
    }
    drop(world.typed("shortcuts edda --remove --yes").expect(0));
    assert_eq!(world.read("home/.ssh/config"), own);
    assert!(!world.path("home/.ssh/lavrin").exists());
    drop(world.typed("shortcuts edda --remove --yes").expect(2));
}

#[test]
fn a_link_stays_one_and_a_key_that_is_offered_too_is_told() {
    let world = world();
    world.write("dotfiles/config", "Host *\n  IdentityFile ~/.ssh/old\n", 0o600);
    std::os::unix::fs::symlink(world.path("dotfiles/config"), world.path("home/.ssh/config")).unwrap();
    let run = world.typed("shortcuts edda --write --yes").expect(1);
    assert!(run.stderr.contains("names ~/.ssh/old for lantern+edda too"), "{run}");
    assert!(world.path("home/.ssh/config").is_symlink() && world.read("dotfiles/config").starts_with("Include "));
}

#[test]
fn what_a_register_holds_becomes_no_keyword_of_a_client() {
    let world = world();
    let hosts = "[lantern]\naddress = \"192.0.2.7\\nProxyCommand touch /tmp/x\"\n[office]\naddress = \"192.0.2.2\"\n";
    world.write("hosts.toml", hosts, 0o644);
    let more =
        "[[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"office\"]\ncommand = \"tide\\nProxyCommand x\"\n";
    world.write(
        "access.toml",
        more.to_owned() + "[[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"lantern\"]\n",
        0o644,
    );
    let run = world.typed("shortcuts edda");
    assert!(run.stdout.lines().all(|line| !line.trim_start().starts_with("ProxyCommand")), "{run}");
    assert!(run.stderr.contains("cannot hold"), "{run}");
}

fn client(site: &World, words: &[&str]) -> Output {
    let config = site.path("home/.ssh/config");
    let mut ssh = Command::new("/usr/bin/ssh");
    ssh.arg("-F").arg(config).args(["-o", "BatchMode=yes"]).args(words);
    ssh.env_remove("SSH_AUTH_SOCK").stdin(Stdio::null()).output().unwrap()
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn the_stock_client_takes_it_and_gets_in_through_the_jump_host() {
    let site = Site::new(PLAIN);
    let lantern = Server::sshd(&site.world, PLAIN);
    let world = &site.world;
    site.account.put(".ssh/authorized_keys", &world.read("home/keys/edda.pub"), "600", &site.account.name);
    site.write_register(&["edda"], &[("office", &site.server), ("lantern", &lantern)]);
    let hosts = world.read("hosts.toml").replace("[lantern]\n", "[lantern]\nthrough = \"office\"\n");
    world.write("hosts.toml", hosts, 0o644);
    for crlf in ["", " --crlf"] {
        drop(world.typed(&format!("shortcuts edda --identity home/keys/edda --write --yes{crlf}")).expect(0));
        let settings = client(world, &["-G", "lantern"]);
        let settings = String::from_utf8(settings.stdout).unwrap();
        for wanted in [
            format!("user {}\n", site.account.name),
            format!("port {}\n", lantern.port),
            "proxyjump office\n".to_owned(),
            "identitiesonly yes\n".to_owned(),
            "forwardagent no\n".to_owned(),
            "hostkeyalias lantern\n".to_owned(),
            "stricthostkeychecking true\n".to_owned(),
        ] {
            assert!(settings.contains(&wanted), "{wanted} is missing{crlf}: {settings}");
        }
        assert_eq!(settings.matches("identityfile ").count(), 1, "{settings}");
        // The client on the way takes its settings from the user's own file: a real home has it there.
        let jump = format!(
            "ProxyCommand=/usr/bin/ssh -F {} -o BatchMode=yes -W %h:%p office",
            world.path("home/.ssh/config").display()
        );
        for words in [&["lantern", "id", "-un"][..], &["-o", &jump, "lantern", "id", "-un"][..]] {
            let said = client(world, words);
            assert_eq!(
                String::from_utf8_lossy(&said.stdout).trim(),
                site.account.name,
                "{words:?} {}",
                String::from_utf8_lossy(&said.stderr)
            );
        }
    }
    // Another key behind the name is refused.
    let wrong = world
        .read("home/.ssh/lavrin/edda.known_hosts")
        .replace(&lantern.public_line(world), &site.server.public_line(world));
    world.write("home/.ssh/lavrin/edda.known_hosts", wrong, 0o600);
    let said = client(world, &["lantern", "true"]);
    assert!(!said.status.success() && String::from_utf8_lossy(&said.stderr).contains("Host key verification failed"));
    drop(world.typed("shortcuts edda --identity home/keys/edda --write --yes").expect(0));
    // And nobody gets there but over the jump host.
    let Site { world, server, account, root_keys } = site;
    drop(server);
    assert!(!client(&world, &["-o", "ConnectTimeout=5", "lantern", "true"]).status.success());
    drop((account, root_keys));
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn one_account_needs_no_register() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    drop(site.run("install home/keys/edda.pub TARGET --login root --identity home/keys/root --yes").expect(0));
    let line =
        format!("shortcuts {} --port {} --alias lamp --identity home/keys/edda", site.target(), site.server.port);
    drop(world.typed(&format!("{line} --write --yes")).expect(0));
    let said = client(world, &["lamp", "id", "-un"]);
    assert_eq!(
        String::from_utf8_lossy(&said.stdout).trim(),
        site.account.name,
        "{}",
        String::from_utf8_lossy(&said.stderr)
    );
    assert!(world.read("home/.ssh/lavrin/lamp.conf").contains("StrictHostKeyChecking yes"), "install had it confirmed");
    drop(world.typed(&format!("shortcuts {} --alias lamp --remove --yes", site.target())).expect(0));
    assert!(!world.path("home/.ssh/lavrin").exists());
}
