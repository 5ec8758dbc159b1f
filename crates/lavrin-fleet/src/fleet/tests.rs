use super::*;
use crate::register::{SourceFile, read};
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_server::account::read_passwd;
use lavrin_server::fs::{Fact, Node, NodeKind};
use lavrin_server::survey::{Observation, StrayKey};
use lavrin_server::system::System;

const DAY: i64 = 86_400;
const TODAY: Date = Date { year: 2026, month: 11, day: 23 };

fn now() -> Moment {
    Moment { time: TODAY.number() * DAY, today: TODAY }
}

fn key(seed: u8) -> PublicKey {
    PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
}

fn person(id: &str, rest: &str, keys: &[(&str, u8, &str)]) -> SourceFile {
    let mut text = format!("name = \"{id}\"\nteam = \"crew\"\n{rest}\n");
    for (label, seed, more) in keys {
        text += &format!("[[key]]\nlabel = \"{label}\"\nline = \"{}\"\n{more}\n", key(*seed).line(label));
    }
    SourceFile { path: format!("people/{id}.toml"), text }
}

fn file(path: &str, text: &str) -> SourceFile {
    SourceFile { path: path.to_owned(), text: text.to_owned() }
}

/// edda and sten are of the crew; sten has left; runa may enter only where a grant says so, and one is over.
fn register(access: &str, more: &str) -> Register {
    let hosts = format!(
        "[lantern]\ntags = [\"north\"]\nleave = [\"{}\", \"{}\"]\n[[lantern.key]]\naccount = \"lamp\"\nlabel = \"log\"\nline = \"{}\"\nfile = \"/home/edda/.ssh/log\"\n[skerry]\n",
        key(8).fingerprint(),
        key(3).fingerprint(),
        key(7).line("log")
    );
    let files = [
        file("lavrin.toml", &format!("name = \"lights\"\n{more}")),
        person("edda", "", &[("main", 1, ""), ("old", 2, "retired = 2026-01-31")]),
        person("sten", "left = 2026-10-01", &[("main", 3, "")]),
        person("runa", "", &[("main", 4, ""), ("second", 5, "")]),
        file("hosts.toml", &hosts),
        file("access.toml", access),
    ];
    let reading = read(&files);
    assert!(reading.findings.is_empty(), "{:?}", reading.findings);
    reading.register
}

fn host_with(keys: &str, config: &str) -> Observation {
    let mut seen = Observation {
        looked: true,
        accounts: read_passwd(b"root:x:0:0::/root:/bin/sh\nedda:x:1001:1001::/home/edda:/bin/sh\n").into(),
        server: lavrin_server::server::Server::debian(lavrin_keys::version::Version(9, 2)),
        ..Observation::default()
    };
    let mut put = |path: &str, kind, mode, uid| {
        seen.nodes.insert(path.into(), Fact::Known(Node { kind, mode, uid, gid: uid, access_list: false }));
    };
    put("/home", NodeKind::Folder, 0o755, 0);
    put("/home/edda", NodeKind::Folder, 0o755, 1001);
    put("/home/edda/.ssh", NodeKind::Folder, 0o700, 1001);
    put("/home/edda/.ssh/authorized_keys", NodeKind::File, 0o600, 1001);
    put("/root", NodeKind::Folder, 0o700, 0);
    for absent in ["/home/edda/.ssh/authorized_keys2", "/root/.ssh"] {
        seen.nodes.insert(absent.into(), Fact::Absent);
    }
    seen.bytes.insert("/home/edda/.ssh/authorized_keys".into(), Fact::Known(keys.as_bytes().to_vec()));
    seen.bytes.insert("/etc/ssh/sshd_config".into(), Fact::Known(config.as_bytes().to_vec()));
    seen
}

fn line(seed: u8) -> String {
    key(seed).line("a comment") + "\n"
}

const SHUT: &str = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n";

fn rules_of(register: &Register, host: &str, seen: Option<Observation>, state: &HostState) -> Vec<&'static str> {
    let auditor = FleetAuditor::new(register, now());
    let mut report = auditor.host(&register.hosts[host], seen.as_ref().map(System::of).as_ref(), state);
    let mut across = AcrossHosts::default();
    across.add(&report.entries);
    auditor.finish(&mut report, across, Vec::new());
    report.findings.iter().map(|found| found.finding.fault.rule()).collect()
}

