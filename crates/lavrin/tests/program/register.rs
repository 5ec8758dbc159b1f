//! The register: begun, filled, edited by hand and by command, checked and asked.

use crate::common::{World, key, words};

/// A world with a register, two public keys and one for a program.
fn world() -> World {
    let world = World::new();
    for (name, seed) in [("edda", 1), ("sten", 2), ("report", 3)] {
        world.write(
            &format!("{name}.pub"),
            format!("{}\n", key(seed).public().line(&format!("{name}@kvarnholm"))),
            0o644,
        );
    }
    world.write(
        "hosts.csv",
        "name,address,tags,site\noffice,192.0.2.10,office,Harbour\nbuoy-7,192.0.2.77,lights buoys,Skerry\n",
        0o644,
    );
    world
}

fn begun() -> World {
    let world = world();
    let _ = world.typed("register begin register --name Halvmark").expect(0);
    world
}

#[test]
fn a_register_is_begun_once_and_is_in_order() {
    let world = world();
    insta::assert_snapshot!(world.typed("register begin register --name Halvmark").expect(0).to_string());
    let _ = world.typed("register check --register register").expect(0);
    let again = world.typed("register begin register").expect(4);
    assert!(again.stderr.contains("it is there already"), "{again}");
    let none = world.typed("register check").expect(2);
    assert!(none.stderr.contains("lavrin register begin"), "{none}");
}

/// Commands that tell what a register says.
const TELLING: [&str; 16] = [
    "--color never",
    "audit",
    "audit --format json",
    "compare",
    "history edda",
    "host list",
    "host show lantern",
    "keys-only --status",
    "kept list",
    "matrix",
    "offboard --status",
    "paths",
    "person list",
    "person show edda",
    "report --out page.html --replace",
    "rotate --status",
];

#[test]
fn where_not_all_of_a_register_can_be_read_nothing_that_is_told_ends_well() {
    let world = begun();
    let folder = world.path("register").display().to_string();
    let run = |line: &str| world.run_with(&[("LAVRIN_REGISTER", &folder)], &words(line));
    drop(run("person add edda --key edda.pub").expect(0));
    drop(run("host add lantern --address 192.0.2.7 --account keeper").expect(0));
    drop(run("grant edda keeper --host lantern").expect(0));
    let is_told = |run: &crate::common::Run| run.stderr.contains("careful: the register has faults");
    for line in TELLING {
        assert!(!is_told(&run(line)), "{line}");
    }
    assert!(!world.read("page.html").contains("The register has faults"));
    let numbers = "audit --metrics lavrin.prom";
    for (file, odd) in [("access.toml", "[[grant"), ("hosts.toml", "x = ["), ("people/sten.toml", "nme = \"Sten\"")] {
        let path = format!("register/{file}");
        let before = world.path(&path).exists().then(|| world.read(&path));
        world.write(&path, format!("{}\n{odd}\n", before.as_deref().unwrap_or_default()), 0o644);
        for line in TELLING {
            let run = run(line);
            // Who reads no grants meets no fault of theirs.
            if line.starts_with("history") && file == "access.toml" {
                continue;
            }
            assert!(is_told(&run) && run.status >= 2, "{file}: {line}: {run}");
            assert!(run.stderr.contains("lavrin register check"), "{run}");
        }
        assert!(world.read("page.html").contains("The register has faults in 1 place"), "{file}");
        assert!(run("--color never").stdout.contains("next: lavrin register check"), "{file}");
        // Numbers of what is left would look like those of all.
        let audit = run(numbers);
        assert!(audit.stderr.contains("lavrin.prom is left as it was") && audit.status == 3, "{file}: {audit}");
        assert!(!world.path("lavrin.prom").exists(), "{file}");
        match before {
            Some(text) => drop(world.write(&path, text, 0o644)),
            None => std::fs::remove_file(world.path(&path)).unwrap(),
        }
    }
    drop(run(numbers));
    assert!(world.path("lavrin.prom").exists());
}

#[test]
fn a_survey_of_hosts_that_cannot_be_read_does_not_say_that_there_are_none() {
    let world = begun();
    let folder = world.path("register").display().to_string();
    let run = || world.run_with(&[("LAVRIN_REGISTER", &folder)], &words("survey"));
    assert!(run().expect(2).stderr.contains("the register has no host yet"));
    world.write("register/hosts.toml", "[lantern\n", 0o644);
    let faulty = run().expect(2);
    assert!(faulty.stderr.contains("no host can be read in the register"), "{faulty}");
    world.write("register/lavrin.toml", "[policy\n", 0o644);
    assert!(run().expect(2).stderr.contains("\nregister in "));
    assert!(!faulty.stderr.contains("no host yet") && faulty.stderr.contains("lavrin register check"), "{faulty}");
}

