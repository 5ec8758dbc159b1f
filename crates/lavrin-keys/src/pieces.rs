//! A file read part by part: what is plainly a list of public keys is handed on a few thousand lines at a time, so that very
//! long lists need little memory; everything else is one part, since there one line may explain another.

use crate::key::container::certificate::{self, Certificate};
use crate::key::container::{
    DER_BYTES_MAX, FILE_BYTES_MAX, LINES_MAX, Piece, PieceKind, REJECTED_MAX, line, looks_like_a_label, pem, public,
    read_block, read_der, rejected, settle, text,
};
use crate::key::fault::{Unsupported, WrongStructure};
use crate::key::paste::PasteRepair;
use crate::key::{KeyFault, paste, strength};
use crate::keysfile::{self, Content, Line};
use memchr::memmem;
use rayon::prelude::*;
use std::borrow::Cow;
use std::sync::Arc;

/// Lines of a list that make a part: enough to keep all cores busy, few enough to stay near them.
const LINES_AT_ONCE: usize = 1024;

/// What a file holds, in the order of the file. An empty file gives one rejected piece.
#[must_use]
pub fn read(bytes: &[u8]) -> Vec<Piece> {
    read_parts(bytes).flatten().collect()
}

/// The same part by part.
#[must_use]
pub fn read_parts(bytes: &[u8]) -> Parts<'_> {
    parts_of(bytes, LINES_AT_ONCE)
}

fn parts_of(bytes: &[u8], lines_at_once: usize) -> Parts<'_> {
    let parts = |state| Parts { state, lines_at_once };
    match whole(bytes) {
        Some(piece) => parts(ReadState::Whole(piece)),
        None => parts(ReadState::Text { text: text::plain(bytes), at: 0, line: 1 }),
    }
}

/// What is no text is one thing.
fn whole(bytes: &[u8]) -> Option<Piece> {
    if bytes.len() > FILE_BYTES_MAX {
        return Some(rejected(1, KeyFault::TooLarge { bytes: bytes.len(), limit: FILE_BYTES_MAX }));
    }
    if bytes.trim_ascii().is_empty() {
        return Some(rejected(1, KeyFault::Empty));
    }
    if memchr::memchr_iter(b'\n', bytes).nth(LINES_MAX).is_some() {
        return Some(rejected(1, KeyFault::TooLarge { bytes: bytes.len(), limit: LINES_MAX }));
    }
    if bytes.first() == Some(&0x30) && bytes.len() <= DER_BYTES_MAX {
        return Some(Piece { line: 1, kind: read_der(bytes) });
    }
    text::plain(bytes).iter().take(1024).any(|byte| *byte == 0).then(|| rejected(1, KeyFault::NotAKey))
}

/// The parts of a file, each with what it holds.
#[derive(Debug)]
pub struct Parts<'a> {
    state: ReadState<'a>,
    lines_at_once: usize,
}

#[derive(Debug)]
enum ReadState<'a> {
    Whole(Piece),
    /// What is left of the text, from a byte and a line on.
    Text {
        text: Cow<'a, [u8]>,
        at: usize,
        line: usize,
    },
    Done,
}

impl Iterator for Parts<'_> {
    type Item = Vec<Piece>;

    fn next(&mut self) -> Option<Vec<Piece>> {
        match std::mem::replace(&mut self.state, ReadState::Done) {
            ReadState::Done => None,
            ReadState::Whole(piece) => Some(vec![piece]),
            ReadState::Text { text, at, line } => match list(&text[at..], line, self.lines_at_once) {
                Some((pieces, bytes)) => {
                    self.state = ReadState::Text { text, at: at + bytes, line: line + self.lines_at_once };
                    Some(pieces)
                }
                None => Some(rest(&text[at..], line)),
            },
        }
    }
}

