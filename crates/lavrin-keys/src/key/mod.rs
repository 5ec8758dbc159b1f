//! Keys: algorithms, public and private halves, fingerprints, generation, containers and strength.

pub mod algorithm;
pub mod base64;
pub mod container;
mod edwards;
pub mod fingerprint;
pub mod generate;
mod numbers;
pub mod passphrase;
pub mod paste;
pub mod policy;
pub mod private;
pub mod public;
pub mod revocation;
pub mod strength;

pub use algorithm::{Algorithm, Curve};
pub use fingerprint::Fingerprint;
pub use private::PrivateKey;
pub use public::PublicKey;

use crate::wire::WireFault;
use thiserror::Error;
use zeroize::Zeroizing;

/// Longest field of any real key, in bytes; used to tell a key that was cut from one with an absurd length.
const PLAUSIBLE_BYTES: usize = 16 << 10;

/// Secret bytes that are wiped when dropped.
pub type Secret = Zeroizing<Vec<u8>>;

/// Why bytes are not a key that Lavrin can use. Each has one stable word, which JSON and the test corpus share.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum KeyFault {
    /// The text between the markers is not base64.
    #[error("the text is not base64: {detail}")]
    BadBase64 {
        /// What is wrong with it.
        detail: String,
    },
    /// An authentication tag or signature shows damage.
    #[error("it is damaged: {detail}")]
    Corrupt {
        /// What shows it.
        detail: &'static str,
    },
    /// The numbers of a public key that no generator makes: some character is another one.
    #[error("{detail}: it was damaged on the way; ask for the key again")]
    Damaged {
        /// What shows it.
        detail: &'static str,
    },
    /// An X.509 certificate or request.
    #[error("this is an X.509 certificate or request, not an SSH key")]
    CertificateX509,
    /// A curve given by its numbers.
    #[error("the curve is given by its numbers instead of its name")]
    ExplicitParameters,
    /// RSA with more than two primes.
    #[error("an RSA key with more than two primes; SSH has none")]
    MultiPrime,
    /// A key-agreement key.
    #[error("{name} keys are for key agreement; they cannot sign, so they open no login")]
    NotASigningKey {
        /// Its name.
        name: &'static str,
    },
    /// A block of another system.
    #[error("this is a key block of another system, not an SSH key")]
    OtherProductBlock,
    /// A point of small order.
    #[error("the public point is one of small order: anybody can sign for this key")]
    WeakPoint,
    /// The first bytes of the container are not the known ones.
    #[error("this does not begin like an openssh-key-v1 container")]
    BadMagic,
    /// The padding bytes are not 1, 2, 3, …
    #[error("the padding at the end is not the one the format prescribes")]
    BadPadding,
    /// Fields are missing, in surplus or in the wrong order.
    #[error("the structure is wrong: {detail}")]
    BadStructure {
        /// What is wrong with it.
        detail: &'static str,
    },
    /// The two check numbers differ in a container without protection.
    #[error("the two check numbers differ: the file is damaged")]
    CheckintMismatch,
    /// Deriving the key would take unreasonable time or memory.
    #[error("opening it would take {asked} rounds of key derivation; more than {limit} are refused")]
    CostTooHigh {
        /// What the file asks for.
        asked: u64,
        /// What Lavrin does at most.
        limit: u64,
    },
    /// Nothing in the file.
    #[error("the file is empty")]
    Empty,
    /// An integer is zero or negative where it must be positive.
    #[error("an integer is negative where a positive one is needed")]
    IntegerNegative,
    /// An integer has needless leading bytes.
    #[error("an integer has needless leading bytes")]
    IntegerNotMinimal,
    /// The numbers do not form a valid key.
    #[error("the numbers do not form a valid key: {detail}")]
    InvalidValues {
        /// Which relation does not hold.
        detail: &'static str,
    },
    /// BEGIN and END lines differ, or have the dashes of no format.
    #[error("the BEGIN and END lines differ, or their dashes are those of no format")]
    LabelMismatch,
    /// A block holds another container than its label says.
    #[error("the label says one format and the block holds another: {holds}")]
    OtherContainer {
        /// What it holds.
        holds: &'static str,
    },
    /// A declared length is larger than what is there.
    #[error("a field declares {declared} bytes where {left} are left")]
    LengthOutOfBounds {
        /// Bytes asked for.
        declared: usize,
        /// Bytes there.
        left: usize,
    },
    /// No key in the file.
    #[error("there is no key in it")]
    NotAKey,
    /// The point is not on its curve.
    #[error("the public point is not a point of the named curve")]
    PointNotOnCurve,
    /// Recognised, but the algorithm is no longer accepted.
    #[error("{name} keys are no longer accepted by SSH servers")]
    PolicyAlgorithm {
        /// Name of the algorithm.
        name: String,
    },
    /// Public and private part belong to different keys.
    #[error("the public and the private part belong to different keys")]
    PublicPrivateMismatch,
    /// One container declares a number of keys other than one.
    #[error("the container declares {count} keys; exactly one is allowed")]
    SeveralKeysInContainer {
        /// The number declared.
        count: u32,
    },
    /// Far larger than any real key.
    #[error("{bytes} bytes are far more than any key needs; the limit is {limit}")]
    TooLarge {
        /// Size found.
        bytes: usize,
        /// Size allowed.
        limit: usize,
    },
    /// Bytes left over after the end.
    #[error("{left} bytes are left over after the end of the key")]
    TrailingData {
        /// How many.
        left: usize,
    },
    /// The end is missing.
    #[error("the end is missing: the key was cut off")]
    Truncated,
    /// The type named outside differs from the type inside.
    #[error("it says {outside} outside and {inside} inside")]
    TypeMismatch {
        /// The label in front.
        outside: String,
        /// The name inside.
        inside: String,
    },
    /// A valid key of an algorithm that is not supported.
    #[error("keys of type {name} are not supported")]
    UnsupportedAlgorithm {
        /// Its name.
        name: String,
    },
    /// Encrypted with a cipher that Lavrin does not read.
    #[error("it is encrypted with {name}, which Lavrin does not read")]
    UnsupportedCipher {
        /// Its name.
        name: String,
    },
    /// A key derivation that Lavrin does not know.
    #[error("its key derivation is {name}, which Lavrin does not know")]
    UnsupportedKdf {
        /// Its name.
        name: String,
    },
    /// A block with a label that is no key's.
    #[error("a block labelled '{label}' holds no key that SSH uses")]
    OtherBlock {
        /// The label.
        label: String,
    },
    /// A private key in a container that one program alone reads.
    #[error("this looks like a private key in a program's own container; export it there as OpenSSH or PKCS#8")]
    ClosedContainer,
    /// The passphrase does not open the file.
    #[error("the passphrase does not open it")]
    WrongPassphrase,
    /// Encrypted, and no passphrase was given.
    #[error("it is protected and no passphrase was given")]
    PassphraseNeeded,
}

