//! Damage to each container that Lavrin writes: none gives another key, and each refusal has its word.

use lavrin_keys::key::container::PieceKind;
use lavrin_keys::key::container::write::{Form, private, public};
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::key::{Curve, PrivateKey, PublicKey};
use lavrin_keys::pieces::read;

fn ed25519() -> PrivateKey {
    PrivateKey::ed25519(&[9; 32]).unwrap()
}

fn ecdsa() -> PrivateKey {
    PrivateKey::ecdsa(Curve::P256, &[77]).unwrap()
}

fn text(form: Form, key: &PrivateKey, passphrase: Option<&[u8]>) -> String {
    let bytes = private(form, key, "edda", passphrase, &SystemSource).unwrap();
    String::from_utf8(bytes.to_vec()).unwrap()
}

/// What the first thing in a file is, in one word.
fn word(file: &str) -> String {
    match read(file.as_bytes()).remove(0).kind {
        PieceKind::Private(closed) => {
            closed.open(None).map_or_else(|fault| fault.word().to_owned(), |_| "private".to_owned())
        }
        PieceKind::Public { .. } => "public".to_owned(),
        PieceKind::Certificate { .. } => "certificate".to_owned(),
        PieceKind::Rejected(fault) => fault.word().to_owned(),
    }
}

/// The public half of what reads, if anything does.
fn key_in(file: &str) -> Option<PublicKey> {
    match read(file.as_bytes()).remove(0).kind {
        PieceKind::Private(closed) => closed.open(None).ok().map(|opened| opened.key.public().clone()),
        PieceKind::Public { key, .. } => Some(key),
        _ => None,
    }
}

#[test]
fn every_written_form_says_what_it_is() {
    for form in [Form::OpenSsh, Form::Pkcs8] {
        assert_eq!(word(&text(form, &ed25519(), None)), "private", "{form:?}");
        assert_eq!(word(&text(form, &ed25519(), Some(b"tide"))), "passphrase-needed", "{form:?}");
    }
    assert_eq!(word(&text(Form::Sec1, &ecdsa(), None)), "private");
    for form in [Form::Line, Form::Spki, Form::Rfc4716] {
        assert_eq!(word(&public(form, ecdsa().public(), "edda").unwrap()), "public", "{form:?}");
    }
}

#[test]
fn a_wrong_passphrase_is_told_for_every_protected_form() {
    for form in [Form::OpenSsh, Form::Pkcs8] {
        let file = text(form, &ecdsa(), Some(b"tide"));
        let PieceKind::Private(closed) = read(file.as_bytes()).remove(0).kind else { panic!("{form:?}") };
        assert!(closed.is_protected());
        assert_eq!(closed.open(Some(b"ebb")).unwrap_err().word(), "wrong-passphrase", "{form:?}");
        let PieceKind::Private(closed) = read(file.as_bytes()).remove(0).kind else { panic!("{form:?}") };
        assert_eq!(closed.open(Some(b"tide")).unwrap().key.public(), ecdsa().public(), "{form:?}");
    }
}

#[test]
fn forms_refuse_keys_they_cannot_hold() {
    for form in [Form::Pkcs1, Form::Sec1] {
        let fault = private(form, &ed25519(), "", None, &SystemSource).unwrap_err();
        assert_eq!(fault.word(), "unsupported-algorithm", "{form:?}");
    }
    for form in [Form::Line, Form::Spki, Form::Rfc4716] {
        let fault = private(form, &ed25519(), "", None, &SystemSource).unwrap_err();
        assert_eq!(fault.word(), "bad-structure", "{form:?}");
    }
    for form in [Form::OpenSsh, Form::Pkcs8, Form::Pkcs1, Form::Sec1] {
        assert_eq!(public(form, ed25519().public(), ""), None, "{form:?}");
    }
}

