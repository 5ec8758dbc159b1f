//! A key is replaced on real servers of three releases and on dropbear, with a host that is off at first and one that refuses
//! the new key.

use crate::common::releases::Release;
use crate::common::servers::{Account, Server};
use crate::common::site::{PLAIN, Site};

const GO: &str = "--login root --identity home/keys/root --yes";

fn generate(site: &Site, name: &str, more: &str) {
    let line =
        format!("key generate --passphrase none --folder home/keys --name {name} --comment {name}@lantern {more}");
    drop(site.world.typed(&line).expect(0));
}

fn states(run: &crate::common::Run) -> Vec<(String, String)> {
    let json = run.json();
    let rows = json["rotations"][0]["accounts"].as_array().unwrap().clone();
    rows.iter()
        .map(|row| (row["host"].as_str().unwrap().to_owned(), row["state"].as_str().unwrap().to_owned()))
        .collect()
}

fn replaced_on(release: &Release) {
    let site = Site::of(release, PLAIN);
    site.write_register(&["edda"], &[("lantern", &site.server)]);
    drop(site.world.typed(&format!("enforce {GO}")).expect(0));
    assert!(site.client_gets_in("edda"));
    generate(&site, "edda-2", "");
    let both = site.world.typed(&format!("rotate edda --from-file home/keys/edda-2.pub --keep-old {GO}")).expect(1);
    assert!(site.client_gets_in("edda") && site.client_gets_in("edda-2"), "{both}");
    let done = site.world.typed(&format!("rotate edda {GO}")).expect(0);
    assert!(done.stdout.contains("new key accepted, old key refused"), "{done}");
    assert!(!site.client_gets_in("edda") && site.client_gets_in("edda-2"), "{done}");
}

#[test]
#[ignore = "needs the servers of other releases: scripts/test.sh"]
fn a_key_is_replaced_on_openssh_8_4() {
    replaced_on(&Release::BULLSEYE);
}

#[test]
#[ignore = "needs the servers of other releases: scripts/test.sh"]
fn a_key_is_replaced_on_openssh_10_0_which_counts_questions() {
    replaced_on(&Release::TRIXIE);
}

#[test]
#[ignore = "needs real servers: scripts/test.sh"]
fn one_host_is_off_at_first_and_another_refuses_the_new_key() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    // The new key is of a kind that this server does not take; the device takes it.
    let roots = site.root_keys.0.display();
    let narrow = format!("{PLAIN}PubkeyAcceptedAlgorithms ssh-ed25519\nMatch User root\nAuthorizedKeysFile {roots}\n");
    let narrow = Server::sshd(world, &narrow);
    site.write_register(&["edda"], &[("lantern", &site.server)]);
    let (account, other) = (&site.account.name, Account::new("/bin/sh"));
    let key = narrow.public_line(world);
    let host = format!(
        "[narrow]\naddress = \"127.0.0.1\"\nport = {}\nhost_keys = [\"{key}\"]\naccounts = [\"{}\"]\n",
        narrow.port, other.name
    );
    world.write("hosts.toml", world.read("hosts.toml") + &host, 0o644);
    let grants = world.read("access.toml").replace("\"*\"", "\"lantern\"");
    let grant = grants.replace(account.as_str(), &other.name).replace("lantern", "narrow");
    world.write("access.toml", grants + &grant, 0o644);
    drop(world.typed(&format!("enforce {GO}")).expect(0));
    let hosts = world.read("hosts.toml");
    let off = hosts.replace(&format!("port = {}\n", site.server.port), "port = 1\n");
    world.write("hosts.toml", &off, 0o644);
    generate(&site, "edda-2", "--algorithm ecdsa-p256");
    let begun = world.typed(&format!("rotate edda --from-file home/keys/edda-2.pub --format json {GO}")).expect(4);
    let said = |host: &str, state: &str| (host.to_owned(), state.to_owned());
    // Both accounts are on one machine: the other one is seen there too, and is not managed on this host.
    assert_eq!(states(&begun), [said("lantern", "not-reached"), said("narrow", "not-managed"), said("narrow", "old")]);
    assert!(site.client_gets_in("edda") && !site.client_gets_in("edda-2"), "{begun}");
    assert!(!world.read("people/edda.toml").contains("retired"), "the host that refuses the new key keeps the old one");
    // Back again; and the narrow one has been given up.
    world.write("hosts.toml", hosts.split("[narrow]").next().unwrap(), 0o644);
    world.write(
        "access.toml",
        world.read("access.toml").replace("narrow", "lantern").replace(&other.name, account),
        0o644,
    );
    drop(other);
    let done = world.typed(&format!("rotate edda --format json {GO}")).expect(0);
    assert_eq!(states(&done), [said("lantern", "replaced")]);
    assert_eq!(done.json()["rotations"][0]["accounts"][0]["account"], account.as_str());
    assert!(!site.client_gets_in("edda") && site.client_gets_in("edda-2"), "{done}");
    assert!(world.read("people/edda.toml").contains("retired"));
}

