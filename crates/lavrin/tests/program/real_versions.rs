//! The whole job on real servers of other releases: OpenSSH 8.4, and 10.0, which counts questions.

use crate::common::releases::Release;
use crate::common::site::{PLAIN, Site};

fn the_whole_job(release: &Release, config: &str) {
    let site = Site::of(release, config);
    let root = "--login root --identity home/keys/root";
    site.write_register(&["edda"], &[("lantern", &site.server)]);
    let version = release.openssh.trim_start_matches("openssh-").trim_end_matches("+debian");
    let run = |line: &str, exit: i32| site.world.typed(&format!("{line} {root}")).expect(exit);
    let why = run("why ACCOUNT@lantern --key home/keys/edda.pub".replace("ACCOUNT", &site.account.name).as_str(), 1);
    assert!(why.stdout.contains(&format!("OpenSSH {version} as Debian builds it")), "{why}");
    drop(run("survey lantern", 0));
    drop(run("enforce lantern --yes", 0));
    assert!(site.client_gets_in("edda"));
    drop(run("survey lantern", 0));
    drop(site.world.typed("compare lantern").expect(0));
    drop(run("probe edda --until accepted", 0));
    let target = format!("{}@lantern", site.account.name);
    drop(run(&format!("remove home/keys/edda.pub {target} --yes --accept-lockout"), 0));
    drop(run(&format!("install home/keys/edda.pub {target} --yes"), 0));
    assert!(site.client_gets_in("edda"));
}

#[test]
#[ignore = "needs the servers of other releases: scripts/test.sh"]
fn the_whole_job_on_openssh_8_4() {
    the_whole_job(&Release::BULLSEYE, PLAIN);
}

#[test]
#[ignore = "needs the servers of other releases: scripts/test.sh"]
fn the_whole_job_on_openssh_10_0_which_counts_questions() {
    the_whole_job(&Release::TRIXIE, PLAIN);
}

#[test]
#[ignore = "needs the servers of other releases: scripts/test.sh"]
fn many_questions_to_a_server_that_counts_are_all_answered() {
    let site = Site::of(&Release::TRIXIE, PLAIN);
    site.write_register(&["edda"], &[("lantern", &site.server)]);
    let accounts = format!("accounts = [\"{}\"]", site.account.name);
    let more: Vec<String> = ["root", "daemon", "bin", "sys", "sync"].map(|name| format!("\"{name}\"")).into();
    let all = format!("accounts = [\"{}\", {}]", site.account.name, more.join(", "));
    let hosts = site.world.read("hosts.toml").replace(&accounts, &all);
    site.world.write("hosts.toml", hosts, 0o644);
    // Six connections that end without a login: the fifth would be cut off, were they made at once.
    let run = site.world.typed("probe edda --until refused").expect(0);
    assert!(run.stdout.contains("6 questions: 6 refused"), "{run}");
}

#[test]
#[ignore = "needs the servers of other releases: scripts/test.sh"]
fn a_server_that_holds_us_off_has_refused_nothing() {
    let site = Site::of(&Release::TRIXIE, &format!("PerSourcePenalties authfail:120 min:120 max:600\n{PLAIN}"));
    site.account.put(".ssh/authorized_keys", &site.world.read("home/keys/edda.pub"), "600", &site.account.name);
    assert!(site.client_gets_in("edda"));
    assert!(!site.client_gets_in("root"));
    site.wait_until_held_off();
    let run = site.run("probe home/keys/edda.pub TARGET").expect(3);
    let said = format!("{}{}", run.stdout, run.stderr);
    assert!(said.contains("for a while") && !said.contains("refused"), "{run}");
}