#[test]
fn a_missing_end_and_a_foreign_end_are_told_apart() {
    for form in [Form::OpenSsh, Form::Pkcs8] {
        let file = text(form, &ed25519(), None);
        let end = file.find("-----END").unwrap();
        assert_eq!(word(&file[..end]), "truncated", "{form:?}");
        let foreign = format!("{}-----END SOMETHING ELSE-----\n", &file[..end]);
        assert_eq!(word(&foreign), "label-mismatch", "{form:?}");
    }
}

#[test]
fn foreign_characters_in_the_base64_are_told() {
    for form in [Form::OpenSsh, Form::Pkcs8] {
        let file = text(form, &ed25519(), None);
        let at = file.find('\n').unwrap() + 3;
        let mut damaged = file.clone();
        damaged.replace_range(at..=at, "*");
        assert_eq!(word(&damaged), "bad-base64", "{form:?}");
    }
}

#[test]
fn line_ends_and_blanks_around_the_lines_do_no_harm() {
    for form in [Form::OpenSsh, Form::Pkcs8] {
        let file = text(form, &ed25519(), None);
        for odd in
            [file.replace('\n', "\r\n"), file.replace('\n', " \n"), format!("\n\n{file}"), file.trim_end().to_owned()]
        {
            assert_eq!(key_in(&odd).as_ref(), Some(ed25519().public()), "{form:?}");
        }
    }
}

#[test]
fn a_changed_character_never_gives_another_key_than_the_halves_agree_on() {
    // PKCS#8 holds no second copy of an Ed25519 key, so only forms with one are held to this.
    for (form, key) in [(Form::OpenSsh, ed25519()), (Form::Sec1, ecdsa()), (Form::Pkcs8, ecdsa())] {
        let file = text(form, &key, None);
        let body = file.find('\n').unwrap() + 1..file.find("\n-----END").unwrap();
        for at in body.step_by(3) {
            let old = file.as_bytes()[at];
            if old == b'\n' || old == b'=' {
                continue;
            }
            let mut damaged = file.clone();
            damaged.replace_range(at..=at, if old == b'A' { "B" } else { "A" });
            if let Some(found) = key_in(&damaged) {
                assert_eq!(&found, key.public(), "{form:?} at {at}");
            }
        }
    }
}

#[test]
fn a_label_of_another_form_is_not_believed() {
    let sec1 = text(Form::Sec1, &ecdsa(), None);
    assert_eq!(word(&sec1.replace("EC PRIVATE", "RSA PRIVATE")), "label-mismatch");
    let pkcs8 = text(Form::Pkcs8, &ecdsa(), None);
    assert_eq!(
        word(&pkcs8.replace("BEGIN PRIVATE", "BEGIN OPENSSH PRIVATE").replace("END PRIVATE", "END OPENSSH PRIVATE")),
        "label-mismatch"
    );
}

#[test]
fn several_blocks_in_one_file_are_each_told_with_their_line() {
    let (one, two) = (text(Form::Pkcs8, &ed25519(), None), text(Form::OpenSsh, &ecdsa(), None));
    let file = format!("{one}some words\n{two}{}\n", ed25519().public().line("edda"));
    let lines: Vec<usize> = read(file.as_bytes()).iter().map(|piece| piece.line).collect();
    let second = one.lines().count() + 2;
    assert_eq!(lines, [1, second, second + two.lines().count()]);
}

#[test]
fn comments_are_kept_where_the_form_has_room_for_them() {
    for form in [Form::Line, Form::Rfc4716] {
        let file = public(form, ed25519().public(), "edda, \"lamp\" room").unwrap();
        let PieceKind::Public { comment, .. } = read(file.as_bytes()).remove(0).kind else { panic!("{file}") };
        assert_eq!(String::from_utf8_lossy(&comment), "edda, \"lamp\" room");
    }
    assert!(!Form::Spki.has_comment() && !Form::Pkcs8.has_comment() && Form::OpenSsh.has_comment());
    assert!(!Form::Sec1.can_be_protected() && Form::Pkcs8.can_be_protected());
}
