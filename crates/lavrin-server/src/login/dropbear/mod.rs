//! What dropbear's server does. Its reading of a key file is far simpler than OpenSSH's: it looks for the name of the offered
//! key's algorithm, at the start of a line or behind options, and decodes loosely what follows.

use super::{Limits, Question, Reason, ReasonKind};
use crate::account::Account;
use crate::fs::{BytePath, Fact};
use crate::server_config::ConfigError;
use crate::server_config::switches::{START_BYTES_MAX, START_PATH};
use crate::survey::{Want, Wanted};
use crate::system::System;
use lavrin_keys::key::{Algorithm, Fingerprint, PublicKey, base64};
use lavrin_keys::keysfile::{LineFault, options::OptionFault};
use lavrin_keys::text::printable;
use lavrin_keys::version::Version;

/// Shortest line that it looks at, in bytes.
const LINE_BYTES_MIN: usize = 10;

/// So many bytes of a line are read at once. Where it is longer, they are dropped and the rest counts as a line.
const LINE_BYTES_MAX: usize = 4200;

const ALWAYS: Version = Version(0, 0);

/// Since this version authenticators and what belongs to them are known, and `restrict` and `permitopen=`.
const AUTHENTICATORS_SINCE: Version = Version(2022, 83);

/// Since this version DSA keys, and SHA-1 in signatures of RSA keys, are not taken any more.
const NO_SHA1_SINCE: Version = Version(2025, 89);

/// RSA keys of other sizes are refused, in bits.
const RSA_BITS: std::ops::RangeInclusive<usize> = 1024..=8192;

/// Options without a value, with what they take away and since when they are known.
const FLAGS: [(&str, &[&str], Version); 7] = [
    ("no-port-forwarding", &["port forwarding"], ALWAYS),
    ("no-agent-forwarding", &["agent forwarding"], ALWAYS),
    ("no-x11-forwarding", &["X11 forwarding"], ALWAYS),
    ("no-pty", &["terminal"], ALWAYS),
    ("restrict", &["agent forwarding", "port forwarding", "terminal", "X11 forwarding"], AUTHENTICATORS_SINCE),
    ("no-touch-required", &[], AUTHENTICATORS_SINCE),
    ("verify-required", &[], AUTHENTICATORS_SINCE),
];

/// Options with a value, and since when they are known.
const VALUES: [(&str, Version); 2] = [("command=\"", ALWAYS), ("permitopen=\"", AUTHENTICATORS_SINCE)];

/// The list of shells of which an account has to have one.
const SHELLS_PATH: &str = "/etc/shells";

/// What has to be looked at beside the key file.
pub(super) fn wants() -> [Want; 2] {
    [(START_PATH, START_BYTES_MAX), (SHELLS_PATH, START_BYTES_MAX)]
        .map(|(path, limit)| Want { what: Wanted::Bytes(path.into(), limit), account: None })
}

/// What it asks before it looks at the key file.
pub(super) fn reasons(account: &Account, question: &Question, seen: &System<'_>) -> Vec<Reason> {
    let (switches, version) = (seen.switches(), seen.server.rules());
    let at_start = |kind| Reason::at(kind, &START_PATH.into(), None);
    let mut reasons = Vec::new();
    if let Some(fault) = switches.fault(version, seen) {
        reasons.push(at_start(ReasonKind::ConfigRejected(ConfigError::Switch(fault))));
    }
    if switches.no_root && account.is_root() {
        reasons.push(at_start(ReasonKind::RootNotAllowed("no".to_owned())));
    }
    if let Some(group) = &switches.group {
        let is_member = crate::server_config::group_names(account, &seen.groups).any(|name| name == group);
        if !is_member {
            reasons.push(at_start(ReasonKind::UserNotAllowed { keyword: "-G", list: Vec::new() }));
        }
    }
    if !is_listed_shell(account, seen) {
        reasons.push(Reason::at(ReasonKind::ShellNotListed(account.shell.clone()), &SHELLS_PATH.into(), None));
    }
    if switches.password_too {
        reasons.push(at_start(ReasonKind::FurtherMethod("publickey,password".to_owned())));
    }
    reasons.extend(of_key(question, version).map(Reason::plain));
    reasons
}

/// Whether the shell is among those of the system. What no file lists is one of two.
fn is_listed_shell(account: &Account, seen: &System<'_>) -> bool {
    let shell = account.shell.as_bytes();
    match seen.content(&SHELLS_PATH.into()) {
        Fact::Known(bytes) => bytes.split(|byte| *byte == b'\n').any(|line| line.trim_ascii() == shell),
        Fact::Absent => [&b"/bin/sh"[..], b"/bin/csh"].contains(&shell),
        Fact::Unseen(_) => true,
    }
}

