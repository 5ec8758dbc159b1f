//! `lavrin key generate`

use crate::common::terminal::talk;
use crate::common::{World, names};

const ASK: &str = "Passphrase for the new key: ";
const AGAIN: &str = "The same again:  ";
const SAVED: &str = "[yes/no]";

#[test]
fn makes_a_pair_with_the_right_modes_that_reads_back() {
    for (algorithm, name, bits) in [
        ("ed25519", "ssh-ed25519", 256),
        ("ecdsa-p256", "ecdsa-sha2-nistp256", 256),
        ("ecdsa-p384", "ecdsa-sha2-nistp384", 384),
        ("ecdsa-p521", "ecdsa-sha2-nistp521", 521),
        ("rsa-2048", "ssh-rsa", 2048),
        ("rsa-3072", "ssh-rsa", 3072),
        ("rsa-4096", "ssh-rsa", 4096),
    ] {
        let world = World::new();
        let made = world
            .typed(&format!(
                "key generate --algorithm {algorithm} --passphrase none --folder ~/new/keys --name k --format json"
            ))
            .expect(0)
            .json();
        assert_eq!((made["algorithm"].as_str(), made["bits"].as_u64()), (Some(name), Some(bits)));
        assert_eq!(
            [world.mode("home/new/keys"), world.mode("home/new/keys/k"), world.mode("home/new/keys/k.pub")],
            ["0700", "0600", "0644"]
        );
        let read = world.typed("key inspect home/new/keys/k home/new/keys/k.pub --format json").json();
        assert_eq!(read["rejected"].as_array().unwrap().len(), 0, "{read}");
        for key in read["keys"].as_array().unwrap() {
            assert_eq!(key["fingerprint"], made["fingerprint"]);
            assert_eq!(key["public_line"], made["public_line"]);
            assert_eq!(key["unlocked"], true);
        }
        assert_eq!(names(&world.path("home/new/keys")), ["k", "k.pub"]);
    }
}

#[test]
fn the_largest_rsa_key_is_made_too() {
    let world = World::new();
    let made =
        world.typed("key generate --algorithm rsa-8192 --passphrase none --name big --format json").expect(0).json();
    assert_eq!(made["bits"], 8192);
}

#[test]
fn says_what_it_made() {
    let world = World::new();
    let run =
        world.run(&["key", "generate", "--passphrase", "none", "--comment", "edda, harbour office", "--name", "edda"]);
    insta::with_settings!({filters => vec![(r"SHA256:\S{43}", "SHA256:[print]"), (r"AAAA\S+", "[base64]")]}, {
        insta::assert_snapshot!(run.to_string());
    });
}

#[test]
fn an_existing_file_is_never_overwritten() {
    let world = World::new();
    world.put_pair(".ssh/edda", 1, "edda@lantern");
    let before = world.read("home/.ssh/edda");
    insta::assert_snapshot!(world.typed("key generate --passphrase none --name edda").expect(2).to_string());
    assert_eq!(world.read("home/.ssh/edda"), before);
    // The public half alone is as good a reason.
    std::fs::remove_file(world.path("home/.ssh/edda")).unwrap();
    let _ = world.typed("key generate --passphrase none --name edda").expect(2);
    assert_eq!(names(&world.path("home/.ssh")), ["edda.pub"]);
}

#[test]
fn replace_moves_both_old_files_aside_under_a_dated_name() {
    let world = World::new();
    world.put_pair(".ssh/edda", 1, "edda@lantern");
    let before = (world.read("home/.ssh/edda"), world.read("home/.ssh/edda.pub"));
    let _ = world.typed("key generate --passphrase none --name edda --replace").expect(0);
    let expected = ["edda", "edda.pub", "edda.until-20261123-080000", "edda.until-20261123-080000.pub"];
    assert_eq!(names(&world.path("home/.ssh")), expected);
    let after =
        (world.read("home/.ssh/edda.until-20261123-080000"), world.read("home/.ssh/edda.until-20261123-080000.pub"));
    assert_eq!(after, before);
    assert_ne!(world.read("home/.ssh/edda"), before.0);
    // A second time on the same moment finds another free name.
    let _ = world.typed("key generate --passphrase none --name edda --replace").expect(0);
    assert_eq!(names(&world.path("home/.ssh")).len(), 6);
}

#[test]
fn passphrases_come_from_a_variable_a_file_or_a_descriptor() {
    let world = World::new();
    world.write("pass", "low water\n", 0o600);
    let by_variable = [("TIDE", "low water")];
    let _ = world.run_with(&by_variable, &["key", "generate", "--passphrase-env", "TIDE", "--name", "a"]).expect(0);
    let _ = world.typed("key generate --passphrase-file pass --name b").expect(0);
    let _ = world.with_input("low water\n", &["key", "generate", "--passphrase-fd", "0", "--name", "c"]).expect(0);
    for name in ["a", "b", "c"] {
        let key = &world.typed(&format!("key inspect home/.ssh/{name} --format json")).expect(0).json()["keys"][0];
        assert_eq!((key["encrypted"].as_bool(), key["unlocked"].as_bool()), (Some(true), Some(false)), "{name}");
        assert!(!world.read(&format!("home/.ssh/{name}")).contains("b3BlbnNzaC1rZXktdjEAAAAABG5vbmU"));
    }
}

