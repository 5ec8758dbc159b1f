//! The names of algorithms that OpenSSH's server knows, and lists of them as in `PubkeyAcceptedAlgorithms`.

use crate::server::Version;
use lavrin_keys::patterns::{list_matches, matches};

/// What a list is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Signature algorithms; patterns may stand in such a list.
    Signature,
    /// The same without those of certificates.
    PlainSignature,
    /// Ciphers.
    Cipher,
    /// Message authentication codes.
    Mac,
    /// Key exchanges.
    KeyExchange,
    /// Key exchanges of GSSAPI, which distributions add.
    GssKeyExchange,
}

/// The version that made SHA-1 signatures of RSA keys optional, and put Ed25519 in front.
const NO_SHA1_SINCE: Version = Version(8, 8);

/// The version that forgot DSA.
const NO_DSA_SINCE: Version = Version(10, 0);

const SIGNATURES: &[&str] = &[
    "ssh-ed25519",
    "ssh-ed25519-cert-v01@openssh.com",
    "sk-ssh-ed25519@openssh.com",
    "sk-ssh-ed25519-cert-v01@openssh.com",
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp256-cert-v01@openssh.com",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp384-cert-v01@openssh.com",
    "ecdsa-sha2-nistp521",
    "ecdsa-sha2-nistp521-cert-v01@openssh.com",
    "sk-ecdsa-sha2-nistp256@openssh.com",
    "sk-ecdsa-sha2-nistp256-cert-v01@openssh.com",
    "webauthn-sk-ecdsa-sha2-nistp256@openssh.com",
    "ssh-dss",
    "ssh-dss-cert-v01@openssh.com",
    "ssh-rsa",
    "ssh-rsa-cert-v01@openssh.com",
    "rsa-sha2-256",
    "rsa-sha2-256-cert-v01@openssh.com",
    "rsa-sha2-512",
    "rsa-sha2-512-cert-v01@openssh.com",
];

/// The same in the order in which 8.4 replaces a pattern.
const SIGNATURES_84: &[&str] = &[
    "ssh-ed25519",
    "ssh-ed25519-cert-v01@openssh.com",
    "sk-ssh-ed25519@openssh.com",
    "sk-ssh-ed25519-cert-v01@openssh.com",
    "ssh-rsa",
    "rsa-sha2-256",
    "rsa-sha2-512",
    "ssh-dss",
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp521",
    "sk-ecdsa-sha2-nistp256@openssh.com",
    "webauthn-sk-ecdsa-sha2-nistp256@openssh.com",
    "ssh-rsa-cert-v01@openssh.com",
    "rsa-sha2-256-cert-v01@openssh.com",
    "rsa-sha2-512-cert-v01@openssh.com",
    "ssh-dss-cert-v01@openssh.com",
    "ecdsa-sha2-nistp256-cert-v01@openssh.com",
    "ecdsa-sha2-nistp384-cert-v01@openssh.com",
    "ecdsa-sha2-nistp521-cert-v01@openssh.com",
    "sk-ecdsa-sha2-nistp256-cert-v01@openssh.com",
];

const ACCEPTED: &[&str] = &[
    "ssh-ed25519-cert-v01@openssh.com",
    "ecdsa-sha2-nistp256-cert-v01@openssh.com",
    "ecdsa-sha2-nistp384-cert-v01@openssh.com",
    "ecdsa-sha2-nistp521-cert-v01@openssh.com",
    "sk-ssh-ed25519-cert-v01@openssh.com",
    "sk-ecdsa-sha2-nistp256-cert-v01@openssh.com",
    "rsa-sha2-512-cert-v01@openssh.com",
    "rsa-sha2-256-cert-v01@openssh.com",
    "ssh-ed25519",
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp521",
    "sk-ssh-ed25519@openssh.com",
    "sk-ecdsa-sha2-nistp256@openssh.com",
    "rsa-sha2-512",
    "rsa-sha2-256",
];

