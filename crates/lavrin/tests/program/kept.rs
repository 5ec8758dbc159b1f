//! Kept keys over hosts that are stand-ins: made, taken in, proven, handed out, sealed again, replaced; and what goes wrong.

use crate::common::fleet::Fleet;
use crate::common::{Run, key, names};
use lavrin_keys::key::PrivateKey;
use lavrin_keys::key::container::openssh;
use lavrin_keys::key::generate::SystemSource;
use lavrin_standin::Behaviour;

const GO: &str = "--identity home/office --yes";
const NAME: &str = "edda@lantern";

/// Two administrators, office and sten; root of the hosts has the key of office.
fn fleet() -> Fleet {
    let fleet = Fleet::new();
    fleet.world.put_pair("sten", 3, "sten");
    for (name, seed) in [("office", 1), ("sten", 3), ("runa", 4)] {
        let line = key(seed).public().line(name);
        let text = format!("name = \"{name}\"\n\n[[key]]\nlabel = \"main\"\nline = \"{line}\"\nadded = 2026-01-31\n");
        fleet.world.write(&format!("people/{name}.toml"), text, 0o644);
    }
    fleet.world.write("access.toml", "[[grant]]\nperson = \"office\"\naccount = \"root\"\nhosts = [\"*\"]\n", 0o644);
    administrators(&fleet, "\"office\", \"sten\"");
    fleet
}

fn administrators(fleet: &Fleet, names: &str) {
    let text = format!("name = \"Skerry lights\"\n\n[kept]\nadministrators = [{names}]\n");
    fleet.world.write("lavrin.toml", text, 0o644);
}

/// One host, and a key that is kept for edda there.
fn made() -> Fleet {
    let mut fleet = fleet();
    fleet.add("lantern", "", Behaviour::default());
    drop(fleet.run(&format!("kept make {NAME} {GO}")).expect(0));
    fleet
}

fn keys(fleet: &Fleet) -> String {
    std::fs::read_to_string(fleet.hosts[0].file("/home/edda/.ssh/authorized_keys")).unwrap_or_default()
}

fn sealed(fleet: &Fleet, version: u32) -> String {
    fleet.world.read(&format!("kept/{NAME}.{version}.age"))
}

/// Without what is made at random.
fn steady(run: &Run) -> String {
    let text = run.to_string();
    let mut out = String::new();
    for line in text.split_inclusive('\n') {
        let words = line.split_inclusive(|letter: char| letter.is_whitespace() || ",;".contains(letter));
        let word = |word: &str| {
            let is_key = word.starts_with("SHA256:") || word.starts_with("AAAA");
            let is_run = word.len() > 20 && word.as_bytes()[..8].iter().all(u8::is_ascii_digit);
            let end: String =
                word.chars().rev().take_while(|letter| letter.is_whitespace() || ",;.)".contains(*letter)).collect();
            if is_key {
                format!("KEY{}", end.chars().rev().collect::<String>())
            } else if is_run {
                "RUN ".to_owned()
            } else {
                word.to_owned()
            }
        };
        out += &words.map(word).collect::<String>();
    }
    out
}

fn snapshot(name: &str, run: &Run) {
    insta::assert_snapshot!(name, steady(run));
}

