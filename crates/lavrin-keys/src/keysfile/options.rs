//! The options in front of an entry (manual page of sshd, "`AUTHORIZED_KEYS` FILE FORMAT", and what the server does).

use super::Dialect;
use crate::services::is_permission;
use crate::text::printable;
use crate::version::Version;

/// What an option takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum OptionTakes {
    Nothing,
    Value,
    OneValue,
}

/// Every option that OpenSSH's server knows; any other kills the line.
const KNOWN: [(&str, OptionTakes); 24] = [
    ("restrict", OptionTakes::Nothing),
    ("cert-authority", OptionTakes::Nothing),
    ("agent-forwarding", OptionTakes::Nothing),
    ("no-agent-forwarding", OptionTakes::Nothing),
    ("port-forwarding", OptionTakes::Nothing),
    ("no-port-forwarding", OptionTakes::Nothing),
    ("x11-forwarding", OptionTakes::Nothing),
    ("no-x11-forwarding", OptionTakes::Nothing),
    ("pty", OptionTakes::Nothing),
    ("no-pty", OptionTakes::Nothing),
    ("user-rc", OptionTakes::Nothing),
    ("no-user-rc", OptionTakes::Nothing),
    ("touch-required", OptionTakes::Nothing),
    ("no-touch-required", OptionTakes::Nothing),
    ("verify-required", OptionTakes::Nothing),
    ("no-verify-required", OptionTakes::Nothing),
    ("command", OptionTakes::OneValue),
    ("principals", OptionTakes::OneValue),
    ("from", OptionTakes::OneValue),
    ("expiry-time", OptionTakes::Value),
    ("environment", OptionTakes::Value),
    ("permitopen", OptionTakes::Value),
    ("permitlisten", OptionTakes::Value),
    ("tunnel", OptionTakes::OneValue),
];

/// The options of one entry.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Options {
    /// As they stand in the file.
    pub text: Vec<u8>,
    list: Vec<KeyOption>,
}

/// One option: its name in lower case, and its value without quotes.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct KeyOption {
    /// The name.
    pub name: &'static str,
    /// The value, for those that take one.
    pub value: Option<Vec<u8>>,
}

/// Why options do not parse, so that the server skips the line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OptionFault {
    /// No server knows this name.
    Unknown {
        /// The name.
        name: String,
    },
    /// The value has to stand in double quotes.
    NotQuoted {
        /// The option.
        name: String,
    },
    /// The closing quote is missing.
    NotClosed {
        /// The option.
        name: String,
    },
    /// An option that may stand once stands twice.
    Repeated {
        /// The option.
        name: String,
    },
    /// A value that the server does not take.
    BadValue {
        /// The option.
        name: String,
        /// The value, cut.
        value: String,
    },
    /// More of them than the server takes on one line.
    TooMany {
        /// The option.
        name: String,
        /// The server's limit.
        limit: usize,
    },
    /// Something stands where a comma was expected.
    NoComma {
        /// The option.
        name: String,
    },
}

/// How the option begins that ends an entry.
const NAME: &[u8] = b"expiry-time=";

/// The text up to the first comma outside of quotes, and what is behind it.
fn first(text: &[u8]) -> (&[u8], &[u8]) {
    let (mut quoted, mut at) = (false, 0);
    while let Some(byte) = text.get(at) {
        match byte {
            b'\\' if text.get(at + 1) == Some(&b'"') => at += 1,
            b'"' => quoted = !quoted,
            b',' if !quoted => return (&text[..at], &text[at + 1..]),
            _ => {}
        }
        at += 1;
    }
    (text, &[])
}

/// Splits a line at the first blank outside of quotes: the options, and the rest without leading blanks.
#[must_use]
pub fn split(text: &[u8]) -> (&[u8], &[u8]) {
    let mut quoted = false;
    let mut at = 0;
    while let Some(byte) = text.get(at) {
        match byte {
            b'\\' if text.get(at + 1) == Some(&b'"') => at += 1,
            b'"' => quoted = !quoted,
            b' ' | b'\t' if !quoted => break,
            _ => {}
        }
        at += 1;
    }
    let at = at.min(text.len());
    let rest = &text[at..];
    let blanks = rest.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
    (&text[..at], &rest[blanks..])
}

impl Options {
    /// Reads the options; the text holds no blank outside of quotes.
    ///
    /// # Errors
    /// [`OptionFault`] where the server would skip the line.
    pub fn parse(text: &[u8]) -> Result<Self, OptionFault> {
        Self::parse_for(text, &Dialect::default())
    }