const ACCEPTED_84: &[&str] = &[
    "ecdsa-sha2-nistp256-cert-v01@openssh.com",
    "ecdsa-sha2-nistp384-cert-v01@openssh.com",
    "ecdsa-sha2-nistp521-cert-v01@openssh.com",
    "sk-ecdsa-sha2-nistp256-cert-v01@openssh.com",
    "ssh-ed25519-cert-v01@openssh.com",
    "sk-ssh-ed25519-cert-v01@openssh.com",
    "rsa-sha2-512-cert-v01@openssh.com",
    "rsa-sha2-256-cert-v01@openssh.com",
    "ssh-rsa-cert-v01@openssh.com",
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp521",
    "sk-ecdsa-sha2-nistp256@openssh.com",
    "ssh-ed25519",
    "sk-ssh-ed25519@openssh.com",
    "rsa-sha2-512",
    "rsa-sha2-256",
    "ssh-rsa",
];

/// What only some versions know: the name, the first version and the first that does not any more.
type VersionedName = (&'static str, Version, Option<Version>);

const fn always(name: &'static str) -> VersionedName {
    (name, Version(0, 0), None)
}

const CIPHERS: &[VersionedName] = &[
    always("3des-cbc"),
    always("aes128-cbc"),
    always("aes192-cbc"),
    always("aes256-cbc"),
    always("aes128-ctr"),
    always("aes192-ctr"),
    always("aes256-ctr"),
    always("aes128-gcm@openssh.com"),
    always("aes256-gcm@openssh.com"),
    always("chacha20-poly1305@openssh.com"),
    ("rijndael-cbc@lysator.liu.se", Version(0, 0), Some(Version(8, 5))),
];

const MACS: &[VersionedName] = &[
    always("hmac-sha1"),
    always("hmac-sha1-96"),
    always("hmac-sha2-256"),
    always("hmac-sha2-512"),
    always("hmac-md5"),
    always("hmac-md5-96"),
    always("umac-64@openssh.com"),
    always("umac-128@openssh.com"),
    always("hmac-sha1-etm@openssh.com"),
    always("hmac-sha1-96-etm@openssh.com"),
    always("hmac-sha2-256-etm@openssh.com"),
    always("hmac-sha2-512-etm@openssh.com"),
    always("hmac-md5-etm@openssh.com"),
    always("hmac-md5-96-etm@openssh.com"),
    always("umac-64-etm@openssh.com"),
    always("umac-128-etm@openssh.com"),
];

const KEY_EXCHANGES: &[VersionedName] = &[
    always("diffie-hellman-group1-sha1"),
    always("diffie-hellman-group14-sha1"),
    always("diffie-hellman-group14-sha256"),
    always("diffie-hellman-group16-sha512"),
    always("diffie-hellman-group18-sha512"),
    always("diffie-hellman-group-exchange-sha1"),
    always("diffie-hellman-group-exchange-sha256"),
    always("ecdh-sha2-nistp256"),
    always("ecdh-sha2-nistp384"),
    always("ecdh-sha2-nistp521"),
    always("curve25519-sha256"),
    always("curve25519-sha256@libssh.org"),
    ("sntrup4591761x25519-sha512@tinyssh.org", Version(0, 0), Some(Version(8, 5))),
    ("sntrup761x25519-sha512@openssh.com", Version(8, 5), None),
    ("sntrup761x25519-sha512", Version(9, 2), None),
    ("mlkem768x25519-sha256", Version(9, 9), None),
];

const GSS_KEY_EXCHANGES: &[VersionedName] = &[
    always("gss-gex-sha1-"),
    always("gss-group1-sha1-"),
    always("gss-group14-sha1-"),
    always("gss-group14-sha256-"),
    always("gss-group16-sha512-"),
    always("gss-nistp256-sha256-"),
    always("gss-curve25519-sha256-"),
];

/// What is in force where nothing is set, as the server prints it.
const CIPHERS_USED: &[&str] = &[
    "chacha20-poly1305@openssh.com",
    "aes128-ctr",
    "aes192-ctr",
    "aes256-ctr",
    "aes128-gcm@openssh.com",
    "aes256-gcm@openssh.com",
];

/// The same since 10.0.
const CIPHERS_USED_100: &[&str] = &[
    "chacha20-poly1305@openssh.com",
    "aes128-gcm@openssh.com",
    "aes256-gcm@openssh.com",
    "aes128-ctr",
    "aes192-ctr",
    "aes256-ctr",
];

/// The same, of message authentication codes.
const MACS_USED: &[&str] = &[
    "umac-64-etm@openssh.com",
    "umac-128-etm@openssh.com",
    "hmac-sha2-256-etm@openssh.com",
    "hmac-sha2-512-etm@openssh.com",
    "hmac-sha1-etm@openssh.com",
    "umac-64@openssh.com",
    "umac-128@openssh.com",
    "hmac-sha2-256",
    "hmac-sha2-512",
    "hmac-sha1",
];

/// The same, of key exchanges, in 8.4.
const KEX_USED_84: &[&str] = &[
    "curve25519-sha256",
    "curve25519-sha256@libssh.org",
    "ecdh-sha2-nistp256",
    "ecdh-sha2-nistp384",
    "ecdh-sha2-nistp521",
    "diffie-hellman-group-exchange-sha256",
    "diffie-hellman-group16-sha512",
    "diffie-hellman-group18-sha512",
    "diffie-hellman-group14-sha256",
];

/// The same since then.
const KEX_USED: &[&str] = &[
    "sntrup761x25519-sha512",
    "sntrup761x25519-sha512@openssh.com",
    "curve25519-sha256",
    "curve25519-sha256@libssh.org",
    "ecdh-sha2-nistp256",
    "ecdh-sha2-nistp384",
    "ecdh-sha2-nistp521",
    "diffie-hellman-group-exchange-sha256",
    "diffie-hellman-group16-sha512",
    "diffie-hellman-group18-sha512",
    "diffie-hellman-group14-sha256",
];

/// The same since 10.0.
const KEX_USED_100: &[&str] = &[
    "mlkem768x25519-sha256",
    "sntrup761x25519-sha512",
    "sntrup761x25519-sha512@openssh.com",
    "curve25519-sha256",
    "curve25519-sha256@libssh.org",
    "ecdh-sha2-nistp256",
    "ecdh-sha2-nistp384",
    "ecdh-sha2-nistp521",
];

/// The same, of signatures of authorities, in 8.4.
const CA_USED_84: &[&str] = &[
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp521",
    "sk-ecdsa-sha2-nistp256@openssh.com",
    "ssh-ed25519",
    "sk-ssh-ed25519@openssh.com",
    "rsa-sha2-512",
    "rsa-sha2-256",
];

/// The same since then.
const CA_USED: &[&str] = &[
    "ssh-ed25519",
    "ecdsa-sha2-nistp256",
    "ecdsa-sha2-nistp384",
    "ecdsa-sha2-nistp521",
    "sk-ssh-ed25519@openssh.com",
    "sk-ecdsa-sha2-nistp256@openssh.com",
    "rsa-sha2-512",
    "rsa-sha2-256",
];

/// The signature algorithms of public keys that a version accepts unless told otherwise, in its order.
pub fn accepted(version: Version) -> &'static [&'static str] {
    if version < NO_SHA1_SINCE { ACCEPTED_84 } else { ACCEPTED }
}

