use super::*;
use crate::access_rules::ObstacleKind;
use crate::account::Password;
use crate::account::{read_groups, read_passwd};
use crate::fs::{Fact, Node, NodeKind};
use crate::survey::Observation;
use crate::system::System;
use lavrin_keys::key::PrivateKey;
use lavrin_keys::key::container::write::{self, Form};
use std::sync::Arc;

const FILE: &str = "/home/edda/.ssh/authorized_keys";

/// An account in good order whose key file has this content.
fn world(content: &str, config: &str) -> Observation {
    let mut seen = Observation {
        looked: true,
        accounts: read_passwd(
            b"edda:x:1001:1001::/home/edda:/bin/sh\nsten:x:1002:1002::/home/sten:/bin/sh\nroot:x:0:0::/root:/bin/sh\n",
        )
        .into(),
        groups: read_groups(b"edda:x:1001:\n").into(),
        ..Observation::default()
    };
    let folder = |uid| Node { kind: NodeKind::Folder, mode: 0o700, uid, gid: uid, access_list: false };
    seen.nodes.insert("/home".into(), Fact::Known(Node { mode: 0o755, ..folder(0) }));
    for (path, uid) in
        [("/home/edda", 1001), ("/home/edda/.ssh", 1001), ("/home/sten", 1002), ("/home/sten/.ssh", 1002)]
    {
        seen.nodes.insert(path.into(), Fact::Known(folder(uid)));
    }
    seen.nodes.insert(FILE.into(), Fact::Known(Node { kind: NodeKind::File, mode: 0o600, ..folder(1001) }));
    seen.nodes.insert("/home/edda/.ssh/authorized_keys2".into(), Fact::Absent);
    seen.bytes.insert(FILE.into(), Fact::Known(content.as_bytes().to_vec()));
    seen.connection.from = Some("192.0.2.17".parse().unwrap());
    seen.bytes.insert(server_config::USUAL_PATH.into(), Fact::Known(config.as_bytes().to_vec()));
    seen
}

fn key(seed: u8) -> PublicKey {
    PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
}

fn ask(seen: &System<'_>) -> Verdict {
    judge(&Question::plain("edda", &key(1), 1_795_392_000), seen)
}

