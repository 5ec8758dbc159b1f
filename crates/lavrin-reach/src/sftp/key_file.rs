//! A file of keys as slots: each entry on a line, or each block, is one. Every byte that is not asked to change stays.

use crate::slots::unreadable;
use lavrin_keys::key::base64;
use lavrin_keys::key::container::PieceKind;
use lavrin_keys::key::container::write::{Form, public};
use lavrin_keys::keysfile::{Content, Dialect, Entry, read_all};
use lavrin_keys::pieces;
use lavrin_keys::text::printable;
use lavrin_server::device::{KeyForm, KeyPlaces};
use lavrin_server::steps::KeyChange;
use lavrin_server::survey::KeySlot;
use std::collections::HashMap;
use std::ops::Range;

const BEGIN: &[u8] = b"---- BEGIN SSH2 PUBLIC KEY ----";
const END: &[u8] = b"---- END SSH2 PUBLIC KEY ----";

/// A key in the file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FileSlot {
    pub(super) slot: KeySlot,
    /// Its bytes, with its line end.
    pub(super) span: Range<usize>,
}

/// Why a file cannot be changed as asked.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum KeyEditFault {
    /// What has to be there is not there, or no longer the same.
    Changed,
    /// The form cannot hold it.
    NotSayable(String),
}

/// The keys in a file.
pub(super) fn slots(form: KeyForm, bytes: &[u8]) -> Vec<FileSlot> {
    let found = match form {
        KeyForm::Lines => lines(bytes),
        KeyForm::Blocks => blocks(bytes),
    };
    // Two entries with one key are two slots.
    let mut count: HashMap<String, usize> = HashMap::new();
    let named = |(name, entry, span): (String, Vec<u8>, Range<usize>)| {
        let number = count.entry(name.clone()).or_default();
        *number += 1;
        let name = if *number == 1 { name } else { format!("{name} {number}") };
        FileSlot { slot: KeySlot { name, entry }, span }
    };
    found.into_iter().map(named).collect()
}

type FoundEntries = Vec<(String, Vec<u8>, Range<usize>)>;

fn lines(bytes: &[u8]) -> FoundEntries {
    let mut found = Vec::new();
    let mut start = 0;
    for (number, whole) in bytes.split_inclusive(|byte| *byte == b'\n').enumerate() {
        let (span, text) = (start..start + whole.len(), whole.trim_ascii_end());
        start = span.end;
        match read_all(text, None, &Dialect::default()).into_iter().next().map(|line| line.content) {
            Some(Content::Entry(entry)) => found.push((entry.fingerprint.to_string(), text.to_vec(), span)),
            Some(Content::Unusable(_)) => found.push((format!("line {}", number + 1), text.to_vec(), span)),
            Some(Content::Blank | Content::Comment) | None => {}
        }
    }
    found
}

fn blocks(bytes: &[u8]) -> FoundEntries {
    let mut found = Vec::new();
    let (mut start, mut begun) = (0, None);
    for (number, whole) in bytes.split_inclusive(|byte| *byte == b'\n').enumerate() {
        let text = whole.trim_ascii();
        if text == BEGIN {
            begun = Some((start, number + 1));
        }
        start += whole.len();
        if text == END
            && let Some((from, line)) = begun.take()
        {
            let (name, entry) = block(&bytes[from..start]).unwrap_or_else(|| {
                let mut data = String::new();
                base64::add_to(&bytes[from..start], &mut data);
                (format!("block on line {line}"), unreadable("block", &data, "").into_bytes())
            });
            found.push((name, entry, from..start));
        }
    }
    found
}

/// The key of a block as an entry on a line.
fn block(bytes: &[u8]) -> Option<(String, Vec<u8>)> {
    let text: Vec<u8> = bytes.iter().copied().filter(|byte| *byte != b'\r').collect();
    match pieces::read(&text).into_iter().next()?.kind {
        PieceKind::Public { key, fingerprint, comment, .. } => {
            Some((fingerprint.to_string(), key.line(printable(&comment).trim()).into_bytes()))
        }
        _ => None,
    }
}

/// Where entries stood that were taken out over this connection, so that taking them back brings the same file.
#[derive(Debug, Default)]
pub(super) struct Places(HashMap<String, TakenOut>);

