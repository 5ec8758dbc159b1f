//! The real thing: OpenSSH's server with real accounts, and the real `ssh` client. Ways to get in: `real_login.rs`.

use crate::common::World;
use crate::common::servers::{PASSWORD, system};
use crate::common::site::{PLAIN, Running, Site, wait_for};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn the_whole_job_from_a_password_to_a_refused_key() {
    let site = Site::new(PLAIN);
    let run = site.run("install home/keys/edda.pub TARGET --password-env PW --yes --try-command id").expect(0);
    assert!(run.stdout.contains("Installed: the key opens ACCOUNT on 127.0.0.1"), "{run}");
    assert!(run.stdout.contains("proof   a new login as ACCOUNT with publickey: home/keys/edda"), "{run}");
    assert!(run.stdout.contains("id ended with status 0: uid="), "{run}");
    assert_eq!([site.account.stat(".ssh"), site.account.stat(".ssh/authorized_keys")], ["700 ACCOUNT", "600 ACCOUNT"]);
    assert_eq!(site.keys(), site.world.read("home/keys/edda.pub"));
    assert_eq!(crate::common::names(std::path::Path::new(&site.account.file(".ssh"))), ["authorized_keys"]);
    assert!(site.client_gets_in("edda"));
    let again = site.run("install home/keys/edda.pub TARGET --identity home/keys/edda --yes").expect(0);
    assert!(again.stdout.contains("Nothing to do"), "{again}");
    let _ =
        site.run("why TARGET --key home/keys/edda.pub --identity home/keys/edda --from-address 127.0.0.1").expect(0);
    let probe = site.run("probe home/keys/edda.pub TARGET").expect(0);
    assert!(probe.stdout.contains("would accept"), "{probe}");
    let _ = site.run("probe TARGET --identity home/keys/edda").expect(0);
    let stopped = site.run("remove home/keys/edda.pub TARGET --identity home/keys/edda --yes").expect(4);
    assert!(stopped.stderr.contains("--accept-lockout"), "{stopped}");
    assert!(site.client_gets_in("edda"));

    // A session that is open stays open, and is counted.
    let session = Running(site.ssh("edda", "sleep 30").spawn().unwrap());
    wait_for(|| system("ps", &["-eo", "args"]).contains(&format!("sshd: {}@", site.account.name)));
    let removed = site.run("remove home/keys/edda.pub TARGET --password-env PW --yes").expect(0);
    assert!(removed.stdout.contains("asked from outside, the server refuses the key"), "{removed}");
    assert!(removed.stdout.contains("1 session of ACCOUNT is still open"), "{removed}");
    drop(session);
    assert!(!site.client_gets_in("edda"));
    let _ = site.run("probe home/keys/edda.pub TARGET").expect(1);
    assert_eq!(site.keys(), "");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn root_mends_what_root_broke() {
    let site = Site::new(PLAIN);
    let old = "# by hand\nrestrict ssh-ed25519 broken\nno newline at the end";
    site.account.put(".ssh/authorized_keys", old, "600", "root");
    system("chown", &["root:root", &site.account.file(".ssh")]);
    system("chmod", &["755", &site.account.file(".ssh")]);
    let run = site.run("install home/keys/edda.pub TARGET --login root --identity home/keys/root --yes").expect(0);
    assert!(run.stderr.contains("give /home/ACCOUNT/.ssh to ACCOUNT (was uid 0)"), "{run}");
    assert_eq!([site.account.stat(".ssh"), site.account.stat(".ssh/authorized_keys")], ["700 ACCOUNT", "600 ACCOUNT"]);
    assert_eq!(site.keys(), format!("{old}\n{}", site.world.read("home/keys/edda.pub")));
    assert!(site.client_gets_in("edda"));
    // Two lines nobody understands: that they hold the key no more is not shown.
    let run = site.run("remove home/keys/edda.pub TARGET --login root --identity home/keys/root --yes").expect(3);
    assert!(run.stdout.contains("no other session") && run.stdout.contains("line 2 is not understood"), "{run}");
    assert_eq!(site.keys(), format!("{old}\n"));
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn the_account_alone_is_told_when_only_root_can_help() {
    let site = Site::new(PLAIN);
    site.account.put(".ssh/authorized_keys", "# x\n", "600", "root");
    system("chown", &["root:root", &site.account.file(".ssh")]);
    let run = site.run("install home/keys/edda.pub TARGET --password-env PW --yes").expect(4);
    assert!(run.stderr.contains("nothing was changed") && run.stderr.contains("--login NAME"), "{run}");
    assert_eq!(site.keys(), "# x\n");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn the_audit_sees_every_account_and_never_a_secret() {
    let site = Site::new(PLAIN);
    let private = site.world.read("home/keys/edda");
    site.account.put(".ssh/left-behind", &private, "600", &site.account.name);
    site.account.put(".ssh/authorized_keys", &site.world.read("home/keys/edda.pub"), "666", &site.account.name);
    let run = site.run("audit 127.0.0.1 --login root --identity home/keys/root --format json");
    // Accounts of other tests are on this machine too, and not everything in them can be looked at.
    assert!([1, 3].contains(&run.status), "{run}");
    let report = run.json();
    let own: Vec<&str> = report["findings"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["account"] == "ACCOUNT")
        .map(|one| one["rule"].as_str().unwrap())
        .collect();
    assert_eq!(own, ["mode-too-open", "private-key-on-server"]);
    let entry = report["entries"].as_array().unwrap().iter().find(|one| one["account"] == "ACCOUNT").unwrap();
    assert_eq!(entry["comment"], "edda@lantern");
    assert!(!run.stdout.contains("PRIVATE KEY") && !run.stdout.contains(&private[60..120]));
    // Without root's rights the rest is not checked, and said so.
    let _ = site.run("install home/keys/edda.pub TARGET --login root --identity home/keys/root --yes").expect(0);
    let few = site
        .run("audit 127.0.0.1 --login ACCOUNT --identity home/keys/edda --root-by none --format json")
        .expect(3)
        .json();
    assert!(few["summary"]["not_checked"].as_u64().unwrap() > 0, "{few}");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn why_says_what_the_server_does() {
    let site = Site::new(PLAIN);
    let line = site.world.read("home/keys/edda.pub");
    let ask = |expected: &str| {
        let run = site.run("why TARGET --key home/keys/edda.pub --login root --identity home/keys/root --from-address 127.0.0.1 --format json");
        let answer = run.json();
        assert_eq!(answer["deciding"]["rule"].as_str().unwrap_or("accepted"), expected, "{run}");
        assert_eq!(site.client_gets_in("edda"), expected == "accepted", "{run}");
    };
    ask("no-key-file");
    site.account.put(".ssh/authorized_keys", &line, "600", &site.account.name);
    ask("accepted");
    for (path, bad, good, rule) in [
        (".ssh/authorized_keys", "606", "600", "mode-too-open"),
        (".ssh", "702", "700", "mode-too-open"),
        ("", "777", "755", "mode-too-open"),
        (".ssh/authorized_keys", "000", "600", "mode-too-closed"),
    ] {
        system("chmod", &[bad, &site.account.file(path)]);
        ask(rule);
        system("chmod", &[good, &site.account.file(path)]);
    }
    system("chown", &["nobody", &site.account.keys_file()]);
    system("chmod", &["644", &site.account.keys_file()]);
    ask("wrong-owner");
    site.account.put(".ssh/authorized_keys", &format!("expiry-time=\"20010101\" {line}"), "600", &site.account.name);
    ask("expired");
    site.account.put(".ssh/authorized_keys", &format!("from=\"198.51.100.0/24\" {line}"), "600", &site.account.name);
    ask("from-elsewhere");
    site.account.put(".ssh/authorized_keys", &format!("no-such-option {line}"), "600", &site.account.name);
    ask("unusable-line");
    site.account.put(".ssh/authorized_keys", &format!("\r\n \t{}\r\n", line.trim()), "600", &site.account.name);
    ask("accepted");
    system("usermod", &["-L", &site.account.name]);
    ask("account-locked");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_change_that_does_not_prove_itself_is_taken_back() {
    let site = Site::new("UsePAM no\nPasswordAuthentication yes\nPubkeyAuthentication no\n");
    let run = site.run("install home/keys/edda.pub TARGET --password-env PW --yes").expect(4);
    assert!(
        run.stderr.contains("everything is as it was") && run.stderr.contains("PubkeyAuthentication is off"),
        "{run}"
    );
    assert!(!std::path::Path::new(&site.account.file(".ssh")).exists());
    site.account.put(".ssh/authorized_keys", "# mine\n", "640", &site.account.name);
    let _ = site.run("install home/keys/edda.pub TARGET --password-env PW --yes").expect(4);
    assert_eq!(
        (site.keys(), site.account.stat(".ssh/authorized_keys")),
        ("# mine\n".to_owned(), "640 ACCOUNT".to_owned())
    );
    let journal = site.world.read("home/.local/state/lavrin/journal.jsonl");
    assert_eq!(journal.matches("\"outcome\":\"as-before\"").count(), 2, "{journal}");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn what_the_entry_itself_refuses_is_kept_and_said() {
    let site = Site::new(PLAIN);
    let line = format!("from=\"198.51.100.0/24\" {}", site.world.read("home/keys/edda.pub"));
    site.world.write("home/elsewhere.pub", &line, 0o644);
    let run = site.run("install home/elsewhere.pub TARGET --password-env PW --yes").expect(1);
    assert!(
        run.stdout.contains("kept although refused from here: the entry allows this key only from 198.51.100.0/24"),
        "{run}"
    );
    assert_eq!(site.keys(), line);
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn several_key_files_and_a_match_block_are_taken_from_the_server_itself() {
    let site = Site::new(
        "UsePAM no\nPasswordAuthentication yes\nAuthorizedKeysFile .ssh/first .ssh/second\nMatch Address 127.0.0.0/8\nX11Forwarding no\n",
    );
    site.account.put(".ssh/second", &site.world.read("home/keys/edda.pub"), "600", &site.account.name);
    let run = site.run("install home/keys/edda.pub TARGET --login root --identity home/keys/root --yes").expect(0);
    assert!(run.stdout.contains("/home/ACCOUNT/.ssh/second line 1 has the key already"), "{run}");
    let run = site.run("install home/keys/root.pub TARGET --identity home/keys/edda --yes").expect(0);
    assert!(run.stdout.contains("entry   /home/ACCOUNT/.ssh/first line 1"), "{run}");
    let _ = site.run("remove home/keys/edda.pub TARGET --identity home/keys/root --yes").expect(0);
    assert!(site.client_gets_in("root") && !site.client_gets_in("edda"));
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn immutable_files_are_told_and_attributes_survive() {
    let site = Site::new(PLAIN);
    site.account.put(".ssh/authorized_keys", "# mine\n", "600", &site.account.name);
    let path = site.account.keys_file();
    if rustix::fs::setxattr(&path, "user.tide", b"low", rustix::fs::XattrFlags::empty()).is_ok() {
        let _ = site.run("install home/keys/edda.pub TARGET --password-env PW --yes").expect(0);
        let mut value = [0u8; 8];
        let length = rustix::fs::getxattr(&path, "user.tide", &mut value).unwrap();
        assert_eq!(&value[..length], b"low");
    }
    let before = site.keys();
    let marked = Command::new("chattr").args(["+i", &path]).output().is_ok_and(|output| output.status.success());
    if marked {
        let run = site.run("install home/keys/root.pub TARGET --password-env PW --yes");
        system("chattr", &["-i", &path]);
        let run = run.expect(4);
        assert!(run.stderr.contains("immutable") && run.stderr.contains("everything is as it was"), "{run}");
    }
    assert_eq!(site.keys(), before);
    assert_eq!(crate::common::names(std::path::Path::new(&site.account.file(".ssh"))), ["authorized_keys"]);
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn accounts_without_a_shell_are_served_by_root() {
    let site = Site::with_shell(PLAIN, "/usr/sbin/nologin");
    let run = site.run("install home/keys/edda.pub TARGET --login root --identity home/keys/root --yes").expect(0);
    assert!(run.stdout.contains("Installed"), "{run}");
    let run = site.run("why TARGET --key home/keys/edda.pub --identity home/keys/edda").expect(3);
    assert!(run.stderr.contains("no shell answered"), "{run}");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn an_access_list_survives() {
    let site = Site::new(PLAIN);
    site.account.put(".ssh/authorized_keys", "# mine\n", "600", &site.account.name);
    system("setfacl", &["-m", "u:nobody:r", &site.account.keys_file()]);
    let before = system("getfacl", &["-p", &site.account.keys_file()]);
    let _ = site.run("install home/keys/edda.pub TARGET --password-env PW --preview").expect(0);
    let run = site.run("install home/keys/edda.pub TARGET --password-env PW --yes");
    let after = system("getfacl", &["-p", &site.account.keys_file()]);
    assert!(after.contains("user:nobody:r"), "{before}\n{after}\n{run}");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn hostile_homes_get_nothing_from_root() {
    let site = Site::new(PLAIN);
    let secret = site.world.write("secret", "root's secret\n", 0o600);
    site.account.put(".ssh/x", "", "600", &site.account.name);
    std::os::unix::fs::symlink(&secret, site.account.keys_file()).unwrap();
    let as_root = "--login root --identity home/keys/root";
    let run = site.run(&format!("install home/keys/edda.pub TARGET {as_root} --yes")).expect(4);
    assert!(!run.stdout.contains("root's secret"), "{run}");
    assert_eq!(std::fs::read_to_string(&secret).unwrap(), "root's secret\n");
    let report = site.run(&format!("audit 127.0.0.1 {as_root} --format json"));
    assert!(!report.stdout.contains("root's secret"), "{report}");
    std::fs::remove_file(site.account.keys_file()).unwrap();
    system("mkfifo", &[&site.account.keys_file()]);
    let _ = site.run(&format!("install home/keys/edda.pub TARGET {as_root} --yes")).expect(4);
    let report = site.run(&format!("audit 127.0.0.1 {as_root} --format json"));
    assert!(report.stdout.contains("wrong-kind-of-file"), "{report}");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_small_system_with_nothing_but_busybox() {
    // The server runs in a mount namespace of its own, where /bin/sh and every tool are busybox.
    let world = World::new();
    let tools = world.path("tools");
    std::fs::create_dir(&tools).unwrap();
    std::fs::copy("/usr/bin/busybox", tools.join("busybox")).unwrap();
    for applet in system("/usr/bin/busybox", &["--list"]).lines() {
        let _ = std::os::unix::fs::symlink("busybox", tools.join(applet));
    }
    // Root's shell is bash, which a small system does not have.
    let shell = world.write("tools/bash", "#!/bin/sh\nexec /bin/sh \"$@\"\n", 0o755);
    assert!(shell.exists());
    let site = Site::new(PLAIN);
    let port = crate::common::servers::free_port();
    let config = site
        .world
        .read(&site.config_name())
        .replace(&format!("Port {}\n", site.server.port), &format!("Port {port}\n"));
    let path = site.world.write("small.conf", config.replace("sshd-", "small-"), 0o644);
    let mut mounts = String::new();
    // The server's own program stays reachable under another name.
    std::fs::copy("/usr/sbin/sshd", world.path("sshd")).unwrap();
    std::fs::set_permissions(world.path("sshd"), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    for folder in ["/usr/bin", "/usr/sbin"] {
        mounts += &format!("mount --bind {} {folder} && ", tools.display());
    }
    // Mounting the second folder needs the mount of the first to have mount itself, which busybox brings along.
    let script = format!("{mounts} exec {} -D -e -f {}", world.path("sshd").display(), path.display());
    let server = Command::new("unshare").args(["-m", "/bin/sh", "-c", &script]).stderr(Stdio::null()).spawn().unwrap();
    let server = Running(server);
    wait_for(|| std::net::TcpStream::connect(("127.0.0.1", port)).is_ok());
    let host_key = &site.server.host_key;
    let run = |line: &str| {
        let line = format!("{line} --port {port} --expect-host-key {host_key}").replace("TARGET", &site.target());
        let words: Vec<&str> = line.split_whitespace().collect();
        site.world.run_with(&[("PW", PASSWORD)], &words)
    };
    let installed = run("install home/keys/edda.pub TARGET --password-env PW --yes --try-command sh");
    let listing = run("audit 127.0.0.1 --login root --identity home/keys/root --format json");
    let mended = {
        system("chown", &["-R", "root:root", &site.account.file(".ssh")]);
        run("install home/keys/root.pub TARGET --login root --identity home/keys/root --yes")
    };
    let removed = run("remove home/keys/edda.pub TARGET --password-env PW --yes");
    drop(server);
    let _ = installed.expect(0);
    assert!(listing.json()["summary"]["entries"].as_u64().unwrap() >= 1);
    let _ = mended.expect(0);
    let _ = removed.expect(0);
    assert_eq!(site.keys(), site.world.read("home/keys/root.pub"));
    assert_eq!([site.account.stat(".ssh"), site.account.stat(".ssh/authorized_keys")], ["700 ACCOUNT", "600 ACCOUNT"]);
}

/// Whether a script of ours still runs as this account.
fn runs_something(account: &str) -> bool {
    system("ps", &["-eo", "user:40,args"]).lines().any(|line| line.starts_with(account) && line.contains("dd bs=1"))
}

/// How often the program is killed while it installs over the network.
const KILLS: u32 = 200;

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_kill_at_any_moment_leaves_the_old_or_the_new_file() {
    let site = Site::new(PLAIN);
    site.account.put(".ssh/authorized_keys", "", "600", &site.account.name);
    let old = format!("# old\n{}", site.world.read("home/keys/root.pub"));
    let new = format!("{old}{}", site.world.read("home/keys/edda.pub"));
    let _ = site.run("probe home/keys/edda.pub TARGET").expect(1);
    let line = format!(
        "install home/keys/edda.pub {} --port {} --identity home/keys/root --yes -q",
        site.target(),
        site.server.port
    );
    let words: Vec<&str> = line.split_whitespace().collect();
    let start = || site.world.command(&words).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let reset = || site.account.put(".ssh/authorized_keys", &old, "600", &site.account.name);
    reset();
    let begun = Instant::now();
    assert!(start().wait().unwrap().success());
    let whole = u64::try_from(begun.elapsed().as_micros()).unwrap();
    let (mut saw_old, mut saw_new) = (0, 0);
    for number in 0..KILLS {
        reset();
        let mut child = start();
        std::thread::sleep(Duration::from_micros(u64::from(number * 77 % KILLS) * whole / u64::from(KILLS)));
        let _ = child.kill();
        child.wait().unwrap();
        // What runs on the host ends by itself; until then it may still go from old to new.
        wait_for(|| !runs_something(&site.account.name));
        let now = site.keys();
        assert!(now == old || now == new, "after {number} kills: {now:?}");
        assert_eq!(site.account.stat(".ssh/authorized_keys"), "600 ACCOUNT");
        saw_old += u32::from(now == old);
        saw_new += u32::from(now == new);
    }
    assert!(saw_old > 0 && saw_new > 0, "the kills did not spread: {saw_old} old, {saw_new} new");
    wait_for(|| crate::common::names(std::path::Path::new(&site.account.file(".ssh"))) == ["authorized_keys"]);
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn what_the_server_prints_on_several_lines_is_compared_as_a_list() {
    let lists = "AcceptEnv LANG LC_*\nAcceptEnv TZ\nAllowUsers root\nAllowUsers lamp ACCOUNT*\nDenyGroups wheel\nDenyGroups lamps\n\
                 ListenAddress 127.0.0.1\nSetEnv A=1 B=2\nPermitOpen 192.0.2.1:22 192.0.2.2:80\n\
                 PermitListen 8080 localhost:9090\nSubsystem sftp internal-sftp\nSubsystem netconf /usr/bin/true\nLogVerbose a.c:*:1 b.c:*:2\n";
    let site = Site::new(&format!("{PLAIN}{lists}"));
    let run = site.run("host settings 127.0.0.1 --login root --identity home/keys/root --account root --format json");
    assert_eq!(run.json()["differs"], serde_json::json!({}), "{run}");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn lists_of_users_are_named_with_their_place_and_a_newer_configuration_is_told() {
    let site = Site::new(&format!("{PLAIN}AllowUsers root\n"));
    site.account.put(".ssh/authorized_keys", &site.world.read("home/keys/edda.pub"), "600", &site.account.name);
    let why = "why TARGET --login root --identity home/keys/root --key home/keys/edda.pub --from-address 127.0.0.1";
    let run = site.run(why).expect(1);
    assert!(run.stdout.contains("AllowUsers does not allow ACCOUNT: AllowUsers root"), "{run}");
    let config = site.config_name();
    let number = site.world.read(&config).lines().position(|line| line.starts_with("AllowUsers")).unwrap() + 1;
    assert!(run.stdout.contains(&format!("{config} line {number}")), "{run}");
    assert!(run.stdout.contains("next: add ACCOUNT to AllowUsers in"), "{run}");
    assert!(!run.stderr.contains("after the server started"), "{run}");
    // The file says something else by now, and the server was not told.
    std::thread::sleep(Duration::from_millis(4200));
    let text = site.world.read(&config).replace("AllowUsers root\n", "");
    site.world.write(&config, text, 0o644);
    let run = site.run(why).expect(0);
    assert!(run.stderr.contains("after the server started") && run.stderr.contains("lavrin probe"), "{run}");
    drop(site.run("probe home/keys/edda.pub TARGET").expect(1));
}
