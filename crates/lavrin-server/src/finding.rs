//! What an audit or an inspection has to say: a stable rule name, a severity, a place, what was found and expected.
//! The words around it are the command's business.

use crate::access_rules::ObstacleKind;
use crate::fs::BytePath;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::strength::Weakness;
use lavrin_keys::keysfile::LineFault;

pub use lavrin_keys::severity::Severity;

/// A finding.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding<F = Fault> {
    /// The fact.
    pub fault: F,
    /// The account it concerns, on a host.
    pub account: Option<String>,
    /// The path it concerns.
    pub path: Option<BytePath>,
    /// The line in that file, counted from 1.
    pub line: Option<usize>,
}

/// The facts that findings are made of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// A public key is weak.
    WeakKey {
        /// In which way.
        weakness: Weakness,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// A private key has no passphrase.
    UnprotectedPrivateKey,
    /// A private key may be read by others.
    PrivateKeyReadable {
        /// Its permission bits.
        mode: u32,
    },
    /// A private key came through a paste.
    PrivateKeyPasted {
        /// Whether a passphrase protects it.
        protected: bool,
        /// Which key, where it shows.
        fingerprint: Option<Fingerprint>,
    },
    /// The same key goes by another name elsewhere.
    SameKeyTwoNames {
        /// The other name.
        other: String,
        /// Where it stands.
        place: String,
    },
    /// A private key lies in an account on a server.
    StrayPrivateKey {
        /// Whether a passphrase protects it; `None` where that could not be told.
        protected: Option<bool>,
    },
    /// A private key stands in a key file.
    PrivateKeyInKeysFile,
    /// A mode lets others change who may log in, so the server ignores the file.
    ModeTooOpen {
        /// The bits found.
        found: u32,
        /// The bits wanted.
        wanted: u32,
    },
    /// A mode is wider than policy asks, though the server takes it.
    ModeWiderThanPolicy {
        /// The bits found.
        found: u32,
        /// The bits wanted.
        wanted: u32,
    },
    /// The account cannot reach its own key file.
    ModeTooClosed {
        /// The bits found.
        found: u32,
        /// The bits wanted.
        wanted: u32,
    },
    /// Someone other than the account and root owns it, so the server ignores the file.
    WrongOwner {
        /// Owner found.
        found: u32,
        /// Owner wanted.
        wanted: u32,
    },
    /// Root owns a file in the account's home; the server takes it, the account cannot keep it.
    OwnedByRoot {
        /// Owner wanted.
        wanted: u32,
    },
    /// It is not the regular file or folder that belongs there.
    WrongKind,
    /// The server skips a line.
    UnusableLine {
        /// Why.
        fault: LineFault,
    },
    /// The same key stands in the file again.
    DuplicateEntry {
        /// The line that holds it first.
        first_line: usize,
        /// Which key.
        fingerprint: Fingerprint,
    },
}

impl From<ObstacleKind> for Fault {
    fn from(kind: ObstacleKind) -> Self {
        match kind {
            ObstacleKind::TooOpen { found, wanted } => Self::ModeTooOpen { found, wanted },
            ObstacleKind::WrongOwner { found, wanted, .. } => Self::WrongOwner { found, wanted },
            ObstacleKind::TooClosed { found, wanted } => Self::ModeTooClosed { found, wanted },
        }
    }
}

impl From<LineFault> for Fault {
    fn from(fault: LineFault) -> Self {
        match fault {
            LineFault::PrivateKey => Self::PrivateKeyInKeysFile,
            fault => Self::UnusableLine { fault },
        }
    }
}

impl Fault {
    /// The stable rule name.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        match self {
            Self::WeakKey { weakness, .. } => match weakness {
                Weakness::Dsa => "weak-dsa",
                Weakness::RsaShort { .. } => "weak-rsa-short",
                Weakness::EvenModulus => "weak-even-modulus",
                Weakness::ExponentOne => "weak-exponent-1",
                Weakness::ExponentEven => "weak-exponent-even",
                Weakness::ExponentThree => "weak-exponent-3",
                Weakness::ExponentHuge => "weak-exponent-huge",
                Weakness::OddSize { .. } => "rsa-odd-size",
                Weakness::SmallFactor { .. } => "weak-small-factor",
                Weakness::SquareModulus => "weak-square-modulus",
                Weakness::PrimeModulus => "weak-prime-modulus",
                Weakness::ClosePrimes { .. } => "weak-close-primes",
                Weakness::StructuredPrimes => "weak-structured-primes",
                Weakness::GeneratorPoint => "weak-ecdsa-generator",
                Weakness::SharedPrime { .. } => "weak-shared-prime",
                Weakness::SameModulus { .. } => "weak-same-modulus",
            },
            Self::UnprotectedPrivateKey => "private-key-unprotected",
            Self::PrivateKeyReadable { .. } => "private-key-readable-by-others",
            Self::PrivateKeyPasted { .. } => "private-key-in-paste",
            Self::SameKeyTwoNames { .. } => "same-key-two-names",
            Self::StrayPrivateKey { .. } => "private-key-on-server",
            Self::PrivateKeyInKeysFile => "private-key-in-key-file",
            Self::ModeTooOpen { .. } => "mode-too-open",
            Self::ModeWiderThanPolicy { .. } => "mode-wider-than-policy",
            Self::ModeTooClosed { .. } => "mode-too-closed",
            Self::WrongOwner { .. } => "wrong-owner",
            Self::OwnedByRoot { .. } => "owned-by-root",
            Self::WrongKind => "wrong-kind-of-file",
            Self::UnusableLine { .. } => "unusable-line",
            Self::DuplicateEntry { .. } => "duplicate-entry",
        }
    }

    /// How much it matters by default.
    #[must_use]
    pub fn severity(&self) -> Severity {
        match self {
            Self::WeakKey { weakness, .. } => match weakness {
                Weakness::RsaShort { bits, refused_below, .. } if bits < refused_below => Severity::High,
                Weakness::Dsa => Severity::Medium,
                Weakness::RsaShort { .. } | Weakness::ExponentThree | Weakness::OddSize { .. } => Severity::Info,
                _ => Severity::Critical,
            },
            Self::StrayPrivateKey { protected: Some(true) } | Self::UnprotectedPrivateKey => Severity::Low,
            Self::StrayPrivateKey { protected: None }
            | Self::ModeTooClosed { .. }
            | Self::WrongKind
            | Self::UnusableLine { .. } => Severity::Medium,
            Self::StrayPrivateKey { protected: Some(false) }
            | Self::PrivateKeyReadable { .. }
            | Self::PrivateKeyPasted { protected: true, .. }
            | Self::ModeTooOpen { .. }
            | Self::WrongOwner { .. } => Severity::High,
            Self::PrivateKeyInKeysFile | Self::PrivateKeyPasted { protected: false, .. } => Severity::Critical,
            Self::ModeWiderThanPolicy { .. }
            | Self::OwnedByRoot { .. }
            | Self::DuplicateEntry { .. }
            | Self::SameKeyTwoNames { .. } => Severity::Low,
        }
    }
}

impl<F> Finding<F> {
    /// A finding about no place.
    #[must_use]
    pub fn of(fault: F) -> Self {
        Self { fault, account: None, path: None, line: None }
    }

    /// The same of another kind.
    pub fn map<G>(self, change: impl FnOnce(F) -> G) -> Finding<G> {
        Finding { fault: change(self.fault), account: self.account, path: self.path, line: self.line }
    }
}

impl Finding {
    /// Its severity.
    #[must_use]
    pub fn severity(&self) -> Severity {
        self.fault.severity()
    }
}