    /// The same as a certain server reads it.
    ///
    /// # Errors
    /// [`OptionFault`] where that server would skip the line.
    pub fn parse_for(text: &[u8], dialect: &Dialect) -> Result<Self, OptionFault> {
        let mut list: Vec<KeyOption> = Vec::new();
        let mut rest = text;
        loop {
            // Stray commas pass.
            let commas = rest.iter().take_while(|byte| **byte == b',').count();
            rest = &rest[commas..];
            if rest.is_empty() {
                return Ok(Self { text: text.to_vec(), list });
            }
            let end = rest.iter().position(|byte| matches!(byte, b',' | b'=' | b'"')).unwrap_or(rest.len());
            let (name, takes) = known(&rest[..end])?;
            rest = &rest[end..];
            let value = match takes {
                OptionTakes::Nothing => None,
                OptionTakes::Value | OptionTakes::OneValue => {
                    let (value, behind) = quoted(name, rest)?;
                    rest = behind;
                    Some(value)
                }
            };
            if takes == OptionTakes::OneValue && list.iter().any(|option| option.name == name) {
                return Err(OptionFault::Repeated { name: name.to_owned() });
            }
            if let Some(value) = &value {
                check_value(name, value, &list, dialect)?;
            }
            if !matches!(rest.first(), None | Some(b',')) {
                return Err(OptionFault::NoComma { name: name.to_owned() });
            }
            list.push(KeyOption { name, value });
        }
    }

    /// Every option in order.
    #[must_use]
    pub fn list(&self) -> &[KeyOption] {
        &self.list
    }

    /// Whether both say the same, in whatever order.
    #[must_use]
    pub fn says_the_same(&self, other: &Self) -> bool {
        let sorted = |options: &Self| {
            let mut list = options.list.clone();
            list.sort();
            list
        };
        sorted(self) == sorted(other)
    }

    /// The same text with this `expiry-time=` instead of any other, or without one; all else stays as it is, byte for byte.
    #[must_use]
    pub fn with_expiry(&self, expiry: Option<&str>) -> Vec<u8> {
        let mut parts: Vec<&[u8]> = Vec::new();
        let mut rest = &self.text[..];
        while !rest.is_empty() {
            let (part, behind) = first(rest);
            parts.push(part);
            rest = behind;
        }
        let is_expiry = |part: &[u8]| part.len() > NAME.len() && part[..NAME.len()].eq_ignore_ascii_case(NAME);
        let new = expiry.map(|value| [NAME, b"\"", value.as_bytes(), b"\""].concat());
        let mut new = new.as_deref();
        let mut kept: Vec<&[u8]> = Vec::new();
        for part in parts {
            // In the place of the first one, so that nothing moves.
            if is_expiry(part) { kept.extend(new.take()) } else { kept.push(part) }
        }
        kept.extend(new.take());
        kept.join(&b","[..])
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    /// Whether an option without value is given.
    #[must_use]
    pub fn has(&self, name: &str) -> bool {
        self.list.iter().any(|option| option.name == name)
    }

    /// The first value of an option.
    #[must_use]
    pub fn value(&self, name: &str) -> Option<&[u8]> {
        self.list.iter().find(|option| option.name == name)?.value.as_deref()
    }

    /// Every value of an option that may stand more than once.
    pub fn values<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a [u8]> {
        self.list.iter().filter(move |option| option.name == name).filter_map(|option| option.value.as_deref())
    }
}

/// Most `permitopen=` and `permitlisten=` of one line that the server takes, and most `environment=`.
const PERMITS_MAX: usize = 4096;
const VARIABLES_MAX: usize = 1024;

/// Since this version a time may end in `Z`, for UTC.
const UTC_SINCE: Version = Version(9, 1);

/// What the server looks at in a value before it takes the line.
fn check_value(name: &'static str, value: &[u8], before: &[KeyOption], dialect: &Dialect) -> Result<(), OptionFault> {
    let permission = |host_may_be_missing| {
        std::str::from_utf8(value).is_ok_and(|text| is_permission(text, host_may_be_missing, &dialect.services))
    };
    let good = match name {
        "environment" => value.iter().position(|byte| *byte == b'=').is_some_and(|end| {
            end > 0 && value[..end].iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'_')
        }),
        "expiry-time" => {
            super::expiry::expiry(value).is_some() && (dialect.version >= UTC_SINCE || !value.ends_with(b"Z"))
        }
        "tunnel" => is_tunnel(value),
        "permitopen" => permission(false),
        "permitlisten" => permission(true),
        _ => true,
    };
    if !good {
        return Err(OptionFault::BadValue { name: name.to_owned(), value: printable(&value[..value.len().min(64)]) });
    }
    let earlier = || before.iter().filter(|option| option.name == name).filter_map(|option| option.value.as_deref());
    let variable = |value: &[u8]| value.split(|byte| *byte == b'=').next().map(<[u8]>::to_vec);
    let (limit, count) = match name {
        // A variable that is set again is passed over and does not count.
        "environment" if earlier().count() >= VARIABLES_MAX => {
            let names: std::collections::HashSet<_> = earlier().map(variable).collect();
            (VARIABLES_MAX, if names.contains(&variable(value)) { 0 } else { names.len() })
        }
        "permitopen" | "permitlisten" => (PERMITS_MAX, earlier().count()),
        _ => return Ok(()),
    };
    if count >= limit {
        return Err(OptionFault::TooMany { name: name.to_owned(), limit });
    }
    Ok(())
}

