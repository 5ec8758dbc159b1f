//! The data types of the SSH wire format (RFC 4251, section 5), read strictly and written canonically.

use zeroize::Zeroizing;

/// What can be wrong with bytes in the SSH wire format.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WireFault {
    /// A field declares more bytes than are left.
    LengthOutOfBounds {
        /// Bytes that the length field asks for.
        declared: usize,
        /// Bytes that are there.
        left: usize,
    },
    /// An `mpint` that has to be positive is negative.
    IntegerNegative,
    /// An `mpint` that has to be positive is zero.
    IntegerZero,
    /// An `mpint` with needless leading zero bytes.
    IntegerNotMinimal,
    /// Bytes are left over behind the last field.
    TrailingData {
        /// How many.
        left: usize,
    },
}

/// Reads fields one after the other and never beyond the end of the bytes it was given.
#[derive(Debug, Clone)]
pub struct Reader<'a> {
    rest: &'a [u8],
}

impl<'a> Reader<'a> {
    /// Starts at the first byte.
    #[must_use]
    pub fn new(bytes: &'a [u8]) -> Self {
        Self { rest: bytes }
    }

    /// The bytes not read yet.
    #[must_use]
    pub fn rest(&self) -> &'a [u8] {
        self.rest
    }

    /// The next `count` bytes.
    ///
    /// # Errors
    /// [`WireFault::LengthOutOfBounds`] where fewer are left.
    pub fn take(&mut self, count: usize) -> Result<&'a [u8], WireFault> {
        let (head, rest) = self
            .rest
            .split_at_checked(count)
            .ok_or(WireFault::LengthOutOfBounds { declared: count, left: self.rest.len() })?;
        self.rest = rest;
        Ok(head)
    }

    /// One byte.
    ///
    /// # Errors
    /// [`WireFault::Truncated`].
    pub fn byte(&mut self) -> Result<u8, WireFault> {
        Ok(self.take(1)?[0])
    }

    /// A `uint32`.
    ///
    /// # Errors
    /// [`WireFault::LengthOutOfBounds`] where fewer than four bytes are left.
    pub fn u32(&mut self) -> Result<u32, WireFault> {
        let bytes = self.take(4)?;
        Ok(bytes.iter().fold(0, |sum, byte| sum << 8 | u32::from(*byte)))
    }

    /// A `string`: a length and that many bytes.
    ///
    /// # Errors
    /// [`WireFault::LengthOutOfBounds`] where the length is larger than what is left.
    pub fn string(&mut self) -> Result<&'a [u8], WireFault> {
        let length = self.u32()? as usize;
        self.take(length)
    }

    /// A positive `mpint` as big-endian bytes without leading zeros.
    ///
    /// # Errors
    /// [`WireFault::IntegerZero`], [`WireFault::IntegerNegative`], [`WireFault::IntegerNotMinimal`] for needless
    /// leading zeros, which RFC 4251 forbids.
    pub fn positive(&mut self) -> Result<&'a [u8], WireFault> {
        let (number, minimal) = self.positive_any_form()?;
        if minimal { Ok(number) } else { Err(WireFault::IntegerNotMinimal) }
    }

    /// A positive `mpint` as OpenSSH's server reads it: surplus leading zeros are dropped. The flag says whether the
    /// form was the minimal one.
    ///
    /// # Errors
    /// [`WireFault::IntegerZero`], [`WireFault::IntegerNegative`].
    pub fn positive_any_form(&mut self) -> Result<(&'a [u8], bool), WireFault> {
        let bytes = self.string()?;
        if bytes.first().is_some_and(|first| first & 0x80 != 0) {
            return Err(WireFault::IntegerNegative);
        }
        let zeros = bytes.iter().take_while(|byte| **byte == 0).count();
        let number = &bytes[zeros..];
        let Some(first) = number.first() else {
            return Err(WireFault::IntegerZero);
        };
        let minimal = zeros == usize::from(first & 0x80 != 0);
        Ok((number, minimal))
    }

    /// Says that everything has been read.
    ///
    /// # Errors
    /// [`WireFault::TrailingData`] where bytes are left.
    pub fn end(&self) -> Result<(), WireFault> {
        if self.rest.is_empty() { Ok(()) } else { Err(WireFault::TrailingData { left: self.rest.len() }) }
    }
}

