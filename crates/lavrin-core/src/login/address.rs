//! Lists of addresses as in `from=`: wildcards, CIDR ranges and negations, separated by commas.

use crate::server_config::matches;
use std::net::IpAddr;

/// Whether the list takes the address. One malformed range refuses everything, and a negated match refuses whatever
/// else matches, as the server does it.
#[must_use]
pub fn list_takes(list: &str, address: IpAddr) -> bool {
    list_takes_client(list, address, None)
}

/// The same with the client's host name, which patterns may take as well.
#[must_use]
pub fn list_takes_client(list: &str, address: IpAddr, host: Option<&str>) -> bool {
    let mut found = false;
    for pattern in list.split(',') {
        // An empty element is a malformed one.
        if pattern.trim_start_matches('!').is_empty() {
            return false;
        }
        let (negated, pattern) = pattern.strip_prefix('!').map_or((false, pattern), |rest| (true, rest));
        let hit = if pattern.contains('/') {
            match in_range(pattern, address) {
                Some(hit) => hit,
                None => return false,
            }
        } else {
            let pattern = pattern.to_ascii_lowercase();
            let takes = |text: &str| matches(pattern.as_bytes(), text.to_ascii_lowercase().as_bytes());
            takes(&address.to_string()) || host.is_some_and(takes)
        };
        if hit && negated {
            return false;
        }
        found |= hit;
    }
    found
}

/// Whether every range in the list has a length that fits its address; the server does not start a login otherwise.
#[must_use]
pub fn list_is_consistent(list: &str) -> bool {
    list.split(',').map(|pattern| pattern.trim_start_matches('!')).filter(|pattern| pattern.contains('/')).all(
        |range| {
            let base = range.split('/').next().and_then(|base| base.parse::<IpAddr>().ok());
            base.is_none_or(|base| in_range(range, base).is_some())
        },
    )
}

/// `None` where the range is malformed.
fn in_range(range: &str, address: IpAddr) -> Option<bool> {
    let (base, length) = range.split_once('/')?;
    let base: IpAddr = base.parse().ok()?;
    let length: u32 = length.parse().ok()?;
    let (base, address, width) = match (base, address) {
        (IpAddr::V4(base), IpAddr::V4(address)) => (u128::from(base.to_bits()), u128::from(address.to_bits()), 32),
        (IpAddr::V6(base), IpAddr::V6(address)) => (base.to_bits(), address.to_bits(), 128),
        (base, _) => return (length <= if base.is_ipv4() { 32 } else { 128 }).then_some(false),
    };
    if length > width {
        return None;
    }
    let mask = u128::MAX.checked_shl(width - length).unwrap_or(0);
    // Bits of the host part have to be zero, else the server takes the pattern for malformed.
    if base & !mask & (u128::MAX >> (128 - width)) != 0 {
        return None;
    }
    Some(base & mask == address & mask)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_with_bits_beyond_their_length_are_inconsistent() {
        assert!(list_is_consistent("192.0.2.0/24,!2001:db8::/32,*.example/x"));
        assert!(!list_is_consistent("198.51.100.1,192.0.2.10/24") && !list_is_consistent("192.0.2.0/33"));
    }

    #[test]
    fn ranges_wildcards_and_negations() {
        let takes = |list: &str| list_takes(list, "192.0.2.17".parse().unwrap());
        assert!(takes("192.0.2.0/24"));
        assert!(takes("2001:db8::/32,192.0.2.*"));
        assert!(takes("0.0.0.0/0"));
        assert!(!takes("!192.0.2.17,192.0.2.0/24"));
        assert!(!takes("!198.51.100.1"));
        assert!(!takes("192.0.2.17,192.0.2.0/33"));
        assert!(!takes("192.0.2.17,192.0.2.1/24"));
        assert!(list_takes("2001:db8::/32", "2001:db8::7".parse().unwrap()));
    }
}
