//! What stands behind a keyword, and what the server does not start with.

use super::addresses::list_is_sound;
use super::algorithms;
use super::fault::{ConfigError, WrongValue};
use super::service_class;
use crate::server::Version;
use lavrin_keys::services::{Services, is_permission, port};

/// What a keyword takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// `yes` or `no`, in any case.
    Flag,
    /// One of these words, in any case.
    OneOf(&'static [&'static str]),
    /// One of these words as they stand.
    Flags(&'static [&'static str]),
    /// A whole number that is not negative.
    Number,
    /// The same, or `none`.
    NumberOrNone,
    /// A port, by number or by its name in `services(5)`.
    Port,
    /// A duration: seconds, or numbers with units as in `1h30m`.
    Time,
    /// The same, or `none`.
    TimeOrNone,
    /// `start:rate:full` or one number.
    Startups,
    /// Lengths of address ranges: `32` or `32:128`.
    NetblockSize,
    /// Octal bits.
    Umask,
    /// One word of any kind.
    Word,
    /// One word or more, none of them empty.
    Words,
    /// The same: names of further files.
    Includes,
    /// The same: what is logged more of.
    Verbose,
    /// The same: names of files.
    Paths,
    /// The same: names of accounts, perhaps with where they come from.
    Users,
    /// The same: names of variables.
    EnvNames,
    /// Variables with their values.
    Variables,
    /// The rest of the line, whatever it is.
    Rest,
    /// `none`, or a command with an absolute path.
    AbsoluteCommand,
    /// A list of signature algorithms.
    Algorithms,
    /// The same without those of certificates.
    PlainAlgorithms,
    /// A list of ciphers.
    Ciphers,
    /// A list of message authentication codes.
    Macs,
    /// A list of key exchanges.
    Kex,
    /// A list of key exchanges of GSSAPI.
    GssKex,
    /// `AuthenticationMethods`.
    Methods,
    /// `IPQoS`: one class or two.
    IpQos,
    /// An address or name, perhaps with a port.
    Listen,
    /// Patterns of addresses.
    Addresses,
    /// Where may be connected to.
    PermitOpen,
    /// Where may be listened.
    PermitListen,
    /// `PerSourcePenalties`.
    Penalties,
    /// `PubkeyAuthOptions`.
    PubkeyOptions,
    /// `RekeyLimit`: an amount and a time.
    Rekey,
    /// A name and a command.
    Subsystem,
    /// `ChannelTimeout`.
    Channels,
    /// The server passes over it.
    Nothing,
    /// No server on Linux starts with it.
    Never,
}

/// By whose rules values are checked.
#[derive(Clone, Copy)]
pub struct ValueRules<'a> {
    /// Those of this version.
    pub version: Version,
    /// Names of ports.
    pub services: &'a Services,
}

/// Since this version lines are split another way: quotes of both kinds, and no keyword without a value.
pub(super) const STRICT_SINCE: Version = Version(8, 7);

/// What is wrong with a value, without the keyword.
type Wrong = Option<WrongValue>;

/// Since this version lists and the like need a word, also where a comment stands behind the keyword.
const LISTS_NEED_A_WORD_SINCE: Version = Version(10, 0);

/// Whether a line with nothing but a comment behind its keyword counts as if it did not stand there.
pub(super) fn may_hold_only_comment(takes: Takes, version: Version) -> bool {
    use Takes::{Channels, EnvNames, Nothing, Paths, PubkeyOptions, Users, Variables, Verbose, Words};
    match takes {
        Nothing | PubkeyOptions => version >= STRICT_SINCE,
        Channels | EnvNames | Paths | Users | Variables | Verbose | Words => {
            (STRICT_SINCE..LISTS_NEED_A_WORD_SINCE).contains(&version)
        }
        _ => false,
    }
}

/// Checks the words behind a keyword; `spelled` is its name as it stands there.
///
/// # Errors
/// What the server does not start with.
pub fn check(spelled: &str, takes: Takes, words: &[String], rules: &ValueRules<'_>) -> Result<(), ConfigError> {
    match wrong(takes, words, rules) {
        Some(what) => Err(ConfigError::Value(spelled.to_owned(), what)),
        None => Ok(()),
    }
}