#[test]
fn a_key_is_made_proven_handed_out_and_replaced_and_the_history_tells_it() {
    let mut fleet = fleet();
    fleet.add("lantern", "# kept\n", Behaviour::default());
    snapshot("kept_make", &fleet.run(&format!("kept make {NAME} {GO}")).expect(0));
    assert!(keys(&fleet).starts_with("# kept\nssh-ed25519 ") && keys(&fleet).ends_with("edda@lantern version 1\n"));
    assert_eq!(names(&fleet.world.path("kept")), ["edda@lantern.1.age", "edda@lantern.toml"]);
    snapshot("kept_prove", &fleet.run("kept prove --open-with home/sten").expect(0));
    let handed = fleet.run("kept hand-out edda@lantern --to key --reason lamp --open-with home/sten").expect(0);
    snapshot("kept_hand_out", &handed);
    assert_eq!(fleet.world.mode("key"), "0600");
    // It opens the account: any command signs in with it.
    drop(fleet.run("probe edda@lantern --identity key").expect(0));
    let before = sealed(&fleet, 1);
    snapshot("kept_rotate", &fleet.run(&format!("rotate --account {NAME} {GO}")).expect(0));
    assert!(keys(&fleet).ends_with("edda@lantern version 2\n") && !keys(&fleet).contains("version 1"));
    assert_eq!(names(&fleet.world.path("kept")), ["edda@lantern.2.age", "edda@lantern.toml"]);
    assert_ne!(sealed(&fleet, 2), before);
    drop(fleet.run("probe edda@lantern --identity key").expect(1));
    snapshot("kept_list", &fleet.run("kept list").expect(0));
    let history = fleet.run("history edda@lantern --format json").expect(0).json();
    let told = history["events"].as_array().unwrap().iter().map(|event| event["detail"].as_str().unwrap().to_owned());
    let told: Vec<String> = told.filter(|detail| detail.starts_with("version")).collect();
    insta::assert_snapshot!("kept_history", told.join("\n"));
    assert!(fleet.run("person show sten").expect(0).stdout.contains("may have a copy of kept keys: edda@lantern"));
    let stens = fleet.run("history sten").expect(0);
    assert!(stens.stdout.contains("version 1 handed out to sten; reason: lamp"), "{stens}");
    drop(fleet.run("compare --identity home/office").expect(0));
    drop(fleet.run("register check").expect(0));
}

#[test]
fn what_lies_in_the_register_is_not_believed_beyond_what_the_seal_shows() {
    let fleet = made();
    let (good, list) = (sealed(&fleet, 1), fleet.world.read(&format!("kept/{NAME}.toml")));
    let path = format!("kept/{NAME}.1.age");
    let line = good.lines().nth(3).unwrap();
    let stranger = seal_for(&key(4), &key(9));
    let other = seal_for(&key(1), &key(9));
    let cases = [
        ("damaged", Some(good.replace(line, &line.chars().rev().collect::<String>()))),
        ("cut", Some(good[..good.len() / 2].to_owned())),
        ("empty", Some(String::new())),
        ("for others", Some(stranger)),
        ("another key", Some(other)),
        ("missing", None),
    ];
    let mut told = String::new();
    for (name, text) in cases {
        match text {
            Some(text) => drop(fleet.world.write(&path, text, 0o644)),
            None => std::fs::remove_file(fleet.world.path(&path)).unwrap(),
        }
        for line in ["kept prove", "kept hand-out edda@lantern --to key --reason x", "kept seal --yes"] {
            let run = fleet.run(&format!("{line} --open-with home/office"));
            assert!([3, 4].contains(&run.status), "{name}: {line}\n{run}");
            told += &format!("== {name}: {line}\n{}\n", steady(&run));
        }
        assert!(!fleet.world.path("key").exists(), "{name}");
        assert_eq!(fleet.world.read(&format!("kept/{NAME}.toml")), list, "{name}");
    }
    insta::assert_snapshot!("kept_damaged", told);
    // With another way into the account it is replaced all the same.
    drop(fleet.run(&format!("rotate --account {NAME} {GO}")).expect(0));
    drop(fleet.run("kept prove --open-with home/office").expect(0));
}

fn seal_for(holder: &PrivateKey, secret: &PrivateKey) -> String {
    lavrin_seal::seal(secret, "edda@lantern version 1", &[holder.public()], &SystemSource).unwrap()
}

