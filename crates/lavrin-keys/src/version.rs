//! Versions of servers, as far as their rules differ.

use serde::{Deserialize, Serialize};
use std::fmt;

/// The first two numbers of a version: 9.2 of `OpenSSH_9.2p1`, 2022.83 of `dropbear_2022.83`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Version(pub u16, pub u16);

impl Version {
    /// Reads the numbers at the beginning of a text, as `9.2p1 Debian-2`; an epoch as in `1:9.2p1` is passed over.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.split_once(':').map_or(text, |(_, behind)| behind);
        let (major, rest) = text.split_once('.').unwrap_or((text, "0"));
        let digits = rest.len() - rest.trim_start_matches(|character: char| character.is_ascii_digit()).len();
        Some(Self(major.parse().ok()?, rest[..digits].parse().ok()?))
    }
}

impl fmt::Display for Version {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "{}.{}", self.0, self.1)
    }
}