#[derive(Debug)]
struct TakenOut {
    entry: Vec<u8>,
    at: usize,
    bytes: Vec<u8>,
}

/// The file after a change. A new entry goes to the end, one that was taken out before to its old place.
pub(super) fn edited(
    bytes: &[u8],
    change: &KeyChange,
    there: &KeyPlaces,
    places: &mut Places,
) -> Result<Vec<u8>, KeyEditFault> {
    let found = slots(there.form, bytes);
    let own = |slot: &&FileSlot| change.slot.as_ref().is_none_or(|name| *name == slot.slot.name);
    let old = match &change.old {
        Some(entry) => {
            let stands = found.iter().filter(own).find(|slot| slot.slot.entry == *entry);
            // A second entry of one key loses its number when the first one goes.
            let stands = stands.or_else(|| found.iter().find(|slot| slot.slot.entry == *entry));
            Some(stands.ok_or(KeyEditFault::Changed)?)
        }
        None => None,
    };
    let mut new = bytes.to_vec();
    match (old, &change.new) {
        (Some(old), None) => {
            let removed =
                TakenOut { entry: old.slot.entry.clone(), at: old.span.start, bytes: bytes[old.span.clone()].to_vec() };
            places.0.insert(old.slot.name.clone(), removed);
            new.drain(old.span.clone());
        }
        (Some(old), Some(entry)) => {
            let end = line_end(&bytes[old.span.clone()]).unwrap_or_else(|| there.line_ends.text().as_bytes());
            let written = written(entry, there, end)?;
            new.splice(old.span.clone(), written);
        }
        (None, Some(entry)) => {
            if found.iter().any(|slot| slot.slot.entry == *entry) {
                // Another account reads the same file, and has it already.
                return Ok(new);
            }
            let back = change.slot.as_ref().and_then(|name| places.0.remove(name));
            if let Some(removed) = back.filter(|removed| removed.entry == *entry && removed.at <= new.len()) {
                new.splice(removed.at..removed.at, removed.bytes);
            } else {
                let end = there.line_ends.text().as_bytes();
                if new.last().is_some_and(|last| *last != b'\n') {
                    new.extend_from_slice(end);
                }
                new.extend(written(entry, there, end)?);
            }
        }
        (None, None) => {}
    }
    Ok(new)
}

fn line_end(line: &[u8]) -> Option<&'static [u8]> {
    match line {
        [.., b'\r', b'\n'] => Some(b"\r\n"),
        [.., b'\n'] => Some(b"\n"),
        _ => None,
    }
}

/// An entry in the form of the file.
fn written(entry: &[u8], there: &KeyPlaces, end: &[u8]) -> Result<Vec<u8>, KeyEditFault> {
    let text = match there.form {
        KeyForm::Lines => [entry.trim_ascii(), b"\n"].concat(),
        KeyForm::Blocks => {
            let entry = parsed(entry).ok_or_else(|| KeyEditFault::NotSayable("it is no key".to_owned()))?;
            if let Some(option) = entry.options.list().first() {
                return Err(KeyEditFault::NotSayable(format!("a block has nothing like the option {}", option.name)));
            }
            let text = public(Form::Rfc4716, &entry.key, printable(&entry.comment).trim());
            text.ok_or_else(|| KeyEditFault::NotSayable("no block can hold it".to_owned()))?.into_bytes()
        }
    };
    let lines = text.split_inclusive(|byte| *byte == b'\n');
    Ok(lines.flat_map(|line| [line.strip_suffix(b"\n").unwrap_or(line), end].concat()).collect())
}