/// Every signature algorithm that a version knows, in the order in which it replaces a pattern.
fn signatures(version: Version) -> impl Iterator<Item = &'static str> {
    let names = if version < Version(8, 5) { SIGNATURES_84 } else { SIGNATURES };
    names.iter().copied().filter(move |name| version < NO_DSA_SINCE || !name.starts_with("ssh-dss"))
}

/// The first name in a list that the server does not know, so that it does not start. What a `-` takes away may be anything.
pub fn unknown_in(list: &str, kind: Kind, version: Version) -> Option<String> {
    let prefixes: &[char] = if kind == Kind::GssKeyExchange { &[] } else { &['+', '^'] };
    if list.starts_with('-') && kind != Kind::GssKeyExchange {
        return None;
    }
    let names = list.strip_prefix(prefixes).unwrap_or(list);
    if names.is_empty() {
        return Some(list.to_owned());
    }
    let in_rows = |rows: &[VersionedName], name: &str| {
        rows.iter()
            .any(|(known, since, end)| *known == name && version >= *since && end.is_none_or(|end| version < end))
    };
    // What is excluded has to be known too.
    let excluded = |name: &str| name.strip_prefix('!').unwrap_or(name).to_owned();
    let is_known = |name: &&str| match kind {
        Kind::Signature => signatures(version).any(|known| matches(excluded(name).as_bytes(), known.as_bytes())),
        Kind::PlainSignature => {
            let mut plain = signatures(version).filter(|known| !known.contains("-cert-"));
            plain.any(|known| matches(excluded(name).as_bytes(), known.as_bytes()))
        }
        Kind::Cipher => in_rows(CIPHERS, name),
        Kind::Mac => in_rows(MACS, name),
        Kind::KeyExchange => in_rows(KEY_EXCHANGES, name),
        Kind::GssKeyExchange => in_rows(GSS_KEY_EXCHANGES, name),
    };
    // The server reads up to an empty name.
    names.split(',').take_while(|name| !name.is_empty()).find(|name| !is_known(name)).map(str::to_owned)
}

