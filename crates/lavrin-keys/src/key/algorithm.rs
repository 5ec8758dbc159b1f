//! The algorithms of SSH keys and their names on the wire.

use std::fmt;

/// A curve of the ECDSA keys (RFC 5656, section 10.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Curve {
    /// NIST P-256.
    P256,
    /// NIST P-384.
    P384,
    /// NIST P-521.
    P521,
}

impl Curve {
    /// The curve's identifier inside a key: `nistp256`, …
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::P256 => "nistp256",
            Self::P384 => "nistp384",
            Self::P521 => "nistp521",
        }
    }

    /// Bytes of a coordinate or scalar.
    #[must_use]
    pub fn width(self) -> usize {
        match self {
            Self::P256 => 32,
            Self::P384 => 48,
            Self::P521 => 66,
        }
    }

    /// Size of the field in bits.
    #[must_use]
    pub fn bits(self) -> usize {
        match self {
            Self::P256 => 256,
            Self::P384 => 384,
            Self::P521 => 521,
        }
    }
}

/// An algorithm of public keys that SSH servers accept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Algorithm {
    /// `ssh-ed25519` (RFC 8709).
    Ed25519,
    /// `ecdsa-sha2-nistp…` (RFC 5656).
    Ecdsa(Curve),
    /// `ssh-rsa` (RFC 4253, section 6.6; signatures by RFC 8332).
    Rsa,
    /// Ed25519 on an authenticator.
    SkEd25519,
    /// ECDSA P-256 on an authenticator.
    SkEcdsa,
    /// `ssh-dss` (RFC 4253, section 6.6): read where a server reads it, so that it is found; made and installed nowhere.
    Dss,
}

impl Algorithm {
    /// Every algorithm, in the order of preference.
    pub const ALL: [Self; 8] = [
        Self::Ed25519,
        Self::SkEd25519,
        Self::Ecdsa(Curve::P256),
        Self::Ecdsa(Curve::P384),
        Self::Ecdsa(Curve::P521),
        Self::SkEcdsa,
        Self::Rsa,
        Self::Dss,
    ];

    /// The name in a public key blob and in front of a one-line key.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Ed25519 => "ssh-ed25519",
            Self::Ecdsa(Curve::P256) => "ecdsa-sha2-nistp256",
            Self::Ecdsa(Curve::P384) => "ecdsa-sha2-nistp384",
            Self::Ecdsa(Curve::P521) => "ecdsa-sha2-nistp521",
            Self::Rsa => "ssh-rsa",
            Self::SkEd25519 => "sk-ssh-ed25519@openssh.com",
            Self::SkEcdsa => "sk-ecdsa-sha2-nistp256@openssh.com",
            Self::Dss => "ssh-dss",
        }
    }

    /// The algorithm with this exact name.
    #[must_use]
    pub fn from_name(name: &[u8]) -> Option<Self> {
        Self::ALL.into_iter().find(|algorithm| algorithm.name().as_bytes() == name)
    }

    /// The key algorithm that OpenSSH's server takes a *label* for: the two RSA signature names stand for RSA keys.
    #[must_use]
    pub fn from_label(label: &[u8]) -> Option<Self> {
        match label {
            b"rsa-sha2-256" | b"rsa-sha2-512" => Some(Self::Rsa),
            _ => Self::from_name(label),
        }
    }

    /// The algorithm of a key *inside* a blob, by the names that OpenSSH's server takes there: beside the usual one its own short
    /// names, in any case, and signature names for RSA. For ECDSA it asks for the curve's own name.
    #[must_use]
    pub fn from_inner_name(name: &[u8]) -> Option<Self> {
        let is = |short: &str| name.eq_ignore_ascii_case(short.as_bytes());
        match name {
            _ if is("ED25519") => Some(Self::Ed25519),
            _ if is("ED25519-SK") => Some(Self::SkEd25519),
            _ if is("RSA") => Some(Self::Rsa),
            _ if is("DSA") => Some(Self::Dss),
            _ => Self::from_label(name),
        }
    }

    /// Names that servers once took or that belong to other things; recognised so that the refusal can name them.
    #[must_use]
    pub fn is_retired(name: &[u8]) -> bool {
        matches!(name, b"ssh-dss" | b"ssh-dsa" | b"dsa")
    }
}

impl fmt::Display for Algorithm {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(self.name())
    }
}
