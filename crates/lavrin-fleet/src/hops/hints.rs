//! What a client wrote down about other servers: no proof that somebody gets in there, but a hint that somebody goes there.

use super::facts::AccountFacts;
use crate::register::Host;
use lavrin_keys::hostkey::known_at;
use lavrin_server::fs::BytePath;

impl AccountFacts {
    /// The file and the line in which its client names a host.
    #[must_use]
    pub fn names_host(&self, host: &Host) -> Option<(&BytePath, usize)> {
        self.client.iter().find_map(|(path, bytes)| {
            let line = match path.name() {
                b"config" => configured_at(bytes, host),
                _ => [&host.address, &host.id].into_iter().find_map(|name| known_at(bytes, name, host.port)),
            };
            Some((path, line?))
        })
    }
}

/// The line of a client's configuration that names a host by its name or address (`ssh_config(5)`, `Host` and `HostName`).
fn configured_at(bytes: &[u8], host: &Host) -> Option<usize> {
    let text = String::from_utf8_lossy(bytes);
    let is_meant = |line: &str| {
        let mut words = line.split(|at: char| at.is_ascii_whitespace() || at == '=').filter(|word| !word.is_empty());
        let keyword = words.next().unwrap_or_default();
        (keyword.eq_ignore_ascii_case("host") || keyword.eq_ignore_ascii_case("hostname"))
            && words.any(|word| word == host.id || word == host.address)
    };
    text.lines().position(is_meant).map(|at| at + 1)
}
