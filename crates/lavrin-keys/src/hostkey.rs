//! Host keys: what a user's `known_hosts` file says about a host (manual page of sshd, "`SSH_KNOWN_HOSTS` FILE FORMAT").

use crate::key::container::line::{self, word};
use crate::key::{Algorithm, Fingerprint, PublicKey};
use crate::patterns::list_matches;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hmac::{KeyInit as _, Mac as _};
use std::sync::Arc;

/// Longest file that is read, in bytes.
pub const KNOWN_HOSTS_BYTES_MAX: u64 = 16 << 20;

/// How a host's key stands to what is known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HostKeyStanding {
    /// It is the known one.
    Known,
    /// Nothing is known about this host.
    Unknown,
    /// Another key is known for this host.
    Changed {
        /// The line with the other key.
        line: usize,
        /// That key.
        known: Fingerprint,
    },
    /// The file revokes this key.
    Revoked {
        /// The line that says so.
        line: usize,
    },
}

/// The name under which a host stands in the file: with its port in brackets where that is not 22.
#[must_use]
pub fn known_as(host: &str, port: u16) -> String {
    let host = host.to_ascii_lowercase();
    if port == 22 { host } else { format!("[{host}]:{port}") }
}

struct KnownLine {
    number: usize,
    revoked: bool,
    key: PublicKey,
}

/// The lines that are about this host. Lines of certificate authorities are left out: host certificates are not used.
fn lines_about(file: &[u8], name: &str) -> Vec<KnownLine> {
    let lines = file.split(|byte| *byte == b'\n').enumerate();
    lines
        .filter_map(|(index, text)| {
            let text = text.trim_ascii();
            let (first, rest) = word(text);
            let (revoked, hosts, rest) = match first {
                b"@revoked" => {
                    let (hosts, rest) = word(rest);
                    (true, hosts, rest)
                }
                [b'@' | b'#', ..] | [] => return None,
                hosts => (false, hosts, rest),
            };
            if !names_host(hosts, name) {
                return None;
            }
            let key = Arc::unwrap_or_clone(line::parse(rest)?.ok()?.key);
            Some(KnownLine { number: index + 1, revoked, key })
        })
        .collect()
}

fn names_host(hosts: &[u8], name: &str) -> bool {
    if let Some(hashed) = hosts.strip_prefix(b"|1|") {
        return hash_is_of(hashed, name);
    }
    list_matches(String::from_utf8_lossy(hosts).to_ascii_lowercase().split(','), name)
}

/// A hashed name is `|1|salt|HMAC-SHA1(salt, name)`, both in base64.
fn hash_is_of(hashed: &[u8], name: &str) -> bool {
    let mut parts = hashed.split(|byte| *byte == b'|');
    let mut decode = || STANDARD.decode(parts.next()?).ok();
    let (Some(salt), Some(hash)) = (decode(), decode()) else { return false };
    let mut mac = hmac::Hmac::<sha1::Sha1>::new_from_slice(&salt).expect("HMAC takes keys of any length");
    mac.update(name.as_bytes());
    mac.verify_slice(&hash).is_ok()
}

/// How `key` stands for the host.
#[must_use]
pub fn standing(file: &[u8], host: &str, port: u16, key: &PublicKey) -> HostKeyStanding {
    let lines = lines_about(file, &known_as(host, port));
    if let Some(line) = lines.iter().find(|line| line.revoked && line.key == *key) {
        return HostKeyStanding::Revoked { line: line.number };
    }
    let mut trusted = lines.iter().filter(|line| !line.revoked).peekable();
    let first = trusted.peek().map(|line| (line.number, line.key.fingerprint()));
    match first {
        _ if trusted.any(|line| line.key == *key) => HostKeyStanding::Known,
        None => HostKeyStanding::Unknown,
        Some((line, known)) => HostKeyStanding::Changed { line, known },
    }
}

