//! The packets of the file transfer protocol, version 3, as servers speak it (draft-ietf-secsh-filexfer-02, sections 3 to 7).

use crate::length_prefix::{self, PacketTooLong};
use lavrin_keys::wire::{Reader, WireFault};
use thiserror::Error;

/// The version that is spoken here.
pub const VERSION: u32 = 3;

/// Longest packet that is read, in bytes: servers send no more than this (section 3).
pub const PACKET_BYTES_MAX: usize = 256 << 10;

/// Most names in one answer.
const NAMES_MAX: u32 = 4096;

/// The kinds of packets (section 3).
pub mod kind {
    #![allow(missing_docs, reason = "their names are those of the protocol")]
    pub const INIT: u8 = 1;
    pub const VERSION: u8 = 2;
    pub const OPEN: u8 = 3;
    pub const CLOSE: u8 = 4;
    pub const READ: u8 = 5;
    pub const WRITE: u8 = 6;
    pub const LSTAT: u8 = 7;
    pub const FSTAT: u8 = 8;
    pub const SETSTAT: u8 = 9;
    pub const FSETSTAT: u8 = 10;
    pub const REMOVE: u8 = 13;
    pub const MKDIR: u8 = 14;
    pub const REALPATH: u8 = 16;
    pub const RENAME: u8 = 18;
    pub const STATUS: u8 = 101;
    pub const HANDLE: u8 = 102;
    pub const DATA: u8 = 103;
    pub const NAME: u8 = 104;
    pub const ATTRS: u8 = 105;
    pub const EXTENDED: u8 = 200;
}

/// How a request ended (section 7).
pub mod status {
    #![allow(missing_docs, reason = "their names are those of the protocol")]
    pub const OK: u32 = 0;
    pub const EOF: u32 = 1;
    pub const NO_SUCH_FILE: u32 = 2;
    pub const PERMISSION_DENIED: u32 = 3;
    pub const FAILURE: u32 = 4;
    pub const UNSUPPORTED: u32 = 8;
}

/// How a file is opened (section 6.3).
pub mod open {
    #![allow(missing_docs, reason = "their names are those of the protocol")]
    pub const READ: u32 = 1;
    pub const WRITE: u32 = 2;
    pub const CREATE: u32 = 8;
    pub const NEW: u32 = 0x20;
}

const HAS_SIZE: u32 = 1;
const HAS_OWNER: u32 = 2;
const HAS_MODE: u32 = 4;
const HAS_TIMES: u32 = 8;
const HAS_MORE: u32 = 0x8000_0000;

/// What a server tells of a file (section 5), as far as it matters here.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct FileAttributes {
    /// Its size in bytes.
    pub size: Option<u64>,
    /// Numbers of its user and group.
    pub owner: Option<(u32, u32)>,
    /// Kind and permission bits.
    pub mode: Option<u32>,
    /// When it was last written, in seconds since 1970 by the server's clock.
    pub modified: Option<u32>,
}

impl FileAttributes {
    /// Only permission bits.
    #[must_use]
    pub fn of_mode(mode: u32) -> Self {
        Self { mode: Some(mode), ..Self::default() }
    }

    /// The permission bits.
    #[must_use]
    pub fn permissions(&self) -> Option<u32> {
        self.mode.map(|mode| mode & 0o7777)
    }

    fn is_of_kind(&self, bits: u32) -> bool {
        self.mode.is_some_and(|mode| mode & 0o170_000 == bits)
    }

    /// Whether it is a link.
    #[must_use]
    pub fn is_link(&self) -> bool {
        self.is_of_kind(0o120_000)
    }

    /// Whether it is a folder.
    #[must_use]
    pub fn is_folder(&self) -> bool {
        self.is_of_kind(0o040_000)
    }

    /// Whether it is, or may be, a regular file: not every server tells the kind.
    #[must_use]
    pub fn may_be_file(&self) -> bool {
        self.mode.is_none_or(|mode| matches!(mode & 0o170_000, 0 | 0o100_000))
    }

