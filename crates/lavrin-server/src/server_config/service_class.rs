//! Classes of service, as `IPQoS` names them.

use super::values::STRICT_SINCE;
use crate::server::Version;

/// Names of classes of service (RFC 2474, RFC 4594 and RFC 8622) and of the older types (RFC 1349), each with its number.
const CLASSES: [(&str, u8); 24] = [
    ("af11", 0x28),
    ("af12", 0x30),
    ("af13", 0x38),
    ("af21", 0x48),
    ("af22", 0x50),
    ("af23", 0x58),
    ("af31", 0x68),
    ("af32", 0x70),
    ("af33", 0x78),
    ("af41", 0x88),
    ("af42", 0x90),
    ("af43", 0x98),
    ("cs0", 0x00),
    ("cs1", 0x20),
    ("cs2", 0x40),
    ("cs3", 0x60),
    ("cs4", 0x80),
    ("cs5", 0xa0),
    ("cs6", 0xc0),
    ("cs7", 0xe0),
    ("ef", 0xb8),
    ("lowdelay", 0x10),
    ("throughput", 0x08),
    ("reliability", 0x04),
];

/// The number of `le`, which 8.4 has from RFC 8622 and later versions have two bits further on, where the field begins.
fn least_effort(version: Version) -> u8 {
    if version < STRICT_SINCE { 0x01 } else { 0x04 }
}

/// Since this version numbers are decimal, and the older types mean nothing.
const CLASSES_ONLY_SINCE: Version = Version(10, 0);

/// A class of service.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum ServiceClass {
    /// Whatever the system chooses.
    SystemChoice,
    /// This number.
    Number(u8),
}

/// The class that a word names.
pub(super) fn read(word: &str, version: Version) -> Option<ServiceClass> {
    let name = word.to_ascii_lowercase();
    let is_old_type = matches!(name.as_str(), "lowdelay" | "throughput" | "reliability");
    if name == "none" || (is_old_type && version >= CLASSES_ONLY_SINCE) {
        return Some(ServiceClass::SystemChoice);
    }
    if name == "le" {
        return Some(ServiceClass::Number(least_effort(version)));
    }
    if let Some((_, number)) = CLASSES.iter().find(|(known, _)| *known == name) {
        return Some(ServiceClass::Number(*number));
    }
    let number = match word.strip_prefix("0x").or_else(|| word.strip_prefix("0X")) {
        Some(digits) if version < CLASSES_ONLY_SINCE => i64::from_str_radix(digits, 16).ok(),
        Some(_) => None,
        None if version < CLASSES_ONLY_SINCE && word.len() > 1 && word.starts_with('0') => {
            i64::from_str_radix(word, 8).ok()
        }
        None => word.parse().ok(),
    };
    number.and_then(|number| u8::try_from(number).ok()).map(ServiceClass::Number)
}

/// `IPQoS` as the server prints it: one class stands for both.
pub(super) fn printed(words: &[String], version: Version) -> String {
    let told = |word: &String| match read(word, version) {
        None | Some(ServiceClass::SystemChoice) => "none".to_owned(),
        Some(ServiceClass::Number(number)) if number == least_effort(version) => "le".to_owned(),
        Some(ServiceClass::Number(number)) => {
            let old = |name: &str| version >= CLASSES_ONLY_SINCE && !name.starts_with(['a', 'c', 'e']);
            let known = CLASSES.iter().find(|(name, known)| *known == number && !old(name));
            known.map_or_else(|| format!("0x{number:02x}"), |(name, _)| (*name).to_owned())
        }
    };
    let told: Vec<String> = words.iter().map(told).collect();
    if let [one] = &told[..] { format!("{one} {one}") } else { told.join(" ") }
}
