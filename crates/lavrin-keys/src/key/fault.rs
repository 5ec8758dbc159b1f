//! Why bytes are not a key, as data. The words are the command's business.

use super::Algorithm;
use crate::wire::WireFault;

/// Longest field of any real key, in bytes; used to tell a key that was cut from one with an absurd length.
const PLAUSIBLE_BYTES: usize = 16 << 10;

/// Why bytes are not a key that Lavrin can use. Each has one stable word, which JSON and the test corpus share.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum KeyFault {
    /// The text between the markers is not base64.
    BadBase64 {
        /// Where, and what.
        detail: base64::DecodeError,
    },
    /// The signature of the authority under a certificate does not verify.
    BadAuthoritySignature,
    /// The numbers of a public key that no generator makes: some character is another one.
    Damaged {
        /// What shows it.
        detail: Damage,
    },
    /// An X.509 certificate or request.
    CertificateX509,
    /// A curve given by its numbers.
    ExplicitParameters,
    /// RSA with more than two primes.
    MultiPrime,
    /// A key-agreement key.
    NotASigningKey {
        /// Its name.
        name: &'static str,
    },
    /// A block of another system.
    OtherProductBlock,
    /// A point of small order.
    WeakPoint,
    /// The first bytes of the container are not the known ones.
    BadMagic,
    /// The padding bytes are not 1, 2, 3, …
    BadPadding,
    /// Fields are missing, in surplus or in the wrong order.
    BadStructure {
        /// What is wrong with it.
        detail: WrongStructure,
    },
    /// The two check numbers differ in a container without protection.
    CheckintMismatch,
    /// Deriving the key would take unreasonable time or memory.
    CostTooHigh {
        /// What the file asks for.
        asked: u64,
        /// What Lavrin does at most.
        limit: u64,
    },
    /// Nothing in the file.
    Empty,
    /// An integer is zero or negative where it must be positive.
    IntegerNegative,
    /// An integer has needless leading bytes.
    IntegerNotMinimal,
    /// The numbers do not form a valid key.
    InvalidValues {
        /// Which relation does not hold.
        detail: WrongNumber,
    },
    /// BEGIN and END lines differ, or have the dashes of no format.
    LabelMismatch,
    /// A block holds another container than its label says.
    OtherContainer {
        /// What it holds; a structure of no name in the format's language else.
        holds: Option<&'static str>,
    },
    /// A declared length is larger than what is there.
    LengthOutOfBounds {
        /// Bytes asked for.
        declared: usize,
        /// Bytes there.
        left: usize,
    },
    /// No key in the file.
    NotAKey,
    /// The point is not on its curve.
    PointNotOnCurve,
    /// Recognised, but the algorithm is no longer accepted.
    PolicyAlgorithm {
        /// Name of the algorithm.
        name: String,
    },
    /// Public and private part belong to different keys.
    PublicPrivateMismatch,
    /// One container declares a number of keys other than one.
    SeveralKeysInContainer {
        /// The number declared.
        count: u32,
    },
    /// Far larger than any real key.
    TooLarge {
        /// Size found.
        bytes: usize,
        /// Size allowed.
        limit: usize,
    },
    /// Bytes left over after the end.
    TrailingData {
        /// How many.
        left: usize,
    },
    /// The end is missing.
    Truncated,
    /// The type named outside differs from the type inside.
    TypeMismatch {
        /// The label in front.
        outside: String,
        /// The name inside.
        inside: String,
    },
    /// A valid key of an algorithm that is not supported.
    UnsupportedAlgorithm {
        /// Its name.
        name: Unsupported,
    },
    /// Encrypted with a cipher that Lavrin does not read.
    UnsupportedCipher {
        /// Its name.
        name: Unsupported,
    },
    /// A key derivation that Lavrin does not know.
    UnsupportedKdf {
        /// Its name.
        name: Unsupported,
    },
    /// A block with a label that is no key's.
    OtherBlock {
        /// The label.
        label: String,
    },
    /// A private key in a container that one program alone reads.
    ClosedContainer,
    /// The passphrase does not open the file.
    WrongPassphrase,
    /// Encrypted, and no passphrase was given.
    PassphraseNeeded,
}

impl KeyFault {
    /// The stable kebab-case word.
    #[must_use]
    pub fn word(&self) -> &'static str {
        match self {
            Self::BadBase64 { .. } => "bad-base64",
            Self::BadAuthoritySignature => "corrupt",
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
            WireFault::IntegerZero => Self::InvalidValues { detail: WrongNumber::Zero },
            WireFault::IntegerNegative => Self::IntegerNegative,
            WireFault::IntegerNotMinimal => Self::IntegerNotMinimal,
            WireFault::TrailingData { left } => Self::TrailingData { left },
        }
    }
}

