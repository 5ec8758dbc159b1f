//! What can be wrong with a host beside a register or over time, as data.

use lavrin_keys::date::Date;
use lavrin_keys::key::Fingerprint;
use lavrin_server::finding::Severity;

/// The kinds of faults.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HostFault {
    /// Nobody in the register has this key.
    UnknownKey {
        /// Which key.
        fingerprint: Fingerprint,
        /// The comment behind it.
        comment: String,
    },
    /// The key of somebody who has left.
    KeyOfLeaver {
        /// Who.
        who: String,
        /// When they left.
        on: Date,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// A key that its owner does not use any more.
    RetiredKey {
        /// Who.
        who: String,
        /// Since when.
        on: Date,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// The grant for it is over.
    GrantOver {
        /// Who.
        who: String,
        /// Its last day.
        on: Date,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// The register lets its owner not in here.
    NotGranted {
        /// Who.
        who: String,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// The entry was removed, and something has put it back.
    CameBack {
        /// Which key.
        fingerprint: Fingerprint,
        /// When it was removed.
        on: Date,
    },
    /// The key was last used long ago.
    KeyLongUnused {
        /// Which key.
        fingerprint: Fingerprint,
        /// When, in seconds since 1970.
        last: i64,
    },
    /// The key does not show in the logs at all.
    KeyNeverSeen {
        /// Which key.
        fingerprint: Fingerprint,
        /// When the logs begin, in seconds since 1970.
        since: i64,
    },
    /// One unknown key goes by several names.
    KeyInManyHands {
        /// Which key.
        fingerprint: Fingerprint,
        /// The names.
        names: Vec<String>,
    },
    /// The server would not start with its settings.
    SettingsBroken {
        /// Why.
        what: String,
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
    /// The server takes no keys at all.
    KeysOff,
    /// Keys open accounts that stand in no key file.
    KeysFromElsewhere {
        /// The setting, in small letters.
        keyword: &'static str,
        /// Its value.
        value: String,
    },
    /// Nobody has looked at this host yet.
    NeverSurveyed {
        /// Why the last try failed.
        fault: Option<String>,
    },
    /// The last look was long ago.
    SurveyOld {
        /// Days since then.
        days: i64,
        /// Why the last try failed.
        fault: Option<String>,
    },
    /// The last try to look failed; what is told is older.
    NotReached {
        /// Why.
        fault: String,
    },
    /// A removal is still owed to this host.
    RemovalOwed {
        /// Which key.
        fingerprint: String,
        /// Whose it is.
        who: Option<String>,
        /// Since when.
        since: Date,
    },
}

/// The rules of findings on hosts, so that policy and exceptions can name them.
pub const HOST_RULES: [&str; 30] = [
    "private-key-on-server",
    "private-key-in-key-file",
    "mode-too-open",
    "mode-wider-than-policy",
    "mode-too-closed",
    "wrong-owner",
    "owned-by-root",
    "wrong-kind-of-file",
    "unusable-line",
    "duplicate-entry",
    "unknown-key",
    "key-of-leaver",
    "retired-key",
    "grant-over",
    "not-granted",
    "removed-entry-back",
    "key-long-unused",
    "key-never-seen",
    "key-in-many-hands",
    "settings-broken",
    "root-with-password",
    "passwords-on",
    "empty-passwords",
    "strict-modes-off",
    "keys-off",
    "keys-from-elsewhere",
    "never-surveyed",
    "survey-old",
    "not-reached",
    "removal-owed",
];

impl HostFault {
    /// The stable rule name.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        match self {
            Self::UnknownKey { .. } => "unknown-key",
            Self::KeyOfLeaver { .. } => "key-of-leaver",
            Self::RetiredKey { .. } => "retired-key",
            Self::GrantOver { .. } => "grant-over",
            Self::NotGranted { .. } => "not-granted",
            Self::CameBack { .. } => "removed-entry-back",
            Self::KeyLongUnused { .. } => "key-long-unused",
            Self::KeyNeverSeen { .. } => "key-never-seen",
            Self::KeyInManyHands { .. } => "key-in-many-hands",
            Self::SettingsBroken { .. } => "settings-broken",
            Self::RootWithPassword => "root-with-password",
            Self::PasswordsOn => "passwords-on",
            Self::EmptyPasswords => "empty-passwords",
            Self::StrictModesOff => "strict-modes-off",
            Self::KeysOff => "keys-off",
            Self::KeysFromElsewhere { .. } => "keys-from-elsewhere",
            Self::NeverSurveyed { .. } => "never-surveyed",
            Self::SurveyOld { .. } => "survey-old",
            Self::NotReached { .. } => "not-reached",
            Self::RemovalOwed { .. } => "removal-owed",
        }
    }

    /// How much it matters by default.
    #[must_use]
    pub fn severity(&self) -> Severity {
        match self {
            Self::KeyNeverSeen { .. } | Self::KeysFromElsewhere { .. } => Severity::Info,
            Self::KeyLongUnused { .. } | Self::SurveyOld { .. } => Severity::Low,
            Self::UnknownKey { .. }
            | Self::PasswordsOn
            | Self::StrictModesOff
            | Self::NeverSurveyed { .. }
            | Self::NotReached { .. } => Severity::Medium,
            Self::RetiredKey { .. }
            | Self::GrantOver { .. }
            | Self::NotGranted { .. }
            | Self::CameBack { .. }
            | Self::KeyInManyHands { .. }
            | Self::SettingsBroken { .. }
            | Self::RootWithPassword
            | Self::KeysOff
            | Self::RemovalOwed { .. } => Severity::High,
            Self::KeyOfLeaver { .. } | Self::EmptyPasswords => Severity::Critical,
        }
    }
}