fn parsed(line: &[u8]) -> Option<Entry> {
    match read_all(line, None, &Dialect::default()).into_iter().next()?.content {
        Content::Entry(entry) => Some(*entry),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_keys::key::PrivateKey;
    use lavrin_server::device::KeyLineEnds;
    use proptest::prelude::*;

    fn line(seed: u8) -> String {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().line(&format!("lamp {seed}"))
    }

    fn change(slot: Option<&str>, old: Option<&str>, new: Option<&str>) -> KeyChange {
        let bytes = |text: &str| text.as_bytes().to_vec();
        KeyChange { account: "edda".into(), slot: slot.map(str::to_owned), old: old.map(bytes), new: new.map(bytes) }
    }

    fn names(form: KeyForm, bytes: &[u8]) -> Vec<String> {
        slots(form, bytes).into_iter().map(|slot| slot.slot.name).collect()
    }

    #[test]
    fn each_line_and_each_block_is_a_slot_and_nothing_else_is_lost() {
        let there = KeyPlaces { form: KeyForm::Blocks, line_ends: KeyLineEnds::CrLf, ..KeyPlaces::default() };
        let mut places = Places::default();
        let first = edited(b"", &change(None, None, Some(&line(1))), &there, &mut places).unwrap();
        let text = String::from_utf8(first.clone()).unwrap();
        assert!(text.starts_with("---- BEGIN SSH2 PUBLIC KEY ----\r\nComment: \"lamp 1\"\r\n"), "{text}");
        assert!(text.lines().count() > 3 && text.matches("\r\n").count() == text.matches('\n').count());
        let odd = [
            b"a note\r\n",
            first.as_slice(),
            b"---- BEGIN SSH2 PUBLIC KEY ----\nAAAA\n---- END SSH2 PUBLIC KEY ----\n",
        ];
        let two = edited(&odd.concat(), &change(None, None, Some(&line(2))), &there, &mut places).unwrap();
        let all = slots(KeyForm::Blocks, &two);
        assert_eq!(all.len(), 3);
        assert_eq!(all[0].slot.entry, line(1).as_bytes());
        assert!(all[1].slot.name.starts_with("block on line"), "{:?}", all[1].slot);
        let gone = edited(&two, &change(Some(&all[0].slot.name), Some(&line(1)), None), &there, &mut places).unwrap();
        assert_eq!((names(KeyForm::Blocks, &gone).len(), gone.starts_with(b"a note\r\n")), (2, true));
        let back = edited(&gone, &change(Some(&all[0].slot.name), None, Some(&line(1))), &there, &mut places).unwrap();
        assert_eq!(back, two);
        let limited = change(None, None, Some(&format!("no-pty {}", line(3))));
        assert!(matches!(edited(&two, &limited, &there, &mut places), Err(KeyEditFault::NotSayable(_))));
    }

    #[test]
    fn what_is_no_longer_there_is_not_changed_and_what_is_there_already_is_left() {
        let (there, mut places) = (KeyPlaces::default(), Places::default());
        let file = format!("{}\n{}\n", line(1), line(1));
        let gone = change(Some("x"), Some(&line(2)), None);
        assert_eq!(edited(file.as_bytes(), &gone, &there, &mut places), Err(KeyEditFault::Changed));
        let again = edited(file.as_bytes(), &change(None, None, Some(&line(1))), &there, &mut places).unwrap();
        assert_eq!(again, file.as_bytes());
        assert!(names(KeyForm::Lines, file.as_bytes())[1].ends_with(" 2"));
    }

    proptest! {
        #[test]
        fn taking_out_and_putting_back_gives_the_same_bytes(
            parts in prop::collection::vec(prop::sample::select(vec!["# note\n", "\r\n", "odd\n", "K1\r\n", "K2\n", "from=\"::1\" K3\n"]), 0..8),
            last in prop::sample::select(vec!["", "K4"]),
            which in 0usize..8,
        ) {
            let text = parts.concat() + last;
            let text = (1..=4).fold(text, |text, seed| text.replace(&format!("K{seed}"), &line(seed)));
            let (there, mut places) = (KeyPlaces::default(), Places::default());
            let all = slots(KeyForm::Lines, text.as_bytes());
            if let Some(one) = all.get(which) {
                let out = KeyChange { account: String::new(), slot: Some(one.slot.name.clone()), old: Some(one.slot.entry.clone()), new: None };
                let without = edited(text.as_bytes(), &out, &there, &mut places).unwrap();
                prop_assert_eq!(slots(KeyForm::Lines, &without).len(), all.len() - 1);
                let back = edited(&without, &out.inverse(), &there, &mut places).unwrap();
                // One that was there twice is found there once more.
                let twice = all.iter().filter(|slot| slot.slot.entry == one.slot.entry).count() > 1;
                prop_assert!(twice || back == text.as_bytes());
            }
        }
    }
}
