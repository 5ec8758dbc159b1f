//! Small systems, for real: an overlay that has to be told to save, a disk with little room, a system without `sync`.

use crate::common::servers::system;
use crate::common::site::{PLAIN, Site};
use crate::common::write_program;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;

const ENFORCE: &str = "enforce --identity home/keys/root --yes";

/// A folder of root's own with a program in it.
fn program(site: &Site, text: &str) -> String {
    let path = site.root_keys.0.with_file_name("save");
    write_program(&path, text.as_bytes());
    std::fs::set_permissions(&path, PermissionsExt::from_mode(0o755)).unwrap();
    path.display().to_string()
}

fn say(site: &Site, lines: &str) {
    site.write_register(&["edda"], &[("s", &site.server)]);
    site.world.write("hosts.toml", site.world.read("hosts.toml") + lines, 0o644);
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn an_overlay_is_told_to_save_what_is_proven_and_nothing_else() {
    let site = Site::new(PLAIN);
    let saved = site.root_keys.0.with_file_name("saved");
    let text = format!("#!/bin/sh\n[ \"$1\" = all ] || exit 1\ncp {} {}\n", site.account.keys_file(), saved.display());
    let path = program(&site, &text);
    say(&site, &format!("after_change = [\"{path}\", \"all\"]\n"));
    let checked = site.world.typed("register check");
    assert!(checked.stdout.contains("[runs-after-change]") && checked.stdout.contains(" all"), "{checked}");
    // Nothing that fails is saved.
    site.world.write(
        "access.toml",
        site.world.read("access.toml").replace("hosts", "options = [\"no-such\"]\nhosts"),
        0o644,
    );
    drop(site.world.typed(ENFORCE));
    assert!(!saved.exists());
    site.world.write("access.toml", site.world.read("access.toml").replace("options = [\"no-such\"]\n", ""), 0o644);
    let run = site.world.typed(ENFORCE).expect(0);
    assert_eq!(std::fs::read_to_string(&saved).unwrap(), site.keys(), "{run}");
    // One that fails leaves what is done and proven, and says that it may be gone after a restart.
    std::fs::remove_file(site.account.keys_file()).unwrap();
    let failing = program(&site, "#!/bin/sh\necho the card is write-protected\nexit 1\n");
    assert_eq!(failing, path);
    let run = site.world.typed(ENFORCE).expect(5);
    assert!(run.stdout.contains("may not keep it over a restart") && run.stdout.contains("write-protected"), "{run}");
    assert!(site.client_gets_in("edda"));
    // What others may change is not run by root.
    system("chmod", &["777", site.root_keys.0.parent().unwrap().to_str().unwrap()]);
    std::fs::remove_file(site.account.keys_file()).unwrap();
    let text = format!("#!/bin/sh\ntouch {}.twice\n", saved.display());
    let _ = program(&site, &text);
    let run = site.world.typed(ENFORCE);
    system("chmod", &["755", site.root_keys.0.parent().unwrap().to_str().unwrap()]);
    assert!(!saved.with_extension("twice").exists(), "{run}");
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn without_room_for_the_new_file_nothing_is_begun() {
    let site = Site::new(PLAIN);
    let home = &site.account.home;
    system("mount", &["-t", "tmpfs", "-o", "size=128k,mode=755", "tmpfs", home]);
    system("chown", &[&site.account.name, home]);
    let long = format!("# {}\n", "low water ".repeat(100));
    site.account.put(".ssh/authorized_keys", &long.repeat(24), "600", &site.account.name);
    say(&site, "");
    let before = site.keys();
    std::fs::write(format!("{home}/full"), vec![0; 80 << 10]).unwrap();
    let run = site.world.typed(ENFORCE);
    let after = site.keys();
    let names = crate::common::names(std::path::Path::new(&site.account.file(".ssh")));
    let full = std::fs::remove_file(format!("{home}/full"));
    let again = site.world.typed(ENFORCE);
    let got_in = site.client_gets_in("edda");
    Command::new("umount").args(["-l", home]).status().unwrap();
    assert!(run.stdout.contains("there is no room for it"), "{run}");
    assert_eq!((after, names.len(), full.is_ok()), (before, 1, true), "{run}");
    assert!(again.status == 0 && got_in, "{again}");
}

/// The programs that scripts need, without `sync`, `df` and `cp`'s finer points: what a small system has.
#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn a_system_without_sync_is_served_too() {
    let site = Site::new(PLAIN);
    let folder = site.root_keys.0.with_file_name("bin");
    std::fs::create_dir(&folder).unwrap();
    let lists = system("/usr/bin/busybox", &["--list"]);
    for name in lists.lines().filter(|name| !matches!(*name, "sync" | "df" | "setpriv" | "runuser")) {
        std::os::unix::fs::symlink("/usr/bin/busybox", folder.join(name)).unwrap();
    }
    let wrapper = program(
        &site,
        &format!("#!/bin/sh\nPATH={} exec /usr/bin/busybox sh -c \"$SSH_ORIGINAL_COMMAND\"\n", folder.display()),
    );
    let config = site.server.config.clone();
    let text = std::fs::read_to_string(&config).unwrap();
    let text = text.replace("Match User root", &format!("ForceCommand {wrapper}\nMatch User root"));
    std::fs::write(&config, text).unwrap();
    system("chmod", &["755", site.root_keys.0.parent().unwrap().to_str().unwrap()]);
    site.server.reload();
    say(&site, "");
    let run = site.world.typed(ENFORCE).expect(0);
    assert!(site.keys().contains("edda@lantern"), "{run}");
}

/// A server that knows nothing but SHA-1, as appliances of years.
#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn an_old_server_is_spoken_to_only_where_the_register_says_so() {
    let site = Site::new(
        "UsePAM no\nPasswordAuthentication no\nKexAlgorithms diffie-hellman-group14-sha1\nHostKeyAlgorithms ssh-rsa\n\
         PubkeyAcceptedAlgorithms ssh-rsa\nMACs hmac-sha1\nCiphers aes128-ctr\n",
    );
    // Its host key, and those of who signs in, are RSA keys.
    for name in [&site.server.key_name, "edda", "root"] {
        let line = format!(
            "key generate --passphrase none --folder home/keys --replace --algorithm rsa-3072 --name {name} --comment {name}"
        );
        drop(site.world.typed(&line).expect(0));
    }
    std::fs::write(&site.root_keys.0, site.world.read("home/keys/root.pub")).unwrap();
    site.server.reload();
    say(&site, "");
    let run = site.world.typed(ENFORCE).expect(3);
    assert!(run.stdout.contains("it offers only diffie-hellman-group14-sha1"), "{run}");
    say(&site, "old_algorithms = true\n");
    let checked = site.world.typed("register check");
    assert!(checked.stdout.contains("[old-algorithms]"), "{checked}");
    let run = site.world.typed(ENFORCE).expect(0);
    assert!(run.stdout.contains("1 key accepted") && site.keys().contains("ssh-rsa"), "{run}");
    let survey = site.world.typed("survey --identity home/keys/root").expect(0);
    assert!(survey.stdout.contains("surveyed"), "{survey}");
}
