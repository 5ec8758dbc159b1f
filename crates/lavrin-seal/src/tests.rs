use super::*;
use lavrin_keys::key::generate::{Recipe, RsaBits, SystemSource, generate};

fn ed25519() -> PrivateKey {
    generate(Recipe::Ed25519, &SystemSource).unwrap()
}

fn sealed(key: &PrivateKey, for_whom: &[&PrivateKey]) -> String {
    let recipients: Vec<&PublicKey> = for_whom.iter().map(|one| one.public()).collect();
    seal(key, "root@beacon version 1", &recipients, &SystemSource).unwrap()
}

#[test]
fn whoever_it_is_sealed_for_opens_it_and_nobody_else() {
    let (kept, ines, other) = (ed25519(), ed25519(), ed25519());
    let oskar = generate(Recipe::Rsa(RsaBits::B2048), &SystemSource).unwrap();
    let text = sealed(&kept, &[&ines, &oskar]);
    let read = SealedFile::read(text.as_bytes()).unwrap();
    assert_eq!(read.others_than(&[]), 2);
    assert_eq!(read.others_than(&[ines.public(), other.public()]), 1);
    for holder in [&ines, &oskar] {
        assert!(read.is_for(holder.public()));
        let opened = read.open(holder, &SystemSource).unwrap();
        assert_eq!(opened.key.public().fingerprint(), kept.public().fingerprint());
        assert_eq!(opened.comment, b"root@beacon version 1");
    }
    assert!(!read.is_for(other.public()));
    assert_eq!(read.open(&other, &SystemSource).unwrap_err(), SealFault::ForOthers);
    // The kept key itself opens nothing.
    assert_eq!(read.open(&kept, &SystemSource).unwrap_err(), SealFault::ForOthers);
}

#[test]
fn a_private_half_is_never_readable_in_what_is_sealed() {
    let (kept, ines) = (ed25519(), ed25519());
    let text = sealed(&kept, &[&ines]);
    let plain = openssh::write(&kept, "root@beacon version 1", None, &SystemSource).unwrap();
    let body = plain.lines().nth(2).unwrap();
    assert!(!text.contains(body));
    assert!(!text.contains("PRIVATE"));
}

#[test]
fn a_damaged_file_is_told_at_every_byte() {
    let (kept, ines) = (ed25519(), ed25519());
    let text = sealed(&kept, &[&ines]);
    let lines: Vec<&str> = text.lines().collect();
    for cut in 0..lines.len() {
        let short: String = lines[..cut].iter().map(|line| format!("{line}\n")).collect();
        let opened = SealedFile::read(short.as_bytes()).and_then(|read| read.open(&ines, &SystemSource));
        assert!(opened.is_err(), "cut after line {cut}");
    }
    let read = SealedFile::read(text.as_bytes()).unwrap();
    for at in 0..read.bytes.len() {
        let mut bytes = read.bytes.clone();
        bytes[at] ^= 1;
        let stanzas = header::stanzas(&bytes);
        let opened = stanzas.map(|stanzas| SealedFile { bytes, stanzas }.open(&ines, &SystemSource).map(drop));
        assert!(!matches!(opened, Some(Ok(()))), "byte {at}");
    }
}

#[test]
fn keys_that_the_format_does_not_know_are_refused_before_anything_is_sealed() {
    let kept = ed25519();
    let ecdsa = generate(Recipe::Ecdsa(lavrin_keys::key::Curve::P256), &SystemSource).unwrap();
    let fault = seal(&kept, "", &[ecdsa.public()], &SystemSource).unwrap_err();
    assert!(matches!(fault, SealFault::NoRecipient(NoRecipient::Algorithm(_))), "{fault:?}");
    assert_eq!(seal(&kept, "", &[], &SystemSource).unwrap_err(), SealFault::Nobody);
    for text in ["", "-----BEGIN AGE ENCRYPTED FILE-----\n", "age-encryption.org/v1\n--- x\n"] {
        assert_eq!(SealedFile::read(text.as_bytes()).unwrap_err(), SealFault::Damaged);
    }
    assert_eq!(SealedFile::read(&vec![b'a'; SEALED_BYTES_MAX + 1]).unwrap_err(), SealFault::Damaged);
}