/// A device's number up to 2^31 - 3, read as `strtoll` reads it, or `any`.
fn is_tunnel(value: &[u8]) -> bool {
    const TUNNEL_MAX: u32 = 0x7fff_fffd;
    let text = std::str::from_utf8(value).unwrap_or_default();
    let number = text.trim_start_matches([' ', '\t', '\n', '\u{b}', '\u{c}', '\r']);
    let digits = number.strip_prefix('+').unwrap_or(number);
    let is_zero =
        number.strip_prefix('-').is_some_and(|rest| !rest.is_empty() && rest.bytes().all(|byte| byte == b'0'));
    text.eq_ignore_ascii_case("any")
        || is_zero
        || (digits.bytes().all(|byte| byte.is_ascii_digit())
            && digits.parse().is_ok_and(|number: u32| number <= TUNNEL_MAX))
}

fn known(name: &[u8]) -> Result<(&'static str, OptionTakes), OptionFault> {
    KNOWN
        .into_iter()
        .find(|(known, _)| known.as_bytes().eq_ignore_ascii_case(name))
        .ok_or_else(|| OptionFault::Unknown { name: printable(&name[..name.len().min(64)]) })
}

/// A value in double quotes behind `=`; `\"` stands for a quote.
fn quoted<'a>(name: &str, text: &'a [u8]) -> Result<(Vec<u8>, &'a [u8]), OptionFault> {
    let Some(mut rest) = text.strip_prefix(b"=\"") else {
        return Err(OptionFault::NotQuoted { name: name.to_owned() });
    };
    let mut value = Vec::new();
    loop {
        match rest {
            [] => return Err(OptionFault::NotClosed { name: name.to_owned() }),
            [b'\\', b'"', behind @ ..] => {
                value.push(b'"');
                rest = behind;
            }
            [b'"', behind @ ..] => return Ok((value, behind)),
            [byte, behind @ ..] => {
                value.push(*byte);
                rest = behind;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quotes_hold_blanks_and_commas() {
        let (options, rest) = split(b"command=\"/bin/tide \\\"now\\\", 2\",no-pty ssh-rsa AAAA");
        assert_eq!(rest, b"ssh-rsa AAAA");
        let options = Options::parse(options).unwrap();
        assert_eq!(options.value("command"), Some(&b"/bin/tide \"now\", 2"[..]));
        assert!(options.has("no-pty"));
    }

    #[test]
    fn names_ignore_case_and_stray_commas_pass() {
        assert!(Options::parse(b",RESTRICT,,Pty,").unwrap().has("restrict"));
    }

    #[test]
    fn rejects_what_the_server_rejects() {
        let fault = |text: &[u8]| Options::parse(text).unwrap_err();
        assert_eq!(fault(b"nosuch"), OptionFault::Unknown { name: "nosuch".into() });
        assert_eq!(fault(b"from=192.0.2.1"), OptionFault::NotQuoted { name: "from".into() });
        assert_eq!(fault(b"command=\"a"), OptionFault::NotClosed { name: "command".into() });
        assert_eq!(fault(b"from=\"a\",from=\"b\""), OptionFault::Repeated { name: "from".into() });
        assert_eq!(fault(b"command=\"a\"b"), OptionFault::NoComma { name: "command".into() });
        assert_eq!(fault(b"pty=\"yes\""), OptionFault::NoComma { name: "pty".into() });
    }

    #[test]
    fn values_are_looked_at_as_the_server_does() {
        let takes = |text: &str| Options::parse(text.as_bytes()).is_ok();
        assert!(takes("environment=\"TIDE=low\"") && takes("environment=\"A_1=\""));
        assert!(!takes("environment=\"TIDE\"") && !takes("environment=\"A-B=c\"") && !takes("environment=\"=c\""));
        assert!(takes(
            "permitopen=\"192.0.2.1:80\",permitopen=\"[2001:db8::1]:ssh\",permitlisten=\"8080\",permitopen=\"a:*\""
        ));
        assert!(!takes("permitopen=\"80\"") && !takes("permitopen=\"a:0\"") && !takes("permitopen=\"2001:db8::1:80\""));
        assert!(!takes("permitlisten=\"x y\"") && !takes("permitopen=\"a:99999\""));
        let many = |count: usize| vec!["permitopen=\"a:1\""; count].join(",");
        assert!(takes(&many(4096)) && !takes(&many(4097)));
    }

    #[test]
    fn only_the_end_changes_and_all_else_stays() {
        let with =
            |text: &[u8], end: Option<&str>| String::from_utf8(Options::parse(text).unwrap().with_expiry(end)).unwrap();
        assert_eq!(with(b"", Some("20270701")), "expiry-time=\"20270701\"");
        assert_eq!(with(b"no-pty,from=\"a,b\"", Some("20270701")), "no-pty,from=\"a,b\",expiry-time=\"20270701\"");
        let there = b"No-Pty,Expiry-Time=\"20260101\",command=\"say \\\"a, b\\\"\",expiry-time=\"20250101\"";
        assert_eq!(with(there, Some("20270701")), "No-Pty,expiry-time=\"20270701\",command=\"say \\\"a, b\\\"\"");
        assert_eq!(with(there, None), "No-Pty,command=\"say \\\"a, b\\\"\"");
        assert_eq!(with(b"no-pty", None), "no-pty");
    }
}
