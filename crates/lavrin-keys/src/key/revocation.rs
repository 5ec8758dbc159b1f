//! Binary lists of revoked keys (OpenSSH's PROTOCOL.krl).

use super::container::certificate::Certificate;
use super::{Fingerprint, PublicKey};
use crate::wire::Reader;
use aws_lc_rs::digest;

/// How a binary list begins.
const MAGIC: &[u8] = b"SSHKRL\n\0";

/// Kinds of sections.
const CERTIFICATES: u8 = 1;
const KEYS: u8 = 2;
const SHA1_PRINTS: u8 = 3;
const SIGNATURE: u8 = 4;
const SHA256_PRINTS: u8 = 5;
const EXTENSION: u8 = 255;

/// Kinds of sections about the certificates of an authority.
const SERIALS: u8 = 0x20;
const SERIAL_RANGE: u8 = 0x21;
const SERIAL_BITMAP: u8 = 0x22;
const KEY_IDS: u8 = 0x23;
const CERTIFICATE_EXTENSION: u8 = 0x39;

/// Whether a list of revoked keys is in the binary form.
#[must_use]
pub fn is_binary(bytes: &[u8]) -> bool {
    bytes.starts_with(MAGIC)
}

/// Whether a list revokes a key: the key itself by its fingerprint (and its blob, where that is at hand), or the certificate that
/// is offered with it. `None`: the list does not read, and the server refuses every key for it.
#[must_use]
pub fn revokes(
    bytes: &[u8],
    fingerprint: &Fingerprint,
    key: Option<&PublicKey>,
    certificate: Option<&Certificate>,
) -> Option<bool> {
    let mut reader = Reader::new(bytes.strip_prefix(MAGIC)?);
    let form = reader.u32().ok()?;
    if form != 1 {
        return None;
    }
    for _ in 0..6 {
        reader.u32().ok()?; // version, date and flags, of two words each
    }
    reader.string().ok()?; // reserved
    reader.string().ok()?; // comment
    let mut found = false;
    while !reader.rest().is_empty() {
        let kind = reader.byte().ok()?;
        let section = reader.string().ok()?;
        let mut section = Reader::new(section);
        let authority = certificate.map(|certificate| &certificate.authority);
        match kind {
            KEYS => {
                while !section.rest().is_empty() {
                    let print = Fingerprint::of(section.string().ok()?);
                    found |= print == *fingerprint || Some(&print) == authority;
                }
            }
            SHA256_PRINTS => {
                while !section.rest().is_empty() {
                    let print = section.string().ok()?;
                    found |= print == fingerprint.as_bytes() || authority.is_some_and(|key| print == key.as_bytes());
                }
            }
            SHA1_PRINTS => {
                let own = key.map(|key| digest::digest(&digest::SHA1_FOR_LEGACY_USE_ONLY, &key.blob()));
                while !section.rest().is_empty() {
                    let print = section.string().ok()?;
                    found |= own.as_ref().is_some_and(|own| own.as_ref() == print);
                }
            }
            CERTIFICATES => found |= revokes_certificate(&mut section, certificate)?,
            SIGNATURE => return Some(found), // what follows signs what came before
            EXTENSION => {
                section.string().ok()?;
                // One that must be understood is not.
                if section.byte().ok()? != 0 {
                    return None;
                }
            }
            _ => return None,
        }
    }
    Some(found)
}

fn revokes_certificate(section: &mut Reader<'_>, certificate: Option<&Certificate>) -> Option<bool> {
    let authority = section.string().ok()?;
    section.string().ok()?; // reserved
    let ours = certificate.filter(|own| authority.is_empty() || Fingerprint::of(authority) == own.authority);
    let serial = ours.map(|own| own.serial).filter(|serial| *serial > 0);
    let mut found = false;
    while !section.rest().is_empty() {
        let kind = section.byte().ok()?;
        let mut part = Reader::new(section.string().ok()?);
        match kind {
            SERIALS => {
                while !part.rest().is_empty() {
                    let listed = wide(&mut part)?;
                    found |= serial == Some(listed);
                }
            }
            SERIAL_RANGE => {
                let (low, high) = (wide(&mut part)?, wide(&mut part)?);
                found |= serial.is_some_and(|serial| (low..=high).contains(&serial));
            }
            SERIAL_BITMAP => {
                let offset = wide(&mut part)?;
                let bits = part.string().ok()?;
                let bit =
                    serial.and_then(|serial| serial.checked_sub(offset)).and_then(|bit| usize::try_from(bit).ok());
                let byte = bit.and_then(|bit| bits.len().checked_sub(bit / 8 + 1)).and_then(|place| bits.get(place));
                found |= bit.zip(byte).is_some_and(|(bit, byte)| byte >> (bit % 8) & 1 == 1);
            }
            KEY_IDS => {
                while !part.rest().is_empty() {
                    let id = crate::text::printable(part.string().ok()?);
                    found |= ours.is_some_and(|own| own.key_id == id);
                }
            }
            CERTIFICATE_EXTENSION => {
                part.string().ok()?;
                if part.byte().ok()? != 0 {
                    return None;
                }
            }
            _ => return None,
        }
    }
    Some(found)
}

fn wide(reader: &mut Reader<'_>) -> Option<u64> {
    Some(u64::from(reader.u32().ok()?) << 32 | u64::from(reader.u32().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::PrivateKey;
    use crate::wire::Writer;

    fn key(seed: u8) -> PublicKey {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
    }

    fn list(sections: &[(u8, Vec<u8>)]) -> Vec<u8> {
        let mut writer = Writer::new();
        writer.u32(1);
        for _ in 0..6 {
            writer.u32(0);
        }
        writer.string(b"").string(b"tide");
        let mut bytes = MAGIC.to_vec();
        bytes.extend_from_slice(&writer.finish());
        for (kind, body) in sections {
            bytes.push(*kind);
            let mut writer = Writer::new();
            writer.string(body);
            bytes.extend_from_slice(&writer.finish());
        }
        bytes
    }

    fn strings(all: &[&[u8]]) -> Vec<u8> {
        let mut writer = Writer::new();
        for one in all {
            writer.string(one);
        }
        writer.finish().to_vec()
    }

    fn ask(bytes: &[u8], seed: u8) -> Option<bool> {
        revokes(bytes, &key(seed).fingerprint(), Some(&key(seed)), None)
    }

    #[test]
    fn keys_are_revoked_by_blob_and_by_either_fingerprint() {
        let blob = key(1).blob();
        let sha1 = digest::digest(&digest::SHA1_FOR_LEGACY_USE_ONLY, &blob);
        let print = key(1).fingerprint();
        for section in [
            (KEYS, strings(&[&blob])),
            (SHA1_PRINTS, strings(&[sha1.as_ref()])),
            (SHA256_PRINTS, strings(&[print.as_bytes()])),
        ] {
            let bytes = list(&[(CERTIFICATES, strings(&[b"", b""])), section]);
            assert_eq!([ask(&bytes, 1), ask(&bytes, 2)], [Some(true), Some(false)]);
        }
    }

    #[test]
    fn what_does_not_read_revokes_everything() {
        let bytes = list(&[(KEYS, strings(&[&key(1).blob()]))]);
        assert_eq!(ask(&bytes[..bytes.len() - 1], 2), None);
        assert_eq!(ask(&list(&[(77, Vec::new())]), 2), None);
        assert_eq!(ask(b"SSHKRL", 2), None);
        assert_eq!(ask(&list(&[]), 2), Some(false));
    }
}
