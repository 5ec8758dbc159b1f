//! One entry for each parser of what devices say, on any bytes: it ends, it does not panic, and what it says holds together. The fuzz
//! target in `fuzz/` calls these, and `fuzz_corpus` replays what it found worth keeping.

use lavrin_reach::dialogue::shown_line;
use lavrin_reach::key_subsystem::packet::{Packet, next};
use lavrin_reach::key_subsystem::read_slot;
use lavrin_reach::netconf::framing::{Framing, MessageBuffer, framed};
use lavrin_reach::netconf::read_users;
use lavrin_reach::netconf::xml::{Element, escaped};
use lavrin_reach::sftp::packet as files;
use lavrin_reach::sftp::slots_of;
use lavrin_server::device::{KeyForm, MarkValues, Template};

/// An entry and its name, which is that of its folder in the corpus.
pub type DeviceEntry = (&'static str, fn(&[u8]));

/// All of them.
pub const ALL: [DeviceEntry; 7] = [
    ("netconf-end", |bytes| framing(bytes, Framing::EndOfMessage)),
    ("netconf-chunks", |bytes| framing(bytes, Framing::Chunked)),
    ("netconf-message", message),
    ("key-packet", packets),
    ("file-packet", file_packets),
    ("key-slots", key_slots),
    ("console-line", console_line),
];

/// The messages in what comes in pieces of this size; none where that is no message any more.
fn messages(bytes: &[u8], framing: Framing, piece: usize) -> Option<Vec<Vec<u8>>> {
    let (mut buffer, mut all) = (MessageBuffer::default(), Vec::new());
    for part in bytes.chunks(piece) {
        buffer.push(part);
        while let Some(message) = buffer.next(framing).ok()? {
            all.push(message);
        }
    }
    Some(all)
}

/// The same messages come out however the bytes are split, and a message that is framed again reads the same.
fn framing(bytes: &[u8], framing: Framing) {
    let whole = messages(bytes, framing, bytes.len().max(1));
    for piece in [1, 3, 64] {
        assert_eq!(messages(bytes, framing, piece), whole);
    }
    for message in whole.into_iter().flatten() {
        let Ok(text) = String::from_utf8(message.clone()) else { continue };
        let again = messages(&framed(&text, framing), framing, 7);
        let is_empty = text.is_empty() && framing == Framing::Chunked;
        assert!(is_empty || again == Some(vec![message]));
    }
}

fn message(bytes: &[u8]) {
    let Ok(read) = Element::read(bytes) else { return };
    let text = escaped(&read.text);
    assert!(!text.contains("]]>"));
    let again = Element::read(format!("<a>{text}</a>").as_bytes()).expect("what is escaped reads");
    // What XML cannot say stands as a replacement.
    assert!(again.text == read.text || again.text.contains('\u{fffd}'));
    for (name, keys) in read_users(&read) {
        assert!(!name.is_empty());
        assert!(keys.iter().all(|key| !key.entry.contains(&b'\n')));
    }
}

fn packets(bytes: &[u8]) {
    let mut buffer = bytes.to_vec();
    while let Ok(Some(packet)) = next(&mut buffer) {
        if let Ok(Packet::PublicKey { algorithm, blob, attributes }) = Packet::read(&packet) {
            let slot = read_slot(&algorithm, &blob, &attributes);
            assert!(!slot.entry.contains(&b'\n') && !slot.name.contains('\n'));
        }
    }
}

/// The same answers come out however the bytes are split.
fn file_packets(bytes: &[u8]) {
    let answers = |piece: usize| {
        let (mut buffer, mut all) = (Vec::new(), Vec::new());
        for part in bytes.chunks(piece) {
            buffer.extend_from_slice(part);
            while let Some(packet) = files::next(&mut buffer).ok()? {
                all.push(files::FileAnswer::read(&packet));
            }
        }
        Some(all)
    };
    assert_eq!(answers(1), answers(bytes.len().max(1)));
}

/// The keys of a file have different names, are in order, and each fits on one line.
fn key_slots(bytes: &[u8]) {
    for form in [KeyForm::Lines, KeyForm::Blocks] {
        let (mut names, mut end) = (std::collections::HashSet::new(), 0);
        for (slot, span) in slots_of(form, bytes) {
            assert!(names.insert(slot.name) && !slot.entry.contains(&b'\n'));
            assert!(span.start >= end && span.end > span.start && span.end <= bytes.len());
            end = span.end;
        }
    }
}

/// What a terminal would show of a line holds nothing that moves, and a template finds in a line what was put into it.
fn console_line(bytes: &[u8]) {
    let text = String::from_utf8_lossy(bytes);
    let shown = shown_line(&text);
    assert!(!shown.contains(char::is_control) && shown == shown.trim_end());
    let Some((template, line)) = text.split_once('\n') else { return };
    let Some(template) = Template::parse(template) else { return };
    if let Some(found) = template.fits(line, &MarkValues::new()) {
        assert_eq!(template.filled(&found).as_deref(), Some(line));
    }
}