#[test]
#[ignore = "needs real servers: scripts/test.sh"]
fn a_key_is_replaced_on_a_small_device_and_a_login_with_it_opens_root() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    let device = Server::dropbear(world);
    site.write_register(&["edda"], &[("device", &site.server)]);
    let account = &site.account.name;
    site.account.put(".ssh/authorized_keys", &world.read("home/keys/edda.pub"), "600", account);
    let trust = format!(
        "[device]\naddress = \"127.0.0.1\"\nport = {}\naccounts = [\"{account}\"]\nlogin = \"{account}\"\n",
        device.port
    );
    world.write("hosts.toml", trust, 0o644);
    let shown = world.typed("host trust device").expect(2).stderr;
    let print = shown.split_whitespace().find(|word| word.starts_with("SHA256:")).unwrap().to_owned();
    drop(world.typed(&format!("host trust device --expect-host-key {print}")).expect(0));
    // Here the key that is replaced is that of the login itself.
    let made = world
        .typed("rotate edda --make home/keys/edda-2 --passphrase none --identity home/keys/edda --root-by none --yes")
        .expect(0);
    assert!(made.stdout.contains("new key accepted, old key refused"), "{made}");
    assert_eq!(site.keys(), world.read("home/keys/edda-2.pub"));
    drop(world.typed("probe home/keys/edda-2.pub device --until accepted").expect(0));
}

#[test]
#[ignore = "needs real servers: scripts/test.sh"]
fn a_grant_that_ends_is_ended_by_the_server_itself_and_extending_it_changes_nothing_else() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    site.write_register(&["edda"], &[("lantern", &site.server)]);
    let grants = world.read("access.toml");
    let until = |day: &str| world.write("access.toml", format!("{grants}until = {day}\n"), 0o644);
    // Lavrin's own day is the 23rd of November 2026 here; that of the server is a later one, so that it is over there.
    until("2026-11-23");
    let run = world.typed(&format!("enforce {GO}"));
    assert!(site.keys().contains("expiry-time=\"20261124\"") || run.status == 4, "{run}");
    assert!(!site.client_gets_in("edda"), "{run}");
    until("2099-12-30");
    drop(world.typed(&format!("enforce {GO}")).expect(0));
    let line = site.keys();
    assert_eq!(line, format!("expiry-time=\"20991231\" {}", world.read("home/keys/edda.pub")));
    assert!(site.client_gets_in("edda"));
    // Somebody wrote more in front of it by hand: that stays where it is.
    let hand = line.replacen("expiry-time=\"20991231\"", "Expiry-Time=\"20991231\"", 1);
    site.account.put(".ssh/authorized_keys", &format!("# kept\r\n{hand}"), "600", &site.account.name);
    until("2098-12-30");
    drop(world.typed(&format!("enforce {GO}")).expect(0));
    assert_eq!(site.keys(), format!("# kept\r\n{}", line.replace("20991231", "20981231")));
    assert!(site.client_gets_in("edda"));
    // The clock of this host is that of the machine that looks.
    let audit = world.typed("audit lantern --format json").json();
    assert!(!audit["findings"].to_string().contains("clock-off"), "{audit}");
}