fn seen_now() -> HostState {
    HostState { seen: Some(now().time), ..HostState::default() }
}

fn rules(access: &str, host: &str, keys: &str) -> Vec<&'static str> {
    rules_of(&register(access, ""), host, Some(host_with(keys, SHUT)), &seen_now())
}

#[test]
fn an_entry_is_held_against_its_owner_and_the_grants() {
    let crew = "[[grant]]\nteam = \"crew\"\naccount = \"edda\"\ntags = [\"north\"]\n";
    assert!(rules(crew, "lantern", &line(1)).is_empty());
    // Another host, another account, nobody, a key that is retired, a person who left.
    assert_eq!(rules(crew, "skerry", &line(1)), ["not-granted"]);
    assert_eq!(rules(&crew.replace("\"edda\"", "\"root\""), "lantern", &line(1)), ["not-granted"]);
    assert_eq!(rules(crew, "lantern", &line(9)), ["unknown-key"]);
    assert_eq!(rules(crew, "lantern", &line(2)), ["retired-key"]);
    assert_eq!(rules(crew, "lantern", &line(3)), ["key-of-leaver"]);
    let until = "[[grant]]\nperson = \"runa\"\naccount = \"edda\"\nhosts = [\"lantern\"]\nkey = \"main\"\nuntil = ";
    assert_eq!(rules(&format!("{until}2026-11-22\n"), "lantern", &line(4)), ["grant-over"]);
    assert!(rules(&format!("{until}2026-11-23\n"), "lantern", &line(4)).is_empty());
    assert_eq!(rules(&format!("{until}2026-11-23\n"), "lantern", &line(5)), ["not-granted"]);
    // A grant in force counts beside one that is over.
    assert!(rules(&format!("{until}2026-11-22\n{}", until.replace("until = ", "")), "lantern", &line(4)).is_empty());
    let everywhere = "[[grant]]\nmachine = \"lamp@lantern\"\naccount = \"edda\"\nhosts = [\"*\"]\n";
    assert!(rules(everywhere, "skerry", &line(7)).is_empty());
    assert_eq!(rules("", "skerry", &line(7)), ["not-granted"]);
    assert!(rules("", "lantern", &(key(8).line("left-alone") + "\n")).is_empty());
}

#[test]
fn one_unknown_key_with_several_names_is_in_many_hands() {
    let keys = key(9).line("edda") + "\n" + &key(9).line("sten") + "\n";
    let found = rules("", "lantern", &keys);
    assert_eq!(found, ["key-in-many-hands", "unknown-key", "unknown-key", "duplicate-entry"]);
}

#[test]
fn what_logs_tell_of_a_key_counts_only_where_they_go_back_far_enough() {
    let crew = register("[[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"*\"]\n", "");
    let rules = |state: &HostState| rules_of(&crew, "lantern", Some(host_with(&line(1), SHUT)), state);
    let ago = |days: i64| now().time - days * DAY;
    let logs = |days| HostState { logs_since: Some(ago(days)), ..seen_now() };
    assert!(rules(&logs(3)).is_empty());
    assert_eq!(rules(&logs(200)), ["key-never-seen"]);
    let used = |days| {
        let of = (("edda".to_owned(), key(1).fingerprint()), KeyUse { time: ago(days), from: String::new() });
        HostState { uses: [of].into(), ..logs(300) }
    };
    assert!(rules(&used(100)).is_empty());
    assert_eq!(rules(&used(200)), ["key-long-unused"]);
}

