//! Accounts that are made: for one key, by the register, and where there is nothing but busybox.

use crate::common::servers::system;
use crate::common::site::{Running, Site, wait_for};
use std::path::PathBuf;
use std::process::{Command, Stdio};

/// A name that no account has; the account is removed with its home when this is dropped.
struct NewName(String);

impl NewName {
    fn of(site: &Site) -> Self {
        Self(format!("{}n", site.account.name))
    }

    fn shadow(&self) -> Vec<String> {
        system("getent", &["shadow", &self.0]).trim().split(':').map(str::to_owned).collect()
    }

    fn stat(&self, below: &str) -> String {
        system("stat", &["-c", "%a %U", &format!("/home/{}/{below}", self.0)]).trim().replace(&self.0, "NEW")
    }
}

impl Drop for NewName {
    fn drop(&mut self) {
        let _ = Command::new("pkill").args(["-KILL", "-u", &self.0]).output();
        let _ = Command::new("userdel").args(["-r", "-f", &self.0]).output();
        let _ = std::fs::remove_dir_all(format!("/home/{}", self.0));
    }
}

/// The stock client with the key of the site.
fn gets_in(site: &Site, name: &str) -> bool {
    let output = site.ssh_as(name, "edda", "id -un").output().unwrap();
    output.status.success() && String::from_utf8_lossy(&output.stdout).trim() == name
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn an_account_is_made_without_a_password_and_the_key_opens_it() {
    // Without PAM a field that begins with an exclamation mark is a lock.
    let site = Site::new("UsePAM no\nAllowGroups users root\n");
    let new = NewName::of(&site);
    let install =
        format!("install home/keys/edda.pub {}@127.0.0.1 --login root --identity home/keys/root --yes", new.0);
    let none = site.run(&install).expect(1);
    assert!(none.stderr.contains("there is no account"), "{none}");
    let kept_out = site.run(&format!("{install} --create-account")).expect(4);
    assert!(
        kept_out.stderr.contains("AllowGroups users root") && kept_out.stderr.contains("--group users"),
        "{kept_out}"
    );
    let odd = site.run(&format!("{install} --create-account --group buoys")).expect(4);
    assert!(odd.stderr.contains("there is no group buoys"), "{odd}");
    let line = format!("{install} --create-account --group users --shell /bin/sh");
    let preview = site.run(&format!("{line} --preview")).expect(0);
    assert!(preview.stdout.contains("nothing was changed"), "{preview}");
    assert!(!Command::new("getent").args(["passwd", &new.0]).status().unwrap().success());
    let made = site.run(&line).expect(0);
    assert!(made.stdout.contains("a new login as"), "{made}");
    assert_eq!(new.shadow()[1], "*");
    assert_eq!((new.stat(".ssh"), new.stat(".ssh/authorized_keys")), ("700 NEW".into(), "600 NEW".into()));
    assert!(system("id", &["-nG", &new.0]).contains("users"));
    assert!(gets_in(&site, &new.0));
    // Taken back it is ended, and nothing is deleted.
    let history = site.world.typed("history").expect(0);
    let first = history.stdout.lines().find(|line| line.contains("install")).unwrap();
    let id = first.split("undo: ").nth(1).unwrap();
    let back = site.run(&format!("undo {id} --login root --identity home/keys/root --yes")).expect(0);
    assert!(back.stdout.contains("Taken back"), "{back}");
    assert_eq!(new.shadow()[7], "1");
    assert!(!gets_in(&site, &new.0));
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn a_grant_has_its_account_made() {
    let site = Site::new("UsePAM no\nPasswordAuthentication yes\n");
    let new = NewName::of(&site);
    site.write_register(&["edda", "root"], &[("lantern", &site.server)]);
    let hosts = site.world.read("hosts.toml");
    let accounts = format!("accounts = [\"{}\", ", new.0);
    site.world.write("hosts.toml", hosts.replace("accounts = [", &accounts), 0o644);
    let run = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().collect();
        site.world.run(&words)
    };
    let grant = format!("grant edda {} --host lantern --create --group users --group sudo", new.0);
    let told = run(&grant).expect(0);
    assert!(told.stderr.contains("whoever is in the group sudo can become root"), "{told}");
    let policy = "name = \"real\"\n[policy]\ngroups_forbidden = [\"sudo\"]\n";
    site.world.write("lavrin.toml", policy, 0o644);
    let check = run("register check").expect(1);
    assert!(check.stdout.contains("policy forbids to put accounts into the group sudo"), "{check}");
    site.world.write("lavrin.toml", "name = \"real\"\n", 0o644);
    let access = site.world.read("access.toml");
    site.world.write("access.toml", access.replace(", \"sudo\"", ""), 0o644);
    drop(run("survey --login root --identity home/keys/root").expect(0));
    let compared = run("compare").expect(1);
    assert!(compared.stdout.contains("is not there; a grant has it made, in users"), "{compared}");
    let done = run("enforce --login root --identity home/keys/root --yes").expect(0);
    assert!(done.stdout.contains("1 done"), "{done}");
    assert_eq!((new.shadow()[1].as_str(), new.stat(".ssh/authorized_keys").as_str()), ("*", "600 NEW"));
    assert!(gets_in(&site, &new.0));
    let again = run("enforce --login root --identity home/keys/root --yes").expect(0);
    assert!(again.stdout.contains("with nothing to do"), "{again}");
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn a_system_with_nothing_but_adduser_makes_accounts_too() {
    let site = Site::new("UsePAM no\n");
    let new = NewName::of(&site);
    let world = &site.world;
    std::fs::create_dir(world.path("tools")).unwrap();
    for (from, to) in [(PathBuf::from("/usr/sbin/sshd"), "sshd"), (busybox(), "tools/busybox")] {
        std::fs::copy(from, world.path(to)).unwrap();
        std::fs::set_permissions(world.path(to), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    }
    for name in ["adduser", "addgroup", "deluser", "delgroup", "chpasswd"] {
        std::os::unix::fs::symlink("busybox", world.path(&format!("tools/{name}"))).unwrap();
    }
    let port = crate::common::servers::free_port();
    let config = std::fs::read_to_string(&site.server.config).unwrap();
    let config = config.replace(&format!("Port {}\n", site.server.port), &format!("Port {port}\n"));
    let path = world.write("small.conf", config.replace("sshd-", "small-"), 0o644);
    // It has its own list of accounts, which other tests do not change meanwhile.
    let (tools, etc) = (world.path("tools"), world.path("etc"));
    let mount = format!(
        "cp -a /etc {etc}; mount --bind {etc} /etc && mount --bind {} /usr/sbin",
        tools.display(),
        etc = etc.display()
    );
    let script = format!("{mount} && exec {} -D -e -f {}", world.path("sshd").display(), path.display());
    let server = Command::new("unshare").args(["-m", "/bin/sh", "-c", &script]).stderr(Stdio::null()).spawn().unwrap();
    let _server = Running(server);
    wait_for(|| std::net::TcpStream::connect(("127.0.0.1", port)).is_ok());
    let line = format!(
        "install home/keys/edda.pub {}@127.0.0.1 --create-account --group users --login root --identity home/keys/root --yes \
         --port {port} --expect-host-key {}",
        new.0, site.server.host_key
    );
    let words: Vec<&str> = line.split_whitespace().collect();
    let made = world.run(&words).expect(0);
    assert!(made.stdout.contains("a new login as"), "{made}");
    let fields = |file: &str, name: &str| -> Vec<String> {
        let text = std::fs::read_to_string(etc.join(file)).unwrap();
        let line = text.lines().find(|line| line.starts_with(&format!("{name}:"))).unwrap_or_default();
        line.split(':').map(str::to_owned).collect()
    };
    assert_eq!(fields("shadow", &new.0)[1], "*");
    assert!(fields("group", "users")[3].split(',').any(|name| name == new.0));
    let owner = system("stat", &["-c", "%a %u", &format!("/home/{}/.ssh/authorized_keys", new.0)]);
    assert_eq!(owner.trim(), format!("600 {}", fields("passwd", &new.0)[2]));
}

/// A busybox that has its own programs for accounts.
fn busybox() -> PathBuf {
    let folder = std::env::var_os("LAVRIN_BUSYBOX")
        .map_or_else(|| PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/busybox")), PathBuf::from);
    let program = folder.join("busybox");
    assert!(program.exists(), "{} is missing: scripts/busybox.sh makes it", program.display());
    program
}