/// What is in force where nothing is set.
fn used(kind: Kind, version: Version) -> &'static [&'static str] {
    let (old, new) = (version < Version(8, 5), version >= Version(10, 0));
    match kind {
        Kind::Signature => accepted(version),
        Kind::PlainSignature if old => CA_USED_84,
        Kind::PlainSignature => CA_USED,
        Kind::Cipher if new => CIPHERS_USED_100,
        Kind::Cipher => CIPHERS_USED,
        Kind::Mac => MACS_USED,
        Kind::KeyExchange if old => KEX_USED_84,
        Kind::KeyExchange if new => KEX_USED_100,
        Kind::KeyExchange => KEX_USED,
        Kind::GssKeyExchange => &[],
    }
}

/// The list in force: a plain one as it stands, with patterns replaced by what they match; `+` adds to the default, `-`
/// takes from it, `^` puts in front.
pub fn in_force(list: &str, kind: Kind, version: Version) -> Vec<String> {
    let spelled_out = |list: &str| {
        let mut names: Vec<String> = Vec::new();
        for name in list.split(',').take_while(|name| !name.is_empty()) {
            let found: Vec<&str> = if name.contains(['*', '?']) {
                signatures(version).filter(|known| matches(name.as_bytes(), known.as_bytes())).collect()
            } else {
                vec![name]
            };
            names.extend(found.into_iter().map(str::to_owned));
        }
        names
    };
    let default = || used(kind, version).iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
    let mut names = match list.as_bytes().first() {
        Some(b'+') => [default(), spelled_out(&list[1..])].concat(),
        Some(b'^') => [spelled_out(&list[1..]), default()].concat(),
        Some(b'-') => {
            let mut left = default();
            left.retain(|name| !list_matches(list[1..].split(','), name));
            left
        }
        _ => spelled_out(list),
    };
    let mut seen = std::collections::HashSet::new();
    names.retain(|name| seen.insert(name.clone()));
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    const USUAL: Version = Version(9, 2);

    #[test]
    fn prefixes_change_the_default() {
        let in_force = |list: &str| in_force(list, Kind::Signature, USUAL);
        assert_eq!(in_force("+ssh-rsa").last().unwrap(), "ssh-rsa");
        assert_eq!(in_force("^rsa-sha2-256").first().unwrap(), "rsa-sha2-256");
        assert_eq!(in_force("^rsa-sha2-256").len(), ACCEPTED.len());
        assert!(!in_force("-rsa*,ssh-ed25519").iter().any(|name| name.starts_with("rsa") || name == "ssh-ed25519"));
        assert_eq!(in_force("rsa-sha2-*,ssh-ed25519").last().unwrap(), "ssh-ed25519");
    }

    #[test]
    fn what_a_version_knows_is_that_of_the_version() {
        let unknown = |list: &str, version| unknown_in(list, Kind::Signature, version);
        assert_eq!([unknown("+ssh-rsa", USUAL), unknown("sk-*", USUAL), unknown("-nosuch", USUAL)], [None, None, None]);
        assert_eq!([unknown("ssh-ed25519,,nosuch", USUAL), unknown("*,!ssh-r*", USUAL)], [None, None]);
        assert!(unknown("+", USUAL).is_some() && unknown("*,!nosuch", USUAL).is_some());
        assert!(unknown_in("*-cert-*", Kind::PlainSignature, USUAL).is_some());
        assert_eq!(unknown("nosuch", USUAL).as_deref(), Some("nosuch"));
        assert_eq!((unknown("+ssh-dss", USUAL), unknown("+ssh-dss", Version(10, 0)).is_some()), (None, true));
        assert!(accepted(Version(8, 4)).contains(&"ssh-rsa") && !accepted(USUAL).contains(&"ssh-rsa"));
        assert!(unknown_in("mlkem768x25519-sha256", Kind::KeyExchange, USUAL).is_some());
        assert_eq!(unknown_in("aes128-ctr", Kind::Cipher, USUAL), None);
        assert!(unknown_in("aes*", Kind::Cipher, USUAL).is_some());
    }
}