#[test]
fn settings_that_weaken_everything_are_told() {
    let none = register("", "");
    let rules = |config: &str| rules_of(&none, "lantern", Some(host_with("", config)), &seen_now());
    assert_eq!(rules("UsePAM yes\n"), ["passwords-on"]);
    assert_eq!(rules(""), ["passwords-on"], "an empty file is a configuration");
    assert_eq!(rules("PermitRootLogin yes\n"), ["root-with-password"]);
    assert_eq!(rules(&format!("{SHUT}PermitRootLogin yes\n")), [""; 0]);
    assert_eq!(rules(&format!("{SHUT}StrictModes no\n")), ["strict-modes-off"]);
    assert_eq!(rules("PermitEmptyPasswords yes\n"), ["empty-passwords", "passwords-on"]);
    assert_eq!(rules(&format!("{SHUT}PubkeyAuthentication no\n")), ["keys-off"]);
    assert_eq!(rules(&format!("{SHUT}Nonsense yes\n")), ["settings-broken"]);
    let command = "AuthorizedKeysCommand /usr/bin/keys\nAuthorizedKeysCommandUser nobody\nTrustedUserCAKeys /etc/ca\n";
    assert_eq!(rules(&format!("{SHUT}{command}")), ["keys-from-elsewhere"; 2]);
}

#[test]
fn how_old_a_look_is_and_what_could_not_be_seen_is_told() {
    let none = register("", "");
    let state = |seen: Option<i64>, fault: Option<&str>| HostState {
        seen: seen.map(|days| now().time - days * DAY),
        fault: fault.map(str::to_owned),
        ..HostState::default()
    };
    let quiet = || Some(host_with("", SHUT));
    assert_eq!(rules_of(&none, "lantern", None, &state(None, None)), ["never-surveyed"]);
    assert_eq!(rules_of(&none, "lantern", quiet(), &state(Some(31), None)), ["survey-old"]);
    assert_eq!(rules_of(&none, "lantern", quiet(), &state(Some(1), Some("off"))), ["not-reached"]);
    let auditor = FleetAuditor::new(&none, now());
    let report = auditor.host(&none.hosts["lantern"], None, &state(None, Some("no answer")));
    assert_eq!(report.not_checked.len(), 1);
}

#[test]
fn a_machines_own_key_is_expected_and_any_other_is_stray() {
    let none = register("", "");
    let mut seen = host_with("", SHUT);
    let stray = |name: &str| StrayKey {
        path: format!("/home/edda/.ssh/{name}").as_str().into(),
        protected: Some(false),
        public: None,
    };
    seen.private_keys.insert("/home/edda/.ssh".into(), Fact::Known(vec![stray("log"), stray("other")]));
    assert_eq!(rules_of(&none, "lantern", Some(seen.clone()), &seen_now()), ["private-key-on-server"]);
    assert_eq!(rules_of(&none, "skerry", Some(seen), &seen_now()), ["private-key-on-server"; 2]);
}

#[test]
fn severities_exceptions_and_owed_removals_of_the_register_count() {
    let rules = |more: &str| rules_of(&register("", more), "lantern", Some(host_with(&line(9), SHUT)), &seen_now());
    assert_eq!(rules(""), ["unknown-key"]);
    assert_eq!(rules("[policy.severity]\nunknown-key = \"off\"\n"), [""; 0]);
    let exception = |about: &str, until: &str| {
        rules(&format!(
            "[[exception]]\nrule = \"unknown-key\"\nabout = \"{about}\"\nreason = \"being asked\"\nuntil = {until}\n"
        ))
    };
    assert_eq!(exception("lantern", "2026-12-01"), [""; 0]);
    assert_eq!(exception("edda@lantern", "2026-12-01"), [""; 0]);
    assert_eq!(exception("root@lantern", "2026-12-01"), ["unknown-key"]);
    assert_eq!(exception("lantern", "2026-11-22"), ["unknown-key"]);
    let mut owing = register("", "");
    owing.owed.push(crate::register::Owed {
        number: 1,
        fingerprint: key(3).fingerprint().to_string(),
        person: Some("sten".to_owned()),
        account: "edda".to_owned(),
        host: "lantern".to_owned(),
        since: TODAY,
        place: crate::register::RegisterPlace::new(0, 0..0),
    });
    assert_eq!(rules_of(&owing, "lantern", Some(host_with("", SHUT)), &seen_now()), ["removal-owed"]);
}

#[test]
fn every_rule_on_hosts_has_its_name_in_the_list() {
    for rule in [Fault::PasswordsOn.rule(), HostFault::NotReached { fault: String::new() }.rule()] {
        assert!(crate::rules::is_on_hosts(rule));
    }
}

