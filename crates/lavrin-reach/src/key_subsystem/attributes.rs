//! What limits a key there, and what limits it on a line of a key file (RFC 4819, section 4.1; sshd(8)). What one of them cannot say is
//! never left away: the device's own goes along with the name of its place, the line's is refused.

use super::packet::Attribute;
use crate::slots::unreadable;
use lavrin_keys::key::{PublicKey, base64};
use lavrin_keys::keysfile::{Content, Entry, read_all};
use lavrin_keys::text::printable;
use lavrin_server::survey::KeySlot;

/// Options without a value, and the attributes that take the same away.
const FLAGS: [(&str, &[&str]); 3] = [
    ("no-x11-forwarding", &["x11"]),
    ("no-agent-forwarding", &["agent"]),
    ("no-port-forwarding", &["port-forward", "reverse-forward"]),
];

/// Options with one value, and the attribute of the same meaning.
const VALUES: [(&str, &str); 2] = [("from", "from"), ("command", "command-override")];

/// A key as an entry on a line, and in the name of its place what no line can say.
#[must_use]
pub fn slot(algorithm: &str, blob: &[u8], attributes: &[Attribute]) -> KeySlot {
    let mut left: Vec<&Attribute> = attributes.iter().collect();
    let comment = take(&mut left, "comment").map(|comment| printable(&comment.value)).unwrap_or_default();
    let mut options = Vec::new();
    for (option, attribute) in VALUES {
        let fits = left.iter().any(|one| one.name == attribute && !one.value.is_empty() && is_plain(&one.value));
        if let Some(own) = fits.then(|| take(&mut left, attribute)).flatten() {
            options.push(format!("{option}=\"{}\"", String::from_utf8_lossy(&own.value)));
        }
    }
    for (option, needed) in FLAGS {
        let has = |name: &&&str| left.iter().any(|one| one.name == ***name && one.value.is_empty());
        if needed.iter().all(|name| has(&name)) {
            left.retain(|one| !needed.contains(&one.name.as_str()));
            options.push(option.to_owned());
        }
    }
    let (print, line) = if let Ok(key) = PublicKey::from_blob(blob) {
        (key.fingerprint().to_string(), key.line(comment.trim()))
    } else {
        let mut data = String::new();
        base64::add_to(blob, &mut data);
        (data.clone(), unreadable(algorithm, &data, &comment))
    };
    let more = left.iter().map(|one| format!(" {}={}", escaped(one.name.as_bytes()), escaped(&one.value)));
    let name = print + &more.collect::<String>();
    let entry = if options.is_empty() { line } else { format!("{} {line}", options.join(",")) };
    KeySlot { name, entry: entry.into_bytes() }
}

fn take<'a>(left: &mut Vec<&'a Attribute>, name: &str) -> Option<&'a Attribute> {
    let place = left.iter().position(|one| one.name == name)?;
    Some(left.remove(place))
}

/// Whether a value can stand in quotes on a line.
fn is_plain(value: &[u8]) -> bool {
    value.iter().all(|byte| (b' '..=b'~').contains(byte) && !matches!(byte, b'"' | b'\\'))
}

/// A key as a request adds it.
#[derive(Debug)]
pub struct KeyToAdd {
    /// Its algorithm.
    pub algorithm: &'static str,
    /// The key.
    pub blob: Vec<u8>,
    /// What it has beside, and whether the device has to understand that.
    pub attributes: Vec<(Attribute, bool)>,
}

/// Why an entry cannot be said there.
#[derive(Debug, PartialEq, Eq)]
pub enum NotSayable {
    /// The line holds no key.
    NoKey,
    /// There is nothing like this option.
    Option(String),
}

/// An entry, and what the name of its place says beside it.
///
/// # Errors
/// [`NotSayable`].
pub fn to_add(entry: &[u8], place: Option<&str>) -> Result<KeyToAdd, NotSayable> {
    let entry = parsed(entry).ok_or(NotSayable::NoKey)?;
    let mut attributes = Vec::new();
    let comment = printable(&entry.comment);
    if !comment.trim().is_empty() {
        attributes.push((attribute("comment", comment.trim().as_bytes()), false));
    }
    for option in entry.options.list() {
        if let Some((_, name)) = VALUES.iter().find(|(own, _)| *own == option.name) {
            attributes.push((attribute(name, option.value.as_deref().unwrap_or_default()), true));
        } else if let Some((_, names)) = FLAGS.iter().find(|(own, _)| *own == option.name) {
            attributes.extend(names.iter().map(|name| (attribute(name, b""), true)));
        } else {
            return Err(NotSayable::Option(option.name.to_owned()));
        }
    }
    let more = place.unwrap_or_default().split(' ').skip(1).filter_map(|pair| pair.split_once('='));
    attributes.extend(more.map(|(name, value)| {
        let name = String::from_utf8_lossy(&unescaped(name)).into_owned();
        (Attribute { name, value: unescaped(value) }, true)
    }));
    Ok(KeyToAdd { algorithm: entry.key.algorithm().name(), blob: entry.key.blob(), attributes })
}

