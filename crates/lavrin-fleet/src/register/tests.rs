use super::check::{check, worst};
use super::*;
use dashu_int::UBig;
use lavrin_keys::key::strength::Weakness;
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_server::finding::Severity;
use proptest::prelude::*;

const TODAY: Date = Date { year: 2026, month: 11, day: 23 };

fn line(seed: u8) -> String {
    PrivateKey::ed25519(&[seed; 32]).unwrap().public().line(&format!("key{seed}@lantern"))
}

type Texts = Vec<(&'static str, String)>;

fn files(texts: &[(&str, String)]) -> Vec<SourceFile> {
    texts.iter().map(|(path, text)| SourceFile { path: (*path).to_owned(), text: text.clone() }).collect()
}

/// A register in which nothing is wrong.
fn whole() -> Vec<(&'static str, String)> {
    vec![
        ("lavrin.toml", "name = \"Halvmark\"\n".to_owned()),
        (
            "people/edda.toml",
            format!("name = \"Edda\"\nteam = \"office\"\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line(1)),
        ),
        ("people/sten.toml", format!("name = \"Sten\"\n[[key]]\nline = \"{}\"\n", line(2))),
        (
            "hosts.toml",
            format!(
                "[lantern]\naddress = \"192.0.2.7\"\ntags = [\"lights\"]\naccounts = [\"keeper\"]\nhost_keys = [\"{}\"]\n",
                line(9)
            ),
        ),
        (
            "access.toml",
            "[[grant]]\nteam = \"office\"\naccount = \"keeper\"\ntags = [\"lights\"]\nuntil = 2027-01-31\n".to_owned(),
        ),
    ]
}

fn found(change: impl FnOnce(&mut Vec<(&'static str, String)>)) -> Vec<(&'static str, String)> {
    let mut texts = whole();
    change(&mut texts);
    let files = files(&texts);
    let reading = read(&files);
    check(&reading, TODAY, &|_| None)
        .iter()
        .map(|finding| (finding.fault.rule(), files[finding.place.file()].text[finding.place.bytes()].to_owned()))
        .collect()
}

fn replace(texts: &mut [(&'static str, String)], number: usize, what: &str, by: &str) {
    assert!(texts[number].1.contains(what), "{what}");
    texts[number].1 = texts[number].1.replace(what, by);
}

#[test]
fn a_way_back_is_asked_for_where_policy_says_so() {
    let host = |name: &str, lines: &str| format!("[{name}]\nhost_keys = []\n{lines}\n");
    let hosts = host("none", "")
        + &host("never", "way_back = \"console\"")
        + &host("old", "way_back = \"console\"\nway_back_tried = 2025-01-01")
        + &host("fine", "way_back = \"console\"\nway_back_tried = 2026-10-01");
    let found = |policy: &str| -> Vec<(String, &'static str)> {
        let files = [("lavrin.toml", format!("name = \"x\"\n[policy]\n{policy}\n")), ("hosts.toml", hosts.clone())];
        let files = files.map(|(path, text)| SourceFile { path: path.to_owned(), text });
        let today = Date::parse("2026-11-23").unwrap();
        let findings = check::check(&read(&files), today, &|_| None);
        let ways = findings.into_iter().filter(|finding| finding.fault.rule().starts_with("way-back"));
        ways.map(|finding| (finding.about.clone(), finding.fault.rule())).collect()
    };
    assert!(found("").is_empty());
    let told = [("none", "way-back-missing"), ("never", "way-back-untried"), ("old", "way-back-untried")];
    assert_eq!(found("way_back_days_max = 365"), told.map(|(host, rule)| (host.to_owned(), rule)));
}

#[test]
fn a_register_in_order_gives_nothing() {
    assert_eq!(found(|_| {}), []);
    let reading = read(&files(&whole()));
    let grant = &reading.register.grants[0];
    assert_eq!(reading.register.hosts_of(grant).map(|host| host.id.as_str()).collect::<Vec<_>>(), ["lantern"]);
    assert_eq!(reading.register.people_of(grant).len(), 1);
}

#[test]
fn faults_of_the_text_are_told_at_their_place_all_in_one_run() {
    let told = found(|texts| {
        replace(texts, 1, "team =", "taem =");
        replace(texts, 2, "name = \"Sten\"", "since = \"2026-02-30\"");
        replace(texts, 3, "accounts = [\"keeper\"]", "port = 70000");
    });
    let rules: Vec<&str> = told.iter().map(|(rule, _)| *rule).collect();
    assert_eq!(rules, ["unknown-field", "missing-field", "wrong-kind", "wrong-kind", "unknown-name"]);
    assert_eq!([told[0].1.as_str(), told[2].1.as_str(), told[3].1.as_str()], ["taem", "\"2026-02-30\"", "70000"]);
    let reach =
        |name: &str| found(|texts| replace(texts, 3, "[lantern]\n", &format!("[lantern]\nreach = \"{name}\"\n")));
    assert_eq!((reach("pigeon")[0].0, reach("pigeon")[0].1.as_str()), ("bad-value", "\"pigeon\""));
    assert!(reach("shell").is_empty());
    assert!(found(|texts| texts[4].1 += "until = \n").iter().any(|(rule, _)| *rule == "register-syntax"));
}

#[test]
fn keys_are_judged_and_told_apart() {
    let one = |change: &dyn Fn(&mut Texts)| found(|texts| change(texts))[0].0;
    assert_eq!(one(&|texts| texts[2].1 = texts[2].1.replace(&line(2), &line(1))), "shared-key");
    assert_eq!(one(&|texts| texts[1].1 += &format!("[[key]]\nline = \"{}\"\n", line(1))), "duplicate-key");
    assert_eq!(one(&|texts| replace(texts, 2, "AAAA", "AAAB")), "person-without-key");
    assert_eq!(one(&|texts| texts[0].1 += "[policy]\ncomment = \"*@office\"\n"), "comment-form");
    assert_eq!(one(&|texts| texts[0].1 += "[policy]\nalgorithms = \"ssh-rsa\"\n"), "algorithm-not-allowed");
    let old = |texts: &mut Vec<(&'static str, String)>| {
        texts[0].1 += "[policy]\nkey_age_days_max = 365\n";
        texts[2].1 += "added = 2025-11-01\n";
    };
    assert_eq!(one(&old), "old-key");
}

#[test]
fn a_small_factor_is_told_once_however_small() {
    for factor in [3u32, 1009, 1_000_003] {
        let modulus = ((UBig::ONE << 2203usize) - UBig::ONE) * UBig::from(factor);
        let key = PublicKey::rsa(&[1, 0, 1], &modulus.to_be_bytes()).unwrap().line("sten");
        let mut texts = whole();
        replace(&mut texts, 2, &line(2), &key);
        let small =
            check(&read(&files(&texts)), TODAY, &|_| None).into_iter().filter_map(|finding| match finding.fault {
                RegisterFault::WeakKey { weakness: Weakness::SmallFactor { factor }, .. } => Some(factor),
                _ => None,
            });
        assert_eq!(small.collect::<Vec<_>>(), [factor.to_string()]);
    }
}

#[test]
fn grants_are_held_against_people_and_hosts() {
    let one = |what: &str, by: &str| found(|texts| replace(texts, 4, what, by));
    assert_eq!(one("2027-01-31", "2026-11-22")[0], ("account-without-way-in", "\"keeper\"".to_owned()));
    assert_eq!(one("2027-01-31", "2026-11-22")[1], ("grant-ended", "2026-11-22".to_owned()));
    assert_eq!(one("tags = [\"lights\"]", "hosts = [\"lantren\"]")[1].0, "unknown-name");
    assert_eq!(one("tags = [\"lights\"]\n", "")[1].0, "grant-matches-nothing");
    assert_eq!(one("team = \"office\"", "person = \"sten\"\nteam = \"office\"")[1].0, "bad-value");
    let gone = found(|texts| {
        replace(texts, 4, "team = \"office\"", "person = \"sten\"");
        texts[2].1 = texts[2].1.replace("[[key]]", "left = 2026-11-20\n[[key]]");
    });
    assert_eq!(gone[0], ("grant-of-leaver", "\"sten\"".to_owned()));
    let automation = found(|texts| {
        texts[0].1 += "[policy]\nautomation_options = [\"from\", \"command\"]\n";
        texts[1].1 += "purpose = \"automation\"\n";
    });
    assert_eq!(automation[0].0, "automation-unlimited");
}

#[test]
fn hosts_need_keys_and_ways() {
    let told = found(|texts| texts[3].1 = texts[3].1.replace("host_keys", "# host_keys"));
    assert_eq!(told, [("host-unpinned", "[lantern]".to_owned())]);
    assert_eq!(found(|texts| texts[3].1 += "through = \"lantern\"\n")[0].0, "through-loop");
    assert_eq!(found(|texts| texts[3].1 += "through = \"pier\"\n")[0].0, "unknown-name");
}

#[test]
fn entries_are_left_alone_by_their_key_and_never_where_it_is_a_persons() {
    let leave = |what: &str| {
        let told = found(|texts| replace(texts, 3, "accounts", &format!("leave = [\"{what}\"]\naccounts")));
        told.into_iter().map(|(rule, _)| rule).collect::<Vec<_>>()
    };
    let key = |seed: u8| lavrin_keys::key::PrivateKey::ed25519(&[seed; 32]).unwrap().public().fingerprint().to_string();
    assert_eq!(leave("build robot"), ["leave-by-comment"]);
    assert_eq!(leave(&key(1)), ["leave-of-person"]);
    assert!(leave(&key(9)).is_empty());
}

#[test]
fn exceptions_excuse_for_a_while_and_are_told_when_they_have_no_use() {
    let exception = |until: &str| {
        format!(
            "[[exception]]\nrule = \"host-unpinned\"\nabout = \"lantern\"\nreason = \"being built\"\nuntil = {until}\n"
        )
    };
    let unpinned =
        |texts: &mut Vec<(&'static str, String)>| texts[3].1 = texts[3].1.replace("host_keys", "# host_keys");
    let excused = found(|texts| {
        texts[0].1 += &exception("2026-12-01");
        unpinned(texts);
    });
    assert_eq!(excused, []);
    assert_eq!(found(|texts| texts[0].1 += &exception("2026-12-01"))[0].0, "exception-unused");
    assert_eq!(found(|texts| texts[0].1 += &exception("2026-11-01"))[0].0, "exception-ended");
}

#[test]
fn severities_are_the_registers_own() {
    let mut texts = whole();
    texts[0].1 += "[policy.severity]\nhost-unpinned = \"critical\"\n";
    texts[3].1 = texts[3].1.replace("host_keys", "# host_keys");
    assert_eq!(worst(&check(&read(&files(&texts)), TODAY, &|_| None)), Some(Severity::Critical));
    texts[0].1 = texts[0].1.replace("\"critical\"", "\"off\"");
    assert_eq!(check(&read(&files(&texts)), TODAY, &|_| None), []);
}

#[test]
fn edits_keep_comments_order_and_blanks() {
    let text = "# who uses what\n[[grant]] # first\n  person = \"edda\"   # our own\naccount='keeper'\nhosts = [ \"lantern\" ]\n\n# the end\n";
    let hosts = ["pier".to_owned()];
    let new =
        edit::NewGrant { kind: "person", whom: "sten", account: "root", hosts: &hosts, ..edit::NewGrant::default() };
    let added = edit::add_grant(text, &new).unwrap();
    assert_eq!(added, format!("{text}\n[[grant]]\nperson = \"sten\"\naccount = \"root\"\nhosts = [\"pier\"]\n"));
    assert_eq!(edit::remove_grants(&added, &[2]).unwrap(), text);
    assert_eq!(edit::remove_grants(text, &[1]).unwrap(), "# who uses what\n\n# the end\n");
    let left = edit::set_date("name = \"Sten\"\nleft = 2026-01-01 # on leave\n", "left", TODAY).unwrap();
    assert_eq!(left, "name = \"Sten\"\nleft = 2026-11-23 # on leave\n");
    assert!(edit::set_text("name = ", "name", Some("x")).is_err());
}

fn some_text() -> impl Strategy<Value = String> {
    "[a-z]{1,8}( [a-z#=\\[\\]]{0,5})?"
}

proptest! {
    #[test]
    fn an_edit_changes_only_what_was_asked(
        names in proptest::collection::vec(some_text(), 0..6),
        comments in proptest::collection::vec("[ -~]{0,20}", 6),
        blanks in 0usize..3,
    ) {
        let mut text = String::from("# access\n");
        for (name, comment) in names.iter().zip(&comments) {
            text += &format!("{}[[grant]]\nperson = {name:?} # {comment}\naccount  =  \"keeper\"\nhosts=[\"*\"]\n", "\n".repeat(blanks));
        }
        let hosts = ["lantern".to_owned()];
        let new = edit::NewGrant { kind: "team", whom: "office", account: "root", hosts: &hosts, ..edit::NewGrant::default() };
        let added = edit::add_grant(&text, &new).unwrap();
        prop_assert!(added.starts_with(&text), "{added:?}");
        prop_assert_eq!(edit::remove_grants(&added, &[u32::try_from(names.len() + 1).unwrap()]).unwrap(), text);
        let register = read(&files(&[("access.toml", added)])).register;
        prop_assert_eq!(register.grants.len(), names.len() + 1);
    }

    #[test]
    fn any_text_is_read_to_its_end(text in "[ -~\n]{0,300}") {
        for path in ["lavrin.toml", "people/a.toml", "hosts.toml", "hosts/a.toml", "access.toml", "owed.toml"] {
            let files = files(&[(path, text.clone())]);
            for finding in check(&read(&files), TODAY, &|_| None) {
                prop_assert!(files[0].text.get(finding.place.bytes()).is_some());
            }
        }
    }
}

#[test]
fn what_is_owed_is_added_and_taken_out_again() {
    let new = |host| edit::NewOwed { key: "SHA256:abc", person: Some("sten"), account: "keeper", host, since: TODAY };
    let one = edit::add_owed("", &new("lantern")).unwrap();
    let two = edit::add_owed(&format!("{one}# by hand\n"), &new("skerry")).unwrap();
    let reading = read(&files(&[("owed.toml", two.clone())]));
    let hosts: Vec<&str> = reading.register.owed.iter().map(|owed| owed.host.as_str()).collect();
    assert_eq!(hosts, ["lantern", "skerry"]);
    assert_eq!(reading.register.owed[0].since, TODAY);
    let left = edit::remove_owed(&two, &[1]).unwrap();
    assert!(left.starts_with("# by hand") && !left.contains("lantern") && left.contains("skerry"), "{left}");
    assert!(edit::remove_owed(&two, &[3]).is_err() && edit::remove_owed("", &[1]).is_err());
}

#[test]
fn an_account_that_no_survey_saw_is_told_with_what_is_near() {
    let texts = [
        ("lavrin.toml", "name = \"lights\"\n"),
        ("hosts.toml", "[lantern]\naccounts = [\"keper\", \"root\"]\n[skerry]\naccounts = [\"lamp\"]\n"),
    ];
    let files: Vec<SourceFile> =
        texts.iter().map(|(path, text)| SourceFile { path: (*path).to_owned(), text: (*text).to_owned() }).collect();
    let seen = |host: &str| (host == "lantern").then(|| vec!["root".to_owned(), "keeper".to_owned()]);
    let found: Vec<RegisterFault> = check(&read(&files), TODAY, &seen)
        .into_iter()
        .map(|finding| finding.fault)
        .filter(|fault| matches!(fault, RegisterFault::AccountNeverSeen { .. }))
        .collect();
    let fault = RegisterFault::AccountNeverSeen { account: "keper".to_owned(), near: Some("keeper".to_owned()) };
    assert_eq!(found, [fault], "what was never surveyed is not told");
}

#[test]
fn copies_of_a_machine_are_told_and_two_names_of_one_are_not() {
    let key = lavrin_keys::key::PrivateKey::ed25519(&[9; 32]).unwrap().public().line("");
    let host =
        |name: &str, address: &str| format!("[{name}]\naddress = \"{address}\"\nhost_keys = [\"{}\"]\n", key.trim());
    let text = host("a", "192.0.2.1") + &host("b", "192.0.2.2") + &host("c", "192.0.2.1");
    let file = |path: &str, text: &str| SourceFile { path: path.to_owned(), text: text.to_owned() };
    let reading = read(&[file("lavrin.toml", "name = \"lights\"\n"), file("hosts.toml", &text)]);
    let found = check(&reading, TODAY, &|_| None).into_iter();
    let told: Vec<String> = found.filter(|one| one.fault.rule() == "shared-host-key").map(|one| one.about).collect();
    assert_eq!(told, ["b"]);
}

#[test]
fn a_key_is_replaced_by_one_other_and_no_chain_ends_where_it_began() {
    let key = |label: &str, seed: u8, replaces: &str| {
        let replaces = if replaces.is_empty() { String::new() } else { format!("replaces = \"{replaces}\"\n") };
        format!("[[key]]\nlabel = \"{label}\"\nline = \"{}\"\n{replaces}", line(seed))
    };
    let with = |more: String| found(|texts| texts[1].1 += &more);
    assert_eq!(with(key("main-2", 3, "main")), []);
    let twice = with(key("main-2", 3, "main") + &key("other", 4, "main"));
    assert_eq!(twice, [("replaced-twice", "\"main\"".to_owned())]);
    assert_eq!(with(key("main-2", 3, "mian")), [("unknown-name", "\"mian\"".to_owned())]);
    assert_eq!(with(key("main-2", 3, "main-2")), [("replaces-itself", "\"main-2\"".to_owned())]);
    let round = with(key("a", 3, "b") + &key("b", 4, "a"));
    assert_eq!(round.iter().map(|(rule, _)| *rule).collect::<Vec<_>>(), ["replaces-itself", "replaces-itself"]);
    // A grant for a key is one for what replaces it, so it is not without a key.
    let retired = found(|texts| {
        texts[1].1 += &format!("retired = 2026-11-01\n{}", key("main-2", 3, "main"));
        texts[4].1 =
            "[[grant]]\nperson = \"edda\"\nkey = \"main\"\naccount = \"keeper\"\ntags = [\"lights\"]\n".to_owned();
    });
    assert_eq!(retired, []);
}

#[test]
fn a_new_key_is_written_where_its_owner_stands() {
    let new = edit::NewKey {
        label: "log-2",
        line: &line(4),
        purpose: "automation",
        added: TODAY,
        replaces: Some("log"),
        machine: Some(("lamp", Some("/home/lamp/.ssh/log"))),
    };
    let hosts =
        format!("[lantern]\n[[lantern.key]]\naccount = \"lamp\"\nlabel = \"log\"\nline = \"{}\"\n[skerry]\n", line(3));
    let text = edit::add_key(&hosts, Some("lantern"), &new).unwrap();
    let text = edit::set_key(&text, Some("lantern"), "log", "retired", &edit::KeyField::Day(TODAY)).unwrap();
    let reading = read(&files(&[("hosts.toml", text.clone())]));
    assert!(reading.findings.is_empty(), "{:?} in {text}", reading.findings);
    let keys = &reading.register.hosts["lantern"].keys;
    assert_eq!(keys[0].retired, Some(TODAY));
    assert_eq!((keys[1].file.as_deref(), keys[1].goes_by("log", keys)), (Some("/home/lamp/.ssh/log"), true));
    assert!(!keys[0].goes_by("log-2", keys));
    assert!(edit::set_key(&text, Some("skerry"), "log", "retired", &edit::KeyField::Day(TODAY)).is_err());
}

#[test]
fn a_grant_is_told_before_it_ends() {
    let until = |day: &str| found(|texts| replace(texts, 4, "2027-01-31", day));
    assert_eq!(until("2026-12-06"), [("grant-ends-soon", "2026-12-06".to_owned())]);
    assert_eq!(until("2026-12-07"), []);
    assert_eq!(until("2026-11-23"), [("grant-ends-soon", "2026-11-23".to_owned())]);
    assert_eq!(
        until("2026-11-22"),
        [("account-without-way-in", "\"keeper\"".to_owned()), ("grant-ended", "2026-11-22".to_owned())]
    );
}

#[test]
fn what_a_device_shows_and_where_its_keys_are_is_checked() {
    let with = |host: &str, profile: &str| {
        found(|texts| {
            replace(texts, 3, "address", &format!("{host}\naddress"));
            texts.push(("profiles/horn.toml", profile.to_owned()));
        })
    };
    let profile = "prompts = [\"fog>\"]\nerrors = [\"! \"]\n[list]\nsend = [\"show %u\"]\nkey = \"%n. %k\"\n[add]\nsend = [\"take %k\"]\n[remove]\nsend = [\"drop %n\"]\n";
    assert_eq!(with("reach = \"dialogue\"\nprofile = \"horn\"", profile), []);
    let bad = |was: &str, by: &str| with("reach = \"dialogue\"\nprofile = \"horn\"", &profile.replace(was, by));
    for (was, by, place) in [
        ("\"fog>\"", "\"fog>\", \"\"", "\"\""),
        ("\"! \"", "\" \"", "\" \""),
        ("\"show %u\"", "\"show %u\\nreboot\"", "\"show %u\\nreboot\""),
        ("\"drop %n\"", "\"drop %x\"", "\"drop %x\""),
    ] {
        assert_eq!(bad(was, by), [("bad-value", place.to_owned())], "{by}");
    }
    assert!(bad("key = \"%n. %k\"", "key = \"%n.\"").iter().any(|(rule, _)| *rule == "bad-value"));
    for path in ["\"/keys/../%u\"", "\"..\"", "\"/keys/%u\\u0000\"", "\"\""] {
        let found = with(&format!("reach = \"sftp\"\nlogin = \"keeper\"\nkeys_file = {path}"), profile);
        assert!(found.contains(&("bad-value", path.to_owned())), "{path}: {found:?}");
    }
    let of_group = "reach = \"sftp\"\nlogin = \"keeper\"\nkeys_file_of_groups = { keepers = \"../x\" }";
    assert!(with(of_group, profile).iter().any(|(rule, _)| *rule == "bad-value"));
    assert_eq!(with("reach = \"sftp\"\nlogin = \"keeper\"\nkeys_file = \"/keys/%u\"", profile), []);
}

#[test]
fn a_grant_is_for_each_of_its_hosts_once_in_the_order_of_their_names() {
    let hosts = "[skerry]\ntags = [\"lights\"]\n[buoy]\n[lantern]\ntags = [\"lights\"]\n".to_owned();
    let of = |where_to: &str| -> Vec<String> {
        let access = format!("[[grant]]\nperson = \"edda\"\naccount = \"keeper\"\n{where_to}\n");
        let register = read(&files(&[("hosts.toml", hosts.clone()), ("access.toml", access)])).register;
        let found: Vec<String> = register.hosts_of(&register.grants[0]).map(|host| host.id.clone()).collect();
        let asked = register.all_hosts().filter(|host| register.grants[0].covers(host));
        assert_eq!(found, asked.map(|host| host.id.clone()).collect::<Vec<_>>(), "{where_to}");
        found
    };
    assert_eq!(of("hosts = [\"skerry\", \"buoy\", \"nowhere\", \"skerry\"]"), ["buoy", "skerry"]);
    assert_eq!(of("hosts = [\"buoy\"]\ntags = [\"lights\"]"), ["buoy", "lantern", "skerry"]);
    assert_eq!(of("hosts = [\"*\", \"buoy\"]"), ["buoy", "lantern", "skerry"]);
    assert!(of("").is_empty());
}