/// The line, counted from 1, that first names a host.
#[must_use]
pub fn known_at(file: &[u8], host: &str, port: u16) -> Option<usize> {
    lines_about(file, &known_as(host, port)).iter().find(|line| !line.revoked).map(|line| line.number)
}

/// The algorithms of the keys known for the host; a client asks for these first, so that the known key is shown.
#[must_use]
pub fn known_algorithms(file: &[u8], host: &str, port: u16) -> Vec<Algorithm> {
    let lines = lines_about(file, &known_as(host, port));
    lines.iter().filter(|line| !line.revoked).map(|line| line.key.algorithm()).collect()
}

/// The keys that are known for the host.
#[must_use]
pub fn known_keys(file: &[u8], host: &str, port: u16) -> Vec<PublicKey> {
    lines_about(file, &known_as(host, port)).into_iter().filter(|line| !line.revoked).map(|line| line.key).collect()
}

/// The line that makes a host key known.
#[must_use]
pub fn line_for(host: &str, port: u16, key: &PublicKey) -> String {
    format!("{} {}", known_as(host, port), key.line(""))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::PrivateKey;

    fn key(seed: u8) -> PublicKey {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
    }

    fn ask(file: &str, host: &str, port: u16) -> HostKeyStanding {
        standing(file.as_bytes(), host, port, &key(1))
    }

    #[test]
    fn names_ports_wildcards_and_negations() {
        let entry = |hosts: &str| format!("# c\n{hosts} {} note\n", key(1).line(""));
        assert_eq!(ask(&entry("lantern.example"), "Lantern.example", 22), HostKeyStanding::Known);
        assert_eq!(ask(&entry("lantern.example"), "lantern.example", 2222), HostKeyStanding::Unknown);
        assert_eq!(ask(&entry("[lantern.example]:2222"), "lantern.example", 2222), HostKeyStanding::Known);
        assert_eq!(ask(&entry("*.example,!lantern.example"), "lantern.example", 22), HostKeyStanding::Unknown);
        assert_eq!(ask(&entry("192.0.2.?"), "192.0.2.7", 22), HostKeyStanding::Known);
    }

    #[test]
    fn a_key_of_another_type_or_value_is_changed_not_unknown() {
        let file = format!("lantern.example {}\n", key(2).line(""));
        assert_eq!(
            ask(&file, "lantern.example", 22),
            HostKeyStanding::Changed { line: 1, known: key(2).fingerprint() }
        );
        let rsa = PublicKey::rsa(&[1, 0, 1], &[0xc5; 256]).unwrap();
        let file = format!("lantern.example {}\n", rsa.line(""));
        assert!(matches!(ask(&file, "lantern.example", 22), HostKeyStanding::Changed { .. }));
        assert_eq!(known_algorithms(file.as_bytes(), "lantern.example", 22), [Algorithm::Rsa]);
    }

    #[test]
    fn hashed_names_are_found() {
        // HMAC-SHA1 of "lantern.example" under twenty bytes of 0x01, computed with Python's hmac module.
        let file = format!("|1|AQEBAQEBAQEBAQEBAQEBAQEBAQE=|{} {}\n", "HASH", key(1).line(""));
        let mut mac = hmac::Hmac::<sha1::Sha1>::new_from_slice(&[1; 20]).unwrap();
        mac.update(b"lantern.example");
        let file = file.replace("HASH", &STANDARD.encode(mac.finalize().into_bytes()));
        assert_eq!(ask(&file, "lantern.example", 22), HostKeyStanding::Known);
        assert_eq!(ask(&file, "other.example", 22), HostKeyStanding::Unknown);
    }

    #[test]
    fn a_revoked_key_is_refused_even_where_it_is_known() {
        let file = format!("lantern.example {0}\n@revoked * {0}\n", key(1).line(""));
        assert_eq!(ask(&file, "lantern.example", 22), HostKeyStanding::Revoked { line: 2 });
        assert_eq!(
            ask(&format!("{}\n", line_for("lantern.example", 22, &key(1))), "lantern.example", 22),
            HostKeyStanding::Known
        );
    }
}