/// The entry on a line.
pub fn parsed(line: &[u8]) -> Option<Entry> {
    match read_all(line, None, &lavrin_keys::keysfile::Dialect::default()).into_iter().next()?.content {
        Content::Entry(entry) => Some(*entry),
        _ => None,
    }
}

fn attribute(name: &str, value: &[u8]) -> Attribute {
    Attribute { name: name.to_owned(), value: value.to_vec() }
}

/// Bytes in a name: what is no plain character stands as `%` and two digits.
fn escaped(bytes: &[u8]) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-_.,:@/*".contains(&byte);
    bytes.iter().fold(String::new(), |text, byte| {
        if plain(*byte) { text + &char::from(*byte).to_string() } else { text + &format!("%{byte:02x}") }
    })
}

fn unescaped(text: &str) -> Vec<u8> {
    let (mut bytes, mut rest) = (Vec::new(), text.as_bytes());
    while let Some((first, behind)) = rest.split_first() {
        let code = (*first == b'%').then(|| str::from_utf8(behind.get(..2)?).ok()).flatten();
        let byte = code.and_then(|code| u8::from_str_radix(code, 16).ok());
        bytes.push(byte.unwrap_or(*first));
        rest = if byte.is_some() { &behind[2..] } else { behind };
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_keys::key::PrivateKey;

    fn key() -> PublicKey {
        PrivateKey::ed25519(&[7; 32]).unwrap().public().clone()
    }

    fn back(entry: &str, place: Option<&str>) -> KeySlot {
        let add = to_add(entry.as_bytes(), place).unwrap();
        let attributes: Vec<Attribute> = add.attributes.into_iter().map(|(attribute, _)| attribute).collect();
        slot(add.algorithm, &add.blob, &attributes)
    }

    #[test]
    fn an_entry_is_the_same_once_it_was_there() {
        let line = key().line("edda's lamp");
        for options in [
            "",
            "from=\"192.0.2.0/24,198.51.100.7\" ",
            "from=\"192.0.2.1\",command=\"date -u\",no-x11-forwarding,no-port-forwarding ",
        ] {
            let entry = format!("{options}{line}");
            let there = back(&entry, None);
            assert_eq!((there.entry, there.name), (entry.into_bytes(), key().fingerprint().to_string()));
        }
        let critical = to_add(format!("from=\"192.0.2.1\" {line}").as_bytes(), None).unwrap().attributes;
        assert_eq!(critical.iter().map(|(_, critical)| *critical).collect::<Vec<_>>(), [false, true]);
    }

    #[test]
    fn what_one_of_them_cannot_say_is_never_left_away() {
        let line = key().line("");
        for option in ["no-pty", "restrict", "expiry-time=\"20991231\"", "permitopen=\"h:1\""] {
            let refused = to_add(format!("{option} {line}").as_bytes(), None).unwrap_err();
            assert_eq!(refused, NotSayable::Option(option.split('=').next().unwrap().to_owned()));
        }
        assert_eq!(to_add(b"# nothing", None).unwrap_err(), NotSayable::NoKey);
        let odd = [("shell", ""), ("x-lamp", "a b%=\u{e5}"), ("port-forward", ""), ("command-override", "say \"x\"")];
        let attributes: Vec<Attribute> = odd.iter().map(|(name, value)| attribute(name, value.as_bytes())).collect();
        let there = slot("ssh-ed25519", &key().blob(), &attributes);
        assert_eq!(there.entry, line.as_bytes());
        let again = back(&String::from_utf8(there.entry.clone()).unwrap(), Some(&there.name));
        assert_eq!(again, there, "it goes back as it was");
        let broken = slot("ssh-lamp", b"\x01", &[]);
        assert_eq!(broken.entry, b"ssh-lamp AQ==");
    }
}
