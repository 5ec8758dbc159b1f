//! Lists of addresses as in `from=` and `Match address`: addresses in any spelling that the resolver takes, ranges, wildcards
//! and negations, separated by commas (`PATTERNS` in `ssh_config(5)`).

use crate::server::Version;
use lavrin_keys::patterns::{list_matches, matches};
use std::net::{IpAddr, Ipv4Addr};

/// What a list says to an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum ListSays {
    Yes,
    Nothing,
    /// A negated pattern takes it.
    No,
    /// An element is empty, or a range does not fit its address: the server makes nothing of the list.
    Malformed,
}

/// Whether a list as in `Match address` takes the address. A negated match refuses whatever else matches.
#[must_use]
pub fn list_takes(list: &str, address: IpAddr, version: Version) -> bool {
    said(list, Some(address), version) == ListSays::Yes
}

/// Whether a list as in `from=` takes a client: by its address, or by its host name, which is the address where the server
/// does not look names up.
#[must_use]
pub fn list_takes_client(list: &str, address: IpAddr, host: Option<&str>, version: Version) -> bool {
    let by_address = said(list, Some(address), version);
    if matches!(by_address, ListSays::No | ListSays::Malformed) {
        return false;
    }
    let host = host.map_or_else(|| address.to_string(), str::to_ascii_lowercase);
    let list = list.to_ascii_lowercase();
    let is_refused = list
        .split(',')
        .filter_map(|pattern| pattern.strip_prefix('!'))
        .any(|pattern| matches(pattern.as_bytes(), host.as_bytes()));
    !is_refused && (by_address == ListSays::Yes || list_matches(list.split(','), &host))
}

/// Whether the server makes something of a list; it does not start with a setting otherwise.
#[must_use]
pub fn list_is_sound(list: &str, version: Version) -> bool {
    said(list, None, version) != ListSays::Malformed
}

/// Whether a list holds addresses and ranges only, as in a certificate.
#[must_use]
pub fn is_plain_list(list: &str, version: Version) -> bool {
    list.split(',').all(|one| matches!(range(one, version), Range::Of(..)))
}

fn said(list: &str, address: Option<IpAddr>, version: Version) -> ListSays {
    let mut found = ListSays::Nothing;
    for pattern in list.split(',') {
        let (negated, pattern) = pattern.strip_prefix('!').map_or((false, pattern), |rest| (true, rest));
        if pattern.is_empty() {
            return ListSays::Malformed;
        }
        let hit = match range(pattern, version) {
            Range::Malformed => return ListSays::Malformed,
            Range::Of(base, length) => address.is_some_and(|address| is_within(address, base, length)),
            Range::None => address.is_some_and(|address| matches(pattern.as_bytes(), address.to_string().as_bytes())),
        };
        match (hit, negated) {
            (true, true) => return ListSays::No,
            (true, false) => found = ListSays::Yes,
            (false, _) => {}
        }
    }
    found
}

enum Range {
    Of(IpAddr, u32),
    /// It is no address, so it is a pattern.
    None,
    /// Its length does not fit it, or bits beyond the length are set.
    Malformed,
}

/// Longest address with its length that the server looks at, in bytes.
const RANGE_BYTES_MAX: usize = 63;

/// Since this version a length that no address has is malformed; before, its element was no address.
const LONG_IS_MALFORMED_SINCE: Version = Version(10, 0);

fn range(text: &str, version: Version) -> Range {
    if text.len() > RANGE_BYTES_MAX {
        return Range::None;
    }
    let (base, length) = text.split_once('/').map_or((text, None), |(base, length)| (base, Some(length)));
    let most = if version < LONG_IS_MALFORMED_SINCE { 128 } else { u32::MAX >> 1 };
    let length = match length {
        None => None,
        Some(digits) if !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit()) => {
            match digits.parse::<u32>() {
                Ok(length) if length <= most => Some(length),
                _ => return Range::None,
            }
        }
        Some(_) => return Range::None,
    };
    let Some(base) = address(base) else { return Range::None };
    let width = if base.is_ipv4() { 32 } else { 128 };
    let length = length.unwrap_or(width);
    let beyond = if length == 0 { u128::MAX } else { !(u128::MAX << (width - length.min(width))) };
    let beyond = beyond & (u128::MAX >> (128 - width));
    if length > width || bits(base) & beyond != 0 { Range::Malformed } else { Range::Of(base, length) }
}

fn bits(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(four) => u128::from(four.to_bits()),
        IpAddr::V6(six) => six.to_bits(),
    }
}