/// Which keys and signatures it takes.
fn of_key(question: &Question, version: Version) -> Option<ReasonKind> {
    let off = |name: &str| Some(ReasonKind::AlgorithmOff(name.to_owned()));
    if question.certificate.is_some() {
        return off("certificates");
    }
    let key = question.key.as_ref()?;
    match key {
        PublicKey::Rsa { .. } => {
            let takes_sha1 = version < NO_SHA1_SINCE;
            match question.signature.as_deref() {
                None | Some("rsa-sha2-256") => {}
                Some("ssh-rsa") if takes_sha1 => {}
                Some(other) => return off(other),
            }
            let bits = key.bits();
            (!RSA_BITS.contains(&bits)).then(|| {
                let (min, max) = (*RSA_BITS.start(), *RSA_BITS.end());
                if bits < min { ReasonKind::KeyTooSmall { bits, min } } else { ReasonKind::KeyTooLarge { bits, max } }
            })
        }
        PublicKey::SkEd25519 { .. } | PublicKey::SkEcdsa { .. } if version < AUTHENTICATORS_SINCE => {
            off(key.algorithm().name())
        }
        PublicKey::Dss { .. } if version >= NO_SHA1_SINCE => off(key.algorithm().name()),
        _ => None,
    }
}

/// Goes through the file; the first line with the key whose options it knows opens the account.
/// The algorithms that this version takes at all.
pub(super) fn algorithms(version: Version) -> Vec<Algorithm> {
    let takes = |algorithm: &Algorithm| match algorithm {
        Algorithm::SkEd25519 | Algorithm::SkEcdsa => version >= AUTHENTICATORS_SINCE,
        Algorithm::Dss => version < NO_SHA1_SINCE,
        _ => true,
    };
    Algorithm::ALL.into_iter().filter(takes).collect()
}

pub(super) fn search(
    bytes: &[u8],
    wanted: &Fingerprint,
    path: &BytePath,
    version: Version,
) -> Result<(usize, Limits), Vec<Reason>> {
    let mut reasons = Vec::new();
    for (index, line) in lines(bytes) {
        let Some(options) = Algorithm::ALL.into_iter().find_map(|algorithm| holds(line, algorithm, wanted)) else {
            continue;
        };
        match limits(options, version) {
            Ok(limits) => return Ok((index + 1, limits)),
            Err(fault) => {
                let kind = ReasonKind::DeadLine(LineFault::Options(fault));
                reasons.push(Reason::at(kind, path, Some(index + 1)));
            }
        }
    }
    if reasons.is_empty() {
        reasons.push(Reason::at(ReasonKind::NoEntry, path, None));
    }
    Err(reasons)
}

/// The lines as it reads them, which end with either of two characters, and the number of the line that a person sees.
fn lines(bytes: &[u8]) -> impl Iterator<Item = (usize, &[u8])> {
    let numbered = bytes.split(|byte| *byte == b'\n').enumerate();
    let parts = numbered.flat_map(|(index, line)| line.split(|byte| *byte == b'\r').map(move |part| (index, part)));
    parts.map(|(index, line)| (index, &line[line.len() - line.len() % LINE_BYTES_MAX..]))
}

/// The options of the line, if it holds the key.
fn holds<'a>(line: &'a [u8], algorithm: Algorithm, wanted: &Fingerprint) -> Option<&'a [u8]> {
    let name = algorithm.name().as_bytes();
    if line.len() < LINE_BYTES_MIN || line.contains(&0) || line.len() < name.len() + 3 {
        return None;
    }
    let (options, rest) = match line.strip_prefix(name) {
        Some(rest) => (&line[..0], rest),
        None => behind_options(line, name)?,
    };
    let base64 = rest.strip_prefix(b" ")?.split(|byte| *byte == b' ').next()?;
    let blob = base64::decode_loosely(base64);
    // It looks for the name of the offered key, so another name in front hides the key.
    let is_named = blob.get(4..4 + name.len()) == Some(name);
    (is_named && Fingerprint::of(&blob) == *wanted).then_some(options)
}

fn behind_options<'a>(line: &'a [u8], name: &[u8]) -> Option<(&'a [u8], &'a [u8])> {
    let blanks = line.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
    let text = &line[blanks..];
    if text.first() == Some(&b'#') {
        return None;
    }
    let (mut quoted, mut escaped) = (false, false);
    let end = text.iter().position(|byte| {
        if !quoted && matches!(byte, b' ' | b'\t') {
            return true;
        }
        escaped = !escaped && *byte == b'\\';
        if !escaped && *byte == b'"' {
            quoted = !quoted;
        }
        false
    })?;
    let rest = &text[end + 1..];
    (rest.len() >= name.len() + 3).then(|| rest.strip_prefix(name)).flatten().map(|rest| (&text[..end], rest))
}

/// What the options come to.
///
/// # Errors
/// The [`OptionFault`] for which the line is passed over.
fn limits(options: &[u8], version: Version) -> Result<Limits, OptionFault> {
    let mut limits = Limits::default();
    let mut rest = options;
    while !rest.is_empty() {
        // An option without a name is passed over.
        if let Some(behind) = rest.strip_prefix(b",") {
            rest = behind;
            continue;
        }
        let behind = option(rest, &mut limits, version)?;
        match behind.first() {
            None => break,
            Some(b',') => rest = &behind[1..],
            Some(_) => return Err(OptionFault::NoComma { name: shown(rest) }),
        }
    }
    limits.denied.sort_unstable();
    limits.denied.dedup();
    Ok(limits)
}