#[test]
fn a_register_that_was_set_back_is_told_and_not_gone_on_from() {
    let fleet = made();
    let (toml, age) = (format!("kept/{NAME}.toml"), format!("kept/{NAME}.1.age"));
    let (old_toml, old_age) = (fleet.world.read(&toml), fleet.world.read(&age));
    drop(fleet.run(&format!("rotate --account {NAME} {GO}")).expect(0));
    let (new_toml, new_age) = (fleet.world.read(&toml), sealed(&fleet, 2));
    fleet.world.write(&toml, &old_toml, 0o644);
    fleet.world.write(&age, &old_age, 0o644);
    std::fs::remove_file(fleet.world.path(&format!("kept/{NAME}.2.age"))).unwrap();
    snapshot("kept_set_back_list", &fleet.run("kept list").expect(1));
    snapshot("kept_set_back_rotate", &fleet.run(&format!("rotate --account {NAME} {GO}")).expect(4));
    let entries = keys(&fleet);
    for line in
        ["kept hand-out edda@lantern --to key --reason x --open-with home/office", "kept prove --open-with home/office"]
    {
        let run = fleet.run(line);
        assert!(run.status >= 3 && run.to_string().contains("the register was set back"), "{run}");
    }
    // Somebody else's machine remembers nothing: the entry on the host says it.
    std::fs::rename(fleet.world.path(".lavrin"), fleet.world.path("lavrin-of-others")).unwrap();
    drop(fleet.survey(""));
    let told = fleet.run("kept prove --open-with home/office").expect(1);
    assert!(told.stdout.contains("an entry in the account says that it is version 2"), "{told}");
    assert_eq!(keys(&fleet), entries);
    // Brought back, everything is as it was.
    std::fs::remove_dir_all(fleet.world.path(".lavrin")).unwrap();
    std::fs::rename(fleet.world.path("lavrin-of-others"), fleet.world.path(".lavrin")).unwrap();
    fleet.world.write(&toml, &new_toml, 0o644);
    fleet.world.write(&format!("kept/{NAME}.2.age"), &new_age, 0o644);
    drop(fleet.run("kept prove --open-with home/office").expect(0));
    // Lost for good: the next number is one that nothing ever had.
    for file in names(&fleet.world.path("kept")) {
        std::fs::remove_file(fleet.world.path(&format!("kept/{file}"))).unwrap();
    }
    drop(fleet.run(&format!("kept make {NAME} {GO}")).expect(0));
    assert_eq!(names(&fleet.world.path("kept")), ["edda@lantern.3.age", "edda@lantern.toml"]);
}

#[test]
fn it_is_sealed_again_when_the_administrators_change() {
    let fleet = made();
    let first = sealed(&fleet, 1);
    administrators(&fleet, "\"office\", \"runa\"");
    snapshot("kept_list_administrators", &fleet.run("kept list").expect(1));
    drop(fleet.run("kept seal --preview --open-with home/office").expect(0));
    assert_eq!(sealed(&fleet, 1), first);
    snapshot("kept_seal", &fleet.run("kept seal --yes --open-with home/office").expect(0));
    fleet.world.put_pair("runa", 4, "runa");
    drop(fleet.run("kept prove --open-with home/runa").expect(0));
    let refused = fleet.run("kept prove --open-with home/sten").expect(3);
    assert!(refused.stdout.contains("is not sealed for you"), "{refused}");
    // Once sealed for, always known to.
    let list = fleet.run("kept list").expect(0);
    assert!(list.stdout.contains("may have a copy too: sten"), "{list}");
    drop(fleet.run("kept seal --yes --open-with home/office").expect(0));
    // Named by command; somebody whose keys cannot be recipients is told.
    let ecdsa = "key generate --passphrase none --folder home --name ecdsa --algorithm ecdsa-p256 --comment ecdsa";
    drop(fleet.run(ecdsa).expect(0));
    drop(fleet.run("person add vala --name Vala --key home/ecdsa.pub").expect(0));
    let named = fleet.run("kept seal --administrators office,vala --yes --open-with home/office").expect(0);
    snapshot("kept_seal_unable", &named);
    let nobody = fleet.run("kept seal --administrators vala --yes --open-with home/office").expect(4);
    snapshot("kept_seal_nobody", &nobody);
    // What is sealed stays as it was.
    drop(fleet.run("kept prove --open-with home/office").expect(0));
}