#[test]
fn who_could_log_in_follows_the_verdict_of_that_day() {
    let keys = format!("{}expiry-time=\"20261101\" {}", line(1), line(2));
    let at = |date: Date| {
        let seen = host_with(&keys, SHUT);
        who(&System::of(&seen), date.number() * DAY).into_iter().map(|access| access.key).collect::<Vec<_>>()
    };
    let (one, two) = (key(1).fingerprint(), key(2).fingerprint());
    assert_eq!(at(Date { year: 2026, month: 10, day: 1 }), [one, two]);
    assert_eq!(at(TODAY), [one]);
    assert!(who(&System::of(&host_with(&keys, "DenyUsers edda\n")), now().time).is_empty());
}

/// Differences as signs, in order: what is missing, what carries other options, what goes and why, what is nobody's, modes.
fn differences(access: &str, hosts: &str, keys: &str, change: impl FnOnce(&mut Observation)) -> Vec<String> {
    use compare::{Comparer, Difference};
    let mut register = register(access, "");
    let host = register.hosts.get_mut("lantern").unwrap();
    host.complete = hosts.contains("complete");
    host.accounts = vec![crate::register::Placed { value: "edda".to_owned(), place: host.place }];
    let host = register.hosts["lantern"].clone();
    let mut seen = host_with(keys, "");
    change(&mut seen);
    let removed = [(("edda".to_owned(), key(3).fingerprint()), TODAY)].into();
    let found = Comparer::new(&register, now()).host(&host, &System::of(&seen), &removed);
    let sign = |difference: &Difference| match difference {
        Difference::Add { who, options, .. } => format!("+{who} {options}"),
        Difference::Options { who, place, from, to, .. } => format!("~{who} {} {from}>{to}", place.line().unwrap()),
        Difference::Remove { who, place, why, back, .. } => {
            format!(
                "-{} {} {why:?}{}",
                who.as_deref().unwrap_or("?"),
                place.line().unwrap(),
                if back.is_some() { " back" } else { "" }
            )
        }
        Difference::Unknown { place, .. } => format!("?{}", place.line().unwrap()),
        Difference::NotUnderstood { place } => format!("!{}", place.line().unwrap()),
        Difference::Mode(change) => format!("m{}", change.subject()),
        Difference::MakeAccount { new, groups } => format!("a{} {groups:?}", new.name),
        Difference::NoKeyTaken { who, .. } => format!("n{who}"),
        Difference::Passwords(open) => format!("p{}", open.as_ref().map_or(0, Vec::len)),
    };
    let mut all: Vec<String> = Vec::new();
    for account in &found {
        all.extend(account.fault.iter().map(|fault| format!("{} {fault:?}", account.account)));
        let own = if account.account == "edda" { String::new() } else { format!("{}: ", account.account) };
        all.extend(account.differences.iter().map(|difference| format!("{own}{}", sign(difference))));
    }
    all
}

const EDDA: &str = "[[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"lantern\"]\n";

fn lines(seeds: &[u8]) -> String {
    seeds.iter().map(|seed| key(*seed).line("x") + "\n").collect()
}

#[test]
fn what_should_be_and_is_not_what_is_and_should_not_be() {
    assert!(differences(EDDA, "", &lines(&[1]), |_| ()).is_empty());
    // Retired, left and here again, not granted, nobody's; a line that the server skips counts where its key is known.
    let found = differences(EDDA, "", &(lines(&[2, 3, 4, 9]) + "nonsense " + &lines(&[3])), |_| ());
    let retired = "-edda 1 Retired(Date { year: 2026, month: 1, day: 31 })";
    let left = "Left(Date { year: 2026, month: 10, day: 1 }) back";
    let expected =
        ["+edda ", retired, &format!("-sten 2 {left}"), "-runa 3 NotGranted", "?4", &format!("-sten 5 {left}")];
    assert_eq!(found, expected);
    assert_eq!(differences(EDDA, "complete", &lines(&[1, 9]), |_| ()), ["-? 2 Nobody"]);
    assert!(differences(EDDA, "complete", &(lines(&[1]) + &key(8).line("left-alone")), |_| ()).is_empty());
    // A line that no reader understands may be anything, also where all are known.
    assert_eq!(differences(EDDA, "complete", &(lines(&[1]) + "ssh-ed25519 AAAAshort edda\n"), |_| ()), ["!2"]);
    let loose = |seen: &mut Observation| {
        let node = Node { kind: NodeKind::Folder, mode: 0o777, uid: 1001, gid: 1001, access_list: false };
        seen.nodes.insert("/home/edda/.ssh".into(), Fact::Known(node));
    };
    assert_eq!(differences(EDDA, "", &lines(&[1]), loose), ["m/home/edda/.ssh"]);
    assert_eq!(differences("", "", "", loose), ["m/home/edda/.ssh"], "an empty file is soon one with a key");
    let away = |seen: &mut Observation| seen.network_homes.push("/home/edda".into());
    assert_eq!(differences(EDDA, "", &lines(&[9]), away), ["edda HomeOnNetwork(/home/edda)"]);
    let nobody = EDDA.replace("account = \"edda\"", "account = \"lamp\"");
    assert_eq!(differences(&nobody, "", "", |_| ()), ["lamp NoSuchAccount"]);
}

