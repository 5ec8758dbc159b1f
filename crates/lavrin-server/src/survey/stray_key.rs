//! Private keys that lie on a system: where, whether they are protected, and which keys they are.

use crate::fs::BytePath;
use lavrin_keys::key::container::line;
use lavrin_keys::key::{Fingerprint, PublicKey};
use serde::{Deserialize, Serialize};

/// A private key that lies on a system.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct StrayKey {
    /// Where.
    pub path: BytePath,
    /// Whether a passphrase protects it, where that could be told.
    pub protected: Option<bool>,
    /// Its public half, where that could be told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub public: Option<PublicHalf>,
}

/// The public half of a private key that lies on a system.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct PublicHalf {
    /// Which key.
    pub fingerprint: Fingerprint,
    /// Whether only the `.pub` file beside it says so.
    pub beside: bool,
}

impl PublicHalf {
    /// What stands in front of the private key itself.
    #[must_use]
    pub fn in_front(key: &PublicKey) -> Self {
        Self { fingerprint: key.fingerprint(), beside: false }
    }

    /// What the file with the public half says that often lies beside a private key: its first line.
    #[must_use]
    pub fn beside(text: &[u8]) -> Option<Self> {
        let line = text.split(|byte| *byte == b'\n').next()?;
        let key = line::parse(line.trim_ascii())?.ok()?.key;
        Some(Self { fingerprint: key.fingerprint(), beside: true })
    }
}