#[test]
fn beside_a_register_that_cannot_be_read_whole_a_command_on_one_place_says_what_may_be_missing() {
    let world = begun();
    world.put_tree();
    let folder = world.path("register").display().to_string();
    let run = |line: &str| world.run_with(&[("LAVRIN_REGISTER", &folder)], &words(line));
    let lines = [
        "install edda.pub edda --tree tree --preview",
        "mend edda --tree tree --preview",
        "remove edda.pub sten --tree tree --preview",
        "why edda --tree tree --key edda.pub",
        "audit --tree tree",
    ];
    let before: Vec<i32> = lines.iter().map(|line| run(line).status).collect();
    let settings = world.read("register/lavrin.toml");
    world.write("register/lavrin.toml", format!("{settings}\n[policy\n"), 0o644);
    for (line, before) in lines.iter().zip(before) {
        let run = run(line);
        assert!(run.stderr.contains("careful: the register has faults, so "), "{line}: {run}");
        assert!(run.stderr.contains("lavrin register check"), "{line}: {run}");
        assert_eq!(run.status, before.max(3), "{line}: {run}");
    }
}

#[test]
fn every_command_of_the_guide_does_what_it_says() {
    let world = world();
    let guide = include_str!("../../../../docs/guide.md");
    // What comes behind it needs hosts, and is run in test_survey.
    let (guide, _) = guide.split_once("## What really is there").unwrap();
    // What comes before it needs hosts too, and is run in test_enforce.
    let (_, guide) = guide.split_once("# A fleet: the register, piece by piece").unwrap();
    let mut told = String::new();
    for line in guide.lines().filter_map(|line| line.strip_prefix("    lavrin ")) {
        let run = world.run(&words(line));
        // Only check finds something: hosts whose keys nobody pinned.
        let expected = i32::from(line.starts_with("register check") && !line.contains("--fail-on high"));
        assert_eq!(run.status, expected, "{line}\n{run}");
        told += &format!("$ lavrin {line}\n{}\n", run.stdout);
    }
    insta::assert_snapshot!(told);
}

#[test]
fn the_way_back_of_the_guide_is_written_down_and_asked_for() {
    let world = begun();
    let folder = world.path("register").display().to_string();
    let run = |line: &str| world.run_with(&[("LAVRIN_REGISTER", &folder)], &words(line));
    drop(run("host add lantern --address 192.0.2.7 --account keeper").expect(0));
    let policy = world.read("register/lavrin.toml").replace("[policy]\n", "[policy]\nway_back_days_max = 30\n");
    world.write("register/lavrin.toml", policy, 0o644);
    assert!(run("register check").expect(1).stdout.contains("[way-back-missing]"));
    let guide = include_str!("../../../../docs/guide.md");
    let (_, guide) = guide.split_once("## When the only key is lost").unwrap();
    let (guide, _) = guide.split_once("# Passwords end").unwrap();
    let lines: Vec<&str> = guide.lines().filter_map(|line| line.strip_prefix("    lavrin ")).collect();
    let runs: Vec<crate::common::Run> = lines.iter().map(|line| run(line)).collect();
    assert!(runs[0].stdout.contains("way_back_tried = 2026-11-01"), "{}", runs[0]);
    assert!(
        runs[1].stdout.contains("screen in the lamp room, root password in the safe (tried on 2026-11-01)"),
        "{}",
        runs[1]
    );
    assert!(!runs[2].stdout.contains("way-back") && runs.len() == 3, "{}", runs[2]);
}

#[test]
fn faults_are_drawn_at_their_place_all_in_one_run() {
    let world = begun();
    let edda = key(1).public().line("edda@kvarnholm");
    world.write(
        "register/people/edda.toml",
        format!("name = \"Edda Holm\"\nteem = \"office\"\n\n[[key]]\nline = \"{edda}\"\n"),
        0o644,
    );
    world.write(
        "register/people/sten.toml",
        format!("name = \"Sten\"\nleft = 2026-10-01\n\n[[key]]\nline = \"{edda}\"\n"),
        0o644,
    );
    let grants = "[[grant]]\nperson = \"sten\"\naccount = \"keeper\"\nhosts = [\"lantren\"]\nuntil = 2026-11-01\n";
    world.write("register/access.toml", grants, 0o644);
    world.write("register/hosts.toml", "[lantern]\naddress = \"192.0.2.7\"\naccounts = [\"keeper\"]\n", 0o644);
    insta::assert_snapshot!(world.typed("register check --register register").expect(1).to_string());
    let json = world.typed("register check --register register --format json").expect(1).json();
    let first = &json["findings"][0];
    assert_eq!([first["path"].as_str(), first["rule"].as_str()], [Some("people/edda.toml"), Some("unknown-field")]);
    assert_eq!([first["line"].as_u64(), first["column"].as_u64()], [Some(2), Some(1)]);
    world.write("register/access.toml", "[[grant]\n", 0o644);
    let broken = world.typed("register check --register register").expect(1);
    assert!(broken.stdout.contains("register-syntax"), "{broken}");
}

