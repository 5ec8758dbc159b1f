//! Every parser on bytes that nobody meant for it: it ends, it does not panic, and it does not invent keys.

use lavrin_keys::hostkey::standing;
use lavrin_keys::key::container::{PieceKind, openssh, private_key_head};
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::key::{PrivateKey, PublicKey, Secret, paste};
use lavrin_keys::keysfile::KeysFile;
use lavrin_keys::keysfile::options::{Options, split};
use lavrin_keys::pieces::read;
use lavrin_server::server::Server;
use lavrin_server::server_config::{Settings, matches};
use proptest::prelude::*;
use zeroize::{ZeroizeOnDrop, Zeroizing};

fn key() -> PrivateKey {
    PrivateKey::ed25519(&[5; 32]).unwrap()
}

/// One of our own files with some of its bytes changed, cut or doubled.
fn damaged(original: Vec<u8>) -> impl Strategy<Value = Vec<u8>> {
    let length = original.len();
    let changes = proptest::collection::vec((0..length, any::<u8>()), 0..6);
    (changes, 0..=length, any::<bool>()).prop_map(move |(changes, cut, double)| {
        let mut bytes = original.clone();
        for (at, byte) in changes {
            bytes[at] = byte;
        }
        bytes.truncate(cut);
        if double { [bytes.clone(), bytes].concat() } else { bytes }
    })
}

fn check(bytes: &[u8]) {
    for piece in read(bytes) {
        match piece.kind {
            PieceKind::Private(closed) => {
                let protected = closed.is_protected();
                // Opened without a passphrase only where none is needed; what opens has halves that belong together.
                assert!(closed.open(None).is_err() || !protected);
            }
            PieceKind::Public { key, .. } => assert_eq!(PublicKey::from_blob(&key.blob()).as_ref(), Ok(&key)),
            PieceKind::Certificate { .. } | PieceKind::Rejected(_) => {}
        }
    }
    let file = KeysFile::parse(bytes);
    assert_eq!(file.as_bytes(), bytes);
    let _ = paste::recover(bytes);
    let _ = private_key_head(bytes);
    let _ = openssh::ClosedOpenSsh::parse(bytes);
    let _ = standing(bytes, "lantern.example", 22, key().public());
    let _ = Settings::from_server(bytes, lavrin_server::server::Version(9, 2));
    let (front, rest) = split(bytes);
    assert!(front.len() + rest.len() <= bytes.len());
    let _ = Options::parse(front);
    let _ = matches(front, rest);
    let _ = Server::from_banner(&String::from_utf8_lossy(bytes));
    if let Ok((key, strict)) = PublicKey::from_blob_as_server(bytes) {
        assert_eq!(strict.is_none(), key.blob() == bytes);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn any_bytes(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
        check(&bytes);
    }

    #[test]
    fn bytes_that_look_like_der(bytes in proptest::collection::vec(prop_oneof![Just(0x30u8), Just(0x02), Just(0x82), Just(0x00), any::<u8>()], 1..200)) {
        check(&[&[0x30], &bytes[..]].concat());
    }

    #[test]
    fn damaged_private_keys(bytes in damaged(openssh::write(&key(), "edda", None, &SystemSource).unwrap().as_bytes().to_vec())) {
        check(&bytes);
    }

    #[test]
    fn damaged_lines(bytes in damaged(format!("restrict,from=\"192.0.2.0/24\" {}\r\n# x\n{}", key().public().line("a"), key().public().line("b")).into_bytes())) {
        check(&bytes);
    }
}

/// Compiles only where the type is wiped when dropped.
fn is_wiped<T: ZeroizeOnDrop>() {}

#[test]
fn every_holder_of_secrets_is_wiped() {
    is_wiped::<Secret>();
    is_wiped::<Zeroizing<String>>();
    is_wiped::<Zeroizing<[u8; 32]>>();
    // Private keys consist of these alone, and show none of them.
    let shown = format!("{:?}", key());
    assert!(!shown.contains("[5,") && !shown.contains("0505"), "{shown}");
}