#[test]
fn a_key_that_came_with_an_account_is_taken_in_once_it_has_opened_it() {
    let mut fleet = fleet();
    let came = key(7);
    let line = format!("from=\"127.0.0.0/8\",no-pty {}\n", came.public().line("came"));
    fleet.add("lantern", &line, Behaviour::default());
    let plain = openssh::write(&came, "came", None, &SystemSource).unwrap();
    fleet.world.write("came", plain.as_bytes(), 0o600);
    let with_passphrase = |line: &str| {
        let words: Vec<&str> = line.split(' ').collect();
        fleet.world.run_with(&[("TIDE", "low water at noon")], &words)
    };
    // In any container, protected or not.
    for container in ["pkcs8", "openssh"] {
        let convert = format!("key convert came --to {container} --out came.{container} --new-passphrase-env TIDE");
        drop(with_passphrase(&convert).expect(0));
        let preview = format!("kept take-in {NAME} --key came.{container} --passphrase-env TIDE --preview");
        let preview = with_passphrase(&preview).expect(0);
        assert!(preview.stderr.contains("a login as edda@lantern with this key worked"), "{preview}");
        assert!(!fleet.world.path("kept").exists());
    }
    let wrong = openssh::write(&key(8), "wrong", None, &SystemSource).unwrap();
    fleet.world.write("wrong", wrong.as_bytes(), 0o600);
    snapshot("kept_take_in_refused", &fleet.run(&format!("kept take-in {NAME} --key wrong --yes")).expect(4));
    assert!(!fleet.world.path("kept").exists());
    let own = fleet.run(&format!("kept take-in {NAME} --key home/sten --yes")).expect(4);
    assert!(own.stderr.contains("is the key of sten"), "{own}");
    snapshot("kept_take_in", &fleet.run(&format!("kept take-in {NAME} --key came --yes")).expect(0));
    // Options go along, so that nothing differs, and nothing is changed on the host.
    assert_eq!(keys(&fleet), line);
    drop(fleet.survey(""));
    drop(fleet.run("compare").expect(0));
    drop(fleet.run(&format!("rotate --account {NAME} {GO}")).expect(0));
    assert!(keys(&fleet).starts_with("from=\"127.0.0.0/8\",no-pty ssh-ed25519 "), "{}", keys(&fleet));
    drop(fleet.run(&format!("probe {NAME} --identity came")).expect(1));
}

#[test]
fn a_host_that_is_off_gets_its_key_from_enforce() {
    let mut fleet = fleet();
    fleet.add("lantern", "", Behaviour::default());
    let (port, line) = (fleet.hosts[0].address().port(), fleet.hosts[0].host_key_line());
    fleet.register("lantern", 1, &line, "");
    snapshot("kept_make_off", &fleet.run(&format!("kept make {NAME} {GO}")).expect(3));
    fleet.register("lantern", port, &line, "");
    let list = fleet.run("kept list").expect(0);
    assert!(list.stdout.contains("not proven yet"), "{list}");
    drop(fleet.run(&format!("enforce lantern {GO}")).expect(0));
    drop(fleet.run("kept prove --open-with home/office").expect(0));
    // Off in the middle of a rotation: the old version stays sealed until its refusal was shown.
    fleet.register("lantern", 1, &line, "");
    drop(fleet.run(&format!("rotate --account {NAME} {GO}")).expect(3));
    assert_eq!(names(&fleet.world.path("kept")).len(), 3);
    fleet.register("lantern", port, &line, "");
    let list = fleet.run("kept list").expect(0);
    assert!(list.stdout.contains("version 2 is on its way"), "{list}");
    drop(fleet.run(&format!("enforce lantern {GO}")).expect(0));
    assert_eq!(keys(&fleet).lines().count(), 2);
    snapshot("kept_rotate_later", &fleet.run(&format!("rotate --account {NAME} {GO}")).expect(0));
    assert_eq!(names(&fleet.world.path("kept")), ["edda@lantern.2.age", "edda@lantern.toml"]);
}

