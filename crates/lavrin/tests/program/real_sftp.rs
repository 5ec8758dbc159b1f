//! Hosts with nothing but files, for real: OpenSSH's file transfer with and without a root of its own, and another server that reads
//! keys in blocks.

use crate::common::servers::system;
use crate::common::site::{Running, Site, wait_for};
use std::path::Path;
use std::process::{Command, Stdio};

const PLAIN: &str = "UsePAM no\nPasswordAuthentication yes\nSubsystem sftp /usr/lib/openssh/sftp-server\n";

/// The register's file of the one host says also this.
fn say(site: &Site, lines: &str) {
    let text = site.world.read("hosts.toml") + lines;
    site.world.write("hosts.toml", text, 0o644);
}

fn pairs(site: &Site, names: &[&str], algorithm: &str) {
    for name in names {
        let line = format!(
            "key generate --passphrase none --folder home/keys --replace --algorithm {algorithm} --name {name} --comment {name}@lantern"
        );
        drop(site.world.typed(&line).expect(0));
    }
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn the_first_key_comes_by_a_password_and_the_file_is_the_accounts_own() {
    let site = Site::new(PLAIN);
    pairs(&site, &["sten"], "ed25519");
    let run = site.run("install home/keys/edda.pub TARGET --reach sftp --password-env PW --yes").expect(0);
    assert_eq!(
        (site.account.stat(".ssh"), site.account.stat(".ssh/authorized_keys")),
        ("700 ACCOUNT".into(), "600 ACCOUNT".into()),
        "{run}"
    );
    assert!(site.client_gets_in("edda"), "{run}");
    // Odd bytes stay, and so does a mode that somebody chose.
    let own = site.keys();
    site.account.put(".ssh/authorized_keys", &format!("# lamps\r\n\n{own}"), "640", &site.account.name);
    drop(site.run("install home/keys/sten.pub TARGET --reach sftp --identity home/keys/edda --yes").expect(0));
    assert_eq!(site.keys(), format!("# lamps\r\n\n{own}{}", site.world.read("home/keys/sten.pub")));
    assert_eq!(site.account.stat(".ssh/authorized_keys"), "640 ACCOUNT");
    assert!(site.client_gets_in("sten"));
    drop(site.run("remove home/keys/sten.pub TARGET --reach sftp --identity home/keys/edda --yes").expect(0));
    assert!(!site.client_gets_in("sten") && site.client_gets_in("edda"));
    assert_eq!(site.keys(), format!("# lamps\r\n\n{own}"));
    let own = site.run("remove home/keys/edda.pub TARGET --reach sftp --identity home/keys/edda --yes").expect(4);
    assert!(own.stderr.contains("key that this login uses"), "{own}");
    let names = crate::common::names(Path::new(&site.account.file(".ssh")));
    assert_eq!(names, ["authorized_keys"], "nothing is left behind");
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn an_account_with_nothing_but_files_and_a_root_of_its_own_is_enforced() {
    let site = Site::on_roots_own_by(|folder| {
        let root = folder.join("files");
        std::fs::create_dir_all(root.join("keys")).unwrap();
        system("chmod", &["755", folder.to_str().unwrap(), root.to_str().unwrap()]);
        format!(
            "UsePAM no\nPasswordAuthentication no\nAuthorizedKeysFile {0}/keys/%u\nChrootDirectory {0}\nForceCommand internal-sftp\nSubsystem sftp internal-sftp\n",
            root.display()
        )
    });
    let keys = site.server.config.parent().unwrap().join("files/keys");
    system("chown", &[&site.account.name, keys.to_str().unwrap()]);
    let file = keys.join(&site.account.name);
    std::fs::write(&file, site.world.read("home/keys/edda.pub")).unwrap();
    system("chown", &[&site.account.name, file.to_str().unwrap()]);
    pairs(&site, &["sten"], "ed25519");
    site.write_register(&["edda", "sten"], &[("s", &site.server)]);
    say(&site, &format!("reach = \"sftp\"\nlogin = \"{}\"\nkeys_file = \"/keys/%u\"\n", site.account.name));
    let run = site.world.typed("enforce --identity home/keys/edda --yes").expect(0);
    assert_eq!(std::fs::read_to_string(&file).unwrap().lines().count(), 2, "{run}");
    drop(site.world.typed("probe sten s --until accepted").expect(0));
    drop(site.world.typed("offboard sten --identity home/keys/edda --yes").expect(0));
    assert_eq!(std::fs::read_to_string(&file).unwrap(), site.world.read("home/keys/edda.pub"));
    let why = site
        .world
        .typed(&format!("why {}@s --key home/keys/edda.pub --identity home/keys/edda", site.account.name))
        .expect(3);
    assert!(why.stdout.contains("undecided"), "{why}");
}

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn roots_files_are_written_and_what_an_account_may_change_is_not_followed() {
    let site = Site::on_roots_own_by(|folder| format!("{PLAIN}AuthorizedKeysFile {}/keys/%u\n", folder.display()));
    let folder = site.server.config.parent().unwrap().join("keys");
    std::fs::create_dir(&folder).unwrap();
    system("chmod", &["755", folder.parent().unwrap().to_str().unwrap()]);
    std::fs::write(folder.join(&site.account.name), "").unwrap();
    site.write_register(&["edda"], &[("s", &site.server)]);
    let own = site.world.read("hosts.toml");
    say(&site, &format!("reach = \"sftp\"\nlogin = \"root\"\nkeys_file = \"{}/%u\"\n", folder.display()));
    drop(site.world.typed("enforce --identity home/keys/root --yes").expect(0));
    assert!(site.client_gets_in("edda"));
    // A home is its owner's: root's rights are not led there.
    site.world.write("hosts.toml", own, 0o644);
    say(&site, "reach = \"sftp\"\nlogin = \"root\"\nkeys_file = \"/home/%u/.ssh/authorized_keys\"\n");
    let run = site.world.typed("enforce --identity home/keys/root --yes").expect(4);
    assert!(run.stdout.contains("somebody else may change where"), "{run}");
    assert!(!Path::new(&site.account.file(".ssh")).exists());
}

/// Another server, which takes keys from RFC 4716 blocks only.
#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn a_server_that_reads_blocks_takes_the_keys_that_are_written_for_it() {
    let site = Site::new(PLAIN);
    pairs(&site, &["edda", "sten"], "rsa-3072");
    let folder = site.root_keys.0.parent().unwrap().to_owned();
    system("chmod", &["755", folder.to_str().unwrap()]);
    let port = crate::common::servers::free_port();
    let path = |name: &str| folder.join(name).display().to_string();
    drop(
        site.world
            .typed("key generate --passphrase none --folder home/keys --algorithm rsa-3072 --name blocks --comment x")
            .expect(0),
    );
    drop(site.world.typed("key convert home/keys/blocks --to pkcs1 --out blocks.pem").expect(0));
    std::fs::copy(site.world.path("blocks.pem"), path("hostkey")).unwrap();
    system("chmod", &["600", &path("hostkey")]);
    let config = format!(
        "ModulePath /usr/lib/proftpd\nLoadModule mod_sftp.c\nServerName blocks\nServerType standalone\nDefaultAddress 127.0.0.1\nPort {port}\n\
         UseIPv6 off\nUser root\nGroup root\nRequireValidShell off\nAuthOrder mod_auth_unix.c\nWtmpLog off\nScoreboardFile {}\nPidFile {}\n\
         SystemLog {}\nSFTPEngine on\nSFTPLog {}\nSFTPHostKey {}\nSFTPAuthorizedUserKeys file:~/.sftp/authorized_keys\n\
         SFTPAuthMethods publickey password\n",
        path("scoreboard"),
        path("pid"),
        path("log"),
        path("sftp.log"),
        path("hostkey"),
    );
    std::fs::write(path("proftpd.conf"), config).unwrap();
    let child = Command::new("/usr/sbin/proftpd")
        .args(["-n", "-c", &path("proftpd.conf")])
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    let _running = Running(child.unwrap());
    wait_for(|| std::net::TcpStream::connect(("127.0.0.1", port)).is_ok());
    site.account.put(".sftp/authorized_keys", "", "600", &site.account.name);
    let first = site.world.typed("key convert home/keys/edda.pub --to rfc4716").expect(0).stdout;
    site.account.put(".sftp/authorized_keys", &first, "600", &site.account.name);
    site.write_register(&["edda", "sten"], &[("s", &site.server)]);
    let host_key = site.world.read("home/keys/blocks.pub");
    let (key, login) = (host_key.split_whitespace().take(2).collect::<Vec<_>>().join(" "), &site.account.name);
    let host = format!(
        "[s]\naddress = \"127.0.0.1\"\nport = {port}\nhost_keys = [\"{key}\"]\naccounts = [\"{login}\"]\nlogin = \"{login}\"\nreach = \"sftp\"\nkeys_file = \".sftp/authorized_keys\"\nkeys_form = \"blocks\"\n"
    );
    site.world.write("hosts.toml", host, 0o644);
    let run = site.world.typed("enforce --identity home/keys/edda --yes").expect(0);
    let text = std::fs::read_to_string(site.account.file(".sftp/authorized_keys")).unwrap();
    assert!(text.starts_with(&first) && text.matches("BEGIN SSH2").count() == 2, "{run}\n{text}");
    assert_eq!(site.account.stat(".sftp/authorized_keys"), "600 ACCOUNT");
    // It says yes to any key that it is asked about, so that shows nothing; a login does.
    assert!(run.stdout.contains("shows nothing"), "{run}");
    let seen = site.world.typed("survey --identity home/keys/sten").expect(0);
    assert!(seen.stdout.contains("2 entries"), "{seen}");
    drop(site.world.typed("offboard sten --identity home/keys/edda --yes").expect(0));
    assert_eq!(std::fs::read_to_string(site.account.file(".sftp/authorized_keys")).unwrap(), first);
}
