//! Names of ports, as `services(5)` has them.

use std::collections::HashMap;
use std::sync::{Arc, LazyLock};

/// The file.
pub const PATH: &str = "/etc/services";

/// Longest file that is read, in bytes.
pub const BYTES_MAX: u64 = 1 << 20;

/// Ports over TCP by their names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Services(Arc<HashMap<String, u16>>);

/// Names that every system knows, for where its own file was not seen.
const USUAL: [(&str, u16); 16] = [
    ("ssh", 22),
    ("smtp", 25),
    ("domain", 53),
    ("http", 80),
    ("https", 443),
    ("imap", 143),
    ("imaps", 993),
    ("imap2", 143),
    ("pop3", 110),
    ("pop3s", 995),
    ("ldap", 389),
    ("ldaps", 636),
    ("ntp", 123),
    ("ftp", 21),
    ("postgresql", 5432),
    ("mysql", 3306),
];

impl Default for Services {
    fn default() -> Self {
        static ALL: LazyLock<Services> = LazyLock::new(|| {
            Services(Arc::new(USUAL.into_iter().map(|(name, port)| (name.to_owned(), port)).collect()))
        });
        ALL.clone()
    }
}

impl Services {
    /// Reads the file: `name port/protocol alias …`.
    #[must_use]
    pub fn parse(bytes: &[u8]) -> Self {
        let mut ports = HashMap::new();
        for line in String::from_utf8_lossy(bytes).lines() {
            let mut words = line.split('#').next().unwrap_or_default().split_ascii_whitespace();
            let (Some(name), Some(place)) = (words.next(), words.next()) else { continue };
            let Some(port) = place.strip_suffix("/tcp").and_then(|port| port.parse().ok()) else { continue };
            for name in std::iter::once(name).chain(words) {
                ports.entry(name.to_owned()).or_insert(port);
            }
        }
        Self(Arc::new(ports))
    }
}

/// Whether a word may end in the name of a port, so that it matters which names the system knows.
#[must_use]
pub fn may_be_named(word: &str) -> bool {
    let text = word.rsplit(':').next().unwrap_or_default();
    let name = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_');
    text.bytes().all(name) && text.bytes().any(|byte| byte.is_ascii_alphabetic()) && !matches!(text, "any" | "none")
}

/// A port: a number from 1 on, or a name.
#[must_use]
pub fn port(text: &str, services: &Services) -> Option<u16> {
    let is_number = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
    if is_number {
        return text.parse().ok().filter(|port| *port > 0);
    }
    services.0.get(text).copied()
}

/// `host:port`, the host in brackets where it has colons; where one listens the host may be left out.
#[must_use]
pub fn is_permission(value: &str, host_may_be_missing: bool, services: &Services) -> bool {
    /// Longest host that the server takes, in bytes.
    const HOST_BYTES_MAX: usize = 1024;
    let (host, text) = match value.strip_prefix('[') {
        Some(rest) => {
            let Some((host, behind)) = rest.split_once(']') else { return false };
            let Some(text) = behind.strip_prefix(':') else { return false };
            (host, text)
        }
        None => match value.split_once(':') {
            Some(pair) => pair,
            None if host_may_be_missing => ("*", value),
            None => return false,
        },
    };
    !host.is_empty() && host.len() <= HOST_BYTES_MAX && (text == "*" || port(text, services).is_some())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_aliases_over_tcp_are_ports() {
        let services = Services::parse(b"# x\nssh 22/tcp # Secure\nhttp\t80/tcp www\nntp 123/udp\nbad\n");
        let read = |text: &str| port(text, &services);
        assert_eq!([read("ssh"), read("www"), read("ntp"), read("SSH")], [Some(22), Some(80), None, None]);
        assert_eq!([read("07"), read("0"), read("65536"), read("+1"), read("")], [Some(7), None, None, None, None]);
    }
}
