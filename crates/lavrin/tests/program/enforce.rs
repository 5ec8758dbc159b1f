//! Register and hosts held against each other and brought into line, on stand-ins.

use crate::common::fleet::Fleet;
use crate::common::key;
use lavrin_standin::Behaviour;

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment) + "\n"
}

fn person(name: &str, more: &str, seed: u8) -> String {
    format!("name = \"{name}\"\n{more}\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line(seed, "a key").trim())
}

/// edda may enter her account everywhere, runa only from the harbour; sten has left; the key 4 is nobody's.
fn people(fleet: &Fleet) {
    fleet.world.write("people/office.toml", person("The office", "", 1), 0o644);
    fleet.world.write("people/edda.toml", person("Edda Mole", "", 2), 0o644);
    fleet.world.write("people/sten.toml", person("Sten Kvarn", "left = 2026-10-01\n", 3), 0o644);
    fleet.world.write("people/runa.toml", person("Runa Fjell", "", 5), 0o644);
    let access = "[[grant]]\nperson = \"office\"\naccount = \"root\"\nhosts = [\"*\"]\n\n\
                  [[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"*\"]\n\n\
                  [[grant]]\nperson = \"runa\"\naccount = \"edda\"\nhosts = [\"lantern\"]\nfrom = \"127.0.0.0/8\"\n";
    fleet.world.write("access.toml", access, 0o644);
}

fn keys(fleet: &Fleet, host: usize) -> String {
    std::fs::read_to_string(fleet.hosts[host].file("/home/edda/.ssh/authorized_keys")).unwrap_or_default()
}

const ENFORCE: &str = "enforce --identity home/office";

#[test]
fn what_differs_is_told_ended_and_then_nothing_is_left_to_do() {
    let mut fleet = Fleet::new();
    people(&fleet);
    let before = format!("# kept\n{}{}{}", line(3, "sten@lantern"), line(4, "who knows"), line(5, "runa"));
    fleet.add("lantern", &before, Behaviour::default());
    fleet.add("skerry", &line(2, "edda"), Behaviour::default());
    drop(fleet.survey("").expect(0));
    insta::assert_snapshot!("compare", fleet.run("compare").expect(1));
    let json = fleet.run("compare --format json").expect(1).json();
    assert_eq!((&json["schema"], &json["summary"]["in_line"]), (&"lavrin/compare/1".into(), &1.into()));
    insta::with_settings!({filters => vec![(r"\d{8}-\d{6}-[0-9a-f]{6}", "RUN")]}, {
        insta::assert_snapshot!("enforce", fleet.run(&format!("{ENFORCE} --yes --reason tidy")).expect(0));
    });
    let options = "from=\"127.0.0.0/8\" ";
    let after = format!("# kept\n{}{options}{}{}", line(4, "who knows"), line(5, "runa"), line(2, "a key"));
    assert_eq!(keys(&fleet, 0), after);
    // What is done is known without another look, and nothing is left to do.
    insta::assert_snapshot!("compare_after", fleet.run("compare").expect(1));
    insta::assert_snapshot!("enforce_again", fleet.run(&format!("{ENFORCE} --yes")).expect(0));
    assert_eq!(keys(&fleet, 0), after);
}

#[test]
fn what_belongs_to_somebody_who_left_stays_away_when_a_run_is_taken_back() {
    let mut fleet = Fleet::new();
    people(&fleet);
    fleet.add("lantern", &format!("{}{}", line(3, "sten"), line(4, "who")), Behaviour::default());
    drop(fleet.run(&format!("{ENFORCE} --yes")).expect(0));
    assert!(!keys(&fleet, 0).contains("sten"));
    let back = fleet.run("undo --last --identity home/office --yes --accept-lockout").expect(1);
    assert!(back.stderr.contains("stays away") && back.stderr.contains("sten left on"), "{back}");
    assert!(!keys(&fleet, 0).contains("sten") && keys(&fleet, 0).contains("who"), "{}", keys(&fleet, 0));
}

#[test]
fn a_whole_run_is_taken_back_and_what_came_later_is_not_lost() {
    let mut fleet = Fleet::new();
    people(&fleet);
    let before = [format!("{}{}", line(3, "sten"), line(4, "who")), line(3, "sten")];
    for (name, keys) in ["lantern", "skerry"].iter().zip(&before) {
        fleet.add(name, keys, Behaviour::default());
    }
    let run = fleet.run(&format!("{ENFORCE} --yes --format json")).expect(0).json()["run"].as_str().unwrap().to_owned();
    assert!(!keys(&fleet, 0).contains("sten"));
    let after = keys(&fleet, 1);
    // Somebody adds a key to one of the files meanwhile: that host is left alone.
    fleet.put(0, "/home/edda/.ssh/authorized_keys", &(keys(&fleet, 0) + &line(6, "later")));
    // Runa is let in by the register and would be shut out again: that takes more than a yes.
    let stopped = fleet.run(&format!("undo --run {run} --identity home/office --yes")).expect(4);
    assert!(stopped.stdout.contains("has a grant") && keys(&fleet, 1) == after, "{stopped}");
    let accept = "--identity home/office --yes --accept-lockout --even-leavers";
    let restored = fleet.run(&format!("undo --run {run} {accept}")).expect(4);
    insta::assert_snapshot!("restore", masked(restored, &run));
    assert!(keys(&fleet, 0).ends_with(&line(6, "later")));
    assert_eq!(keys(&fleet, 1), before[1]);
    // Taken back twice is once, and taking back can be taken back.
    drop(fleet.run(&format!("undo {run}-skerry-edda {accept}")).expect(0));
    let history = fleet.run("history skerry --format json").expect(0).json();
    let events = history["events"].as_array().unwrap();
    let back = events.iter().find(|event| event["what"] == "undo").unwrap()["id"].as_str().unwrap();
    drop(fleet.run(&format!("undo {back} {accept}")).expect(0));
    assert_eq!(keys(&fleet, 1), after);
    drop(fleet.run("undo no-such-change --identity home/office").expect(2));
}

fn masked(mut run: crate::common::Run, id: &str) -> crate::common::Run {
    run.stderr = run.stderr.replace(id, "RUN");
    run.stdout = run.stdout.replace(id, "RUN");
    run
}

#[test]
fn whoever_leaves_is_out_everywhere_and_what_is_owed_stays_until_it_is_done() {
    let mut fleet = Fleet::new();
    people(&fleet);
    let both = line(2, "edda") + &line(5, "runa@lantern");
    fleet.add("lantern", &both, Behaviour::default());
    fleet.add("skerry", &line(2, "edda"), Behaviour::default());
    let port = fleet.add("x-away", &both, Behaviour::default()).address().port();
    drop(fleet.survey("").expect(0));
    // One host is away while runa leaves.
    let away = fleet.hosts[2].host_key_line();
    fleet.register("x-away", 1, &away, "");
    let offboard = "offboard runa --identity home/office --yes";
    insta::with_settings!({filters => vec![(r"port \d+", "port $PORT")]}, {
        insta::assert_snapshot!("offboard", fleet.run(offboard).expect(3));
    });
    assert_eq!(keys(&fleet, 0), line(2, "edda"));
    assert!(fleet.world.read("people/runa.toml").contains("left = 2026-11-23"));
    assert!(fleet.world.read("owed.toml").contains("host = \"x-away\""));
    let owed = fleet.run("audit --format json").json();
    assert!(owed["findings"].to_string().contains("removal-owed"));
    // Back again: done, and nothing is owed any more.
    fleet.register("x-away", port, &away, "");
    let json = fleet.run(&format!("{offboard} --format json")).expect(0).json();
    assert_eq!((&json["schema"], &json["owed"]), (&"lavrin/offboard/1".into(), &0.into()));
    assert_eq!(keys(&fleet, 2), line(2, "edda"));
    assert_eq!(fleet.world.read("owed.toml").trim(), "");
    // Asked at any time.
    insta::assert_snapshot!("probe_many", fleet.run("probe runa edda lantern skerry").expect(1));
    drop(fleet.run("probe runa --until refused --wait 5s").expect(0));
    drop(fleet.run("probe runa lantern --until accepted --wait 3s").expect(1));
    // A key that comes back is told as what it is.
    fleet.put(0, "/home/edda/.ssh/authorized_keys", &both);
    drop(fleet.survey("lantern").expect(0));
    let back = fleet.run("audit lantern --format json").json();
    assert!(back["findings"].to_string().contains("removed-entry-back"), "{back}");
    insta::assert_snapshot!("compare_came_back", fleet.run("compare lantern").expect(1));
}

/// Runs what was printed as a console would, in a tree of its own: the root of the script is that of the stand-in.
fn at_the_console(fleet: &Fleet, host: usize, pasted: &str) -> Vec<u8> {
    let root = fleet.hosts[host].tree().canonicalize().unwrap();
    fleet.put(host, "/etc/shadow", "root:*:20000::::::\nedda:$:20000::::::\n");
    // The script's own checksum has to be that of the text as it is pasted, so the tree is given as what root sees there.
    let mut unshare = std::process::Command::new("unshare");
    unshare.args(["--mount", "--", "sh", "-c"]).arg(format!(
        "mount --bind {0}/home /home && mount --bind {0}/root /root && mount --bind {0}/etc/passwd /etc/passwd && mount --bind {0}/etc/group /etc/group && mount --bind {0}/etc/shadow /etc/shadow && exec sh -s",
        root.display()
    ));
    let mut child = unshare.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped()).spawn().unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), pasted.as_bytes()).unwrap();
    child.wait_with_output().unwrap().stdout
}

