//! A real NETCONF server behind a real sshd, with both kinds of targets: the whole work, each change proven by a login.

use crate::common::Run;
use crate::common::netconfd::{Netconfd, OwnedSeed, site, site_of_libnetconf2, startup};
use crate::common::site::Site;

const SIGN_IN: &str = "--login root --identity home/keys/root";

fn public(site: &Site, name: &str) -> String {
    site.world.read(&format!("home/keys/{name}.pub")).trim().to_owned()
}

fn generate(site: &Site, name: &str) {
    let line = format!("key generate --passphrase none --folder home/keys --name {name} --comment {name}@lantern");
    drop(site.world.typed(&line).expect(0));
}

/// root has its key there, the account one under another name and one that nobody knows.
fn seeds(site: &Site) -> Vec<OwnedSeed> {
    for name in ["sten", "runa", "edda-2"] {
        generate(site, name);
    }
    let key = |place: &str, name: &str| (place.to_owned(), public(site, name));
    let own = vec![key("old name", "runa"), key("of nobody", "sten")];
    vec![("root".to_owned(), vec![key("root", "root")]), (site.account.name.clone(), own)]
}

fn the_whole_work(site: &Site) {
    let account = site.account.name.clone();
    site.write_register(&["edda", "runa"], &[("skerry", &site.server)]);
    let hosts = site.world.read("hosts.toml").replace("accounts =", "reach = \"netconf\"\naccounts =");
    site.world.write("hosts.toml", hosts, 0o644);
    let run = |line: &str, exit: i32| -> Run { site.world.typed(&format!("{line} {SIGN_IN}")).expect(exit) };
    assert!(site.client_gets_in("runa") && !site.client_gets_in("edda"));
    let seen = run("survey", 0);
    assert!(seen.stdout.contains("2 accounts, 3 entries"), "{seen}");
    let compared = site.world.typed("compare").expect(1);
    assert!(compared.stdout.contains("missing") && compared.stdout.contains("unknown"), "{compared}");
    drop(run("enforce --yes", 0));
    assert!(site.client_gets_in("edda") && site.client_gets_in("runa") && site.client_gets_in("sten"));
    assert!(startup(site).contains("low water"), "the password of the account is still there");
    let target_account = format!("{account}@skerry");
    let put = run(&format!("remove home/keys/sten.pub {target_account} --yes"), 0);
    assert!(!site.client_gets_in("sten"), "{put}");
    drop(run(&format!("install home/keys/sten.pub {target_account} --yes"), 0));
    assert!(site.client_gets_in("sten"));
    drop(run("undo --last --yes", 0));
    assert!(!site.client_gets_in("sten"));
    let probed = run("probe edda --until accepted", 0);
    assert!(probed.stdout.contains("accepted"), "{probed}");
    let why = run(&format!("why {target_account} --key home/keys/edda.pub"), 3);
    assert!(why.stdout.contains("undecided"), "{why}");
    let rotated = run("rotate edda --from-file home/keys/edda-2.pub --yes", 0);
    assert!(site.client_gets_in("edda-2") && !site.client_gets_in("edda"), "{rotated}");
    let gone = run("offboard runa --yes", 0);
    assert!(gone.stdout.contains("removed") && !site.client_gets_in("runa"), "{gone}");
    let audited = site.world.typed("audit");
    assert!(!audited.stdout.contains("[mode"), "{audited}");
    let history = site.world.typed("history skerry").expect(0);
    assert!(history.stdout.contains("runa") && history.stdout.contains("offboard"), "{history}");
}

#[test]
#[ignore = "needs real servers: scripts/test.sh"]
fn a_server_that_writes_what_is_in_force() {
    let site = site();
    let _device = Netconfd::start(&site, "running", &seeds(&site));
    the_whole_work(&site);
}

#[test]
#[ignore = "needs real servers: scripts/test.sh"]
fn a_server_with_a_candidate_that_waits_for_approval() {
    let site = site();
    let _device = Netconfd::start(&site, "candidate", &seeds(&site));
    the_whole_work(&site);
}

#[test]
#[ignore = "needs real servers: scripts/test.sh"]
fn a_server_that_shares_nothing_with_the_other_but_the_description() {
    the_whole_work(&site_of_libnetconf2(seeds));
}