#[test]
fn options_are_what_the_grants_say_and_no_other_entry_says_more() {
    let from = format!("{EDDA}from = \"192.0.2.0/24\"\noptions = [\"no-pty\"]\n");
    let plain = key(1).line("x");
    assert_eq!(differences(&from, "", "", |_| ()), ["+edda from=\"192.0.2.0/24\",no-pty"]);
    assert_eq!(differences(&from, "", &plain, |_| ()), ["~edda 1 >from=\"192.0.2.0/24\",no-pty"]);
    // In another order they say the same.
    assert!(differences(&from, "", &format!("no-pty,from=\"192.0.2.0/24\" {plain}"), |_| ()).is_empty());
    let twice = format!("{plain}\nno-pty,from=\"192.0.2.0/24\" {plain}\n");
    assert_eq!(differences(&from, "", &twice, |_| ()), ["-edda 1 Second"]);
    // A grant without limits goes before one with them, wherever it stands.
    assert!(differences(&format!("{from}{EDDA}"), "", &plain, |_| ()).is_empty());
    let command = format!("{EDDA}command = \"say \\\"hello\\\"\"\n");
    assert_eq!(differences(&command, "", "", |_| ()), ["+edda command=\"say \\\"hello\\\"\""]);
    // What no server would take is no entry; the check of the register says so.
    let odd = read(&[file("access.toml", &format!("{EDDA}options = [\"no such\"]\n"))]);
    assert_eq!(odd.findings.iter().filter(|found| found.fault.rule() == "bad-value").count(), 1);
}

#[test]
fn a_file_that_several_accounts_read_is_left_alone_and_a_shared_home_serves_every_host() {
    let elsewhere = EDDA.replace("lantern", "skerry");
    assert_eq!(differences(&elsewhere, "", &lines(&[1]), |_| ()), ["-edda 1 NotGranted"]);
    let shared = |seen: &mut Observation| seen.shared_homes.push("/home/edda".into());
    assert!(differences(&elsewhere, "", &lines(&[1]), shared).is_empty());
    // Entries of accounts that nobody manages are told.
    let root = |seen: &mut Observation| {
        let node = |kind, mode| Fact::Known(Node { kind, mode, uid: 0, gid: 0, access_list: false });
        seen.nodes.insert("/root".into(), node(NodeKind::Folder, 0o700));
        seen.nodes.insert("/root/.ssh".into(), node(NodeKind::Folder, 0o700));
        seen.nodes.insert("/root/.ssh/authorized_keys".into(), node(NodeKind::File, 0o600));
        seen.nodes.insert("/root/.ssh/authorized_keys2".into(), Fact::Absent);
        seen.bytes.insert("/root/.ssh/authorized_keys".into(), Fact::Known(lines(&[3]).into_bytes()));
    };
    let found = differences(EDDA, "", &lines(&[1]), root);
    assert_eq!(found, ["root: -sten 1 Left(Date { year: 2026, month: 10, day: 1 })"]);
}