#[test]
#[ignore = "needs root, for a mount of its own: scripts/test.sh"]
fn a_change_is_carried_by_hand_and_its_answer_taken_in() {
    let mut fleet = Fleet::new();
    people(&fleet);
    let before = format!("# it's kept\n{}{}", line(3, "sten"), line(4, "who"));
    fleet.add("lantern", &before, Behaviour::default());
    drop(fleet.run("enforce lantern --script").expect(3));
    let look = fleet.run("survey --script").expect(0).stdout;
    fleet.world.write("answer", at_the_console(&fleet, 0, &look), 0o600);
    drop(fleet.run("survey lantern --read answer").expect(0));
    let change = fleet.run("enforce lantern --script").expect(0).stdout;
    assert!(change.lines().all(|line| line.len() < 1000), "{change}");
    // Damaged on the way: nothing happens.
    let damaged = at_the_console(&fleet, 0, &change.replacen("authorized_keys", "authorised_keys", 1));
    assert_eq!(keys(&fleet, 0), before);
    fleet.world.write("answer", damaged, 0o600);
    drop(fleet.run("enforce lantern --read answer").expect(4));
    fleet.world.write("answer", at_the_console(&fleet, 0, &change), 0o600);
    let after = format!("# it's kept\n{}{}from=\"127.0.0.0/8\" {}", line(4, "who"), line(2, "a key"), line(5, "a key"));
    assert_eq!(keys(&fleet, 0), after);
    insta::assert_snapshot!("enforce_read", fleet.run("enforce lantern --read answer").expect(0));
    drop(fleet.run("enforce lantern --read answer").expect(2));
    assert_eq!(fleet.run("compare lantern --format json").expect(1).json()["summary"]["unknown"], 1);
    // The file is another one by now: the change that was printed for the old one stops by itself.
    fleet.world.write("people/sten.toml", person("Sten Kvarn", "", 3), 0o644);
    let access =
        fleet.world.read("access.toml") + "\n[[grant]]\nperson = \"sten\"\naccount = \"edda\"\nhosts = [\"*\"]\n";
    fleet.world.write("access.toml", access, 0o644);
    let change = fleet.run("enforce lantern --script").expect(0).stdout;
    fleet.put(0, "/home/edda/.ssh/authorized_keys", "# somebody else\n");
    fleet.world.write("answer", at_the_console(&fleet, 0, &change), 0o600);
    let stopped = fleet.run("enforce lantern --read answer").expect(4);
    assert!(stopped.stdout.contains("everything is as it was: change 1"), "{stopped}");
    assert_eq!(keys(&fleet, 0), "# somebody else\n");
}