impl KeyFault {
    /// The stable kebab-case word.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            Self::BadBase64 { .. } => "bad-base64",
            Self::Corrupt { .. } => "corrupt",
            Self::Damaged { .. } => "damaged",
            Self::CertificateX509 => "certificate-x509",
            Self::ExplicitParameters => "explicit-parameters",
            Self::MultiPrime => "multi-prime",
            Self::NotASigningKey { .. } => "not-a-signing-key",
            Self::OtherProductBlock => "other-product-block",
            Self::WeakPoint => "weak-point",
            Self::BadMagic => "bad-magic",
            Self::BadPadding => "bad-padding",
            Self::BadStructure { .. } => "bad-structure",
            Self::CheckintMismatch => "checkint-mismatch",
            Self::CostTooHigh { .. } => "cost-too-high",
            Self::Empty => "empty",
            Self::IntegerNegative => "integer-negative",
            Self::IntegerNotMinimal => "integer-not-minimal",
            Self::InvalidValues { .. } => "invalid-values",
            Self::LabelMismatch | Self::OtherContainer { .. } => "label-mismatch",
            Self::LengthOutOfBounds { .. } => "length-out-of-bounds",
            Self::NotAKey => "not-a-key",
            Self::PointNotOnCurve => "point-not-on-curve",
            Self::PolicyAlgorithm { .. } => "policy-algorithm",
            Self::PublicPrivateMismatch => "public-private-mismatch",
            Self::SeveralKeysInContainer { .. } => "several-keys-in-container",
            Self::TooLarge { .. } => "too-large",
            Self::TrailingData { .. } => "trailing-data",
            Self::Truncated => "truncated",
            Self::TypeMismatch { .. } => "type-mismatch",
            Self::UnsupportedAlgorithm { .. } => "unsupported-algorithm",
            Self::UnsupportedCipher { .. } => "unsupported-cipher",
            Self::UnsupportedKdf { .. } => "unsupported-kdf",
            Self::OtherBlock { .. } => "not-a-key",
            Self::ClosedContainer => "other-product-block",
            Self::WrongPassphrase => "wrong-passphrase",
            Self::PassphraseNeeded => "passphrase-needed",
        }
    }
}

impl From<WireFault> for KeyFault {
    fn from(fault: WireFault) -> Self {
        match fault {
            // A bearable length with too little behind it: the end is missing. An absurd one is a lie or damage.
            WireFault::LengthOutOfBounds { declared, .. } if declared <= PLAUSIBLE_BYTES => Self::Truncated,
            WireFault::LengthOutOfBounds { declared, left } => Self::LengthOutOfBounds { declared, left },
            WireFault::IntegerZero => Self::InvalidValues { detail: "a number is zero" },
            WireFault::IntegerNegative => Self::IntegerNegative,
            WireFault::IntegerNotMinimal => Self::IntegerNotMinimal,
            WireFault::TrailingData { left } => Self::TrailingData { left },
        }
    }
}
