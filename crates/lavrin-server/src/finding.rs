//! What an audit or an inspection has to say: a stable rule name, a severity, a place, what was found and expected.
//! The words around it are the command's business.

use crate::access_rules::ObstacleKind;
use crate::fs::BytePath;
use crate::server_config::ConfigError;
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
        /// Where the machine is.
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
    /// The server would not start with its settings.
    SettingsBroken {
        /// Why.
        what: ConfigError,
        /// The line.
        line: usize,
    },
    /// Root may sign in with a password.
    RootWithPassword,
    /// Passwords open accounts beside keys.
    PasswordsOn,
    /// Accounts without a password open without anything.
    EmptyPasswords,
    /// The server takes key files that others may write.
    StrictModesOff,
    /// The clock of the host is off: entries end there at another time than is meant.
    ClockOff {
        /// How many seconds it is ahead.
        ahead: i64,
    },
    /// The server takes no keys at all.
    KeysOff,
    /// Keys open accounts that stand in no key file.
    KeysFromElsewhere {
        /// The setting, in small letters.
        keyword: &'static str,
        /// Its value.
        value: String,
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

lavrin_keys::rules!(Fault {
    Fault::WeakKey { .. } => "weak-key", Critical;
    Fault::UnprotectedPrivateKey => "private-key-unprotected", Low;
    Fault::PrivateKeyReadable { .. } => "private-key-readable-by-others", High;
    Fault::PrivateKeyPasted { protected: false, .. } => "private-key-in-paste", Critical;
    Fault::PrivateKeyPasted { .. } => "private-key-in-paste", High;
    Fault::SameKeyTwoNames { .. } => "same-key-two-names", Low;
    Fault::StrayPrivateKey { protected: Some(false) } => "private-key-on-server", High;
    Fault::StrayPrivateKey { protected: None } => "private-key-on-server", Medium;
    Fault::StrayPrivateKey { .. } => "private-key-on-server", Low;
    Fault::PrivateKeyInKeysFile => "private-key-in-key-file", Critical;
    Fault::ModeTooOpen { .. } => "mode-too-open", High;
    Fault::ModeWiderThanPolicy { .. } => "mode-wider-than-policy", Low;
    Fault::ModeTooClosed { .. } => "mode-too-closed", Medium;
    Fault::WrongOwner { .. } => "wrong-owner", High;
    Fault::OwnedByRoot { .. } => "owned-by-root", Low;
    Fault::WrongKind => "wrong-kind-of-file", Medium;
    Fault::UnusableLine { .. } => "unusable-line", Medium;
    Fault::DuplicateEntry { .. } => "duplicate-entry", Low;
    Fault::SettingsBroken { .. } => "settings-broken", High;
    Fault::RootWithPassword => "root-with-password", High;
    Fault::PasswordsOn => "passwords-on", Medium;
    Fault::EmptyPasswords => "empty-passwords", Critical;
    Fault::StrictModesOff => "strict-modes-off", Medium;
    Fault::ClockOff { .. } => "clock-off", Medium;
    Fault::KeysOff => "keys-off", High;
    Fault::KeysFromElsewhere { .. } => "keys-from-elsewhere", Info;
});

impl Fault {
    /// The stable rule name; a weak key goes by that of its weakness.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        match self {
            Self::WeakKey { weakness, .. } => weakness.rule(),
            other => other.in_table().0,
        }
    }

    /// How much it usually matters.
    #[must_use]
    pub fn severity(&self) -> Severity {
        match self {
            Self::WeakKey { weakness, .. } => weakness.severity(),
            other => other.in_table().1,
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
