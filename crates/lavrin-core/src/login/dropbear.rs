//! What dropbear's server (2022.83) reads in a key file. It is far simpler than OpenSSH's: it looks for the name of the
//! offered key's algorithm, at the start of a line or behind options, and decodes loosely what follows.

use super::{Limits, Reason, ReasonKind};
use crate::fs::BytePath;
use crate::key::{Algorithm, Fingerprint, base64};
use crate::keysfile::{LineFault, options::OptionFault};
use crate::text::printable;

/// Shortest and longest line that it looks at, in bytes.
const LINE_BYTES: std::ops::RangeInclusive<usize> = 10..=4200;

/// Options without a value, with what they take away.
const FLAGS: [(&str, &[&str]); 7] = [
    ("no-port-forwarding", &["port forwarding"]),
    ("no-agent-forwarding", &["agent forwarding"]),
    ("no-x11-forwarding", &["X11 forwarding"]),
    ("no-pty", &["terminal"]),
    ("restrict", &["agent forwarding", "port forwarding", "terminal", "X11 forwarding"]),
    ("no-touch-required", &[]),
    ("verify-required", &[]),
];

/// Goes through the file; the first line with the key whose options it knows opens the account.
pub(super) fn search(bytes: &[u8], wanted: &Fingerprint, path: &BytePath) -> Result<(usize, Limits), Vec<Reason>> {
    let mut reasons = Vec::new();
    for (index, line) in bytes.split(|byte| *byte == b'\n').enumerate() {
        let Some(options) = Algorithm::ALL.into_iter().find_map(|algorithm| holds(line, algorithm, wanted)) else {
            continue;
        };
        match limits(options) {
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

/// The options of the line, if it holds the key.
fn holds<'a>(line: &'a [u8], algorithm: Algorithm, wanted: &Fingerprint) -> Option<&'a [u8]> {
    let name = algorithm.name().as_bytes();
    if !LINE_BYTES.contains(&line.len()) || line.contains(&0) || line.len() < name.len() + 3 {
        return None;
    }
    let (options, rest) = match line.strip_prefix(name) {
        Some(rest) => (&line[..0], rest),
        None => behind_options(line, name)?,
    };
    let base64 = rest.strip_prefix(b" ")?.split(|byte| *byte == b' ').next()?;
    let blob = base64::decode_loosely(base64);
    (Fingerprint::of(&blob) == *wanted).then_some(options)
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
fn limits(options: &[u8]) -> Result<Limits, OptionFault> {
    let mut limits = Limits::default();
    let mut rest = options;
    while !rest.is_empty() {
        let behind = option(rest, &mut limits)?;
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

fn option<'a>(text: &'a [u8], limits: &mut Limits) -> Result<&'a [u8], OptionFault> {
    let begins = |name: &str| text.len() >= name.len() && text[..name.len()].eq_ignore_ascii_case(name.as_bytes());
    for (name, denied) in FLAGS {
        if begins(name) {
            limits.denied.extend(denied);
            return Ok(&text[name.len()..]);
        }
    }
    for name in ["command=\"", "permitopen=\""] {
        if begins(name) {
            let (value, behind) = quoted(&text[name.len()..])
                .ok_or_else(|| OptionFault::NotClosed { name: name.trim_end_matches("=\"").to_owned() })?;
            if name.starts_with("command") {
                limits.command = Some(printable(value));
            } else {
                limits.permit.push(format!("permitopen={}", printable(value)));
            }
            return Ok(behind);
        }
    }
    Err(OptionFault::Unknown { name: shown(text) })
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
    use crate::key::PrivateKey;

    fn ask(text: &str) -> Result<(usize, Limits), &'static str> {
        let key = PrivateKey::ed25519(&[1; 32]).unwrap().public().clone();
        let (line, base64) = (key.line("edda"), key.line("").split(' ').nth(1).unwrap().to_owned());
        let text = text.replace("LINE", &line).replace("BASE64", &base64);
        search(text.as_bytes(), &key.fingerprint(), &"/k".into()).map_err(|reasons| reasons[0].kind.rule())
    }

    #[test]
    fn lines_are_found_loosely_and_options_strictly() {
        assert_eq!(ask("# LINE\n\nLINE\n").unwrap().0, 3);
        assert_eq!(ask("no-pty,command=\"echo \\\"x\\\"\" LINE").unwrap().1.command.as_deref(), Some("echo \\\"x\\\""));
        assert_eq!(ask("RESTRICT LINE").unwrap().1.denied.len(), 4);
        for refused in ["ssh-ed25519\tBASE64", "from=\"192.0.2.1\" LINE", "no-ptyx LINE", "LINE\0", "command=\"x LINE"]
        {
            assert!(ask(refused).is_err(), "{refused}");
        }
        assert_eq!(ask("from=\"192.0.2.1\" LINE").unwrap_err(), "unusable-line");
    }

    #[test]
    fn base64_is_decoded_loosely() {
        assert_eq!(base64::decode_loosely(b"TGFt\rcA=="), b"Lamp");
        assert_eq!(base64::decode_loosely(b"TGE="), b"La");
        assert_eq!(base64::decode_loosely(b"TGFt"), b"Lam");
    }
}
