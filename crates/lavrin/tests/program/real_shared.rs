//! A home that two hosts share over a real network file system: written once, by one of them, and there for both.

use crate::common::servers::{Server, system};
use crate::common::site::{PLAIN, Site};
use std::path::Path;

/// The account's home on another server, mounted over the one of this machine; taken away when dropped.
struct Shared {
    home: String,
    alias: String,
}

impl Shared {
    /// The file server signs in, with root's key, an account of the same number, whose home is the folder that it serves: all
    /// is done there with the account's rights.
    fn mount(site: &Site, files: &Server) -> Self {
        let (name, home) = (&site.account.name, site.account.home.clone());
        let kept = site.root_keys.0.parent().unwrap().join("homes");
        system("chmod", &["711", site.root_keys.0.parent().unwrap().to_str().unwrap()]);
        system("install", &["-d", "-o", name, "-g", name, "-m", "755", kept.to_str().unwrap()]);
        let alias = format!("{name}f");
        let number = system("id", &["-u", name]);
        let folder = kept.to_str().unwrap();
        system(
            "useradd",
            &["-M", "-o", "-u", number.trim(), "-g", name, "-d", folder, "-s", "/bin/sh", "-p", "*", &alias],
        );
        let shared = Self { home, alias };
        let key = site.world.path("home/keys/root");
        let options = format!(
            "allow_other,default_permissions,port={},IdentityFile={},StrictHostKeyChecking=no,UserKnownHostsFile={}",
            files.port,
            key.display(),
            site.world.path("client_known_hosts").display()
        );
        let source = format!("{}@127.0.0.1:{folder}", shared.alias);
        system("sshfs", &["-F", "/dev/null", "-o", &options, &source, &shared.home]);
        shared
    }
}

impl Drop for Shared {
    fn drop(&mut self) {
        let _ = std::process::Command::new("umount").args(["-l", &self.home]).status();
        let _ = std::process::Command::new("userdel").args(["-f", &self.alias]).output();
    }
}

#[test]
#[ignore = "needs real servers, root and /dev/fuse: scripts/test.sh"]
fn a_home_on_a_network_is_written_once_and_serves_every_host() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    let keys = site.root_keys.0.display().to_string();
    std::fs::set_permissions(&site.root_keys.0, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let files = Server::sshd(world, &format!("{PLAIN}AuthorizedKeysFile {keys}\nSubsystem sftp internal-sftp\n"));
    let second = Server::sshd(world, &format!("{PLAIN}Match User root\nAuthorizedKeysFile {keys}\n"));
    let _shared = Shared::mount(&site, &files);
    site.write_register(&["edda"], &[("a-one", &site.server), ("b-two", &second)]);
    let enforce = "enforce --identity home/keys/root --yes --format json";
    let keys_file = site.account.keys_file();

    // Nobody looks into it unless asked to, since a dead mount would hold the look up.
    let run = world.typed(enforce).expect(3);
    assert!(run.stdout.contains("is on a network file system"), "{run}");
    assert!(!Path::new(&keys_file).exists());

    let run = world.typed(&format!("{enforce} --network-homes"));
    let json: serde_json::Value = serde_json::from_str(&run.stdout).unwrap();
    let states: Vec<&str> =
        json["hosts"].as_array().unwrap().iter().map(|host| host["state"].as_str().unwrap()).collect();
    assert_eq!(states.iter().filter(|state| **state == "done").count(), 1, "{run}");
    assert_eq!(run.status, 0, "{run}");
    assert_eq!(std::fs::read_to_string(&keys_file).unwrap(), world.read("home/keys/edda.pub"));
    assert_eq!(site.account.stat(".ssh/authorized_keys"), "600 ACCOUNT");
    let changes = world.typed("history --format json").expect(0).json();
    let written = changes["events"].as_array().unwrap().iter().filter(|event| event["what"] == "enforce");
    assert_eq!(written.count(), 1, "{changes}");
    assert!(site.client_gets_in("edda"));
    drop(world.typed("probe edda --until accepted --identity home/keys/root").expect(0));

    // One host's grant is enough for a line that is there on both; without any it goes, once.
    let access = world.read("access.toml").replace("\"*\"", "\"b-two\"");
    world.write("access.toml", access, 0o644);
    drop(world.typed(&format!("{enforce} --network-homes")).expect(0));
    assert_eq!(std::fs::read_to_string(&keys_file).unwrap(), world.read("home/keys/edda.pub"));
    world.write("access.toml", "", 0o644);
    drop(world.typed(&format!("{enforce} --network-homes")).expect(0));
    assert_eq!(std::fs::read_to_string(&keys_file).unwrap(), "");
    assert!(!site.client_gets_in("edda"));
}
