//! How messages are kept apart on the wire (RFC 6242, sections 4.2 and 4.3). Bytes come in as they come: borders of chunks and of
//! packets fall anywhere, also inside a character.

use memchr::memmem;
use thiserror::Error;

/// What ends every message of the first form, and both hellos.
pub const END: &[u8] = b"]]>]]>";

/// What ends a message of the second form.
const END_OF_CHUNKS: &[u8] = b"\n##\n";

/// Longest message that is read, in bytes: 20,000 accounts with four keys each.
pub const MESSAGE_BYTES_MAX: usize = 32 << 20;

/// Longest line that begins a chunk: `\n#4294967295\n`.
const HEADER_BYTES_MAX: usize = 13;

/// How messages are kept apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Framing {
    /// `]]>]]>` ends each; what base:1.0 speaks, and both hellos.
    EndOfMessage,
    /// Each comes in chunks that tell their length; what base:1.1 speaks.
    Chunked,
}

/// The session cannot go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum FramingFault {
    /// What should begin a chunk or end a message does not.
    #[error("what begins a part of its answer is none of the forms of RFC 6242")]
    Header,
    /// A message is longer than [`MESSAGE_BYTES_MAX`].
    #[error("its answer is longer than {} MiB", MESSAGE_BYTES_MAX >> 20)]
    TooLong,
}

/// A message as it goes out.
#[must_use]
pub fn framed(message: &str, framing: Framing) -> Vec<u8> {
    let bytes = message.as_bytes();
    match framing {
        Framing::EndOfMessage => [bytes, END].concat(),
        Framing::Chunked => [format!("\n#{}\n", bytes.len()).as_bytes(), bytes, END_OF_CHUNKS].concat(),
    }
}

/// What has come in and is no whole message yet.
#[derive(Debug, Default)]
pub struct MessageBuffer {
    buffer: Vec<u8>,
    /// How far `buffer` was searched.
    searched: usize,
    /// The chunks of the message so far.
    message: Vec<u8>,
    /// How much of the present chunk is missing.
    missing: usize,
}

impl MessageBuffer {
    /// Takes in what came.
    pub fn push(&mut self, bytes: &[u8]) {
        self.buffer.extend_from_slice(bytes);
    }

    /// The next whole message; none: more has to come.
    ///
    /// # Errors
    /// [`FramingFault`]; nothing that comes later can be told apart any more.
    pub fn next(&mut self, framing: Framing) -> Result<Option<Vec<u8>>, FramingFault> {
        match framing {
            Framing::EndOfMessage => self.up_to_the_end(),
            Framing::Chunked => self.chunks(),
        }
    }

    fn up_to_the_end(&mut self) -> Result<Option<Vec<u8>>, FramingFault> {
        // The end may have begun in what was searched.
        let from = self.searched.saturating_sub(END.len() - 1);
        if let Some(found) = memmem::find(&self.buffer[from..], END) {
            let message = self.buffer[..from + found].to_vec();
            self.buffer.drain(..from + found + END.len());
            self.searched = 0;
            return if message.len() > MESSAGE_BYTES_MAX { Err(FramingFault::TooLong) } else { Ok(Some(message)) };
        }
        self.searched = self.buffer.len();
        if self.buffer.len() > MESSAGE_BYTES_MAX + END.len() { Err(FramingFault::TooLong) } else { Ok(None) }
    }

    fn chunks(&mut self) -> Result<Option<Vec<u8>>, FramingFault> {
        let mut at = 0;
        let whole = loop {
            if self.missing > 0 {
                let taken = self.missing.min(self.buffer.len() - at);
                self.message.extend_from_slice(&self.buffer[at..at + taken]);
                (self.missing, at) = (self.missing - taken, at + taken);
                if self.missing > 0 {
                    break false;
                }
            }
            match header(&self.buffer[at..])? {
                None => break false,
                Some(Header::End { length }) => {
                    at += length;
                    // A message has at least one chunk.
                    if self.message.is_empty() {
                        return Err(FramingFault::Header);
                    }
                    break true;
                }
                Some(Header::Chunk { length, bytes }) => {
                    if bytes > MESSAGE_BYTES_MAX - self.message.len() {
                        return Err(FramingFault::TooLong);
                    }
                    (self.missing, at) = (bytes, at + length);
                }
            }
        };
        self.buffer.drain(..at);
        Ok(whole.then(|| std::mem::take(&mut self.message)))
    }
}

