//! What stopped newcomers: each stumble has a test of its own.

use crate::common::fleet::Fleet;
use crate::common::{World, key};
use lavrin_standin::Behaviour;

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment) + "\n"
}

/// edda's key is known; sten has left.
fn people(fleet: &Fleet) {
    let person = |seed: u8, more: &str| {
        format!("name = \"{seed}\"\n{more}[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line(seed, "a key").trim())
    };
    fleet.world.write("people/edda.toml", person(2, ""), 0o644);
    fleet.world.write("people/sten.toml", person(3, "left = 2026-10-01\n"), 0o644);
}

#[test]
fn the_login_that_was_typed_signs_in_whatever_the_register_says() {
    let mut fleet = Fleet::new();
    fleet.add_with("lantern", &line(1, "office"), Behaviour::default(), "login = \"nobody-here\"\n");
    let refused = fleet.survey("").expect(3);
    assert!(refused.stdout.contains("refuses to let nobody-here in"), "{refused}");
    drop(fleet.survey("lantern --login root").expect(0));
    let compared = fleet.run("compare --live --login root --identity home/office --format json");
    assert_eq!(compared.json()["hosts"][0]["fault"], serde_json::Value::Null, "{compared}");
    // An account of the host can be the login of a single command too, and the same one holds for all of them.
    let why = fleet.run("why edda@lantern --identity home/office --key home/office.pub").expect(3);
    assert!(why.stderr.contains("refuses to let nobody-here in"), "{why}");
}

#[test]
fn defaults_of_the_register_and_of_the_user_hold_where_nothing_is_typed() {
    let mut fleet = Fleet::new();
    fleet.add("lantern", &line(2, "edda"), Behaviour::default());
    let begins = "name = \"Skerry lights\"\n\n[defaults]\nidentity = \"home/office\"\n";
    fleet.world.write("lavrin.toml", begins, 0o644);
    drop(fleet.run("survey").expect(0));
    fleet.world.write("lavrin.toml", format!("{begins}login = \"nobody-here\"\nhost_limit = 20\n"), 0o644);
    let refused = fleet.run("survey").expect(3);
    assert!(refused.stdout.contains("refuses to let nobody-here in"), "{refused}");
    drop(fleet.run("survey --login root").expect(0));
    // The user's own file, where the register says nothing.
    fleet.world.write("lavrin.toml", "name = \"Skerry lights\"\n", 0o644);
    fleet.world.write("home/.config/lavrin/defaults.toml", "identity = \"~/office\"\n", 0o600);
    drop(fleet.run("survey").expect(0));
    fleet.world.write("home/.config/lavrin/defaults.toml", "identity = \"~/office\"\nuser = \"root\"\n", 0o600);
    let odd = fleet.run("survey").expect(2);
    assert!(odd.stderr.contains("defaults.toml line 2: there is no field 'user' here"), "{odd}");
}

#[test]
fn the_users_client_configuration_says_where_a_host_is_that_no_register_has() {
    let mut fleet = Fleet::new();
    let host = fleet.start("lantern", "edda", &line(2, "edda"), Behaviour::default());
    let port = host.address().port();
    let expected = host.host_key().to_string();
    let config = format!("Host lamp\n  HostName 127.0.0.1\n  Port {port}\n  User root\n  IdentityFile ~/office\n");
    fleet.world.write("home/.ssh/config", config, 0o600);
    std::fs::remove_file(fleet.world.path("lavrin.toml")).unwrap();
    let audit = fleet.run(&format!("audit lamp --expect-host-key {expected}"));
    assert!(audit.stderr.contains("from ~/.ssh/config: address 127.0.0.1"), "{audit}");
    assert!(audit.stderr.contains("Signed in to lamp as root") && audit.stdout.contains("edda"), "{audit}");
}

#[test]
fn what_was_not_read_is_not_gone() {
    let mut fleet = Fleet::new();
    fleet.add("lantern", &line(2, "edda"), Behaviour::default());
    let early = [("LAVRIN_NOW", "2026-11-20T08:00:00Z")];
    drop(fleet.world.run_with(&early, &["survey", "--identity", "home/office"]).expect(0));
    // A file that is too large is not read; nor is one that a login without root's rights cannot see.
    fleet.put(0, "/home/edda/.ssh/authorized_keys", &"# a very long file\n".repeat(900_000));
    let again = fleet.survey("").expect(3);
    assert!(
        again.stdout.contains("in part") && again.stdout.contains("kept as known from 2026-11-20: edda"),
        "{again}"
    );
    let history = fleet.run("history lantern --format json").expect(0).json();
    assert!(history["events"].as_array().unwrap().iter().all(|event| event["what"] != "gone"), "{history}");
    let then = fleet.run("history --at today").expect(3);
    assert!(then.stdout.contains("last read on 2026-11-20"), "{then}");
    assert!(then.stdout.contains("lantern: not read then: edda"), "{then}");
    fleet.put(0, "/home/edda/.ssh/authorized_keys", "");
    drop(fleet.survey("").expect(0));
    let history = fleet.run("history lantern --format json").expect(0).json();
    assert!(history["events"].as_array().unwrap().iter().any(|event| event["what"] == "gone"), "{history}");
}

#[test]
fn a_grant_tells_what_is_probably_not_meant_and_is_changed_instead_of_written_twice() {
    let mut fleet = Fleet::new();
    people(&fleet);
    fleet.add_with("lantern", &line(2, "edda"), Behaviour::default(), "tags = [\"lights\"]\n");
    drop(fleet.survey("").expect(0));
    let told = |line: &str, code: i32, words: &str| {
        let run = fleet.run(line).expect(code);
        assert!(run.stderr.contains(words), "{line}: {run}");
    };
    told("grant eda edda --host lantern", 2, "near to it: edda");
    told("grant edda edda --host latern", 2, "near to it: lantern");
    told("grant edda edda --tag light", 0, "no host has the tag 'light' (near to it: lights)");
    told("grant edda eddas --host lantern", 0, "the last survey of lantern saw no account eddas (near to it: edda)");
    told("grant sten edda --host lantern", 0, "sten left on 2026-10-01, so this grant opens nothing");
    told("grant edda lamp --host lantern --until 2026-01-31", 0, "2026-01-31 is past");
    told("grant edda lamp --host lantern --until 2027-01-31", 0, "changed; no host was changed");
    assert_eq!(fleet.world.read("access.toml").matches("account = \"lamp\"").count(), 1);
    assert!(fleet.world.read("access.toml").contains("until = 2027-01-31"));
    told("grant edda lamp --tag lights", 0, "opens the same account on some of these hosts");
    let next = fleet.run("grant edda root --host lantern").expect(0);
    assert!(next.stderr.contains("next: lavrin compare"), "{next}");
}

#[test]
fn exactly_the_grant_that_is_meant_is_withdrawn() {
    let mut fleet = Fleet::new();
    people(&fleet);
    fleet.add_with("lantern", &line(2, "edda"), Behaviour::default(), "tags = [\"lights\"]\n");
    for line in ["--host lantern --until 2026-01-31", "--tag lights", "--host * --label main"] {
        drop(fleet.run(&format!("grant edda edda {line}")).expect(0));
    }
    let check = fleet.run("register check").expect(1);
    assert!(check.stdout.contains("next: lavrin withdraw edda edda --until 2026-01-31"), "{check}");
    let several = fleet.run("withdraw edda edda").expect(2);
    assert!(several.stderr.contains("grant 2: on hosts with the tag lights"), "{several}");
    assert!(several.stderr.contains("lavrin withdraw edda edda --number 1"), "{several}");
    drop(fleet.run("withdraw edda edda --until 2026-01-31").expect(0));
    let by_tag = fleet.run("withdraw edda edda --host lantern").expect(1);
    assert!(by_tag.stderr.contains("grant 1: on hosts with the tag lights"), "{by_tag}");
    let misspelt = fleet.run("withdraw eda edda").expect(1);
    assert!(misspelt.stderr.contains("near to it: edda"), "{misspelt}");
    drop(fleet.run("withdraw edda edda --number 2").expect(0));
    assert!(fleet.world.read("access.toml").contains("tags = [\"lights\"]"));
    drop(fleet.run("withdraw edda edda --all").expect(0));
    assert!(!fleet.world.read("access.toml").contains("[[grant]]"));
}

#[test]
fn a_grant_that_cannot_be_read_shifts_no_other() {
    let mut fleet = Fleet::new();
    people(&fleet);
    fleet.add("lantern", &line(2, "edda"), Behaviour::default());
    let broken = "[[grant]]\nperson = \"sten\"\nhosts = [\"lantern\"]\n\n";
    fleet.world.write("access.toml", broken, 0o644);
    let granted = fleet.run("grant edda edda --host lantern").expect(0);
    assert!(granted.stderr.contains("grant 2 added"), "{granted}");
    let until = fleet.run("grant edda edda --host lantern --until 2027-01-31").expect(0);
    assert!(until.stderr.contains("grant 2 changed"), "{until}");
    let shown = fleet.run("person show edda").expect(3);
    assert!(shown.stdout.contains("grant 2  edda on lantern"), "{shown}");
    drop(fleet.run("withdraw edda edda").expect(0));
    assert_eq!(fleet.world.read("access.toml").trim_end(), broken.trim_end());
}

#[test]
fn what_known_people_have_is_offered_as_grants_with_its_limits() {
    let mut fleet = Fleet::new();
    people(&fleet);
    let limited = format!("from=\"192.0.2.0/24\" {}", line(2, "edda"));
    for name in ["lantern", "skerry"] {
        fleet.add_with(name, &limited, Behaviour::default(), "tags = [\"lights\"]\n");
    }
    fleet.add("pier", &line(2, "edda"), Behaviour::default());
    drop(fleet.survey("").expect(0));
    let offered = fleet.run("register adopt").expect(1);
    let command = "next: lavrin grant edda edda --tag lights --from 192.0.2.0/24";
    assert!(offered.stdout.contains(command), "{offered}");
    assert!(offered.stdout.contains("next: lavrin grant edda edda --host pier"), "{offered}");
    assert!(!offered.stdout.contains("sten uses"), "whoever left is not offered anything: {offered}");
    drop(fleet.run("register adopt --take-proposals").expect(0));
    let access = fleet.world.read("access.toml");
    assert!(access.contains("from = \"192.0.2.0/24\"") && access.contains("hosts = [\"pier\"]"), "{access}");
    // What is granted as it is differs in nothing.
    let compared = fleet.run("compare --format json").json();
    assert_eq!(compared["summary"]["different"], 0, "{compared}");
}

#[test]
fn a_host_that_is_not_reached_is_a_row_of_the_preview_of_a_leaving() {
    let mut fleet = Fleet::new();
    people(&fleet);
    fleet.add("lantern", &line(2, "edda"), Behaviour::default());
    drop(fleet.survey("").expect(0));
    let silent = Behaviour { silent: true, ..Behaviour::default() };
    fleet.add("gull", &line(2, "edda"), silent);
    fleet.hosts.remove(0);
    let run = fleet.run("offboard edda --preview --identity home/office --host-limit 15").expect(3);
    assert!(run.stderr.contains("not reached") && run.stderr.contains("saw their keys in edda"), "{run}");
    assert!(run.stderr.contains("it was never surveyed"), "{run}");
    let json =
        fleet.run("offboard edda --preview --identity home/office --host-limit 15 --format json").expect(3).json();
    assert_eq!(json["not_reached"].as_array().unwrap().len(), 2, "{json}");
}

#[test]
fn people_keys_and_hosts_are_changed_renamed_and_removed() {
    let mut fleet = Fleet::new();
    people(&fleet);
    fleet.add_with("lantern", &line(2, "edda"), Behaviour::default(), "tags = [\"lights\"]\n");
    drop(fleet.survey("").expect(0));
    drop(fleet.run("grant edda edda --host lantern --label main").expect(0));
    drop(fleet.run("person set edda --name Edda-Holm --team lights").expect(0));
    drop(fleet.run("person key rename edda main laptop").expect(0));
    assert!(fleet.world.read("access.toml").contains("key = \"laptop\""));
    drop(fleet.run("person rename edda edda.holm").expect(0));
    assert!(fleet.world.read("access.toml").contains("person = \"edda.holm\""));
    assert!(fleet.world.read("people/edda.holm.toml").contains("Edda-Holm"));
    let kept = fleet.run("person remove edda.holm").expect(4);
    assert!(kept.stderr.contains("1 grant is for edda.holm"), "{kept}");
    let retired = fleet.run("person key retire edda.holm laptop").expect(0);
    assert!(retired.stderr.contains("has no other key in use"), "{retired}");
    drop(fleet.run("host set lantern --site Kvarnholm --account edda --account root").expect(0));
    drop(fleet.run("host rename lantern lantern-north").expect(0));
    assert!(fleet.world.read("access.toml").contains("\"lantern-north\""));
    // What was seen of it goes by the new name.
    assert!(fleet.run("history lantern-north").expect(0).stdout.contains("edda@lantern-north"));
    let named = fleet.run("host remove lantern-north").expect(4);
    assert!(named.stderr.contains("1 grant names it"), "{named}");
    drop(fleet.run("withdraw edda.holm edda").expect(0));
    drop(fleet.run("host remove lantern-north").expect(0));
    assert!(fleet.world.read("hosts/lantern-north.toml.removed").contains("Kvarnholm"));
    drop(fleet.run("host list").expect(0));
    drop(fleet.run("register check").expect(0));
}

#[test]
fn runs_are_listed_and_the_last_one_is_taken_back() {
    let mut fleet = Fleet::new();
    people(&fleet);
    fleet.add("lantern", "", Behaviour::default());
    drop(fleet.run("grant edda edda --host lantern").expect(0));
    drop(fleet.run("enforce --identity home/office --yes --reason agreed").expect(0));
    let runs = fleet.run("history runs").expect(0);
    assert!(runs.stdout.contains("enforce") && runs.stdout.contains("reason: agreed"), "{runs}");
    let id = fleet.run("history runs --format json").expect(0).json()["runs"][0]["id"].as_str().unwrap().to_owned();
    drop(fleet.run(&format!("undo {id} --preview --identity home/office")).expect(0));
    let back = "undo --last --identity home/office --yes --accept-lockout";
    drop(fleet.run(back).expect(0));
    let file = fleet.hosts[0].file("/home/edda/.ssh/authorized_keys");
    assert_eq!(std::fs::read_to_string(file).unwrap(), "");
    assert!(fleet.run("history --at tomorrow").expect(2).stderr.contains("is not a day"));
    assert!(fleet.run("history --at 2027-01-01").expect(2).stderr.contains("still to come"));
    drop(fleet.run("history --at yesterday"));
    let history = fleet.run("history lantern").expect(0).stdout;
    assert!(history.contains("reason: agreed") && history.contains("undo: "), "{history}");
}

#[test]
fn what_had_to_be_typed_is_repeated_in_what_comes_next() {
    let mut fleet = Fleet::new();
    people(&fleet);
    fleet.add("lantern", &line(2, "edda"), Behaviour::default());
    fleet.put(0, "/home/edda/.ssh/authorized_keys", &line(4, "who"));
    let run = fleet.run("why edda@lantern --login root --identity home/office --key home/office.pub").expect(1);
    let next = "next: lavrin install home/office.pub edda@lantern --login root --identity home/office";
    assert!(run.stdout.contains(next), "{run}");
    drop(fleet.survey("").expect(0));
    std::fs::create_dir(fleet.world.path("elsewhere")).unwrap();
    let audit = fleet.run("audit --register .").expect(1);
    assert!(audit.stdout.contains("next: ask whose it is, then: lavrin register adopt --register ."), "{audit}");
}

#[test]
fn a_changed_key_of_a_registered_host_names_the_pin() {
    let mut fleet = Fleet::new();
    let other = Behaviour { other_host_key: true, ..Behaviour::default() };
    fleet.add("lantern", &line(2, "edda"), other);
    let run = fleet.run("why edda@lantern --identity home/office --key home/office.pub").expect(4);
    assert!(run.stderr.contains("someone may be intercepting the connection"), "{run}");
    assert!(run.stderr.contains("lavrin host trust lantern --replace") && !run.stderr.contains("known_hosts"), "{run}");
}

#[test]
fn a_wrong_password_is_not_asked_for_by_another_name() {
    let mut fleet = Fleet::new();
    fleet.add("lantern", "", Behaviour::default());
    fleet.world.write("wrong", "not this one\n", 0o600);
    let run = fleet.run("why edda@lantern --login edda --password-file wrong --key home/office.pub").expect(3);
    assert!(!run.stderr.contains("--ask-password"), "{run}");
}

#[test]
fn why_answers_from_the_last_survey_where_the_host_is_not_reached() {
    let mut fleet = Fleet::new();
    fleet.add_with("lantern", &line(2, "edda"), Behaviour::default(), "tags = [\"lights\"]\n");
    drop(fleet.survey("").expect(0));
    fleet.world.write("edda.pub", line(2, "edda"), 0o644);
    let (port, pin) = (fleet.hosts[0].address().port(), fleet.hosts[0].host_key_line());
    let free = crate::common::servers::free_port();
    let tags = "tags = [\"lights\"]\n";
    fleet.register("lantern", free, &pin, tags);
    let later = [("LAVRIN_NOW", "2026-11-25T08:00:00Z")];
    let ask = |more: &str| {
        let line = format!("why edda@lantern --identity home/office{more}");
        fleet.world.run_with(&later, &line.split(' ').collect::<Vec<_>>())
    };
    let run = ask(" --key edda.pub").expect(3);
    assert!(run.stdout.starts_with("accepted edda with") && run.stdout.contains("authorized_keys line 1"), "{run}");
    assert!(run.stderr.contains("nothing listens on port") && run.stderr.contains("2 days ago"), "{run}");
    assert!(run.stderr.contains("next: lavrin survey lantern"), "{run}");
    let out = ask(" --key edda.pub --format json").expect(3).json();
    assert_eq!((out["verdict"].as_str(), out["as_of"].as_str()), (Some("accepted"), Some("2026-11-23T08:00:00Z")));
    assert!(ask("").expect(3).stdout.contains("1 of 1 key opens edda"));
    // Of a host that was never seen nothing is known, and one that shows another key is not excused.
    fleet.register("skerry", free, &pin, tags);
    let run = fleet.run("why edda@skerry --key edda.pub --identity home/office").expect(3);
    assert!(run.stdout.is_empty(), "{run}");
    fleet.register("lantern", port, line(9, "").trim(), tags);
    let run = ask(" --key edda.pub").expect(4);
    assert!(run.stdout.is_empty(), "{run}");
    // Near names of all kinds are told.
    for (typed, near) in [("survey lanter", "lantern"), ("audit light", "lights"), ("matrix lightz", "lights")] {
        let run = fleet.run(typed).expect(2);
        assert!(run.stderr.contains(&format!("near to it: {near}")), "{typed}: {run}");
    }
    let run = fleet.run("surveyy").expect(2);
    assert!(run.stderr.contains("survey"), "{run}");
}

#[test]
fn lavrin_alone_says_where_one_is() {
    let world = World::new();
    let none = world.typed("").expect(2);
    assert!(none.stderr.contains("There is no register here") && none.stderr.contains("lavrin demo"), "{none}");
    let mut fleet = Fleet::new();
    people(&fleet);
    fleet.add("lantern", "", Behaviour::default());
    let before = fleet.run("").expect(0);
    assert!(before.stdout.contains("Skerry lights") && before.stdout.contains("next: lavrin survey"), "{before}");
    drop(fleet.survey("").expect(0));
    let after = fleet.run("").expect(0);
    assert!(after.stdout.contains("1 host surveyed, last on 2026-11-23"), "{after}");
    assert!(after.stdout.contains("next: lavrin audit"), "{after}");
    drop(fleet.run("grant edda lamp --host lantern --until 2026-11-30").expect(0));
    drop(fleet.run("audit"));
    insta::assert_snapshot!("lavrin_alone", fleet.run("").expect(0));
    let out = fleet.run("--format json").expect(0).json();
    assert_eq!((out["surveyed"].as_u64(), out["ends_soon"][0]["day"].as_str()), (Some(1), Some("2026-11-30")));
}