/// The next lines, and how many bytes they take, where more follow and they are public keys and nothing else.
fn list(text: &[u8], line: usize, lines: usize) -> Option<(Vec<Piece>, usize)> {
    let end = memchr::memchr_iter(b'\n', text).nth(lines - 1)? + 1;
    let lines = text.get(..end).filter(|lines| lines.len() < text.len())?;
    if memmem::find(lines, b"BEGIN ").is_some() {
        return None;
    }
    let pieces = read_lines(line, lines);
    let blob = memmem::Finder::new(BLOB_BEGIN);
    (!pieces.is_empty() && !pieces.iter().any(|piece| is_odd(piece, &blob))).then_some((pieces, end))
}

/// All that is left, from a line on.
fn rest(text: &[u8], first: usize) -> Vec<Piece> {
    let mut pieces = Vec::new();
    let mut rejections = 0;
    for part in pem::split(text) {
        match part {
            // Curve parameters in front of a key say nothing that the key does not say.
            pem::Segment::Block(block) if block.label == b"EC PARAMETERS" => {}
            pem::Segment::Block(block) => pieces.push(Piece { line: block.line, kind: read_block(&block) }),
            pem::Segment::Text { line, bytes } => {
                for piece in read_lines(line, bytes) {
                    rejections += usize::from(matches!(piece.kind, PieceKind::Rejected(_)));
                    if !matches!(piece.kind, PieceKind::Rejected(_)) || rejections <= REJECTED_MAX {
                        pieces.push(piece);
                    }
                }
            }
        }
    }
    add_recovered(text, &mut pieces);
    add_quoted_private(text, &mut pieces);
    drop_prose(&mut pieces);
    if first == 1 {
        refuse_damaged(&mut pieces);
    }
    if pieces.is_empty() && first == 1 {
        pieces.push(rejected(1, KeyFault::NotAKey));
    }
    if pieces.iter().all(|piece| matches!(piece.kind, PieceKind::Rejected(_))) && text::is_closed_container(text) {
        return vec![rejected(first, KeyFault::ClosedContainer)];
    }
    for piece in &mut pieces {
        piece.line += first - 1;
    }
    pieces
}

/// Every blob begins so in base64: the length of a short name.
const BLOB_BEGIN: &[u8] = b"AAAA";

/// Whether a piece may be a part of something else: a key in pieces, or two in one.
fn is_odd(piece: &Piece, blob: &memmem::Finder<'_>) -> bool {
    match &piece.kind {
        PieceKind::Rejected(_) => true,
        PieceKind::Public { comment, .. } => blob.find(comment).is_some(),
        _ => false,
    }
}

/// Adds keys that are in the text but not on lines of their own, and drops the lines they were put together from.
fn add_recovered(text: &[u8], pieces: &mut Vec<Piece>) {
    let blob = memmem::Finder::new(BLOB_BEGIN);
    if !pieces.iter().any(|piece| is_odd(piece, &blob)) {
        return;
    }
    for found in paste::recover(text) {
        let known =
            pieces.iter().any(|piece| matches!(&piece.kind, PieceKind::Public { key, .. } if *key == found.key));
        let (first, last) = found.lines;
        pieces.retain(|piece| !(first..=last).contains(&piece.line) || !matches!(piece.kind, PieceKind::Rejected(_)));
        if !known {
            let mut repairs = found.repairs;
            if repairs.is_empty() {
                repairs.push(PasteRepair::FromText);
            }
            let kind = PieceKind::Public {
                fingerprint: found.key.fingerprint(),
                key: found.key,
                comment: found.comment.into_bytes(),
                options: Vec::new(),
                container: "line",
                repairs,
            };
            pieces.push(Piece { line: first, kind });
        }
    }
    pieces.sort_by_key(|piece| piece.line);
}

/// A private key under marks of quoting is no less out in the world.
fn add_quoted_private(text: &[u8], pieces: &mut Vec<Piece>) {
    let has_private = pieces.iter().any(|piece| matches!(piece.kind, PieceKind::Private(_)));
    if has_private || memmem::find(text, b"PRIVATE KEY-----").is_none() {
        return;
    }
    let lines = String::from_utf8_lossy(text);
    let plain: String = lines.lines().map(|line| paste::unquoted(line.trim_start()).to_owned() + "\n").collect();
    for part in pem::split(plain.as_bytes()) {
        let pem::Segment::Block(block) = part else { continue };
        let kind = read_block(&block);
        if block.label.ends_with(b"PRIVATE KEY") && matches!(kind, PieceKind::Private(_)) {
            pieces.retain(|piece| !matches!(piece.kind, PieceKind::Rejected(_)));
            pieces.push(Piece { line: block.line, kind });
        }
    }
    pieces.sort_by_key(|piece| piece.line);
}