enum Header {
    Chunk { length: usize, bytes: usize },
    End { length: usize },
}

/// What stands between two chunks; none: more has to come.
fn header(bytes: &[u8]) -> Result<Option<Header>, FramingFault> {
    let begins = bytes.len().min(2);
    if bytes[..begins] != b"\n#"[..begins] {
        return Err(FramingFault::Header);
    }
    let Some(rest) = bytes.get(2..) else { return Ok(None) };
    if rest.first() == Some(&b'#') {
        return match rest.get(1) {
            None => Ok(None),
            Some(b'\n') => Ok(Some(Header::End { length: END_OF_CHUNKS.len() })),
            Some(_) => Err(FramingFault::Header),
        };
    }
    let digits = rest.iter().take_while(|byte| byte.is_ascii_digit()).count();
    if rest.first() == Some(&b'0') || digits + 2 >= HEADER_BYTES_MAX {
        return Err(FramingFault::Header);
    }
    match rest.get(digits) {
        None => Ok(None),
        Some(b'\n') if digits > 0 => {
            let size = str::from_utf8(&rest[..digits]).ok().and_then(|text| text.parse::<u32>().ok());
            let bytes = usize::try_from(size.ok_or(FramingFault::Header)?).map_err(|_| FramingFault::TooLong)?;
            Ok(Some(Header::Chunk { length: digits + 3, bytes }))
        }
        Some(_) => Err(FramingFault::Header),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// All messages of what comes in pieces of this size.
    fn read(bytes: &[u8], framing: Framing, piece: usize) -> Result<Vec<String>, FramingFault> {
        let (mut incoming, mut messages) = (MessageBuffer::default(), Vec::new());
        for part in bytes.chunks(piece) {
            incoming.push(part);
            while let Some(message) = incoming.next(framing)? {
                messages.push(String::from_utf8(message).unwrap());
            }
        }
        Ok(messages)
    }

    #[test]
    fn messages_are_read_whatever_the_pieces_they_come_in() {
        let (one, two) = ("<a>Åke]]&gt;</a>", "<b/>");
        for framing in [Framing::EndOfMessage, Framing::Chunked] {
            let both = [framed(one, framing), framed(two, framing)].concat();
            for piece in 1..both.len() {
                assert_eq!(read(&both, framing, piece).unwrap(), [one, two], "{framing:?} {piece}");
            }
        }
        // A border inside a character.
        let parts = b"\n#4\n<a>\xc3\n#5\n\x85</a>\n##\n";
        assert_eq!(read(parts, Framing::Chunked, 1).unwrap(), ["<a>\u{c5}</a>"]);
        assert_eq!(read(&parts[..parts.len() - 4], Framing::Chunked, 1).unwrap(), [""; 0], "no end yet");
    }

    #[test]
    fn what_is_no_chunk_ends_the_session() {
        let refused = [
            "\n#0\n",
            "\n#01\nx",
            "\n#4294967296\n",
            "\n#-1\n",
            "\r\n#1\n",
            "<a/>",
            "\n##\n",
            "\n#1\nx\n#x",
            "\n###\n",
        ];
        for text in refused {
            for piece in [1, 100] {
                assert_eq!(read(text.as_bytes(), Framing::Chunked, piece), Err(FramingFault::Header), "{text:?}");
            }
        }
        assert_eq!(read(b"\n#4294967295\n", Framing::Chunked, 1), Err(FramingFault::TooLong));
        let endless = vec![b' '; MESSAGE_BYTES_MAX + 7];
        assert_eq!(read(&endless, Framing::EndOfMessage, 1 << 20), Err(FramingFault::TooLong));
    }
}
