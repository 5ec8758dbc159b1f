//! `lavrin key inspect`

use crate::common::{Fixed, World, key};
use lavrin_keys::key::container::openssh;

#[test]
fn tells_what_each_file_holds() {
    let world = World::new();
    world.put_pair("edda", 1, "edda@lantern");
    let text = openssh::write(&key(2), "sten", Some(b"tide"), &Fixed).unwrap();
    world.write("home/sten", text.as_bytes(), 0o600);
    insta::assert_snapshot!(world.typed("key inspect ~/edda ~/edda.pub ~/sten").expect(0).to_string());
}

#[test]
fn a_private_key_that_others_may_read_is_a_finding_with_the_remedy() {
    let world = World::new();
    world.put_pair("edda", 1, "edda@lantern");
    world.set_mode("home/edda", 0o644);
    insta::assert_snapshot!(world.typed("key inspect home/edda").expect(1).to_string());
    let _ = world.typed("key inspect home/edda --fail-on critical").expect(0);
}

#[test]
fn the_contract_in_json() {
    let world = World::new();
    world.put_pair("edda", 1, "edda@lantern");
    let rsa = lavrin_keys::key::PublicKey::rsa(&[1, 0, 1], &[0xc5; 128]).unwrap();
    world.write("home/many", format!("{}\nrestrict {}\nnonsense\n", rsa.line("old"), key(3).public().line("")), 0o644);
    insta::assert_snapshot!(world.typed("key inspect home/edda home/many --format json").expect(2).to_string());
}

#[test]
fn blocks_of_other_things_are_named_with_a_stable_word() {
    let world = World::new();
    for (label, word) in [
        ("SOMETHING ELSE", "not-a-key"),
        ("HARBOUR PRIVATE KEY", "other-product-block"),
        ("CERTIFICATE", "certificate-x509"),
        ("DSA PRIVATE KEY", "policy-algorithm"),
        ("PRIVATE KEY", "trailing-data"),
        ("ENCRYPTED PRIVATE KEY", "trailing-data"),
    ] {
        let text = format!("-----BEGIN {label}-----\nMAAA\n-----END {label}-----\n");
        let answer = world.with_input(&text, &["key", "inspect", "--format", "json", "-"]).expect(2).json();
        assert_eq!(answer["rejected"][0]["reason"], word, "{label}");
    }
}

#[test]
fn a_passphrase_opens_what_is_protected_and_a_wrong_one_is_told() {
    let world = World::new();
    let text = openssh::write(&key(2), "sten", Some(b"tide"), &Fixed).unwrap();
    world.write("home/sten", text.as_bytes(), 0o600);
    let ask = |passphrase: &str| {
        world.run_with(
            &[("TIDE", passphrase)],
            &["key", "inspect", "home/sten", "--passphrase-env", "TIDE", "--format", "json"],
        )
    };
    let right = ask("tide").expect(0).json();
    assert_eq!((&right["keys"][0]["unlocked"], &right["keys"][0]["comment"]), (&true.into(), &"sten".into()));
    let wrong = ask("ebb").expect(2).json();
    assert_eq!(
        (&wrong["keys"][0]["unlocked"], &wrong["rejected"][0]["reason"]),
        (&false.into(), &"wrong-passphrase".into())
    );
}

#[test]
fn a_folder_is_looked_through_and_other_files_are_passed_over() {
    let world = World::new();
    world.put_pair("keys/edda", 1, "edda@lantern");
    world.write("home/keys/config", "Host lantern\n", 0o644);
    world.write("home/keys/broken.pub", "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIE\n", 0o644);
    let answer = world.typed("key inspect home/keys --format json").expect(2).json();
    let sources: Vec<&str> =
        answer["keys"].as_array().unwrap().iter().map(|key| key["source"].as_str().unwrap()).collect();
    assert_eq!(sources, ["home/keys/edda", "home/keys/edda.pub"]);
    assert_eq!(answer["rejected"].as_array().unwrap().len(), 1);
    assert_eq!(answer["rejected"][0]["reason"], "bad-base64");
}

#[test]
fn a_mailed_key_is_put_together_and_the_repair_is_told() {
    let world = World::new();
    let line = key(1).public().line("edda@lantern");
    let mail = format!("Dear Sten,\n> {}\n> {}\nregards\n", &line[..76], &line[76..]);
    insta::assert_snapshot!(world.with_input(&mail, &["key", "inspect", "-"]).expect(0).to_string());
}

#[test]
fn hostile_comments_cannot_reach_the_terminal() {
    let world = World::new();
    let text = openssh::write(&key(1), "edda\u{1b}]0;x\u{7}\u{202e}", None, &Fixed).unwrap();
    world.write("home/edda", text.as_bytes(), 0o600);
    let run = world.typed("key inspect home/edda").expect(0);
    assert!(run.stdout.contains("edda\\x1b]0;x\\x07\\u{202e}"), "{run}");
    assert!(!run.stdout.contains('\u{1b}') && !run.stdout.contains('\u{202e}'));
}

#[test]
fn what_cannot_be_read_is_said_and_the_rest_goes_on() {
    let world = World::new();
    world.put_pair("edda", 1, "edda@lantern");
    world.write("home/empty", "", 0o644);
    let read = world.typed("key inspect home/missing home/empty home/edda.pub --format json").expect(2).json();
    let reasons: Vec<_> =
        read["rejected"].as_array().unwrap().iter().map(|one| one["reason"].as_str().unwrap()).collect();
    assert_eq!(reasons, ["unreadable", "empty"]);
    assert_eq!(read["keys"].as_array().unwrap().len(), 1);
}

