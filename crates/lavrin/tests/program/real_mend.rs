//! `mend` against a real OpenSSH server: what it repairs opens the account, what it withholds does not.

use crate::common::servers::system;
use crate::common::site::{PLAIN, Site};

const ROOT: &str = "--login root --identity home/keys/root";

#[test]
#[ignore = "makes accounts and starts sshd"]
fn mend_opens_the_account_only_for_the_key_that_was_named() {
    let site = Site::new(PLAIN);
    let key = site.world.read("home/keys/edda.pub");
    let root = site.world.read("home/keys/root.pub");
    // Two entries glued together, CR LF, a file that others may write, owned by root.
    site.account.put(".ssh/authorized_keys", &format!("{}{}\r\n", root.trim_end(), key.trim_end()), "666", "root:root");
    assert!(!site.client_gets_in("edda"));
    let held = site.run(&format!("mend TARGET {ROOT} --yes")).expect(1);
    assert!(held.stdout.contains("not done, because it would make"), "{held}");
    assert_eq!(site.account.stat(".ssh/authorized_keys"), "666 root");
    let print = |name: &str| {
        let line = format!("key inspect home/keys/{name}.pub --format json");
        site.world.typed(&line).json()["keys"][0]["fingerprint"].as_str().unwrap().to_owned()
    };
    let named = format!("mend TARGET {ROOT} --yes --revive {} --revive {}", print("edda"), print("root"));
    let run = site.run(&named).expect(0);
    assert!(run.stdout.starts_with("Mended: ACCOUNT"), "{run}");
    assert_eq!(site.account.stat(".ssh/authorized_keys"), "600 ACCOUNT");
    assert!(site.client_gets_in("edda"));
    assert_eq!(std::fs::read_to_string(site.account.keys_file()).unwrap(), format!("{root}{key}"));
    let again = site.run(&named).expect(0);
    assert!(again.stdout.starts_with("Nothing to mend"), "{again}");
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn an_account_mends_itself_and_its_login_is_tried_again() {
    let site = Site::new(PLAIN);
    let key = site.world.read("home/keys/edda.pub");
    site.account.put(".ssh/authorized_keys", &key.replace('\n', "\r\n"), "644", &site.account.name);
    system("chmod", &["755", &site.account.file(".ssh")]);
    let run = site.run("mend TARGET --identity home/keys/edda --yes").expect(0);
    assert!(run.stdout.contains("remove the CR from"), "{run}");
    assert_eq!(site.account.stat(".ssh/authorized_keys"), "600 ACCOUNT");
    assert_eq!(site.account.stat(".ssh"), "700 ACCOUNT");
    assert!(site.client_gets_in("edda"));
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn all_accounts_of_a_host_are_shown_with_what_would_be_done() {
    let site = Site::new(PLAIN);
    let key = site.world.read("home/keys/edda.pub");
    site.account.put(".ssh/authorized_keys", &key, "644", &site.account.name);
    let run = site.run(&format!("mend --all @127.0.0.1 {ROOT} --preview"));
    assert!(run.stdout.contains("ACCOUNT on 127.0.0.1"), "{run}");
    assert_eq!(site.account.stat(".ssh/authorized_keys"), "644 ACCOUNT");
}

#[test]
#[ignore = "makes accounts and starts sshd"]
fn a_file_that_root_left_in_the_accounts_own_folder_is_read_and_mended() {
    let site = Site::new(PLAIN);
    let key = site.world.read("home/keys/edda.pub");
    site.account.put(".ssh/authorized_keys", &format!("# by hand\n{key}"), "600", "root:root");
    assert!(!site.client_gets_in("edda"));
    let why = site.run(&format!("why TARGET {ROOT} --key home/keys/edda.pub --from-address 127.0.0.1")).expect(1);
    assert!(why.stdout.contains("it belongs to root, and ACCOUNT cannot read it"), "{why}");
    let audit = site.run(&format!("audit 127.0.0.1 {ROOT} --format json")).json();
    assert!(audit.to_string().contains("edda@lantern"), "{audit}");
    // Nobody was let in by it until now, so that takes a word for this key.
    let held = site.run(&format!("mend TARGET {ROOT} --yes")).expect(1);
    assert!(held.stdout.contains("becomes active: SHA256:") && held.stdout.contains("--revive SHA256:"), "{held}");
    assert_eq!(site.account.stat(".ssh/authorized_keys"), "600 root");
    let consent = held.stdout.lines().find_map(|line| line.trim().strip_prefix("next: lavrin ")).unwrap();
    // The harness names the account and the port itself.
    let consent = consent.split(" --port").next().unwrap().replace("ACCOUNT@127.0.0.1", "TARGET");
    let run = site.run(&format!("{consent} --yes")).expect(0);
    assert!(run.stdout.starts_with("Mended: ACCOUNT"), "{run}");
    assert_eq!(site.account.stat(".ssh/authorized_keys"), "600 ACCOUNT");
    assert_eq!(site.keys(), format!("# by hand\n{key}"));
    assert!(site.client_gets_in("edda"));
    // What is no key file is not read, whoever linked it there.
    let secret = "the lamp oil is behind the third door";
    site.account.put(".ssh/authorized_keys", &format!("{secret}\n{key}"), "600", "root:root");
    let refused = site.run(&format!("mend TARGET {ROOT} --yes"));
    assert!(
        !refused.to_string().contains("lamp oil") && refused.to_string().contains("not every line is a key"),
        "{refused}"
    );
    assert_eq!(site.account.stat(".ssh/authorized_keys"), "600 root");
}