#[test]
fn weak_shared_and_private_keys_do_not_come_in() {
    let world = begun();
    let _ = world.typed("person add edda --key edda.pub --register register").expect(0);
    let before = world.read("register/people/edda.toml");
    let shared = world.typed("person add sten --key edda.pub --register register").expect(4);
    assert!(shared.stderr.contains("edda has it already"), "{shared}");
    let twice = world.typed("person add edda --key sten.pub --register register").expect(4);
    assert!(twice.stderr.contains("--label"), "{twice}");
    world.put_pair("maren", 4, "maren");
    let private = world.typed("person add maren --key home/maren --register register");
    assert!(private.status != 0 && private.stderr.to_lowercase().contains("private"), "{private}");
    assert!(!world.path("register/people/maren.toml").exists());
    let _ = world.typed("person add Maren --register register").expect(2);
    assert_eq!(world.read("register/people/edda.toml"), before);
}

#[test]
fn comments_and_order_survive_the_commands() {
    let world = begun();
    let _ = world.typed("person add edda --key edda.pub --register register").expect(0);
    let hosts = "# the lights\n[lantern]   # north\naddress = \"192.0.2.7\"\ntags = ['lights']\n\n# the end\n";
    world.write("register/hosts.toml", hosts, 0o644);
    let access = "# who uses what\n\n[[grant]]\n# on duty\nperson = \"edda\"\naccount = \"keeper\"\nhosts = [ \"lantern\" ] # only here\n";
    world.write("register/access.toml", access, 0o644);
    let _ = world.typed("grant edda root --host lantern --register register").expect(0);
    let _ = world.typed("host add pier --register register").expect(0);
    assert!(world.read("register/access.toml").starts_with(access));
    assert!(world.read("register/hosts.toml").starts_with(hosts));
    let _ = world.typed("withdraw edda root --register register").expect(0);
    assert_eq!(world.read("register/access.toml"), access);
}

#[test]
fn what_does_not_fit_is_refused_with_the_next_command() {
    let world = begun();
    let _ = world.typed("host add lantern --register register").expect(0);
    for (line, status, says) in [
        ("grant edda keeper --host lantern", 2, "lavrin person add edda"),
        ("grant edda keeper", 2, "--host HOST"),
        ("withdraw edda keeper", 1, "no grant lets edda use keeper"),
        ("person show edda", 2, "lavrin person list"),
        ("host show pier", 2, "lavrin host list"),
        ("host add lantern", 2, "already"),
        ("grant root@lantern keeper --host lantern --option nonsense", 2, "knows no option 'nonsense'"),
    ] {
        let run = world.typed(&format!("{line} --register register")).expect(status);
        assert!(run.stderr.contains(says), "{run}");
    }
}

#[test]
fn a_host_is_trusted_by_the_key_it_shows() {
    let world = begun();
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
    let stand_in = runtime.block_on(lavrin_standin::StandIn::harbour_office()).unwrap();
    let (port, print) = (stand_in.address().port(), stand_in.host_key());
    let _ = world.typed(&format!("host add office --address 127.0.0.1 --port {port} --register register")).expect(0);
    let unasked = world.typed("host trust office --register register").expect(2);
    assert!(unasked.stderr.contains("--expect-host-key"), "{unasked}");
    let wrong = key(9).public().fingerprint();
    let _ = world.typed(&format!("host trust office --expect-host-key {wrong} --register register")).expect(4);
    let run = world.typed(&format!("host trust office --expect-host-key {print} --register register")).expect(0);
    assert!(run.stdout.contains("host_keys = [\"ssh-ed25519 "), "{run}");
    let again = world.typed("host trust office --register register").expect(0);
    assert!(again.stdout.contains("the key that is pinned"), "{again}");
    let other = key(9).public().line("");
    let pinned = format!("[office]\naddress = \"127.0.0.1\"\nport = {port}\nhost_keys = [\"{}\"]\n", other.trim_end());
    world.write("register/hosts.toml", pinned, 0o644);
    let changed = world.typed(&format!("host trust office --expect-host-key {print} --register register")).expect(4);
    assert!(changed.stderr.contains("another key than the pinned one"), "{changed}");
}