fn option<'a>(text: &'a [u8], limits: &mut Limits, version: Version) -> Result<&'a [u8], OptionFault> {
    let begins = |name: &str| text.len() >= name.len() && text[..name.len()].eq_ignore_ascii_case(name.as_bytes());
    for (name, denied, since) in FLAGS {
        if version >= since && begins(name) {
            limits.denied.extend(denied);
            return Ok(&text[name.len()..]);
        }
    }
    for (name, since) in VALUES {
        if version >= since && begins(name) {
            let (value, behind) = quoted(&text[name.len()..])
                .ok_or_else(|| OptionFault::NotClosed { name: name.trim_end_matches("=\"").to_owned() })?;
            if name.starts_with("command") && limits.command.is_some() {
                return Err(OptionFault::Repeated { name: "command".to_owned() });
            }
            if name.starts_with("command") {
                limits.command = Some(printable(value));
            } else if !is_permission(value) {
                let value = printable(&value[..value.len().min(64)]);
                return Err(OptionFault::BadValue { name: "permitopen".to_owned(), value });
            } else {
                limits.permit.push(format!("permitopen={}", printable(value)));
            }
            return Ok(behind);
        }
    }
    Err(OptionFault::Unknown { name: shown(text) })
}

/// `host:port`, the host in brackets where it has colons; `*` stands for any port.
fn is_permission(value: &[u8]) -> bool {
    let port = match value.strip_prefix(b"[") {
        Some(rest) => rest.splitn(2, |byte| *byte == b']').nth(1).and_then(|behind| behind.strip_prefix(b":")),
        None => value.splitn(2, |byte| *byte == b':').nth(1),
    };
    port.is_some_and(|port| port == b"*" || (!port.is_empty() && port.iter().all(u8::is_ascii_digit)))
}

/// Up to the quote that closes the value, which a backslash in front does not.
fn quoted(text: &[u8]) -> Option<(&[u8], &[u8])> {
    let mut escaped = false;
    let end = text.iter().position(|byte| {
        let closes = *byte == b'"' && !escaped;
        escaped = !escaped && *byte == b'\\';
        closes
    })?;
    Some((&text[..end], &text[end + 1..]))
}

fn shown(text: &[u8]) -> String {
    let name = text.split(|byte| matches!(byte, b',' | b'=')).next().unwrap_or_default();
    printable(&name[..name.len().min(64)])
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_keys::key::PrivateKey;

    fn ask(text: &str) -> Result<(usize, Limits), &'static str> {
        let key = PrivateKey::ed25519(&[1; 32]).unwrap().public().clone();
        let (line, base64) = (key.line("edda"), key.line("").split(' ').nth(1).unwrap().to_owned());
        let text = text.replace("LINE", &line).replace("BASE64", &base64);
        search(text.as_bytes(), &key.fingerprint(), &"/k".into(), Version(2022, 83))
            .map_err(|reasons| reasons[0].kind.rule())
    }

    #[test]
    fn a_version_says_which_algorithms_it_takes() {
        use lavrin_keys::key::Algorithm::{Dss, Ed25519, SkEd25519};
        let takes = |version, algorithm| super::algorithms(version).contains(&algorithm);
        let by = |version| [Ed25519, SkEd25519, Dss].map(|algorithm| takes(version, algorithm));
        assert_eq!(by(Version(2020, 81)), [true, false, true]);
        assert_eq!(by(Version(2022, 83)), [true, true, true]);
        assert_eq!(by(Version(2025, 89)), [true, true, false]);
    }

    #[test]
    fn lines_are_found_loosely_and_options_strictly() {
        assert_eq!(ask("# LINE\n\nLINE\n").unwrap().0, 3);
        assert_eq!(ask("no-pty,command=\"echo \\\"x\\\"\" LINE").unwrap().1.command.as_deref(), Some("echo \\\"x\\\""));
        assert_eq!(ask(&format!("{}LINE", "x".repeat(4200))).unwrap().0, 1);
        assert_eq!(ask("x\rLINE\r").unwrap().0, 1);
        assert_eq!(ask("RESTRICT LINE").unwrap().1.denied.len(), 4);
        for refused in ["ssh-ed25519\tBASE64", "from=\"192.0.2.1\" LINE", "no-ptyx LINE", "LINE\0", "command=\"x LINE"]
        {
            assert!(ask(refused).is_err(), "{refused}");
        }
        assert!(ask(",no-pty,,restrict LINE").is_ok() && ask("command=\"a\",command=\"a\" LINE").is_err());
        assert_eq!(ask("ssh-rsa BASE64").unwrap_err(), "no-entry");
        assert_eq!(ask("from=\"192.0.2.1\" LINE").unwrap_err(), "unusable-line");
    }

    #[test]
    fn base64_is_decoded_loosely() {
        assert_eq!(base64::decode_loosely(b"TGFt\rcA=="), b"Lamp");
        assert_eq!(base64::decode_loosely(b"TGE="), b"La");
        assert_eq!(base64::decode_loosely(b"TG=Ft"), b"Lam");
        assert_eq!(base64::decode_loosely(b"TGFt"), b"Lam");
    }
}