#[test]
fn the_text_around_a_key_is_told_where_it_would_break_a_key_file() {
    let world = World::new();
    let line = key(2).public().line("sten");
    world.write("home/bom", format!("\u{feff}{line}\r\n"), 0o644);
    world.write("home/open", line, 0o644);
    let notes = |name: &str| {
        let answer = world.run(&["key", "inspect", name, "--format", "json"]).json();
        answer["keys"][0]["notes"].as_array().unwrap().len()
    };
    assert_eq!((notes("home/bom"), notes("home/open")), (2, 1));
    insta::assert_snapshot!(world.typed("key inspect home/bom").expect(0).to_string());
}

#[test]
fn one_key_under_two_names_is_told_at_the_second() {
    let world = World::new();
    let public = key(4).public().clone();
    world.write(
        "home/keys",
        format!("{}\n{}\n{}\n", public.line("edda"), public.line("edda"), public.line("sten")),
        0o644,
    );
    let answer = world.run(&["key", "inspect", "home/keys", "--format", "json", "--fail-on", "low"]).expect(1).json();
    let rules: Vec<usize> = (0..3).map(|at| answer["keys"][at]["findings"].as_array().unwrap().len()).collect();
    assert_eq!(rules, [0, 0, 1]);
    assert_eq!(answer["keys"][2]["findings"][0]["rule"], "same-key-two-names");
}

#[test]
fn a_private_key_in_a_paste_is_burnt() {
    let world = World::new();
    let text = openssh::write(&key(2), "sten", None, &Fixed).unwrap();
    let answer = world.with_input(&text, &["key", "inspect", "-", "--format", "json"]).expect(1).json();
    assert_eq!(answer["keys"][0]["findings"][0]["rule"], "private-key-in-paste");
    insta::assert_snapshot!(world.with_input(&text, &["key", "inspect", "-"]).expect(1).to_string());
    let said = world.with_input(&text, &["key", "convert", "-", "--to", "line"]).expect(0);
    assert!(said.to_string().contains("treat the key as burnt"), "{said}");
}

#[test]
fn a_quick_look_at_very_many_says_what_it_leaves_out() {
    let world = World::new();
    // 2^2203 - 1 is a prime, so that no search ends early.
    let n = [&[7][..], &[0xff; 275]].concat();
    let rsa = lavrin_keys::key::PublicKey::rsa(&[1, 0, 1], &n).unwrap().line("") + "\n";
    world.write("home/many", rsa.repeat(1001), 0o644);
    let quick = world.run(&["key", "inspect", "home/many", "--no-cross-check", "--format", "json"]).json();
    assert_eq!((&quick["small_factors_below"], &quick["fermat_steps"]), (&1024.into(), &1024.into()));
    let said = world.run(&["key", "inspect", "home/many", "--no-cross-check"]).to_string();
    assert!(said.contains("not held against each other") && said.contains("factors below 1024"), "{said}");
}

#[test]
fn a_long_list_that_is_not_held_against_each_other_is_told_key_by_key() {
    let world = World::new();
    drop(world.typed("key generate --passphrase none --name edda --comment edda --folder keys").expect(0));
    let line = world.read("keys/edda.pub");
    let mut list = line.repeat(9000);
    list += &format!("ssh-dss AAAA\n{line}");
    world.write("list", list, 0o644);
    let json = world.typed("key inspect --no-cross-check --format json list").expect(2).json();
    let keys = json["keys"].as_array().unwrap();
    let lines: Vec<u64> = keys.iter().map(|key| key["line"].as_u64().unwrap()).collect();
    assert_eq!(lines, (1..=9000).chain([9002]).collect::<Vec<u64>>());
    assert!(keys.iter().all(|key| key["public_line"] == line.trim() && key["findings"] == serde_json::json!([])));
    assert_eq!(json["rejected"][0]["line"], 9001);
    assert_eq!(json["small_factors_below"], 1024, "so many are searched less far, and that is told");
}

#[test]
fn a_long_list_in_words_is_printed_as_it_comes() {
    let world = World::new();
    drop(world.typed("key generate --passphrase none --name edda --comment edda --folder keys").expect(0));
    let line = world.read("keys/edda.pub");
    world.write("list", format!("{}ssh-dss AAAA\n{line}", line.repeat(3000)), 0o644);
    let said = world.typed("key inspect --no-cross-check list").expect(2).stdout;
    let lines: Vec<&str> = said.lines().collect();
    let columns: Vec<usize> = lines[..3001].iter().map(|line| line.find("public").unwrap()).collect();
    assert!(columns.is_sorted(), "columns only grow");
    assert!(lines[..3001].iter().all(|line| line.ends_with("edda")));
    assert!(lines[0].starts_with("list ") && lines[2999].starts_with("list line 3000"));
    assert!(lines[3000].starts_with("list line 3002") && lines[3001].starts_with("list line 3001  policy-algorithm"));
    assert_eq!(lines[3002], "");
    assert!(lines[3003].starts_with("3001 keys, 1 not readable, not held against each other"), "{}", lines[3003]);
    // All at once it is the same but for the columns, which are as wide from the first line on.
    let whole = world.typed("key inspect list").expect(2).stdout;
    let words = |line: &str| line.split_whitespace().map(str::to_owned).collect::<Vec<_>>();
    assert!(whole.lines().zip(&lines[..3002]).all(|(one, other)| words(one) == words(other)));
}