#[test]
fn the_policy_of_the_register_holds_for_one_account_too() {
    let world = World::new();
    world.put_tree();
    drop(
        world
            .typed("key generate --algorithm rsa-3072 --passphrase none --folder home --name runa --comment runa")
            .expect(0),
    );
    world.write("lavrin.toml", "name = \"Skerry lights\"\n[policy]\nrsa_bits_min = 4096\n", 0o644);
    let install = "install home/runa.pub edda --tree tree --yes";
    let run = world.typed(install).expect(4);
    assert!(run.stderr.contains("below policy"), "{run}");
    drop(world.typed(&format!("{install} --accept-weak appliance")).expect(0));
    let rules = |run: crate::common::Run| {
        let rules = run.json()["findings"].as_array().unwrap().clone();
        rules.iter().map(|one| one["rule"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert!(rules(world.typed("audit --tree tree --format json")).contains(&"weak-rsa-short".to_owned()));
    // A register that cannot be read is no reason to fall back to what everybody is asked.
    std::fs::remove_file(world.path("lavrin.toml")).unwrap();
    world.write("lavrin.toml", [0xff, 0xfe], 0o644);
    let run = world.typed(install).expect(2);
    assert!(run.stderr.contains("the register cannot be read"), "{run}");
    std::fs::remove_file(world.path("lavrin.toml")).unwrap();
    assert!(!rules(world.typed("audit --tree tree --format json")).contains(&"weak-rsa-short".to_owned()));
}

#[test]
fn faults_are_drawn_below_their_line() {
    let world = World::new();
    world.write("lavrin.toml", "name = \"Skerry lights\"\n", 0o644);
    let long = "x".repeat(120);
    let text = format!("name = \"Edda\"\nteem = \"office\"\n\n[[key]]\nlabel = \"laptop\"\nline = \"{long}\"\n");
    world.write("people/edda.toml", text, 0o644);
    world.write(
        "access.toml",
        "[[grant]]\nperson = \"eda\"\naccount = \"root\"\nhosts = [\"a\u{1b}[31m\", \"gull\"]\n",
        0o644,
    );
    insta::assert_snapshot!("faults_are_drawn", world.typed("register check").expect(1));
}

#[test]
fn a_name_in_a_register_is_one_word_of_what_is_typed_next() {
    let world = World::new();
    world.write("lavrin.toml", "name = \"Skerry lights\"\n", 0o644);
    let host =
        "[gull]\naddress = \"192.0.2.7\"\nreach = \"sftp\"\nlogin = \"keeper\"\naccounts = [\"$(id)\", \"..\"]\n";
    world.write("hosts.toml", host, 0o644);
    let grant = "[[grant]]\nperson = \"`id`\"\naccount = \"$(id)\"\nhosts = [\"a;id\"]\n";
    world.write("access.toml", grant, 0o644);
    let checked = world.typed("register check --register .").expect(1).stdout;
    let next: Vec<&str> = checked.lines().filter(|line| line.contains("next:") && line.contains("lavrin ")).collect();
    for (name, word) in [("$(id)", "'$(id)'"), ("..", "'..'"), ("`id`", "'`id`'"), ("a;id", "'a;id'")] {
        let named = next.iter().filter(|line| line.contains(name)).count();
        assert!(named > 0 && next.iter().all(|line| !line.replace(word, "").contains(name)), "{name}: {checked}");
    }
}

#[test]
fn what_a_register_says_draws_no_lines_of_its_own() {
    let world = World::new();
    world.write("lavrin.toml", "name = \"Skerry lights\\nfake\"\n", 0o644);
    let host = "[gull]\naddress = \"192.0.2.7\\nfake\"\nreach = \"sftp\"\nlogin = \"k\\nfake\"\nsite = \"\"\"\nfake\"\"\"\naccounts = [\"a\\nfake\"]\ntags = [\"t\\nfake\"]\nmembers = { \"g\\nfake\" = [\"m\"], h = \"m\\nfake\" }\n";
    world.write("hosts.toml", host, 0o644);
    let grant =
        "[[grant]]\nperson = \"no\\nfake\"\naccount = \"a\\nfake\"\nhosts = [\"gull\"]\ncommand = \"c\\nfake\"\n";
    world.write("access.toml", grant, 0o644);
    for line in ["register check", "host show gull", "host list", "compare", "audit"] {
        let run = world.typed(&format!("{line} --register ."));
        let shown = format!("{}{}", run.stdout, run.stderr);
        assert!(!shown.is_empty() && shown.lines().all(|line| !line.trim_start().starts_with("fake")), "{line}: {run}");
    }
    let checked = world.typed("register check --register . --format json").expect(1).json();
    let bad = checked["findings"].as_array().unwrap().iter().filter(|one| one["rule"] == "bad-value").count();
    assert!(bad >= 8, "{checked}");
}