#[test]
#[ignore = "needs root, for a mount of its own: scripts/test.sh"]
fn a_key_is_installed_by_hand() {
    let mut fleet = Fleet::new();
    fleet.add("lantern", "# no end", Behaviour::default());
    fleet.world.put_pair("runa", 5, "runa@lantern");
    let change = fleet.run("install home/runa.pub edda@lantern --script").expect(0).stdout;
    assert!(change.lines().all(|line| line.len() < 1000), "{change}");
    for _ in 0..2 {
        fleet.world.write("answer", at_the_console(&fleet, 0, &change), 0o600);
        insta::assert_snapshot!(
            "install_read",
            fleet.run("install home/runa.pub edda@lantern --read answer").expect(0)
        );
        assert_eq!(keys(&fleet, 0), format!("# no end\n{}", line(5, "runa@lantern")));
    }
    // Modes that make the server ignore other entries are not set right in passing: those would come to life.
    let folder = fleet.hosts[0].file("/home/edda/.ssh");
    fleet.put(0, "/home/edda/.ssh/authorized_keys", &line(9, "somebody"));
    std::fs::set_permissions(&folder, std::os::unix::fs::PermissionsExt::from_mode(0o777)).unwrap();
    fleet.world.write("answer", at_the_console(&fleet, 0, &change), 0o600);
    let refused = fleet.run("install home/runa.pub edda@lantern --read answer").expect(4);
    assert!(refused.stderr.contains("so the server ignores the entries there"), "{refused}");
    assert_eq!(keys(&fleet, 0), line(9, "somebody"));
    std::fs::remove_dir_all(&folder).unwrap();
    std::os::unix::fs::symlink("/tmp", &folder).unwrap();
    fleet.world.write("answer", at_the_console(&fleet, 0, &change), 0o600);
    let refused = fleet.run("install home/runa.pub edda@lantern --read answer").expect(4);
    assert!(refused.stderr.contains("is a link or no folder"), "{refused}");
    drop(fleet.run("install home/runa.pub edda@lantern --read home/runa.pub").expect(2));
}