fn wrong(takes: Takes, words: &[String], rules: &ValueRules<'_>) -> Wrong {
    use Takes::{
        EnvNames, IpQos, Methods, Never, Nothing, Paths, Penalties, PermitListen, PermitOpen, PubkeyOptions, Rest,
        Users, Variables, Words,
    };
    let strict = rules.version >= STRICT_SINCE;
    match takes {
        Never => return Some(WrongValue::NotOnLinux),
        Nothing if !strict => return None,
        _ => {}
    }
    let Some(first) = words.first() else {
        let may_be_empty = matches!(takes, EnvNames | Words | Paths | Users | PubkeyOptions | Variables);
        return (strict || !may_be_empty).then_some(WrongValue::Missing);
    };
    if matches!(takes, Nothing | Rest) {
        return None;
    }
    if words.iter().any(String::is_empty) {
        return Some(WrongValue::Empty);
    }
    let list = matches!(
        takes,
        Words
            | Takes::Includes
            | Takes::Verbose
            | Paths
            | Users
            | EnvNames
            | Variables
            | PermitOpen
            | PermitListen
            | Penalties
            | PubkeyOptions
            | Methods
    );
    if !list {
        let most = match takes {
            IpQos | Takes::Rekey => 2,
            Takes::Subsystem | Takes::Channels => usize::MAX,
            _ => 1,
        };
        if let Some(more) = words.get(most) {
            return Some(WrongValue::Surplus(more.clone()));
        }
        return wrong_one(takes, first, words, rules);
    }
    match takes {
        Methods => wrong_methods(words),
        PermitOpen | PermitListen if matches!(first.as_str(), "any" | "none") && words.len() == 1 => None,
        Takes::Verbose if words.len() > 1 && words.iter().any(|word| word == "none") => {
            Some(WrongValue::NotAlone("none"))
        }
        // Later versions read on behind such a word.
        PermitOpen | PermitListen if matches!(first.as_str(), "any" | "none") && rules.version >= Version(10, 0) => {
            words[1..].iter().find(|word| !list_takes(takes, word, rules)).cloned().map(WrongValue::Refused)
        }
        _ => words.iter().find(|word| !list_takes(takes, word, rules)).cloned().map(WrongValue::Refused),
    }
}

fn list_takes(takes: Takes, word: &str, rules: &ValueRules<'_>) -> bool {
    match takes {
        Takes::EnvNames => rules.version < STRICT_SINCE || !word.contains('='),
        Takes::Variables => word.find('=').is_some_and(|end| end > 0),
        Takes::Users => word.split_once('@').is_none_or(|(_, hosts)| list_is_sound(hosts, rules.version)),
        Takes::PermitOpen => is_permission(word, false, rules.services),
        Takes::PermitListen => is_permission(word, true, rules.services),
        Takes::Penalties => is_penalty(word),
        Takes::PubkeyOptions => {
            matches!(word.to_ascii_lowercase().as_str(), "none" | "touch-required" | "verify-required")
        }
        _ => true,
    }
}