#[test]
fn an_agents_keys_are_offered_in_the_order_of_what_they_may_open() {
    let register = register(
        "[[grant]]\nperson = \"edda\"\naccount = \"lamp\"\nhosts = [\"*\"]\n[[grant]]\nperson = \"runa\"\naccount = \"root\"\nhosts = [\"*\"]\n",
        "",
    );
    let offers = super::Offers::of(&register);
    let key_of = |who: &str| register.people[who].keys[0].fingerprint;
    let host = register.all_hosts().next().unwrap();
    assert_eq!(offers.on(host, "root")[..1], [key_of("runa")]);
    assert_eq!(offers.on(host, "lamp")[..1], [key_of("edda")]);
    assert!(offers.on(host, "root").contains(&key_of("edda")));
    assert!(
        register
            .people
            .values()
            .filter(|one| one.left.is_none())
            .all(|one| { one.keys.iter().all(|key| offers.known().contains(&key.fingerprint)) })
    );
}

#[test]
fn while_a_key_is_replaced_both_belong_there_and_only_the_new_one_is_missed() {
    use super::rotation::RotationStage as Stage;
    let mut register = register(&format!("{EDDA}key = \"main\"\n"), "");
    let edda = register.people.get_mut("edda").unwrap();
    let mut new = edda.keys[0].clone();
    (new.label, new.key) = ("main-2".to_owned(), key(6));
    new.fingerprint = new.key.fingerprint();
    new.replaces = Some(crate::register::Placed { value: "main".to_owned(), place: new.place });
    edda.keys.push(new);
    let rotation = super::rotation::rotations(&register, TODAY).pop().unwrap();
    let seen = |register: &Register, seeds: &[u8]| {
        let mut host = register.hosts["lantern"].clone();
        let place = host.place;
        host.accounts.push(crate::register::Placed { value: "edda".to_owned(), place });
        let seen = host_with(&lines(seeds), SHUT);
        let system = System::of(&seen);
        let found = compare::Comparer::new(register, now()).host(&host, &system, &Removed::new());
        let kinds = found.iter().flat_map(|account| &account.differences).map(|difference| match difference {
            compare::Difference::Add { fingerprint, .. } => format!("missing {}", *fingerprint == key(6).fingerprint()),
            compare::Difference::Remove { place, .. } => format!("extra {}", place.line().unwrap()),
            other => format!("{other:?}"),
        });
        (kinds.collect::<Vec<_>>(), rotation.on(register, "lantern", &system).first().map(|one| one.stage))
    };
    assert_eq!(seen(&register, &[1]), (vec!["missing true".to_owned()], Some(Stage::Old)));
    assert_eq!(seen(&register, &[1, 6]), (vec![], Some(Stage::Beside)));
    assert_eq!(seen(&register, &[6]), (vec![], Some(Stage::New)));
    assert_eq!(seen(&register, &[9]).1, None);
    // A line that nobody understands may hold the old key.
    for more in ["", &lines(&[6])] {
        let damaged = host_with(&format!("ssh-ed25519 AAAAshort edda\n{more}"), SHUT);
        let found = rotation.on(&register, "lantern", &System::of(&damaged));
        assert_eq!(found.first().map(|one| one.stage), Some(Stage::Unread));
    }
    // Once it is retired it goes.
    register.people.get_mut("edda").unwrap().keys[0].retired = Some(TODAY);
    assert_eq!(seen(&register, &[1, 6]).0, ["extra 1"]);
    assert_eq!(super::rotation::rotations(&register, TODAY).len(), 1);
    register.people.get_mut("edda").unwrap().left =
        Some(crate::register::Placed { value: TODAY, place: register.hosts["lantern"].place });
    assert!(super::rotation::rotations(&register, TODAY).is_empty());
}

