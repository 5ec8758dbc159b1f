//! The packets of the public key subsystem (RFC 4819, sections 3 and 4).

use crate::length_prefix::{self, PacketTooLong};
use lavrin_keys::wire::Reader;
use thiserror::Error;

/// The version that is spoken here.
pub const VERSION: u32 = 2;

/// Longest packet that is read, in bytes: a large key with long attributes.
pub const PACKET_BYTES_MAX: usize = 256 << 10;

/// Most attributes of a key.
const ATTRIBUTES_MAX: u32 = 1024;

/// What a key has beside itself.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Attribute {
    /// Its name.
    pub name: String,
    /// Its value.
    pub value: Vec<u8>,
}

/// What the other side says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Packet {
    /// The version that it speaks.
    Version(u32),
    /// How a request ended, and that in words.
    Status(u32, String),
    /// A key of the account.
    PublicKey {
        /// What it says is its algorithm.
        algorithm: String,
        /// The key.
        blob: Vec<u8>,
        /// What it has beside.
        attributes: Vec<Attribute>,
    },
    /// An attribute that the device knows, and whether each key has to have it.
    Attribute(String, bool),
    /// Something that was not asked for.
    Other,
}

/// A packet that is none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum PacketFault {
    /// Its parts do not fit its length.
    #[error("its answer is none of the packets of RFC 4819")]
    Form,
    /// It is longer than [`PACKET_BYTES_MAX`].
    #[error("its answer is longer than {} KiB", PACKET_BYTES_MAX >> 10)]
    TooLong,
}

impl Packet {
    /// Reads a packet without its length.
    ///
    /// # Errors
    /// [`PacketFault::Form`].
    pub fn read(bytes: &[u8]) -> Result<Self, PacketFault> {
        let mut reader = Reader::new(bytes);
        let name = string(&mut reader)?;
        Ok(match name {
            b"version" => Self::Version(number(&mut reader)?),
            b"status" => {
                let code = number(&mut reader)?;
                // Before version 2 some leave the words out.
                let words = string(&mut reader).unwrap_or_default();
                Self::Status(code, String::from_utf8_lossy(words).into_owned())
            }
            b"publickey" => {
                let algorithm = text(&mut reader)?;
                let blob = string(&mut reader)?.to_vec();
                let count = number(&mut reader)?;
                if count > ATTRIBUTES_MAX {
                    return Err(PacketFault::Form);
                }
                let attribute = |_| {
                    let name = text(&mut reader)?;
                    Ok(Attribute { name, value: string(&mut reader)?.to_vec() })
                };
                let attributes = (0..count).map(attribute).collect::<Result<_, _>>()?;
                Self::PublicKey { algorithm, blob, attributes }
            }
            b"attribute" => {
                let name = text(&mut reader)?;
                Self::Attribute(name, reader.byte().map_err(|_| PacketFault::Form)? != 0)
            }
            _ => Self::Other,
        })
    }
}

fn string<'a>(reader: &mut Reader<'a>) -> Result<&'a [u8], PacketFault> {
    reader.string().map_err(|_| PacketFault::Form)
}

fn text(reader: &mut Reader<'_>) -> Result<String, PacketFault> {
    Ok(String::from_utf8_lossy(string(reader)?).into_owned())
}

fn number(reader: &mut Reader<'_>) -> Result<u32, PacketFault> {
    reader.u32().map_err(|_| PacketFault::Form)
}

/// A packet on its way out.
pub struct Request(Vec<u8>);

impl Request {
    /// One by this name.
    #[must_use]
    pub fn new(name: &str) -> Self {
        Self(Vec::new()).string(name.as_bytes())
    }

    /// With these bytes.
    #[must_use]
    pub fn string(mut self, bytes: &[u8]) -> Self {
        self.0.extend_from_slice(&length(bytes).to_be_bytes());
        self.0.extend_from_slice(bytes);
        self
    }

    /// With this number.
    #[must_use]
    pub fn number(mut self, number: u32) -> Self {
        self.0.extend_from_slice(&number.to_be_bytes());
        self
    }

    /// With yes or no.
    #[must_use]
    pub fn flag(mut self, is_set: bool) -> Self {
        self.0.push(u8::from(is_set));
        self
    }

    /// The bytes, with their length before them.
    #[must_use]
    pub fn whole(self) -> Vec<u8> {
        [&length(&self.0).to_be_bytes()[..], &self.0].concat()
    }
}

fn length(bytes: &[u8]) -> u32 {
    u32::try_from(bytes.len()).unwrap_or(u32::MAX)
}

/// The next packet in what came in, without its length; none: more has to come.
///
/// # Errors
/// [`PacketFault::TooLong`].
pub fn next(buffer: &mut Vec<u8>) -> Result<Option<Vec<u8>>, PacketFault> {
    length_prefix::next(buffer, PACKET_BYTES_MAX).map_err(|PacketTooLong| PacketFault::TooLong)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn packets_are_laid_out_as_the_description_says() {
        assert_eq!(Request::new("version").number(2).whole(), b"\0\0\0\x0f\0\0\0\x07version\0\0\0\x02");
        let mut buffer = Request::new("publickey")
            .string(b"ssh-ed25519")
            .string(b"blob")
            .number(1)
            .string(b"comment")
            .string(b"a lamp")
            .whole();
        buffer.extend(Request::new("status").number(0).string(b"").string(b"en").whole());
        let attributes = vec![Attribute { name: "comment".to_owned(), value: b"a lamp".to_vec() }];
        let key = Packet::PublicKey { algorithm: "ssh-ed25519".to_owned(), blob: b"blob".to_vec(), attributes };
        for cut in 0..30 {
            assert_eq!(next(&mut buffer[..cut].to_vec()), Ok(None));
        }
        assert_eq!(Packet::read(&next(&mut buffer).unwrap().unwrap()), Ok(key));
        assert_eq!(Packet::read(&next(&mut buffer).unwrap().unwrap()), Ok(Packet::Status(0, String::new())));
        assert_eq!(next(&mut buffer), Ok(None));
    }

    #[test]
    fn what_is_no_packet_is_refused_within_bounds() {
        assert_eq!(next(&mut vec![0xff; 8]), Err(PacketFault::TooLong));
        let attribute = Request::new("attribute").string(b"from").flag(true).whole();
        assert_eq!(Packet::read(&attribute[4..]), Ok(Packet::Attribute("from".to_owned(), true)));
        let many = Request::new("publickey").string(b"a").string(b"b").number(u32::MAX).whole();
        let short = Request::new("version").whole();
        for bytes in [&many[4..], &short[4..], b"", b"\0\0\0\x09short"] {
            assert_eq!(Packet::read(bytes), Err(PacketFault::Form));
        }
        assert_eq!(Packet::read(&Request::new("tide").whole()[4..]), Ok(Packet::Other));
    }
}
