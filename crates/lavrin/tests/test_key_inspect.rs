//! `lavrin key inspect`

mod common;

use common::{Fixed, World, key};
use lavrin_core::key::container::openssh;

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
    let rsa = lavrin_core::key::PublicKey::rsa(&[1, 0, 1], &[0xc5; 128]).unwrap();
    world.write("home/many", format!("{}\nrestrict {}\nnonsense\n", rsa.line("old"), key(3).public().line("")), 0o644);
    insta::assert_snapshot!(world.typed("key inspect home/edda home/many --format json").expect(2).to_string());
}

#[test]
fn other_labels_are_named_and_not_read_yet() {
    let world = World::new();
    for (label, what) in [
        ("RSA PRIVATE KEY", "a PKCS#1 RSA private key"),
        ("EC PRIVATE KEY", "a SEC1 EC private key"),
        ("PRIVATE KEY", "a PKCS#8 private key"),
        ("ENCRYPTED PRIVATE KEY", "an encrypted PKCS#8 private key"),
        ("PUBLIC KEY", "a SubjectPublicKeyInfo public key"),
        ("SOMETHING ELSE", "a block labelled 'SOMETHING ELSE'"),
    ] {
        let text = format!("-----BEGIN {label}-----\nAAAA\n-----END {label}-----\n");
        let run = world.with_input(&text, &["key", "inspect", "-"]).expect(2);
        assert!(run.stdout.contains(&format!("this is {what}, not read yet")), "{run}");
    }
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