#[test]
fn a_grant_with_a_last_day_is_one_that_the_server_itself_ends() {
    let until = format!("{EDDA}until = 2026-12-31\n");
    let entry = |options: &str| format!("{options}{}\n", key(1).line("x"));
    let end = "expiry-time=\"20270101\"";
    assert_eq!(differences(&until, "", "", |_| ()), [format!("+edda {end}")]);
    assert!(differences(&until, "", &entry(&format!("{end} ")), |_| ()).is_empty());
    // A later day changes the end and nothing else; an unlimited grant takes it away.
    let later = differences(&until.replace("2026-12-31", "2027-01-31"), "", &entry(&format!("{end} ")), |_| ());
    assert_eq!(later, [format!("~edda 1 {end}>expiry-time=\"20270201\"")]);
    let limited = format!("{until}from = \"192.0.2.0/24\"\noptions = [\"no-pty\"]\n");
    let there = entry("no-pty,expiry-time=\"20260101\",from=\"192.0.2.0/24\" ");
    let found = differences(&limited, "", &there, |_| ());
    assert_eq!(
        found,
        [
            "~edda 1 no-pty,expiry-time=\"20260101\",from=\"192.0.2.0/24\">no-pty,expiry-time=\"20270101\",from=\"192.0.2.0/24\""
        ]
    );
    assert_eq!(
        differences(&format!("{until}{EDDA}"), "", &entry(&format!("{end} ")), |_| ()),
        [format!("~edda 1 {end}>")]
    );
    // The later of two days; and a grant that says the end itself.
    let two = format!("{until}{}", until.replace("2026-12-31", "2027-06-30"));
    assert_eq!(differences(&two, "", "", |_| ()), ["+edda expiry-time=\"20270701\""]);
    let own = format!("{until}options = [\"expiry-time=\\\"20261201\\\"\"]\n");
    assert_eq!(differences(&own, "", "", |_| ()), ["+edda expiry-time=\"20261201\""]);
    // A server that may skip such a line gets none.
    for banner in ["SSH-2.0-dropbear_2022.83", "SSH-2.0-OpenSSH_7.6", "SSH-2.0-lamp"] {
        let old = |seen: &mut Observation| seen.server = lavrin_server::server::Server::from_banner(banner);
        assert_eq!(differences(&until, "", "", old), ["+edda "], "{banner}");
    }
}

#[test]
fn what_ends_soon_what_is_old_and_what_is_for_the_worst_day_is_told() {
    let soon = lines(&[1]).replacen("ssh-", "expiry-time=\"20261201\" ssh-", 1);
    let plain = register(EDDA, "");
    let seen = |keys: &str| host_with(keys, SHUT);
    assert_eq!(rules_of(&plain, "lantern", Some(seen(&soon)), &seen_now()), ["entry-ends-soon"]);
    let far = soon.replace("20261201", "20271201");
    assert!(rules_of(&plain, "lantern", Some(seen(&far)), &seen_now()).is_empty());
    // By the clock of the host: two weeks ahead it is over there, a month behind it is far.
    let off = |days: i64| {
        let mut host = seen(&soon);
        host.clock = Some(lavrin_server::survey::HostClock { ahead: Some(days * DAY), zone: 0 });
        rules_of(&plain, "lantern", Some(host), &seen_now())
    };
    assert_eq!((off(14), off(-30)), (vec!["clock-off"], vec!["clock-off"]));
    let never = register(EDDA, "[policy]\nends_soon_days = 0\n");
    assert!(rules_of(&never, "lantern", Some(seen(&soon)), &seen_now()).is_empty());

    let mut old = register(EDDA, "[policy]\nkey_age_days_max = 365\n");
    old.people.get_mut("edda").unwrap().keys[0].added = Some(Date { year: 2025, month: 1, day: 31 });
    assert_eq!(rules_of(&old, "lantern", Some(seen(&lines(&[1]))), &seen_now()), ["old-entry"]);

    let mut need = register(EDDA, "[policy]\nbreak_glass_hosts = [\"north\"]\n");
    assert_eq!(rules_of(&need, "lantern", Some(seen(&lines(&[1]))), &seen_now()), ["break-glass-missing"]);
    assert!(rules_of(&need, "skerry", Some(seen("")), &seen_now()).is_empty());
    need.people.get_mut("edda").unwrap().keys[0].purpose = crate::register::Purpose::BreakGlass;
    assert!(rules_of(&need, "lantern", Some(seen(&lines(&[1]))), &seen_now()).is_empty());
    let mut state = seen_now();
    let used = lavrin_server::survey::key_use::KeyUse { time: now().time - DAY, from: "192.0.2.1".to_owned() };
    state.uses.insert(("edda".to_owned(), key(1).fingerprint()), used);
    assert_eq!(rules_of(&need, "lantern", Some(seen(&lines(&[1]))), &state), ["break-glass-used"]);
}

