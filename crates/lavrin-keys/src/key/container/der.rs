//! The little of DER (ITU-T X.690) that RSA private keys need: definite lengths, sequences, integers, octet strings.

use crate::key::KeyFault;
use crate::key::Secret;
use crate::key::fault::WrongStructure;
use crate::wire::{WireFault, without_leading_zeros};
use zeroize::Zeroizing;

pub(crate) const INTEGER: u8 = 0x02;
pub(crate) const OCTET_STRING: u8 = 0x04;
pub(crate) const SEQUENCE: u8 = 0x30;
pub(crate) const BIT_STRING: u8 = 0x03;
pub(crate) const NULL: u8 = 0x05;
pub(crate) const OID: u8 = 0x06;

/// Reads DER values one after the other.
pub(crate) struct Der<'a> {
    rest: &'a [u8],
}

impl<'a> Der<'a> {
    pub(crate) fn new(bytes: &'a [u8]) -> Self {
        Self { rest: bytes }
    }

    /// Whether the next value has this tag.
    pub(crate) fn is_next(&self, tag: u8) -> bool {
        self.rest.first() == Some(&tag)
    }

    /// Says that everything has been read.
    pub(crate) fn end(&self) -> Result<(), KeyFault> {
        if self.rest.is_empty() { Ok(()) } else { Err(KeyFault::TrailingData { left: self.rest.len() }) }
    }

    /// An object identifier, in its encoded form.
    pub(crate) fn oid(&mut self) -> Result<&'a [u8], KeyFault> {
        self.value(OID)
    }

    /// A bit string of whole bytes.
    pub(crate) fn bits(&mut self) -> Result<&'a [u8], KeyFault> {
        match self.value(BIT_STRING)? {
            [0, bytes @ ..] => Ok(bytes),
            _ => Err(KeyFault::BadStructure { detail: WrongStructure::PartialByte }),
        }
    }

    /// A NULL, where there is one.
    pub(crate) fn maybe_null(&mut self) -> Result<(), KeyFault> {
        if self.is_next(NULL) { self.value(NULL).map(|_| ()) } else { Ok(()) }
    }

    /// Whatever stands in a context tag such as `[0]`, where that is next.
    pub(crate) fn context(&mut self, tag: u8) -> Result<Option<&'a [u8]>, KeyFault> {
        if self.is_next(tag) { self.value(tag).map(Some) } else { Ok(None) }
    }

    /// A small number, for versions, counts and costs.
    pub(crate) fn small(&mut self) -> Result<u64, KeyFault> {
        let digits = self.integer()?;
        if digits.len() > 8 {
            return Ok(u64::MAX);
        }
        Ok(digits.iter().fold(0, |sum, digit| sum << 8 | u64::from(*digit)))
    }

    pub(crate) fn value(&mut self, tag: u8) -> Result<&'a [u8], KeyFault> {
        let [found, length, rest @ ..] = self.rest else {
            return Err(KeyFault::BadStructure { detail: WrongStructure::FieldMissing });
        };
        if *found != tag {
            return Err(KeyFault::BadStructure { detail: WrongStructure::DerType });
        }
        let (length, rest) = if *length < 0x80 {
            (usize::from(*length), rest)
        } else {
            let width = usize::from(length & 0x7f);
            // Four bytes say up to 4 GiB; zero would be the indefinite form, which DER forbids.
            if width > 4 {
                return Err(KeyFault::LengthOutOfBounds { declared: usize::MAX, left: rest.len() });
            }
            if width == 0 || rest.len() < width {
                return Err(KeyFault::BadStructure { detail: WrongStructure::DerIndefinite });
            }
            let (digits, rest) = rest.split_at(width);
            let length = digits.iter().fold(0usize, |sum, digit| sum << 8 | usize::from(*digit));
            if length < 0x80 || digits.first() == Some(&0) {
                return Err(KeyFault::BadStructure { detail: WrongStructure::DerLengthNotMinimal });
            }
            (length, rest)
        };
        let (value, rest) =
            rest.split_at_checked(length).ok_or(WireFault::LengthOutOfBounds { declared: length, left: rest.len() })?;
        self.rest = rest;
        Ok(value)
    }

    pub(crate) fn sequence(&mut self) -> Result<Der<'a>, KeyFault> {
        self.value(SEQUENCE).map(Der::new)
    }

    pub(crate) fn octets(&mut self) -> Result<&'a [u8], KeyFault> {
        self.value(OCTET_STRING)
    }

    /// An integer that is not negative, without leading zeros (zero itself is empty).
    pub(crate) fn integer(&mut self) -> Result<&'a [u8], KeyFault> {
        let bytes = self.value(INTEGER)?;
        match bytes {
            [] => Err(KeyFault::BadStructure { detail: WrongStructure::DerEmptyInteger }),
            [first, ..] if first & 0x80 != 0 => Err(KeyFault::IntegerNegative),
            [0, second, ..] if second & 0x80 == 0 => Err(KeyFault::IntegerNotMinimal),
            _ => Ok(without_leading_zeros(bytes)),
        }
    }
}