/// Writes fields one after the other; what it holds is wiped when it is dropped, since it may be a private key.
#[derive(Default)]
pub struct Writer {
    bytes: Zeroizing<Vec<u8>>,
}

impl Writer {
    /// An empty writer with room, so that a growing buffer leaves no copies of secrets behind.
    #[must_use]
    pub fn new() -> Self {
        Self { bytes: Zeroizing::new(Vec::with_capacity(16 * 1024)) }
    }

    /// Appends a `uint32`.
    pub fn u32(&mut self, value: u32) -> &mut Self {
        self.raw(&value.to_be_bytes())
    }

    /// Appends bytes as they are.
    pub fn raw(&mut self, bytes: &[u8]) -> &mut Self {
        self.bytes.extend_from_slice(bytes);
        self
    }

    /// Appends a `string`.
    ///
    /// # Panics
    /// Where `bytes` is longer than a `uint32` can say; nothing that Lavrin writes is.
    pub fn string(&mut self, bytes: &[u8]) -> &mut Self {
        let length = u32::try_from(bytes.len()).expect("no field reaches 4 GiB");
        self.u32(length).raw(bytes)
    }

    /// Appends a positive `mpint`, given as big-endian bytes, in its minimal form.
    pub fn positive(&mut self, number: &[u8]) -> &mut Self {
        let number = without_leading_zeros(number);
        if number.first().is_some_and(|first| first & 0x80 != 0) {
            let length = u32::try_from(number.len() + 1).expect("no number reaches 4 GiB");
            self.u32(length).raw(&[0]).raw(number)
        } else {
            self.string(number)
        }
    }

    /// An empty writer with exactly so much room, for public things whose size is known.
    #[must_use]
    pub fn sized(capacity: usize) -> Self {
        Self { bytes: Zeroizing::new(Vec::with_capacity(capacity)) }
    }

    /// How many bytes were written.
    #[must_use]
    pub fn len(&self) -> usize {
        self.bytes.len()
    }

    /// Whether nothing was written yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.bytes.is_empty()
    }

    /// What was written, where none of it is secret: it is neither copied nor wiped.
    #[must_use]
    pub fn finish_public(mut self) -> Vec<u8> {
        std::mem::take(&mut *self.bytes)
    }

    /// What was written.
    #[must_use]
    pub fn finish(self) -> Zeroizing<Vec<u8>> {
        self.bytes
    }
}

/// A big-endian number without its leading zero bytes.
#[must_use]
pub fn without_leading_zeros(number: &[u8]) -> &[u8] {
    let zeros = number.iter().take_while(|byte| **byte == 0).count();
    &number[zeros..]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_length_beyond_the_end_is_refused() {
        let mut reader = Reader::new(&[0, 0, 0, 9, 1]);
        assert_eq!(reader.string(), Err(WireFault::LengthOutOfBounds { declared: 9, left: 1 }));
    }

    #[test]
    fn integers_have_to_be_positive_and_minimal() {
        let cases: [(&[u8], _); 5] = [
            (&[0, 0, 0, 1, 0x80], Err(WireFault::IntegerNegative)),
            (&[0, 0, 0, 0], Err(WireFault::IntegerZero)),
            (&[0, 0, 0, 2, 0, 0x7f], Err(WireFault::IntegerNotMinimal)),
            (&[0, 0, 0, 3, 0, 0, 0x80], Err(WireFault::IntegerNotMinimal)),
            (&[0, 0, 0, 2, 0, 0x80], Ok(&[0x80][..])),
        ];
        for (bytes, expected) in cases {
            assert_eq!(Reader::new(bytes).positive(), expected, "{bytes:?}");
        }
    }

    #[test]
    fn what_is_written_reads_back() {
        let mut writer = Writer::new();
        writer.string(b"ssh-rsa").positive(&[0, 0x80, 1]).positive(&[5]).u32(7);
        let bytes = writer.finish();
        let mut reader = Reader::new(&bytes);
        assert_eq!(reader.string().unwrap(), b"ssh-rsa");
        assert_eq!(reader.positive().unwrap(), [0x80, 1]);
        assert_eq!(reader.positive().unwrap(), [5]);
        assert_eq!(reader.u32().unwrap(), 7);
        assert_eq!(reader.end(), Ok(()));
    }
}