#[test]
fn passwords_are_a_difference_where_policy_asks_for_keys_only() {
    use compare::{Comparer, Difference};
    let open = |policy: &str, config: &str| {
        let register = register("", policy);
        let seen = host_with("", config);
        let found =
            Comparer::new(&register, now()).host(&register.hosts["lantern"], &System::of(&seen), &HashMap::new());
        let all: Vec<_> = found.into_iter().flat_map(|one| one.differences).collect();
        all.into_iter().find_map(|one| if let Difference::Passwords(open) = one { Some(open) } else { None })
    };
    let count = |policy: &str, config: &str| open(policy, config).map(|open| open.map(|open| open.len()));
    assert_eq!(count("[policy]\nkeys_only = [\"north\"]\n", ""), Some(Some(2)));
    assert_eq!(count("[policy]\nkeys_only = [\"*\"]\n", "Lighthouse yes\n"), Some(None));
    assert_eq!(count("[policy]\nkeys_only = [\"*\"]\n", SHUT), None);
    assert_eq!(count("[policy]\nkeys_only = [\"skerry\"]\n", ""), None);
}

#[test]
fn a_command_that_the_server_forces_is_all_that_a_key_opens() {
    let open = |config: &str, keys: &str| -> Vec<(Certainty, Option<String>, Option<String>)> {
        let seen = host_with(keys, config);
        let all = who(&System::of(&seen), now().time);
        all.into_iter().map(|one| (one.certainty, one.limits.command, one.limits.from)).collect()
    };
    let own = format!("command=\"tide\" {}", line(1));
    assert_eq!(open(SHUT, &own), [(Certainty::Certain, Some("tide".to_owned()), None)]);
    let forced = format!("{SHUT}Match User edda\nForceCommand internal-sftp -R\n");
    assert_eq!(open(&forced, &own), [(Certainty::Certain, Some("internal-sftp -R".to_owned()), None)]);
    assert_eq!(open(&format!("{SHUT}ForceCommand none\n"), &line(1)), [(Certainty::Certain, None, None)]);
    // Where only the address decides, the limits are those of the entry.
    let from = format!("from=\"192.0.2.0/24\" {}", line(1));
    assert_eq!(open(SHUT, &from), [(Certainty::FromDecides, None, Some("192.0.2.0/24".to_owned()))]);
}

#[test]
fn a_matrix_holds_what_is_there_against_what_should_be() {
    use matrix::{Matrix, There};
    let access = "[[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"lantern\"]\n[[grant]]\nperson = \"runa\"\naccount = \"edda\"\nhosts = [\"lantern\"]\nkey = \"main\"\nuntil = 2026-12-31\n";
    let register = register(access, "");
    let matrix = Matrix::new(&register, now());
    let lantern = &register.hosts["lantern"];
    let told = |open: Option<Vec<Access>>, earlier: Vec<Access>, unread: &[String]| -> Vec<String> {
        let found = matrix.host(lantern, open, earlier, unread);
        assert_eq!(found.more_missing, 0);
        let words = |way: &matrix::WayIn| {
            let who = way.owner.as_ref().map_or_else(|| "nobody".to_owned(), Owner::name);
            let until = way.until.map(|until| format!(" until {until}")).unwrap_or_default();
            format!("{who} {:?} {}{until}", way.there, way.is_as_registered())
        };
        found.ways.iter().map(words).collect()
    };
    let seen = host_with(&(line(1) + &line(3) + &line(9)), SHUT);
    let open = who(&System::of(&seen), now().time);
    let all = ["edda Opens true", "sten Opens false", "nobody Opens false", "runa Missing false until 2026-12-31"];
    assert_eq!(told(Some(open.clone()), Vec::new(), &[]), all);
    // A host that nobody saw, and an account that was read some time ago only.
    assert_eq!(told(None, Vec::new(), &[]), ["edda NotSeen true", "runa NotSeen true until 2026-12-31"]);
    let unread = ["edda".to_owned()];
    let earlier = told(Some(Vec::new()), open, &unread);
    assert!(earlier.iter().all(|way| way.contains(&format!("{:?} true", There::NotRead))), "{earlier:?}");
    assert_eq!(earlier.len(), 4);
}