fn rule(seen: &System<'_>) -> &'static str {
    ask(seen).deciding.map_or("accepted", |reason| reason.kind.rule())
}

fn line() -> String {
    key(1).line("edda@lantern")
}

#[test]
fn a_key_in_good_order_opens_the_account() {
    let verdict = ask(&System::of(&world(&format!("# tide\n{}\n", line()), "")));
    assert_eq!(verdict.outcome, Outcome::Accepted);
    assert_eq!(verdict.entry, Some(Place::Line { path: FILE.into(), line: 2 }));
    assert!(verdict.limits.is_empty());
}

#[test]
fn each_option_that_refuses_is_named() {
    let cases = [
        ("from=\"198.51.100.0/24\" ", "from-elsewhere"),
        ("from=\"192.0.2.0/24\" ", "accepted"),
        ("expiry-time=\"20010101\" ", "expired"),
        ("cert-authority ", "only-as-authority"),
        ("principals=\"edda\" ", "principals-on-plain-key"),
        ("no-such-option ", "unusable-line"),
        ("restrict,command=\"/bin/tide\" ", "accepted"),
    ];
    for (options, expected) in cases {
        assert_eq!(rule(&System::of(&world(&format!("{options}{}\n", line()), ""))), expected, "{options}");
    }
}

#[test]
fn an_entry_that_is_passed_over_falls_through_to_a_later_one() {
    let verdict = ask(&System::of(&world(&format!("expiry-time=\"20010101\" {0}\nno-pty {0}\n", line()), "")));
    assert_eq!(verdict.outcome, Outcome::Accepted);
    assert_eq!(verdict.entry.unwrap().line(), Some(2));
    assert_eq!(verdict.limits.denied, ["terminal"]);
}

#[test]
fn settings_that_keep_the_account_out_are_named_with_their_line() {
    let cases = [
        ("PubkeyAuthentication no", "public-keys-off"),
        ("AllowUsers sten", "user-not-allowed"),
        ("DenyUsers ed*", "user-not-allowed"),
        ("AllowGroups keepers", "user-not-allowed"),
        ("AllowGroups edda", "accepted"),
        ("AuthorizedKeysFile none", "no-key-file-named"),
        ("AuthenticationMethods publickey,password", "further-method"),
        ("AuthenticationMethods publickey password", "accepted"),
        ("RevokedKeys /etc/ssh/revoked", "revoked-keys-unseen"),
        ("PermitRootLogin no", "accepted"),
        ("Match address 192.0.2.0/24\nPubkeyAuthentication no", "public-keys-off"),
        ("Match address 198.51.100.0/24\nPubkeyAuthentication no", "accepted"),
        ("Match localport 22\nPubkeyAuthentication no", "setting-conditional"),
        ("Match localport 22\nX11Forwarding no", "accepted"),
        ("PubkeyAcceptedAlgorithms rsa-*", "algorithm-off"),
        ("AuthorizedKeysFile %q", "pattern-unknown"),
        ("MaxAuthTries 0", "no-tries"),
        ("UsePAM maybe", "config-rejected"),
        ("AuthorizedKeysCommand /usr/bin/keys", "config-rejected"),
        ("Subsystem a b\nSubsystem a c", "config-rejected"),
        ("Match address 192.0.2.10/24\nPermitRootLogin no", "config-rejected"),
    ];
    for (config, expected) in cases {
        assert_eq!(rule(&System::of(&world(&line(), config))), expected, "{config}");
    }
}

#[test]
fn a_mode_on_the_way_decides_before_a_missing_entry() {
    let mut seen = world("", "");
    seen.nodes.insert(
        "/home/edda".into(),
        Fact::Known(Node { kind: NodeKind::Folder, mode: 0o777, uid: 1001, gid: 1001, access_list: false }),
    );
    let verdict = ask(&System::of(&seen));
    assert_eq!(
        verdict.deciding.unwrap().kind,
        ReasonKind::Obstacle(ObstacleKind::TooOpen { found: 0o777, wanted: 0o755 })
    );
    assert_eq!(verdict.also[0].kind, ReasonKind::NoEntry);
}

#[test]
fn a_key_that_is_there_and_not_on_a_line_of_its_own_is_told() {
    let (line, other) = (line(), key(2).line(""));
    let rfc = write::public(Form::Rfc4716, &key(1), "").unwrap();
    for mangled in
        [format!("{other}{line}\n"), rfc, format!("# tide\r{line}\r"), format!("{}\n{}\n", &line[..76], &line[76..])]
    {
        assert_eq!(rule(&System::of(&world(&mangled, ""))), "key-not-on-its-line", "{mangled}");
    }
    assert_eq!(rule(&System::of(&world(&other, ""))), "no-entry");
}

#[test]
fn what_was_not_seen_is_undecided_and_named() {
    let mut seen = world(&line(), "");
    seen.bytes.insert(FILE.into(), Fact::Unseen(Why::Permission));
    let verdict = ask(&System::of(&seen));
    assert_eq!(verdict.outcome, Outcome::Undecided);
    assert_eq!(verdict.deciding.unwrap().kind, ReasonKind::Unseen(Why::Permission));
}

#[test]
fn a_command_that_gives_keys_leaves_a_missing_entry_undecided() {
    let verdict =
        ask(&System::of(&world("", "AuthorizedKeysCommand /usr/bin/keys %u\nAuthorizedKeysCommandUser nobody")));
    assert_eq!(verdict.outcome, Outcome::Undecided);
    assert_eq!(verdict.deciding.unwrap().kind.rule(), "keys-command");
}

#[test]
fn the_right_key_for_the_wrong_account_is_found() {
    let mut seen = world("", "");
    seen.bytes.insert("/home/sten/.ssh/authorized_keys".into(), Fact::Known(line().into_bytes()));
    let verdict = ask(&System::of(&seen));
    assert_eq!(verdict.outcome, Outcome::Refused);
    assert_eq!(verdict.also[0].kind, ReasonKind::OtherAccount("sten".into()));
}

#[test]
fn a_missing_account_and_a_locked_one_are_told() {
    let mut seen = world(&line(), "");
    Arc::make_mut(&mut seen.accounts)[0].password = Some(Password::Locked);
    assert_eq!(rule(&System::of(&seen)), "account-locked");
    let mut pam = world(&line(), "UsePAM yes");
    Arc::make_mut(&mut pam.accounts)[0].password = Some(Password::Locked);
    assert_eq!(rule(&System::of(&pam)), "accepted");
    seen.accounts = Arc::default();
    assert_eq!(rule(&System::of(&seen)), "no-such-account");
}

#[test]
fn a_long_exponent_goes_with_short_rsa_keys_only() {
    let judged = |modulus: usize, exponent: usize| {
        let key = PublicKey::Rsa { e: vec![0xff; exponent], n: vec![0xff; modulus] };
        let seen = world(&format!("{}\n", key.line("edda@lantern")), "");
        let verdict = judge(&Question::plain("edda", &key, 1_795_392_000), &System::of(&seen));
        verdict.deciding.map_or("accepted", |reason| reason.kind.rule())
    };
    assert_eq!((judged(384, 9), judged(385, 8), judged(385, 9)), ("accepted", "accepted", "exponent-too-long"));
}