fn wrong_one(takes: Takes, first: &str, words: &[String], rules: &ValueRules<'_>) -> Wrong {
    let is_none = first.eq_ignore_ascii_case("none");
    let good = match takes {
        Takes::Flag => is_one_of(first, &["yes", "no"]),
        Takes::OneOf(list) => is_one_of(first, list),
        Takes::Flags(list) => list.contains(&first),
        Takes::Number => is_number(first),
        Takes::NumberOrNone => is_none || is_number(first),
        Takes::Port => port(first, rules.services).is_some(),
        Takes::Time => is_time(first, rules.version),
        Takes::TimeOrNone => is_none || is_time(first, rules.version),
        Takes::Startups => is_startups(first, rules.version),
        Takes::NetblockSize => is_netblock_size(first),
        Takes::Umask => is_umask(first),
        Takes::AbsoluteCommand => is_none || rules.version < STRICT_SINCE || first.starts_with('/'),
        Takes::Algorithms => return wrong_list(first, algorithms::Kind::Signature, rules.version),
        Takes::PlainAlgorithms => return wrong_list(first, algorithms::Kind::PlainSignature, rules.version),
        Takes::Ciphers => return wrong_list(first, algorithms::Kind::Cipher, rules.version),
        Takes::Macs => return wrong_list(first, algorithms::Kind::Mac, rules.version),
        Takes::Kex => return wrong_list(first, algorithms::Kind::KeyExchange, rules.version),
        Takes::GssKex => return wrong_list(first, algorithms::Kind::GssKeyExchange, rules.version),
        Takes::IpQos => words.iter().all(|word| service_class::read(word, rules.version).is_some()),
        Takes::Listen => is_listen(first, rules.services),
        Takes::Addresses => list_is_sound(first, rules.version),
        Takes::Rekey => is_rekey(words, rules.version),
        Takes::Subsystem => words.len() > 1,
        Takes::Channels => return wrong_channels(words, rules.version),
        _ => true,
    };
    (!good).then(
        || {
            if takes == Takes::Subsystem { WrongValue::NoCommand } else { WrongValue::Refused(first.to_owned()) }
        },
    )
}

fn wrong_list(list: &str, kind: algorithms::Kind, version: Version) -> Wrong {
    algorithms::unknown_in(list, kind, version).map(WrongValue::UnknownName)
}

fn is_one_of(word: &str, list: &[&str]) -> bool {
    list.iter().any(|known| known.eq_ignore_ascii_case(word))
}

fn is_number(text: &str) -> bool {
    text.bytes().all(|byte| byte.is_ascii_digit()) && text.parse::<i32>().is_ok()
}

/// The seconds of a duration: a number, or numbers each with a unit.
pub(super) fn seconds(text: &str) -> Option<u64> {
    let mut total: Option<u64> = None;
    for part in text.split_inclusive(|character: char| character.is_ascii_alphabetic()) {
        let digits = part.trim_end_matches(|character: char| character.is_ascii_alphabetic());
        let unit: u64 = match &part[digits.len()..] {
            "" | "s" | "S" => 1,
            "m" | "M" => 60,
            "h" | "H" => 3600,
            "d" | "D" => 86_400,
            "w" | "W" => 604_800,
            _ => return None,
        };
        let is_plain = !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit());
        let number: u64 = digits.parse().ok().filter(|_| is_plain)?;
        total = Some(total.unwrap_or(0).checked_add(number.checked_mul(unit)?)?);
    }
    total
}

/// Whether it is a duration; since 8.5 or later of at most 2^31 - 1 seconds.
fn is_time(text: &str, version: Version) -> bool {
    let most = if version >= Version(9, 2) { i32::MAX as u64 } else { i64::MAX as u64 };
    seconds(text).is_some_and(|total| total <= most)
}

/// A whole number at the beginning of a text, as `scanf` reads it, and the rest.
fn scan(text: &str) -> Option<(i32, &str)> {
    let text = text.trim_start_matches([' ', '\t']);
    let sign = usize::from(text.starts_with(['-', '+']));
    let digits = text[sign..].bytes().take_while(u8::is_ascii_digit).count();
    if digits == 0 {
        return None;
    }
    let (number, rest) = text.split_at(sign + digits);
    // What does not fit is cut to the lower bits of the largest long number.
    #[allow(clippy::cast_possible_truncation)]
    let number = number.parse::<i64>().unwrap_or(i64::MAX) as i32;
    Some((number, rest))
}

fn is_startups(text: &str, version: Version) -> bool {
    let mut numbers = Vec::new();
    let mut rest = Some(text);
    while let Some((number, behind)) = rest.filter(|_| numbers.len() < 3).and_then(scan) {
        numbers.push(number);
        rest = behind.strip_prefix(':');
    }
    match numbers[..] {
        [begin, rate, most] => begin <= most && (1..=100).contains(&rate),
        [one] => version < Version(9, 2) || one > 0,
        _ => false,
    }
}

