//! Where something stands in the files of a register.

use std::ops::Range;

/// Where something stands. There are very many of them, so that they are short; no file is longer than 4 GiB.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct RegisterPlace {
    file: u32,
    begin: u32,
    end: u32,
}

impl RegisterPlace {
    /// These bytes of a file, which is counted from 0 in the order in which the files were read.
    #[must_use]
    pub fn new(file: usize, bytes: Range<usize>) -> Self {
        let short = |number: usize| u32::try_from(number).unwrap_or(u32::MAX);
        Self { file: short(file), begin: short(bytes.start), end: short(bytes.end) }
    }

    /// Which file, counted from 0 in the order in which they were read.
    #[must_use]
    pub fn file(self) -> usize {
        self.file as usize
    }

    /// Which bytes of it.
    #[must_use]
    pub fn bytes(self) -> Range<usize> {
        self.begin as usize..self.end as usize
    }

    /// Only where it begins.
    #[must_use]
    pub fn begin(self) -> Self {
        Self { end: self.begin, ..self }
    }
}

/// A part of a file that is read by itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct SourcePart {
    /// Which file.
    pub(crate) file: usize,
    /// Where the part begins in it.
    pub(crate) start: usize,
}

impl SourcePart {
    /// A place in the file, by where it stands in the part.
    pub(crate) fn place(self, bytes: Range<usize>) -> RegisterPlace {
        RegisterPlace::new(self.file, self.start + bytes.start..self.start + bytes.end)
    }
}

/// A value and where it stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Placed<T> {
    /// The value.
    pub value: T,
    /// Where.
    pub place: RegisterPlace,
}