    /// Reads them.
    ///
    /// # Errors
    /// [`WireFault`].
    pub fn read(reader: &mut Reader<'_>) -> Result<Self, WireFault> {
        let flags = reader.u32()?;
        let mut found = Self::default();
        if flags & HAS_SIZE != 0 {
            found.size = Some(u64::from(reader.u32()?) << 32 | u64::from(reader.u32()?));
        }
        if flags & HAS_OWNER != 0 {
            found.owner = Some((reader.u32()?, reader.u32()?));
        }
        if flags & HAS_MODE != 0 {
            found.mode = Some(reader.u32()?);
        }
        if flags & HAS_TIMES != 0 {
            reader.take(4)?;
            found.modified = Some(reader.u32()?);
        }
        if flags & HAS_MORE != 0 {
            for _ in 0..reader.u32()?.min(NAMES_MAX) {
                reader.string()?;
                reader.string()?;
            }
        }
        Ok(found)
    }
}

/// A packet that is being put together.
#[derive(Debug, Clone)]
pub struct Outgoing(Vec<u8>);

impl Outgoing {
    /// One of this kind.
    #[must_use]
    pub fn new(kind: u8) -> Self {
        Self(vec![kind])
    }

    /// With this number.
    #[must_use]
    pub fn number(mut self, number: u32) -> Self {
        self.0.extend(number.to_be_bytes());
        self
    }

    /// With this large number.
    #[must_use]
    pub fn large(mut self, number: u64) -> Self {
        self.0.extend(number.to_be_bytes());
        self
    }

    /// With these bytes.
    #[must_use]
    pub fn string(mut self, bytes: &[u8]) -> Self {
        self = self.number(u32::try_from(bytes.len()).unwrap_or(u32::MAX));
        self.0.extend_from_slice(bytes);
        self
    }

    /// With these attributes.
    #[must_use]
    pub fn attributes(self, own: &FileAttributes) -> Self {
        let flag = |is_there: bool, bit| if is_there { bit } else { 0 };
        let flags = flag(own.size.is_some(), HAS_SIZE)
            | flag(own.owner.is_some(), HAS_OWNER)
            | flag(own.mode.is_some(), HAS_MODE)
            | flag(own.modified.is_some(), HAS_TIMES);
        let mut out = self.number(flags);
        if let Some(size) = own.size {
            out = out.large(size);
        }
        if let Some((user, group)) = own.owner {
            out = out.number(user).number(group);
        }
        if let Some(mode) = own.mode {
            out = out.number(mode);
        }
        if let Some(modified) = own.modified {
            out = out.number(modified).number(modified);
        }
        out
    }

    /// The bytes, with their length before them.
    #[must_use]
    pub fn whole(self) -> Vec<u8> {
        let length = u32::try_from(self.0.len()).unwrap_or(u32::MAX);
        [&length.to_be_bytes()[..], &self.0].concat()
    }
}

/// What a server says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileAnswer {
    /// The version that it speaks, and its extensions.
    Version(u32, Vec<String>),
    /// How a request ended, and that in words.
    Status(u32, String),
    /// A file that is open.
    Handle(Vec<u8>),
    /// Some of its bytes.
    Data(Vec<u8>),
    /// Names.
    Names(Vec<Vec<u8>>),
    /// What a file is.
    Attributes(FileAttributes),
}

/// An answer that is none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum FileAnswerFault {
    /// Its parts do not fit its length.
    #[error("its answer is none of the packets of the file transfer protocol")]
    Form,
    /// It is longer than [`PACKET_BYTES_MAX`].
    #[error("its answer is longer than {} KiB", PACKET_BYTES_MAX >> 10)]
    TooLong,
}

impl From<WireFault> for FileAnswerFault {
    fn from(_: WireFault) -> Self {
        Self::Form
    }
}