/// What is wrong with the structure of a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WrongStructure {
    /// The options in front of the key do not parse.
    Options,
    /// A byte order mark stands in front.
    ByteOrderMark,
    /// The line names an authority that signs host keys.
    HostAuthority,
    /// The line says that the key is revoked.
    RevokedMark,
    /// An ECDSA point is not in uncompressed form.
    CompressedPoint,
    /// An Ed25519 private key has not 64 bytes.
    Ed25519Length,
    /// Only one of cipher and key derivation is `none`.
    NotNoneTogether,
    /// The comment is missing.
    NoComment,
    /// The key derivation `none` has options.
    OptionsOfNone,
    /// The key derivation has no salt or no rounds.
    NoSaltOrRounds,
    /// It is marked as encrypted, without a `DEK-Info` header (RFC 1421, section 4.6.1.3).
    NoDekInfo,
    /// The initial value is not as long as a block.
    InitialValueNoBlock,
    /// The encrypted part is not a number of whole blocks.
    NotWholeBlocks,
    /// The container holds no private key.
    PublicContainer,
    /// A bit string is not a number of whole bytes.
    PartialByte,
    /// A field is missing.
    FieldMissing,
    /// A DER value has another type than expected.
    DerType,
    /// A DER length is not in the definite form (X.690, section 10.1).
    DerIndefinite,
    /// A DER length is longer than it needs to be (X.690, section 10.1).
    DerLengthNotMinimal,
    /// A DER integer is empty.
    DerEmptyInteger,
    /// The version of an EC key is not 1 (RFC 5915, section 3).
    EcVersion,
    /// The curve is not named.
    NoCurve,
    /// The version of a PKCS#8 key is not 0 or 1 (RFC 5958, section 2).
    Pkcs8Version,
    /// The derived key has not the length that the cipher needs.
    DerivedKeyLength,
    /// The key derivation has no iterations.
    NoIterations,
    /// The N of scrypt is no power of two (RFC 7914, section 2).
    ScryptN,
    /// The tag of GCM has not 12 to 16 bytes (RFC 5084, section 3.2).
    GcmTag,
    /// The initial value has not the length that the cipher needs.
    InitialValueLength,
    /// The parameters of scrypt do not fit together (RFC 7914, section 2).
    ScryptParameters,
    /// The empty line behind the headers is missing (RFC 1421, section 4.4).
    NoEmptyLine,
    /// The DER structure is that of no key.
    NoKeyStructure,
    /// A certificate is neither for users nor for hosts.
    CertificateKind,
    /// A header that is continued takes the key with it (RFC 4716, section 3.3).
    HeaderBackslash,
    /// The version of an RSA key is not 0 or 1 (RFC 8017, appendix A.1.2).
    RsaVersion,
    /// A certificate where a plain key is wanted.
    CertificateForPlainKey,
}

/// Why numbers form no key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WrongNumber {
    /// A number is zero.
    Zero,
    /// No ECDSA key could be made.
    EcdsaNotMade,
    /// No RSA key could be made.
    RsaNotMade,
    /// The modulus or the exponent is zero.
    RsaZero,
    /// The exponent is larger than the modulus.
    ExponentAboveModulus,
    /// An Ed25519 public key has not 32 bytes.
    Ed25519PublicLength,
    /// The public point has not the size of its curve.
    PointLength,
    /// The bytes are no Ed25519 seed.
    Ed25519Seed,
    /// The private number is not below the order of the curve.
    ScalarAboveOrder,
    /// A private number is longer than the modulus.
    PrivateAboveModulus,
    /// Modulus, exponents and primes do not belong together.
    RsaParts,
    /// An Ed25519 seed has not 32 bytes.
    Ed25519SeedLength,
    /// The exponents of the two primes are not those of the key.
    CrtExponents,
}

/// What shows that a public key was damaged on the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Damage {
    /// The modulus of an RSA key is even.
    EvenModulus,
    /// The exponent of an RSA key is even.
    EvenExponent,
    /// The modulus of an RSA key has a small factor.
    SmallFactor,
}

/// What is not supported.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unsupported {
    /// What has this name.
    Named(String),
    /// Something that is given by an identifier that nobody here knows.
    Nameless,
    /// The key derivation `none` beside a cipher.
    NoneWithCipher,
    /// An encryption scheme older than PBES2 (RFC 8018, section 6.1).
    OlderThanPbes2,
    /// A key derivation other than PBKDF2 and scrypt.
    OtherDerivation,
    /// PBKDF2 with a hash that is not known.
    Pbkdf2Hash,
    /// ECDSA on a curve that SSH does not know.
    OtherCurve,
    /// A private key of an authenticator: the file holds only a handle.
    Authenticator,
    /// This algorithm, which the container cannot hold.
    InThisContainer(Algorithm),
}
