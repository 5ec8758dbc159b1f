//! Signature algorithms: the names that OpenSSH's server knows, and the lists in `PubkeyAcceptedAlgorithms`.

use super::patterns::{list_matches, matches};

/// What the server accepts unless told otherwise (OpenSSH 9.2), in its order.
pub const DEFAULT: [&str; 16] = [
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

/// Every name that the server knows, in the order in which it replaces a pattern.
const KNOWN: [&str; 21] = [
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

/// Whether the server knows every name of a list, or some name that a pattern in it matches.
pub fn list_is_valid(list: &str) -> bool {
    let names = list.trim_start_matches(['+', '-', '^']);
    let is_known = |name: &str| KNOWN.iter().any(|known| matches(name.as_bytes(), known.as_bytes()));
    !names.is_empty() && names.split(',').all(|name| !name.is_empty() && is_known(name))
}

/// The list in force: a plain one as it stands, with patterns replaced by what they match; `+` adds to the default, `-`
/// takes from it, `^` puts in front.
pub fn in_force(list: &str) -> Vec<String> {
    let spelled_out = |list: &str| {
        let mut names: Vec<String> = Vec::new();
        for name in list.split(',') {
            let found: Vec<&str> = if name.contains(['*', '?']) {
                KNOWN.iter().copied().filter(|known| matches(name.as_bytes(), known.as_bytes())).collect()
            } else {
                vec![name]
            };
            names.extend(found.into_iter().map(str::to_owned));
        }
        names
    };
    let default = || DEFAULT.map(str::to_owned).to_vec();
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

    #[test]
    fn prefixes_change_the_default() {
        assert_eq!(in_force("+ssh-rsa").last().unwrap(), "ssh-rsa");
        assert_eq!(in_force("^rsa-sha2-256").first().unwrap(), "rsa-sha2-256");
        assert_eq!(in_force("^rsa-sha2-256").len(), DEFAULT.len());
        assert!(!in_force("-rsa*,ssh-ed25519").iter().any(|name| name.starts_with("rsa") || name == "ssh-ed25519"));
        assert_eq!(in_force("rsa-sha2-*,ssh-ed25519").last().unwrap(), "ssh-ed25519");
        assert!(list_is_valid("+ssh-rsa") && list_is_valid("sk-*"));
        assert!(!list_is_valid("ssh-ed25519,") && !list_is_valid("nosuch") && !list_is_valid(""));
    }
}