#[test]
fn the_guide_leads_from_an_empty_folder_to_an_enforced_register() {
    let mut fleet = Fleet::new();
    std::fs::remove_file(fleet.world.path("lavrin.toml")).unwrap();
    let keepers = |number: usize| match number {
        0 => line(6, "runa@lantern") + &line(7, "who knows"),
        _ => line(6, "runa@lantern"),
    };
    for (number, (name, account)) in
        [("office", "edda"), ("lantern", "keeper"), ("skerry", "keeper")].into_iter().enumerate()
    {
        fleet.start(name, account, &keepers(number), Behaviour::default());
    }
    fleet.world.put_pair("edda", 2, "edda@office");
    std::fs::rename(fleet.world.path("home/edda.pub"), fleet.world.path("edda.pub")).unwrap();
    std::fs::create_dir(fleet.world.path("home/.ssh")).unwrap();
    for name in ["office", "office.pub"] {
        std::fs::rename(fleet.world.path(&format!("home/{name}")), fleet.world.path(&format!("home/.ssh/{name}")))
            .unwrap();
    }
    let guide = include_str!("../../../../docs/guide.md");
    let (guide, _) = guide.split_once("# A fleet: the register").unwrap();
    let (_, guide) = guide.split_once("# A handful: ten").unwrap();
    let mut told = String::new();
    for line in guide.lines().filter_map(|line| line.strip_prefix("    lavrin ")) {
        let mut typed = line.replace("~/", &format!("{}/", fleet.world.path("home").display()));
        for (number, name) in ["office", "lantern", "skerry"].iter().enumerate() {
            let host = &fleet.hosts[number];
            typed = typed.replace(
                &format!("--address 192.0.2.{}", 5 + number),
                &format!("--address 127.0.0.1 --port {}", host.address().port()),
            );
            typed = typed.replace(
                &format!("trust {name} --expect-host-key SHA256:…"),
                &format!("trust {name} --expect-host-key {}", host.host_key()),
            );
        }
        let words = crate::common::words(&typed);
        let run = fleet.world.run_with(&[("LAVRIN_REGISTER", "halvmark")], &words);
        told += &format!("$ lavrin {line}\n{}[{}]\n", run.stdout, run.status);
    }
    let ports = fleet.hosts.iter().map(|host| host.address().port().to_string());
    let told = ports.fold(told, |told, port| told.replace(&port, "$PORT"));
    insta::with_settings!({filters => vec![(r"SHA256:[A-Za-z0-9+/]{43}", "SHA256:…"), (r"\d{8}-\d{6}-[0-9a-f]{6}", "RUN"), (r"AAAA[A-Za-z0-9+/=]+", "AAAA…")]}, {
        insta::assert_snapshot!("guide", told);
    });
    assert!(!keys_of(&fleet, 1, "keeper").contains("runa"));
    assert!(keys_of(&fleet, 1, "keeper").contains(key(2).public().line("").as_str()));
}

fn keys_of(fleet: &Fleet, host: usize, account: &str) -> String {
    std::fs::read_to_string(fleet.hosts[host].file(&format!("/home/{account}/.ssh/authorized_keys")))
        .unwrap_or_default()
}