impl FileAnswer {
    /// Reads an answer without its length; gives the number of the request that it answers, too.
    ///
    /// # Errors
    /// [`FileAnswerFault::Form`].
    pub fn read(bytes: &[u8]) -> Result<(u32, Self), FileAnswerFault> {
        let mut reader = Reader::new(bytes);
        let kind = reader.byte()?;
        if kind == kind::VERSION {
            let version = reader.u32()?;
            let mut extensions = Vec::new();
            while !reader.rest().is_empty() && extensions.len() < NAMES_MAX as usize {
                extensions.push(String::from_utf8_lossy(reader.string()?).into_owned());
                reader.string()?;
            }
            return Ok((0, Self::Version(version, extensions)));
        }
        let number = reader.u32()?;
        let answer = match kind {
            kind::STATUS => {
                let code = reader.u32()?;
                // Before version 3 there are no words.
                Self::Status(code, String::from_utf8_lossy(reader.string().unwrap_or_default()).into_owned())
            }
            kind::HANDLE => Self::Handle(reader.string()?.to_vec()),
            kind::DATA => Self::Data(reader.string()?.to_vec()),
            kind::NAME => {
                let count = reader.u32()?;
                if count > NAMES_MAX {
                    return Err(FileAnswerFault::Form);
                }
                let mut names = Vec::new();
                for _ in 0..count {
                    names.push(reader.string()?.to_vec());
                    reader.string()?;
                    FileAttributes::read(&mut reader)?;
                }
                Self::Names(names)
            }
            kind::ATTRS => Self::Attributes(FileAttributes::read(&mut reader)?),
            _ => return Err(FileAnswerFault::Form),
        };
        Ok((number, answer))
    }
}

/// The next packet in what came in, without its length; none: more has to come.
///
/// # Errors
/// [`FileAnswerFault::TooLong`].
pub fn next(buffer: &mut Vec<u8>) -> Result<Option<Vec<u8>>, FileAnswerFault> {
    length_prefix::next(buffer, PACKET_BYTES_MAX).map_err(|PacketTooLong| FileAnswerFault::TooLong)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packets_are_laid_out_as_the_description_says() {
        let attributes =
            FileAttributes { size: Some(7), owner: Some((1, 2)), mode: Some(0o100_600), modified: Some(77) };
        let mut buffer = Outgoing::new(kind::ATTRS).number(9).attributes(&attributes).whole();
        assert_eq!(buffer[..9], *b"\0\0\0\x25\x69\0\0\0\x09");
        for cut in 0..buffer.len() - 1 {
            assert_eq!(next(&mut buffer[..cut].to_vec()), Ok(None));
        }
        buffer.extend(Outgoing::new(kind::STATUS).number(4).number(2).string(b"gone").string(b"en").whole());
        let answers = [next(&mut buffer), next(&mut buffer)].map(|packet| FileAnswer::read(&packet.unwrap().unwrap()));
        assert_eq!(answers[0], Ok((9, FileAnswer::Attributes(attributes))));
        assert_eq!(answers[1], Ok((4, FileAnswer::Status(2, "gone".to_owned()))));
        let hello = Outgoing::new(kind::VERSION).number(3).string(b"posix-rename@openssh.com").string(b"1").whole();
        let extensions = vec!["posix-rename@openssh.com".to_owned()];
        assert_eq!(FileAnswer::read(&hello[4..]), Ok((0, FileAnswer::Version(3, extensions))));
    }

    #[test]
    fn what_is_no_packet_is_refused_within_bounds() {
        assert_eq!(next(&mut vec![0xff; 8]), Err(FileAnswerFault::TooLong));
        let many = Outgoing::new(kind::NAME).number(1).number(u32::MAX).whole();
        let other = Outgoing::new(77).number(1).whole();
        for bytes in [&many[4..], &other[4..], b"", b"\x68\0\0"] {
            assert_eq!(FileAnswer::read(bytes), Err(FileAnswerFault::Form));
        }
    }
}