#[test]
fn who_leaves_takes_no_kept_key_along() {
    let fleet = made();
    let preview = fleet.run("offboard sten --preview --identity home/office").expect(0);
    assert!(preview.stderr.contains("sten may have a copy of kept keys: edda@lantern"), "{preview}");
    let left = fleet.run(&format!("offboard sten {GO}")).expect(1);
    snapshot("kept_offboard_left", &left);
    let check = fleet.run("register check").expect(1);
    assert!(check.stdout.contains("sten, who left on 2026-11-23, may have a copy of this private key"), "{check}");
    let again = fleet.run(&format!("offboard sten {GO} --rotate-kept")).expect(0);
    snapshot("kept_offboard", &again);
    // The new version is not sealed for who left, and the old one opens nothing.
    drop(fleet.run("kept prove --open-with home/office").expect(0));
    drop(fleet.run("kept prove --open-with home/sten").expect(3));
    drop(fleet.run("kept list").expect(0));
    // Nobody left to open it: nothing is begun.
    let last = fleet.run(&format!("offboard office {GO} --rotate-kept --accept-lockout"));
    assert!(last.stdout.contains("NOT REPLACED"), "{last}");
    assert_eq!(names(&fleet.world.path("kept")), ["edda@lantern.2.age", "edda@lantern.toml"]);
}

#[test]
fn a_rotation_that_is_killed_is_finished_by_the_next_one() {
    let fleet = made();
    let mut newest = 1;
    for pause in [40, 80, 120, 160, 220, 300, 400, 520, 700, 900] {
        let line = format!("rotate --account {NAME} {GO}");
        let words: Vec<&str> = line.split(' ').collect();
        let mut child = fleet.world.command(&words).stdout(std::process::Stdio::null()).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(pause));
        let _ = child.kill();
        child.wait().unwrap();
        fleet.wait_until_nothing_runs();
        // The one in use still opens the account, or the next one does.
        let list = fleet.run("kept list --format json").json();
        let version = list["kept"][0]["version"].as_u64().unwrap();
        assert!(version >= newest, "{list}");
        newest = version;
        drop(fleet.run("kept prove --open-with home/office").expect(0));
    }
    drop(fleet.run(&format!("rotate --account {NAME} {GO}")).expect(0));
    assert_eq!(keys(&fleet).lines().count(), 1, "{}", keys(&fleet));
    drop(fleet.run("kept prove --open-with home/office").expect(0));
    let toml = fleet.world.read(&format!("kept/{NAME}.toml"));
    assert_eq!(toml.matches("[[key]]").count(), toml.matches("retired").count() + 1, "{toml}");
}

#[test]
fn of_two_who_replace_it_at_once_one_wins_and_nothing_is_lost() {
    let fleet = made();
    let line = format!("rotate --account {NAME} {GO}");
    let words: Vec<&str> = line.split(' ').collect();
    let start = || {
        let mut command = fleet.world.command(&words);
        command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap()
    };
    let both = [start(), start()].map(|child| child.wait_with_output().unwrap());
    let text: Vec<String> = both.iter().map(|output| String::from_utf8_lossy(&output.stderr).into_owned()).collect();
    assert!(both.iter().any(|output| output.status.success()), "{text:?}");
    drop(fleet.run("kept prove --open-with home/office").expect(0));
    drop(fleet.run(&line).expect(0));
    assert_eq!(keys(&fleet).lines().count(), 1, "{}", keys(&fleet));
    drop(fleet.run("kept prove --open-with home/office").expect(0));
}

