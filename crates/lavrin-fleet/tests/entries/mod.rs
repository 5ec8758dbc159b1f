//! One entry for each parser, on any bytes: it ends, it does not panic, and what it says holds together. The fuzz targets
//! in `fuzz/` call these, and `fuzz_corpus` replays what they found worth keeping.

use lavrin_fleet::request::NewcomerRequest;
use lavrin_keys::hostkey::{known_algorithms, standing};
use lavrin_keys::key::container::certificate::Certificate;
use lavrin_keys::key::container::{PieceKind, private_key_head};
use lavrin_keys::key::generate::SystemSource;
use lavrin_keys::key::policy::Policy;
use lavrin_keys::key::signature::{Signature, armored};
use lavrin_keys::key::{PrivateKey, PublicKey, paste, strength};
use lavrin_keys::keysfile::KeysFile;
use lavrin_keys::keysfile::options::{Options, split};
use lavrin_keys::pieces::read;
use lavrin_keys::signers;
use lavrin_seal::SealedFile;
use lavrin_server::account::{add_shadow, read_groups, read_passwd};
use lavrin_server::server_config::{Settings, matches};

/// An entry and its name, which is that of its folder in the corpus.
pub type Entry = (&'static str, fn(&[u8]));

/// All of them.
pub const ALL: [Entry; 13] = [
    ("key-file", key_file),
    ("openssh-private", openssh_private),
    ("der", der),
    ("protected", protected),
    ("blob", blob),
    ("keys-file", keys_file),
    ("options", options),
    ("paste", pasted),
    ("known-hosts", known_hosts),
    ("server-files", server_files),
    ("signatures", signatures),
    ("sealed", sealed),
    ("request", request),
];

fn sound(key: &PublicKey) {
    assert_eq!(PublicKey::from_blob(&key.blob()).as_ref(), Ok(key));
    assert!(
        read(key.line("").as_bytes())
            .iter()
            .any(|piece| matches!(&piece.kind, PieceKind::Public { key: read, .. } if read == key))
    );
}

fn pieces(bytes: &[u8], passphrase: Option<&[u8]>) {
    for piece in read(bytes) {
        assert!(piece.line > 0);
        match piece.kind {
            PieceKind::Private(closed) => {
                let protected = closed.is_protected();
                if let Ok(opened) = closed.open(passphrase) {
                    assert!(passphrase.is_some() || !protected);
                    sound(opened.key.public());
                }
            }
            PieceKind::Public { key, .. } => sound(&key),
            PieceKind::Certificate { certificate, .. } => sound(&certificate.key),
            PieceKind::Rejected(fault) => assert!(!fault.word().is_empty()),
        }
    }
}

/// Any file: armour, text encodings, lines.
pub fn key_file(bytes: &[u8]) {
    pieces(bytes, None);
    let _ = private_key_head(bytes);
}

/// The binary inside an openssh-key-v1 block.
pub fn openssh_private(bytes: &[u8]) {
    pieces(&armoured("OPENSSH PRIVATE KEY", bytes), None);
}

/// Signatures of files, and lists of those whose signatures count. No message fits bytes that nobody signed.
pub fn signatures(bytes: &[u8]) {
    if let Ok(read) = Signature::read(bytes) {
        sound(&read.key);
        let again = armored(&read.key, &read.namespace, b"");
        assert!(Signature::read(again.as_bytes()).is_err(), "a signature without a name is none");
        assert!(read.check(&read.namespace, b"the message that nobody signed").is_err());
    }
    let (known, odd) = signers::read(bytes);
    let lines = bytes.split(|byte| *byte == b'\n').count();
    assert!(known.len() + odd.len() <= lines);
    for signer in known {
        sound(&signer.key);
        assert!(signer.line <= lines);
        let _ = signer.allows("statement@lavrin", 0);
    }
}

/// Private halves sealed for people, opened with the key of the seeds.
pub fn sealed(bytes: &[u8]) {
    let Ok(read) = SealedFile::read(bytes) else { return };
    let holder = PrivateKey::ed25519(&[7; 32]).unwrap();
    let others = read.others_than(&[holder.public()]);
    assert!(others <= read.others_than(&[]));
    if let Ok(opened) = read.open(&holder, &SystemSource) {
        assert!(read.is_for(holder.public()));
        sound(opened.key.public());
    }
}

/// PKCS#8, PKCS#1, SEC1 and public keys as DER and behind each label.
pub fn der(bytes: &[u8]) {
    pieces(bytes, None);
    for label in ["PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY", "PUBLIC KEY", "RSA PUBLIC KEY"] {
        pieces(&armoured(label, bytes), None);
    }
}

/// Protected containers, opened with the passphrase of the seeds.
pub fn protected(bytes: &[u8]) {
    pieces(&armoured("OPENSSH PRIVATE KEY", bytes), Some(b"tide"));
    pieces(&armoured("ENCRYPTED PRIVATE KEY", bytes), Some(b"tide"));
}

/// The blob of a key or of a certificate.
pub fn blob(bytes: &[u8]) {
    if let Ok((key, strict)) = PublicKey::from_blob_as_server(bytes) {
        assert_eq!(strict.is_none(), key.blob() == bytes);
        sound(&key);
        let _ = strength::weaknesses(&key, &Policy::default(), strength::Depth::Quick);
    }
    if let Ok(certificate) = Certificate::from_blob(bytes) {
        sound(&certificate.key);
    }
}

/// A key file of an account: every byte is kept, and taking a line away leaves the others as they are.
pub fn keys_file(bytes: &[u8]) {
    let file = KeysFile::parse(bytes);
    assert_eq!(file.as_bytes(), bytes);
    assert_eq!(file.without(&[]), bytes);
    let before = file.entries().count();
    if let Some((number, _)) = file.entries().next() {
        assert_eq!(KeysFile::parse(&file.without(&[number])).entries().count(), before - 1);
    }
    let line = PrivateKey::ed25519(&[5; 32]).map(|key| key.public().line("edda")).unwrap_or_default();
    assert_eq!(KeysFile::parse(&file.with_appended(&line)).entries().count(), before + 1);
}

/// The options in front of a key.
pub fn options(bytes: &[u8]) {
    let (front, rest) = split(bytes);
    assert!(front.len() + rest.len() <= bytes.len());
    for text in [front, bytes] {
        if let Ok(options) = Options::parse(text) {
            assert!(options.list().iter().all(|option| options.has(option.name)));
        }
    }
}

/// Text that a person mailed.
pub fn pasted(bytes: &[u8]) {
    for found in paste::recover(bytes) {
        sound(&found.key);
    }
}

/// A file of known hosts.
pub fn known_hosts(bytes: &[u8]) {
    let key = PrivateKey::ed25519(&[5; 32]).map(|key| key.public().clone());
    let _ = key.map(|key| standing(bytes, "lantern.example", 22, &key));
    let _ = known_algorithms(bytes, "lantern.example", 2222);
}

/// What the server said of its settings, the account files, and patterns.
pub fn server_files(bytes: &[u8]) {
    let _ = Settings::from_server(bytes, lavrin_server::server::Version(9, 2));
    add_shadow(&mut read_passwd(bytes), bytes);
    let _ = read_groups(bytes);
    let (front, rest) = split(bytes);
    let _ = matches(front, rest);
}

fn armoured(label: &str, bytes: &[u8]) -> Vec<u8> {
    use base64::Engine as _;
    let text = base64::engine::general_purpose::STANDARD.encode(bytes);
    let lines: Vec<&str> = text.as_bytes().chunks(64).filter_map(|chunk| std::str::from_utf8(chunk).ok()).collect();
    format!("-----BEGIN {label}-----\n{}\n-----END {label}-----\n", lines.join("\n")).into_bytes()
}

/// What a newcomer sends: nothing counts that its key did not sign, however it is cut and joined.
pub fn request(bytes: &[u8]) {
    if let Ok((read, key)) = NewcomerRequest::read(bytes) {
        sound(&key);
        // The seeds are signed with one key, and nobody else can sign.
        assert_eq!(key, *PrivateKey::ed25519(&[1; 32]).unwrap().public());
        assert_eq!(read.person, "edda");
    }
}
