//! A leaving to its end on a real server: sessions, copies of keys, and an account that was the leaver's alone.

use crate::common::servers::system;
use crate::common::site::{Running, Site, wait_for};
use std::process::Stdio;

/// A log of this machine that a log service would write, taken away when dropped.
struct LogFile(&'static str);

impl LogFile {
    fn put(text: &str) -> Self {
        // Debian's own goes by another name.
        let path = "/var/log/secure";
        assert!(!std::path::Path::new(path).exists());
        std::fs::write(path, text).unwrap();
        Self(path)
    }
}

impl Drop for LogFile {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(self.0);
    }
}

/// A session that stays open, as one that runs a backup.
fn session(site: &Site, key: &str) -> Running {
    let mut ssh = site.ssh(key, "echo in; exec sleep 300");
    let mut child = ssh.stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let mut said = [0; 3];
    std::io::Read::read_exact(child.stdout.as_mut().unwrap(), &mut said).unwrap();
    Running(child)
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn sessions_end_once_the_keys_are_gone_and_the_account_ends_too() {
    let site = Site::new("UsePAM no\nPasswordAuthentication no\nLogLevel VERBOSE\n");
    let name = site.account.name.clone();
    let run = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().collect();
        site.world.run(&words)
    };
    site.write_register(&["edda", "root"], &[("lantern", &site.server)]);
    // The account is edda's alone: made for her, and for nobody else.
    let access = format!("[[grant]]\nperson = \"edda\"\naccount = \"{name}\"\nhosts = [\"*\"]\ncreate = true\n");
    site.world.write("access.toml", access, 0o644);
    let key = site.world.read("home/keys/edda.pub");
    site.account.put(".ssh/authorized_keys", &key, "600", &name);
    site.account.put(".ssh/authorized_keys.bak", &key, "600", &name);
    site.account.put(".ssh/edda.pub", &key, "600", &name);
    site.account.put(".ssh/edda", &site.world.read("home/keys/edda"), "600", &name);
    let mut open = session(&site, "edda");
    let login = "--login root --identity home/keys/root";
    let plan = run(&format!("offboard edda {login} --preview")).expect(0);
    for told in
        ["authorized_keys.bak; it opens nothing there", "edda.pub; a private key lies beside it", "theirs alone"]
    {
        assert!(plan.stderr.contains(told), "{told}: {plan}");
    }
    assert!(plan.stderr.contains("by a key that no log tells"), "{plan}");
    // The log of a host, as its log service writes it: which process of the server let whom in by which key.
    let process = system("pgrep", &["-f", &format!("^sshd: {name} \\[priv\\]")]);
    let print = site.world.run(&["key", "inspect", "home/keys/edda.pub", "--format", "json"]).stdout;
    let print = print.split('"').find(|word| word.starts_with("SHA256:")).unwrap();
    let said = format!("Accepted publickey for {name} from 192.0.2.9 port 5 ssh2: ED25519 {print}");
    let now = system("date", &["+%Y-%m-%dT%H:%M:%S%z"]);
    let log = LogFile::put(&format!("{} lantern sshd[{}]: {said}\n", now.trim(), process.trim()));
    let plan = run(&format!("offboard edda {login} --preview")).expect(0);
    assert!(plan.stderr.contains("from 192.0.2.9 by SHA256:") && plan.stderr.contains("sleep"), "{plan}");
    let done = run(&format!("offboard edda {login} --yes --end-sessions --end-accounts"));
    drop(log);
    let done = done.expect(0);
    assert!(done.stdout.contains("session ended") && done.stdout.contains("account ended"), "{done}");
    wait_for(|| open.0.try_wait().unwrap().is_some());
    assert!(!site.client_gets_in("edda"));
    let shadow = system("getent", &["shadow", &name]);
    assert_eq!(shadow.split(':').nth(7), Some("20780"), "{shadow}");
    // Nothing was deleted.
    assert!(std::path::Path::new(&site.account.file(".ssh/authorized_keys.bak")).exists());
}