fn is_netblock_size(text: &str) -> bool {
    let Some((four, rest)) = scan(text) else { return false };
    let six = rest.strip_prefix(':').and_then(scan).map_or(128, |(six, _)| six);
    (0..=32).contains(&four) && (0..=128).contains(&six)
}

fn is_umask(text: &str) -> bool {
    octal(text).is_some_and(|bits| bits <= 0o777)
}

/// The octal number at the beginning of a text.
pub(super) fn octal(text: &str) -> Option<u32> {
    let digits: String = text.chars().take_while(|digit| ('0'..='7').contains(digit)).collect();
    u32::from_str_radix(&digits, 8).ok()
}

/// `MaxStartups` as the server prints it.
pub(super) fn startups(text: &str) -> String {
    let numbers: Vec<u32> = text.split(':').filter_map(|number| number.parse().ok()).collect();
    match numbers[..] {
        [one] => format!("{one}:30:{one}"),
        _ => numbers.iter().map(u32::to_string).collect::<Vec<_>>().join(":"),
    }
}

/// An address, a name or `*`, perhaps with a port. Whether a name leads anywhere is not looked up.
fn is_listen(first: &str, services: &Services) -> bool {
    match first.strip_prefix('[') {
        Some(rest) => match rest.split_once(']') {
            Some((_, "")) => true,
            Some((_, behind)) => behind.strip_prefix(':').is_some_and(|text| port(text, services).is_some()),
            None => false,
        },
        None if first.matches(':').count() == 1 => {
            first.split_once(':').is_some_and(|(_, text)| port(text, services).is_some())
        }
        None => true,
    }
}

fn is_penalty(word: &str) -> bool {
    let Some((name, value)) = word.split_once(':') else { return is_one_of(word, &["yes", "no"]) };
    match name {
        "authfail" | "crash" | "grace-exceeded" | "max" | "min" | "noauth" | "refuseconnection" => {
            is_time(value, Version(10, 0))
        }
        "max-sources4" | "max-sources6" => is_number(value),
        "overflow" | "overflow6" => matches!(value, "deny-all" | "permissive"),
        _ => false,
    }
}

/// A number of bytes, perhaps with a unit and a fraction of it.
fn amount(text: &str) -> Option<i64> {
    let upper = text.to_ascii_uppercase();
    let unit = ["K", "M", "G", "T", "P", "E"].iter().position(|unit| upper.ends_with(unit));
    let digits = if unit.is_some() { &text[..text.len() - 1] } else { text };
    let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
    let is_plain = !whole.is_empty() && whole.bytes().chain(part.bytes()).all(|byte| byte.is_ascii_digit());
    let unit = 1_i64 << (10 * unit.map_or(0, |place| place + 1));
    whole.parse::<i64>().ok().filter(|_| is_plain)?.checked_mul(unit)
}

/// An amount, at least 16 bytes where it is not zero, and a time.
fn is_rekey(words: &[String], version: Version) -> bool {
    let size_is_good =
        words[0].eq_ignore_ascii_case("default") || amount(&words[0]).is_some_and(|bytes| bytes == 0 || bytes >= 16);
    let time = words.get(1);
    size_is_good && time.is_none_or(|time| time.eq_ignore_ascii_case("none") || is_time(time, version))
}

/// A subsystem as the server prints it: words with blanks in quotes.
pub(super) fn subsystem(words: &[String]) -> String {
    let quoted = |word: &String| {
        let escaped: String =
            word.chars().flat_map(|c| matches!(c, '\\' | '\'' | '"').then_some('\\').into_iter().chain([c])).collect();
        if word.contains([' ', '\t']) { format!("\"{escaped}\"") } else { escaped }
    };
    let (name, command) = words.split_first().map_or((String::new(), words), |(name, command)| (name.clone(), command));
    command.iter().fold(name, |line, word| format!("{line} {}", quoted(word)))
}

/// `RekeyLimit` as the server prints it.
pub(super) fn rekey(words: &[String]) -> String {
    let size = words.first().and_then(|word| amount(word)).unwrap_or(0);
    format!("{size} {}", words.get(1).and_then(|word| seconds(word)).unwrap_or(0))
}