/// An RSA key on its own whose modulus has small factors was damaged on the way: a product of two primes has none, and one in
/// which a character changed nearly always has. In a list of keys it is told as what it is, a weak key.
fn refuse_damaged(pieces: &mut [Piece]) {
    let public = |piece: &&Piece| matches!(piece.kind, PieceKind::Public { .. });
    let is_list = pieces.len() > 1
        && pieces.iter().all(|piece| matches!(&piece.kind, PieceKind::Public { repairs, .. } if repairs.is_empty()));
    if is_list || pieces.iter().filter(public).count() > MAILED_MAX {
        return;
    }
    for piece in pieces {
        if let PieceKind::Public { key, .. } = &piece.kind
            && let Some(detail) = strength::damage(key)
        {
            piece.kind = PieceKind::Rejected(KeyFault::Damaged { detail });
        }
    }
}

/// So many keys at most are in a mail; more are a list.
const MAILED_MAX: usize = 64;

/// Lines without any sign of a key are prose around a key, and worth a word only where nothing else was found.
fn drop_prose(pieces: &mut Vec<Piece>) {
    let is_prose = |piece: &Piece| matches!(piece.kind, PieceKind::Rejected(KeyFault::NotAKey));
    let is_key = |piece: &Piece| !matches!(piece.kind, PieceKind::Rejected(_));
    if pieces.iter().any(is_key) {
        // A TLS certificate beside a key is of no use here and no fault either.
        pieces.retain(|piece| !matches!(piece.kind, PieceKind::Rejected(KeyFault::CertificateX509)));
    }
    // In a list of keys a line that is none matters; beside a block or a repaired key it is what people write around it.
    let from_text = |piece: &Piece| {
        matches!(&piece.kind, PieceKind::Public { container, repairs, .. } if *container != "line" || !repairs.is_empty())
            || matches!(piece.kind, PieceKind::Private(_))
    };
    if pieces.iter().any(from_text) {
        pieces.retain(|piece| !is_prose(piece));
    }
}

/// Lines that are no entries of a key file and may still hold a key: certificates, lines of known hosts.
fn read_other_line(text: &[u8], fault: KeyFault) -> PieceKind {
    let (first, rest) = line::word(text);
    if certificate::is_label(first) {
        let (base64, comment) = line::word(rest);
        let read = line::decode(base64).and_then(|blob| Certificate::from_blob(&blob));
        return settle(read.map(|certificate| PieceKind::Certificate {
            certificate: Box::new(certificate),
            comment: comment.to_vec(),
        }));
    }
    // A line of known hosts says of some keys that they sign others, or count no more: none of those is a plain key.
    match first {
        b"@cert-authority" => {
            return PieceKind::Rejected(KeyFault::BadStructure { detail: WrongStructure::HostAuthority });
        }
        b"@revoked" => {
            return PieceKind::Rejected(KeyFault::BadStructure { detail: WrongStructure::RevokedMark });
        }
        _ => {}
    }
    if let Some(Ok(found)) = line::parse(rest)
        && fault == KeyFault::NotAKey
    {
        return public(Arc::unwrap_or_clone(found.key), found.comment.to_vec(), "line");
    }
    if fault == KeyFault::NotAKey && looks_like_a_label(first) && !rest.is_empty() {
        return PieceKind::Rejected(KeyFault::UnsupportedAlgorithm {
            name: Unsupported::Named(crate::text::printable(&first[..first.len().min(64)])),
        });
    }
    PieceKind::Rejected(fault)
}