fn is_within(address: IpAddr, base: IpAddr, length: u32) -> bool {
    let width = if base.is_ipv4() { 32 } else { 128 };
    address.is_ipv4() == base.is_ipv4()
        && (length == 0 || bits(address) >> (width - length) == bits(base) >> (width - length))
}

/// An address as the resolver takes it where it looks nothing up: IPv4 in one to four numbers, each decimal, octal or
/// hexadecimal, the last one filling what is left (`inet_aton(3)`); IPv6 as in RFC 4291, section 2.2.
#[must_use]
pub fn address(text: &str) -> Option<IpAddr> {
    if text.contains(':') {
        return text.parse().ok().map(IpAddr::V6);
    }
    let parts: Vec<u32> = text.split('.').map(number).collect::<Option<_>>()?;
    let (last, front) = parts.split_last()?;
    if front.len() > 3 || front.iter().any(|part| *part > 255) || u64::from(*last) >= 1 << (8 * (4 - front.len())) {
        return None;
    }
    let high = front.iter().enumerate().fold(0, |sum, (place, part)| sum | part << (24 - 8 * place));
    Some(IpAddr::V4(Ipv4Addr::from_bits(high | last)))
}

fn number(text: &str) -> Option<u32> {
    let of = |digits: &str, radix| {
        let is_plain = digits.bytes().all(|byte| byte.is_ascii_hexdigit());
        if is_plain { u32::from_str_radix(digits, radix).ok() } else { None }
    };
    match text.as_bytes() {
        [b'0', b'x' | b'X', ..] => of(&text[2..], 16),
        [b'0', _, ..] => of(&text[1..], 8),
        _ => of(text, 10),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const USUAL: Version = Version(9, 2);

    #[test]
    fn ranges_with_bits_beyond_their_length_are_malformed() {
        let sound = |list: &str| list_is_sound(list, USUAL);
        assert!(sound("192.0.2.0/24,!2001:db8::/32,*.example/x,192.0.2.0/129"));
        assert!(!sound("198.51.100.1,192.0.2.10/24") && !sound("192.0.2.0/33") && !sound("a,"));
        let later = |list: &str| list_is_sound(list, LONG_IS_MALFORMED_SINCE);
        assert!(!later("192.0.2.0/129") && !later("::/2147483647") && later("::/2147483648") && later("x/129"));
    }

    #[test]
    fn ranges_wildcards_and_negations() {
        let takes = |list: &str| list_takes_client(list, "192.0.2.17".parse().unwrap(), None, USUAL);
        assert!(takes("192.0.2.0/24"));
        assert!(takes("2001:db8::/32,192.0.2.*"));
        assert!(takes("0.0.0.0/0"));
        assert!(!takes("!192.0.2.17,192.0.2.0/24"));
        assert!(!takes("!198.51.100.1"));
        assert!(!takes("192.0.2.17,192.0.2.0/33"));
        assert!(!takes("192.0.2.17,192.0.2.1/24"));
        assert!(takes("x/33,192.0.2.17") && takes("x/x,192.0.2.17"));
        assert!(list_takes("2001:db8::/32", "2001:db8::7".parse().unwrap(), USUAL));
        let named =
            |list: &str| list_takes_client(list, "192.0.2.17".parse().unwrap(), Some("Buoy.example.test"), USUAL);
        assert!(named("*.EXAMPLE.test") && !named("192.0.2.0/24,!buoy.*") && named("192.0.2.0/24"));
    }

    #[test]
    fn addresses_are_read_as_the_resolver_reads_them() {
        let read = |text: &str| address(text).map(|address| address.to_string());
        for (text, is) in [
            ("127.1", "127.0.0.1"),
            ("0x7f.1", "127.0.0.1"),
            ("0177.0.0.1", "127.0.0.1"),
            ("2130706433", "127.0.0.1"),
            ("192.0.513", "192.0.2.1"),
            ("2001:0db8:0:0::0001", "2001:db8::1"),
        ] {
            assert_eq!(read(text).as_deref(), Some(is), "{text}");
        }
        for bad in ["256.1", "1.2.3.4.5", "08", "1.", "", "0x", "a", "192.0.2.256", "4294967296", "+1"] {
            assert_eq!(read(bad), None, "{bad}");
        }
        assert!(list_takes("192.0.513", "192.0.2.1".parse().unwrap(), USUAL));
        assert!(list_takes("2001:DB8:0::1", "2001:db8::1".parse().unwrap(), USUAL));
    }
}