#[test]
fn without_a_word_about_the_passphrase_nothing_is_made() {
    let world = World::new();
    // A terminal that the test itself may have must not be asked.
    let mut command = std::process::Command::new("setsid");
    command.arg("-w").arg(env!("CARGO_BIN_EXE_lavrin")).args(["key", "generate", "--name", "edda"]);
    command.env_clear().env("PATH", "/usr/bin:/bin").env("HOME", world.path("home")).stdin(std::process::Stdio::null());
    let run = world.finish(command).expect(2);
    assert!(run.stderr.contains("knowingly none: lavrin key generate --name edda --passphrase none"), "{run}");
    assert!(!world.path("home/.ssh/edda").exists());
    let empty = [("TIDE", "")];
    let run = world.run_with(&empty, &["key", "generate", "--passphrase-env", "TIDE", "--name", "edda"]).expect(2);
    assert!(run.stderr.contains("the passphrase is empty"), "{run}");
    let _ = world.typed("key generate --passphrase made --name edda").expect(2);
}

#[test]
fn a_passphrase_is_asked_for_twice_without_echo() {
    let world = World::new();
    let said = talk(&world, "key generate --name edda", &[(ASK, "low water"), (AGAIN, "low water")]).0;
    assert!(said.contains("Passphrase for the new key:") && said.contains("The same again: "), "{said}");
    assert!(!said.contains("low water"), "{said}");
    let key = &world.typed("key inspect home/.ssh/edda --format json").json()["keys"][0];
    assert_eq!(key["encrypted"], true);
    let said = talk(&world, "key generate --name sten", &[(ASK, "low water"), (AGAIN, "high water")]).0;
    assert!(said.contains("not the same"), "{said}");
    assert!(!world.path("home/.ssh/sten").exists());
}

#[test]
fn a_made_passphrase_is_shown_once_and_kept_only_when_it_is_saved() {
    let world = World::new();
    let said = talk(&world, "key generate --passphrase made --name edda", &[(SAVED, "no")]).0;
    assert!(said.contains("96 bits") && said.contains("no key was made"), "{said}");
    assert!(!world.path("home/.ssh/edda").exists());
    let said = talk(&world, "key generate --passphrase made --name edda", &[(SAVED, "yes")]).0;
    let shown = said.lines().find(|line| line.starts_with("    ")).unwrap().trim().to_owned();
    assert_eq!(shown.split(' ').count(), 6, "{said}");
    assert_eq!(said.matches(&shown).count(), 1);
    assert!(world.path("home/.ssh/edda").exists());
}

#[test]
fn refuses_names_and_comments_that_would_do_harm() {
    let world = World::new();
    for args in [
        ["--name", "../x"],
        ["--name", ".x"],
        ["--name", ""],
        ["--comment", "a\nssh-ed25519 AAAA"],
        ["--comment", "\u{1b}[2J"],
    ] {
        let mut line = vec!["key", "generate", "--passphrase", "none"];
        line.extend(args);
        let _ = world.run(&line).expect(2);
    }
    assert!(!world.path("home/.ssh").exists() || names(&world.path("home/.ssh")).is_empty());
}

#[test]
fn what_a_question_is_about_is_shown_although_the_rest_is_quiet() {
    let world = World::new();
    let said = talk(&world, "key generate --quiet --passphrase made --name edda", &[(SAVED, "yes")]).0;
    let shown =
        said.lines().find(|line| line.starts_with("    ")).unwrap_or_else(|| panic!("{said}")).trim().to_owned();
    assert_eq!(shown.split(' ').count(), 6, "{said}");
    world.write("passphrase", &shown, 0o600);
    let key = world.typed("key inspect home/.ssh/edda --passphrase-file passphrase --format json").json();
    assert_eq!(key["keys"][0]["unlocked"], true, "{key}");
}

#[test]
fn a_passphrase_that_nobody_could_type_is_refused() {
    let world = World::new();
    let make = "key generate --folder home --name edda --passphrase-file secret";
    for (secret, why) in [
        ("x".repeat((64 << 10) + 1), "longer than 65536 bytes"),
        ("low water\nhigh water\n".to_owned(), "several lines"),
        ("low water\rhigh water".to_owned(), "several lines"),
    ] {
        world.write("secret", secret, 0o600);
        let run = world.typed(make).expect(2);
        assert!(run.stderr.contains(why), "{run}");
        assert!(!world.path("home/edda").exists());
    }
    world.write("secret", "x".repeat(64 << 10) + "\r\n", 0o600);
    drop(world.typed(make).expect(2));
    world.write("secret", "low water\r\n", 0o600);
    drop(world.typed(make).expect(0));
    assert_eq!(crate::common::names(&world.path("home")), ["edda", "edda.pub"]);
}

#[test]
fn memory_with_secrets_goes_into_no_core_file() {
    use std::process::Stdio;
    let world = World::new();
    let mut command = world.command(&["key", "inspect", "-"]);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let begun = std::time::Instant::now();
    let limits = format!("/proc/{}/limits", child.id());
    let limit = || {
        let text = std::fs::read_to_string(&limits).unwrap();
        let line = text.lines().find(|line| line.starts_with("Max core file size")).unwrap();
        line.split_whitespace().skip(4).take(2).map(str::to_owned).collect::<Vec<_>>()
    };
    while limit() != ["0", "0"] {
        assert!(begun.elapsed().as_secs() < 20, "{:?}", limit());
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    drop(child.stdin.take());
    child.wait().unwrap();
}