fn read_lines(first: usize, bytes: &[u8]) -> Vec<Piece> {
    let piece = |line: Line| {
        let kind = match line.content {
            Content::Blank | Content::Comment => return None,
            Content::Entry(entry) => match entry.strict {
                Some(fault) => PieceKind::Rejected(fault),
                None => PieceKind::Public {
                    key: Arc::unwrap_or_clone(entry.key),
                    fingerprint: entry.fingerprint,
                    comment: entry.comment,
                    options: entry.options.text,
                    container: "line",
                    repairs: Vec::new(),
                },
            },
            Content::Unusable(ref unusable) => {
                read_other_line(line.text(bytes), unusable.fault.clone().into_key_fault())
            }
        };
        Some(Piece { line: first + line.number - 1, kind })
    };
    keysfile::read_all(bytes, None, &keysfile::Dialect::default()).into_par_iter().filter_map(piece).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::container::write;
    use crate::key::generate::SystemSource;
    use crate::key::{PrivateKey, PublicKey};

    #[test]
    fn authorities_and_revoked_keys_of_known_hosts_are_no_plain_keys() {
        let key = PrivateKey::ed25519(&[1; 32]).unwrap().public().line("x");
        for (mark, detail) in
            [("@cert-authority", WrongStructure::HostAuthority), ("@revoked", WrongStructure::RevokedMark)]
        {
            let pieces = read_lines(1, format!("{mark} *.example {key}\n").as_bytes());
            let PieceKind::Rejected(fault) = &pieces[0].kind else { panic!("{mark}: {pieces:?}") };
            assert_eq!(*fault, KeyFault::BadStructure { detail });
        }
    }

    fn told(pieces: impl IntoIterator<Item = Piece>) -> Vec<String> {
        pieces.into_iter().map(|piece| format!("{piece:?}")).collect()
    }

    #[test]
    fn a_list_read_in_parts_is_the_list_read_at_once() {
        let key = |seed: u8| PrivateKey::ed25519(&[seed; 32]).unwrap().public().line("edda");
        let list: String = (1..=23).map(|seed| format!("# {seed}\n{}\n", key(seed))).collect();
        let block = "-----BEGIN PUBLIC KEY-----\nAAAA\n-----END PUBLIC KEY-----\n";
        let cut = key(60);
        let (front, back) = cut.split_at(40);
        let texts = [
            list.clone(),
            list.trim_end().to_owned(),
            format!("{list}{block}"),
            format!("{list}\n\n\n\n\n\n\n\n{list}"),
            format!("{list}ssh-dss AAAA\n{list}"),
            format!("{list}{front}\n{back}\n{}\n", key(61)),
            format!("{list}{}{}\n", key(62), key(63)),
        ];
        for text in texts {
            let whole = told(parts_of(text.as_bytes(), 1 << 20).flatten());
            for lines in [1, 2, 5, 8] {
                assert_eq!(told(parts_of(text.as_bytes(), lines).flatten()), whole, "{lines} lines of {text}");
            }
        }
        assert!(parts_of(list.as_bytes(), 8).count() > 4, "it is read in parts");
    }

    #[test]
    fn a_private_key_under_quote_marks_raises_the_alarm() {
        let key = PrivateKey::ed25519(&[9; 32]).unwrap();
        let text = write::private(write::Form::OpenSsh, &key, "edda", Some(b"tide"), &SystemSource).unwrap();
        let text = String::from_utf8_lossy(&text).into_owned();
        let quoted: String = text.lines().map(|line| format!("> {line}\n")).collect();
        assert!(read(quoted.as_bytes()).iter().any(|piece| matches!(piece.kind, PieceKind::Private(_))));
    }

    #[test]
    fn an_rsa_key_with_a_changed_character_is_damaged() {
        // A sum of digits that three divides.
        let modulus = [&[0x81][..], &[0x03; 254], &[0x03]].concat();
        let key = PublicKey::rsa(&[1, 0, 1], &modulus).unwrap().line("edda");
        let pieces = read(format!("Here it is:\n{key}\n").as_bytes());
        let damaged = pieces.iter().find(|piece| piece.line == 2).unwrap();
        let PieceKind::Rejected(fault) = &damaged.kind else { panic!("{pieces:?}") };
        assert_eq!(fault.word(), "damaged");
    }
}