#[test]
fn names_that_change_take_kept_keys_along() {
    let fleet = made();
    drop(fleet.run("host rename lantern light-1").expect(0));
    drop(fleet.run("person rename sten sten.a").expect(0));
    assert_eq!(names(&fleet.world.path("kept")), ["edda@light-1.1.age", "edda@light-1.toml"]);
    drop(fleet.run("kept prove edda@light-1 --open-with home/sten").expect(0));
    let list = fleet.run("kept list").expect(0);
    assert!(list.stdout.contains("sealed for office, sten.a"), "{list}");
    assert!(fleet.run("person remove sten.a").expect(4).stderr.contains("they may have a copy of 1 kept key"));
    assert!(fleet.run("host remove light-1").expect(4).stderr.contains("a key is kept for edda@light-1"));
}

#[test]
fn a_key_that_is_given_up_is_told_and_may_be_made_anew() {
    let fleet = made();
    let path = format!("kept/{NAME}.toml");
    fleet.world.write(&path, fleet.world.read(&path) + "retired = 2026-11-01\n", 0o644);
    fleet.world.write("kept/README.md", "what lies here", 0o644);
    let list = fleet.run("kept list").expect(1);
    assert!(
        list.stdout.contains("no version is in use") && list.stdout.contains(".1.age belongs to no version"),
        "{list}"
    );
    assert!(!list.stdout.contains("README"), "{list}");
    assert!(fleet.run("kept prove").expect(3).stdout.contains("no version is in use"));
    assert!(fleet.run(&format!("rotate --account {NAME} {GO}")).expect(2).stderr.contains("lavrin kept make"));
    drop(fleet.run(&format!("kept make {NAME} {GO}")).expect(0));
    assert!(keys(&fleet).contains("version 2"));
}

#[test]
fn what_cannot_be_kept_is_refused_with_the_next_command() {
    let mut fleet = fleet();
    fleet.add("lantern", "", Behaviour::default());
    let mut told = String::new();
    for line in [
        "kept make edda@nowhere --yes",
        "kept make lamp@lantern --yes",
        "kept make ../x@lantern --yes",
        "kept prove edda@lantern",
        "rotate --account edda@lantern --yes",
        "kept hand-out edda@lantern --to key --reason x",
    ] {
        let run = fleet.run(line);
        assert!(run.status != 0, "{run}");
        told += &format!("== {line}\n{run}\n");
    }
    insta::assert_snapshot!("kept_refused", told);
    drop(fleet.run(&format!("kept make {NAME} {GO}")).expect(0));
    assert!(fleet.run(&format!("kept make {NAME} {GO}")).expect(2).stderr.contains("is kept for edda@lantern already"));
    // Never over a file that is there.
    fleet.world.write("there", "mine", 0o600);
    let there = fleet.run("kept hand-out edda@lantern --to there --reason x --open-with home/office").expect(2);
    assert!(there.stderr.contains("is there already"), "{there}");
    assert_eq!(fleet.world.read("there"), "mine");
    assert!(!fleet.world.read(&format!("kept/{NAME}.toml")).contains("hand_out"));
}

#[test]
fn kept_keys_that_are_too_old_are_replaced_with_the_others() {
    let fleet = made();
    let policy = "name = \"x\"\n\n[policy]\nkey_age_days_max = 30\n\n[kept]\nadministrators = [\"office\", \"sten\"]\n";
    fleet.world.write("lavrin.toml", policy, 0o644);
    let path = format!("kept/{NAME}.toml");
    let old = fleet.world.read(&path).replace("added = 2026-11-23", "added = 2026-01-01");
    fleet.world.write(&path, old, 0o644);
    let check = fleet.run("register check").expect(1);
    assert!(check.stdout.contains("lavrin rotate --account edda@lantern"), "{check}");
    assert!(fleet.run("kept list").expect(1).stdout.contains("days old, and 30 are allowed"));
    let due = fleet.run(&format!("rotate --due {GO}")).expect(1);
    assert!(due.stdout.contains("the old key is retired") && due.stdout.contains("no new key yet for"), "{due}");
    assert!(keys(&fleet).contains("version 2"));
}
