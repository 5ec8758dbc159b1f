//! Attacks on a host by those who have accounts there, with real servers and accounts.

use crate::common::servers::{Account, Server, system};
use crate::common::site::{PLAIN, RootKeys, Running, Site};
use std::process::{Command, Stdio};

const ROOT: &str = "--login root --identity home/keys/root --yes";

/// Runs a Python program as the account.
fn python(account: &Account, program: &str) -> Running {
    let mut command = Command::new("/usr/bin/setpriv");
    command.args([
        "--reuid",
        &account.name,
        "--regid",
        &account.name,
        "--init-groups",
        "/usr/bin/python3",
        "-c",
        program,
    ]);
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    Running(command.spawn().unwrap())
}

/// Does something again and again to every other process of the account.
fn at_each_process(deed: &str) -> String {
    format!(
        "import os, signal, time\nwhile True:\n    for p in os.listdir('/proc'):\n        try:\n            if p.isdigit() and int(p) != os.getpid() and os.stat('/proc/' + p).st_uid == os.getuid():\n                {deed}\n        except OSError: pass\n    time.sleep(0.0005)\n"
    )
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn root_gives_no_folder_away_that_holds_more_than_key_files() {
    let site = Site::new(PLAIN);
    system("mkdir", &["-m", "700", &site.account.file(".ssh")]);
    std::fs::write(site.account.file(".ssh/ledger"), "root's own\n").unwrap();
    let run = site.run(&format!("install home/keys/edda.pub TARGET {ROOT}")).expect(4);
    assert!(run.stderr.contains("it holds ledger"), "{run}");
    assert_eq!((site.account.stat(".ssh"), site.account.stat(".ssh/ledger")), ("700 root".into(), "644 root".into()));
    system("rm", &[&site.account.file(".ssh/ledger")]);
    let _ = site.run(&format!("install home/keys/edda.pub TARGET {ROOT}")).expect(0);
    assert!(site.client_gets_in("edda"));
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn keys_in_a_folder_of_the_account_are_written_by_the_account() {
    let folder = RootKeys::new();
    let kept = folder.0.with_file_name("kept");
    let kept = kept.to_str().unwrap();
    system("mkdir", &["-m", "755", kept]);
    system("chmod", &["755", folder.0.parent().unwrap().to_str().unwrap()]);
    let site = Site::new(&format!("{PLAIN}Match User lv*\nAuthorizedKeysFile {kept}/keys\nMatch all\n"));
    system("chown", &[&format!("{0}:{0}", site.account.name), kept]);
    // Root's own file stands there, readable by all: the account puts one of its own in its place.
    let file = format!("{kept}/keys");
    std::fs::write(&file, site.world.read("home/keys/root.pub")).unwrap();
    let _ = site.run(&format!("install home/keys/edda.pub TARGET {ROOT}")).expect(0);
    assert!(site.client_gets_in("edda"));
    assert_eq!(system("stat", &["-c", "%U", &file]).trim(), site.account.name);
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn an_account_that_stops_what_runs_there_costs_itself_only() {
    let site = Site::new(PLAIN);
    let hostile = Account::new("/bin/sh");
    let key = site.world.read("home/keys/edda.pub");
    for account in [&site.account, &hostile] {
        account.put(".ssh/authorized_keys", &key, "600", &account.name);
    }
    // A look there is over before it can be stopped, unless it has much to read.
    for number in 0..5_000 {
        std::fs::write(hostile.file(&format!(".ssh/log{number}")), "the lamp is lit\n").unwrap();
    }
    let _stopping = python(&hostile, &at_each_process("os.kill(int(p), signal.SIGSTOP)"));
    let audit = site.run("audit 127.0.0.1 --login root --identity home/keys/root --format json").json();
    let entries = audit["entries"].as_array().unwrap();
    let of = |name: &str| entries.iter().filter(|entry| entry["account"] == name).count();
    assert_eq!((of("ACCOUNT"), of(&hostile.name)), (1, 0), "{audit}");
    let not_checked = audit["not_checked"].as_array().unwrap();
    let own = not_checked.iter().find(|one| one["account"] == hostile.name.as_str()).unwrap();
    assert!(own["why"].as_str().unwrap().contains("did not answer in time"), "{audit}");
    let _ = site.run(&format!("remove home/keys/edda.pub TARGET {ROOT}")).expect(0);
    assert_eq!(site.keys(), "");
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn nothing_that_runs_as_an_account_holds_the_answer() {
    let site = Site::new(PLAIN);
    site.account.put(".ssh/authorized_keys", &site.world.read("home/keys/edda.pub"), "600", &site.account.name);
    let script = {
        site.write_register(&["edda"], &[("s", &site.server)]);
        site.world.typed("survey --script").expect(0).stdout
    };
    site.world.write("look.sh", script, 0o700);
    let answer = site.world.path("answer");
    let told = site.account.file("told");
    let deed = format!(
        "[open('{told}', 'a').write(os.readlink('/proc/' + p + '/fd/' + f) + '\\n') for f in os.listdir('/proc/' + p + '/fd')]"
    );
    let _looking = python(&site.account, &at_each_process(&deed));
    for _ in 0..10 {
        let file = std::fs::File::create(&answer).unwrap();
        let mut look = Command::new("/bin/sh");
        assert!(look.arg(site.world.path("look.sh")).stdout(file).stderr(Stdio::null()).status().unwrap().success());
    }
    let told = std::fs::read_to_string(&told).unwrap();
    assert!(told.contains("pipe:"), "something ran as the account, and its descriptors were seen");
    assert!(!told.contains(answer.to_str().unwrap()), "{told}");
    let text = String::from_utf8_lossy(&std::fs::read(&answer).unwrap()).into_owned();
    assert!(text.contains("/.ssh/authorized_keys") && text.contains("ssh-ed25519"));
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn a_key_of_the_login_stays_in_a_file_that_accounts_share() {
    let folder = RootKeys::new();
    let shared = folder.0.with_file_name("shared");
    let site = Site::new(PLAIN);
    let world = &site.world;
    system("chmod", &["755", folder.0.parent().unwrap().to_str().unwrap()]);
    std::fs::write(&shared, world.read("home/keys/root.pub") + &world.read("home/keys/edda.pub")).unwrap();
    let server = Server::sshd(world, &format!("{PLAIN}AuthorizedKeysFile {}\n", shared.display()));
    let remove = |name: &str| {
        let line = format!(
            "remove home/keys/{name}.pub {} {ROOT} --port {} --expect-host-key {}",
            site.target(),
            server.port,
            server.host_key
        );
        world.typed(&line)
    };
    let run = remove("root").expect(4);
    assert!(run.stderr.contains("is the key that this login uses"), "{run}");
    let _ = remove("edda").expect(0);
    assert_eq!(std::fs::read_to_string(&shared).unwrap(), world.read("home/keys/root.pub"));
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn a_genuine_fingerprint_of_any_kind_is_no_attack() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    let made = world
        .typed("key generate --passphrase none --folder home/keys --name older --algorithm rsa-3072 --format json");
    let print = made.expect(0).json()["fingerprint"].as_str().unwrap().to_owned();
    let server = Server::sshd(world, &format!("HostKey {}\n{PLAIN}", world.path("home/keys/older").display()));
    let probe = |print: &str| {
        let port = server.port;
        world.typed(&format!("probe home/keys/edda.pub {} --port {port} --expect-host-key {print}", site.target()))
    };
    // The server has an Ed25519 key too, and shows that one first.
    assert!(probe(&print).expect(1).stdout.contains("refused"));
    let run = probe("SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA").expect(4);
    assert!(run.stderr.contains("has changed"), "{run}");
}