fn wrong_channels(words: &[String], version: Version) -> Wrong {
    if words.len() == 1 && words[0].eq_ignore_ascii_case("none") {
        return None;
    }
    let is_good =
        |word: &&String| word.split_once('=').is_some_and(|(name, time)| !name.is_empty() && is_time(time, version));
    let bad = words.iter().find(|word| !is_good(word))?;
    Some(WrongValue::Refused(bad.clone()))
}

/// Methods that `AuthenticationMethods` may name.
const METHODS: [&str; 6] = ["publickey", "password", "keyboard-interactive", "hostbased", "gssapi-with-mic", "none"];

fn wrong_methods(lists: &[String]) -> Wrong {
    if lists.iter().any(|list| list == "any") {
        return (lists.len() > 1).then_some(WrongValue::NotAlone("any"));
    }
    let is_method = |method: &str| METHODS.contains(&method.split(':').next().unwrap_or_default());
    let bad = lists.iter().find(|list| !list.split(',').all(is_method))?;
    Some(WrongValue::NoMethod(bad.clone()))
}

#[cfg(test)]
mod tests {
    use super::super::keywords::keyword;
    use super::*;

    fn is_taken(line: &str, version: Version) -> bool {
        let words: Vec<String> = line.split(' ').map(str::to_owned).collect();
        let known = keyword(&words[0].to_ascii_lowercase(), version).unwrap();
        let services = Services::default();
        check(&words[0], known.takes, &words[1..], &ValueRules { version, services: &services }).is_ok()
    }

    #[test]
    fn values_the_server_starts_with() {
        for line in [
            "UsePAM YES",
            "PermitRootLogin forced-commands-only",
            "MaxAuthTries 010",
            "Port 2222",
            "Port ssh",
            "LoginGraceTime 1h30m",
            "LoginGraceTime 120",
            "MaxStartups 10:30:60",
            "MaxStartups 7",
            "AllowTcpForwarding local",
            "AuthenticationMethods publickey,password publickey",
            "Protocol anything at all",
            "ChallengeResponseAuthentication no",
            "AuthenticationMethods any",
            "Subsystem sftp /usr/lib/sftp -f AUTH",
            "PubkeyAcceptedKeyTypes +ssh-rsa",
            "PubkeyAcceptedKeyTypes -nosuch",
            "Ciphers ^aes128-ctr,aes256-ctr",
            "RekeyLimit 1G 1h",
            "IPQoS af11 0x10",
            "PermitListen 8080 [::1]:ssh",
            "StreamLocalBindMask 0177",
        ] {
            assert!(is_taken(line, Version(9, 2)), "{line}");
        }
        assert!(is_taken("PerSourcePenalties authfail:60 max:1h overflow:permissive", Version(10, 0)));
        assert!(is_taken("AllowUsers", Version(8, 4)));
    }

    #[test]
    fn values_it_does_not_start_with() {
        for line in [
            "UsePAM true",
            "UsePAM yes no",
            "PermitRootLogin sometimes",
            "MaxAuthTries 0x10",
            "MaxAuthTries -1",
            "Port 0",
            "Port 99999",
            "Port nosuch",
            "LoginGraceTime 1x",
            "LoginGraceTime m",
            "LoginGraceTime none",
            "MaxStartups 10:30",
            "MaxStartups 60:30:10",
            "AuthenticationMethods any publickey",
            "AuthenticationMethods smoke",
            "PubkeyAcceptedAlgorithms nosuch",
            "Ciphers aes128-ctr,nosuch",
            "MACs *",
            "RekeyLimit 1",
            "RDomain none",
            "PermitTunnel YES",
            "AcceptEnv LANG=C",
            "UsePAM",
            "AllowUsers",
        ] {
            assert!(!is_taken(line, Version(9, 2)), "{line}");
        }
        assert!(!is_taken("PubkeyAcceptedKeyTypes +ssh-dss", Version(10, 0)));
        assert!(is_taken("PubkeyAcceptedKeyTypes +ssh-dss", Version(9, 2)));
    }
}
