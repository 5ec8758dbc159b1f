//! The containers that keys come in, one file each; [`read`] tells them apart.

pub(crate) mod der;
pub mod line;
pub mod openssh;
pub mod pem;

use super::{KeyFault, PublicKey};
use crate::keysfile::{Content, KeysFile};

/// Longest file that is looked into, in bytes: a key file of 100,000 entries has about 20 MB.
pub const FILE_BYTES_MAX: usize = 64 << 20;

/// Most rejected places that one file reports; the rest is counted, so that a wrong file does not flood the screen.
pub const REJECTED_MAX: usize = 100;

/// One thing found in a file, with the line it begins on, counted from 1.
#[derive(Debug)]
pub struct Piece {
    /// Line number.
    pub line: usize,
    /// What it is.
    pub kind: PieceKind,
}

/// What was found.
#[derive(Debug)]
pub enum PieceKind {
    /// A private key in openssh-key-v1, still closed.
    Private(openssh::Closed),
    /// A public key on a line, perhaps with options in front as in a key file.
    Public {
        /// The key.
        key: PublicKey,
        /// The comment as it stands there.
        comment: Vec<u8>,
        /// The options in front, as they stand there.
        options: Vec<u8>,
    },
    /// Something that is no key Lavrin can use, and why.
    Rejected(KeyFault),
}

/// What a file holds, in the order of the file. An empty file gives one rejected piece.
#[must_use]
pub fn read(bytes: &[u8]) -> Vec<Piece> {
    if bytes.len() > FILE_BYTES_MAX {
        return vec![rejected(1, KeyFault::TooLarge { bytes: bytes.len(), limit: FILE_BYTES_MAX })];
    }
    if bytes.trim_ascii().is_empty() {
        return vec![rejected(1, KeyFault::Empty)];
    }
    let mut pieces = Vec::new();
    let mut rejections = 0;
    for part in pem::split(bytes) {
        match part {
            pem::Part::Block(block) => pieces.push(Piece { line: block.line, kind: read_block(&block) }),
            pem::Part::Text { line, bytes } => {
                for piece in read_lines(line, bytes) {
                    rejections += usize::from(matches!(piece.kind, PieceKind::Rejected(_)));
                    if !matches!(piece.kind, PieceKind::Rejected(_)) || rejections <= REJECTED_MAX {
                        pieces.push(piece);
                    }
                }
            }
        }
    }
    if pieces.is_empty() {
        pieces.push(rejected(1, KeyFault::NotAKey));
    }
    pieces
}

fn rejected(line: usize, fault: KeyFault) -> Piece {
    Piece { line, kind: PieceKind::Rejected(fault) }
}

fn read_block(block: &pem::Block<'_>) -> PieceKind {
    if block.label != openssh::LABEL {
        return PieceKind::Rejected(pem::not_read_yet(block.label));
    }
    match block.decode().and_then(|bytes| openssh::Closed::parse(&bytes)) {
        Ok(closed) => PieceKind::Private(closed),
        Err(fault) => PieceKind::Rejected(fault),
    }
}

fn read_lines(first: usize, bytes: &[u8]) -> impl Iterator<Item = Piece> {
    KeysFile::parse(bytes).into_lines().filter_map(move |line| {
        let kind = match line.content {
            Content::Blank | Content::Comment => return None,
            Content::Entry(entry) => {
                PieceKind::Public { key: entry.key, comment: entry.comment, options: entry.options.text }
            }
            Content::Unusable(unusable) => PieceKind::Rejected(unusable.fault.into_key_fault()),
        };
        Some(Piece { line: first + line.number - 1, kind })
    })
}