/// The numbers of a two-prime PKCS#8 RSA key (RFC 5958; RFC 8017, appendix A.1.2): n, e, d, p, q, dp, dq, iqmp.
pub(crate) fn rsa_numbers(pkcs8: &[u8]) -> Result<[&[u8]; 8], KeyFault> {
    let mut outer = Der::new(pkcs8).sequence()?;
    outer.integer()?;
    outer.sequence()?;
    let mut inner = Der::new(outer.octets()?).sequence()?;
    inner.integer()?;
    let mut numbers = [&[][..]; 8];
    for number in &mut numbers {
        *number = inner.integer()?;
    }
    Ok(numbers)
}

/// Appends a value that consists of these parts.
pub(crate) fn push(out: &mut Secret, tag: u8, value: &[&[u8]]) {
    let length: usize = value.iter().map(|part| part.len()).sum();
    out.push(tag);
    if let Ok(short) = u8::try_from(length)
        && short < 0x80
    {
        out.push(short);
    } else {
        let digits = length.to_be_bytes();
        let digits = without_leading_zeros(&digits);
        out.push(0x80 | u8::try_from(digits.len()).expect("a length has at most eight bytes"));
        out.extend_from_slice(digits);
    }
    for part in value {
        out.extend_from_slice(part);
    }
}

/// Appends a number, given as big-endian bytes, as an INTEGER.
pub(crate) fn push_integer(out: &mut Secret, number: &[u8]) {
    let number = without_leading_zeros(number);
    let zero: &[u8] = if number.first().is_none_or(|first| first & 0x80 != 0) { &[0] } else { &[] };
    push(out, INTEGER, &[zero, number]);
}

/// One value of its own.
pub(crate) fn value(tag: u8, parts: &[&[u8]]) -> Secret {
    let mut out = Zeroizing::new(Vec::with_capacity(parts.iter().map(|part| part.len()).sum::<usize>() + 8));
    push(&mut out, tag, parts);
    out
}

/// Wraps already encoded values into a SEQUENCE.
pub(crate) fn sequence(body: &[u8]) -> Secret {
    let mut out = Zeroizing::new(Vec::with_capacity(body.len() + 8));
    push(&mut out, SEQUENCE, &[body]);
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn integers_are_written_in_their_shortest_form() {
        let mut out = Zeroizing::new(Vec::new());
        push_integer(&mut out, &[0]);
        push_integer(&mut out, &[0, 0x80]);
        assert_eq!(&out[..], [2, 1, 0, 2, 2, 0, 0x80]);
        assert_eq!(sequence(&[7; 200])[..3], [0x30, 0x81, 200]);
    }

    #[test]
    fn lengths_are_bounded() {
        assert_eq!(Der::new(&[0x30, 0x80, 0, 0]).sequence().err().unwrap().word(), "bad-structure");
        assert_eq!(
            Der::new(&[0x30, 0x84, 0xff, 0xff, 0xff, 0xff]).sequence().err().unwrap().word(),
            "length-out-of-bounds"
        );
        assert_eq!(Der::new(&[2, 1, 0x80]).integer(), Err(KeyFault::IntegerNegative));
        assert_eq!(Der::new(&[2, 2, 0, 1]).integer(), Err(KeyFault::IntegerNotMinimal));
    }
}
