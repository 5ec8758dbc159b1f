//! The rules that decide about a login, each with a stable name and the class of the server's own behaviour.

use crate::access_rules;
use crate::fs::{BytePath, Why};
use crate::keysfile::LineFault;

/// One rule that refuses or leaves undecided.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reason {
    /// What it is.
    pub kind: ReasonKind,
    /// The path it is about.
    pub path: Option<BytePath>,
    /// The line in it.
    pub line: Option<usize>,
}

/// The rules that decide about a login.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ReasonKind {
    /// There is no such account.
    NoSuchAccount,
    /// The password field locks the account and the server does not leave that to PAM.
    AccountLocked,
    /// The shell is not there.
    ShellMissing(BytePath),
    /// `AllowUsers`, `DenyUsers`, `AllowGroups` or `DenyGroups` keeps the account out.
    UserNotAllowed(&'static str),
    /// `PermitRootLogin` keeps root out.
    RootNotAllowed(String),
    /// `PubkeyAuthentication` is off.
    PublicKeysOff,
    /// The server reads no key file for this account.
    NoKeyFileNamed,
    /// The key file is not there.
    NoKeyFile,
    /// The key file is no regular file.
    NotRegular,
    /// Links go round in circles.
    LinkLoop,
    /// A mode or an owner on the way.
    Obstacle(access_rules::ObstacleKind),
    /// The file was read and holds no entry of this key.
    NoEntry,
    /// The key's line is there and the server skips it.
    DeadLine(LineFault),
    /// Another account's file holds the key.
    OtherAccount(String),
    /// The entry counts only for certificates that this key signed.
    OnlyAsAuthority,
    /// `from=` does not take the address.
    FromElsewhere {
        /// The pattern list.
        from: String,
    },
    /// `from=` decides and the address is not known.
    FromUnknown {
        /// The pattern list.
        from: String,
    },
    /// `expiry-time=` lies in the past.
    Expired {
        /// As it stands in the file.
        at: String,
    },
    /// `principals=` stands on a plain key.
    PrincipalsOnPlainKey,
    /// The RSA key is shorter than the server takes.
    KeyTooSmall {
        /// Its bits.
        bits: usize,
        /// The server's minimum.
        min: usize,
    },
    /// `RevokedKeys` is in use and was not looked at.
    RevokedKeysUnseen,
    /// The key alone is not enough.
    FurtherMethod(String),
    /// A command gives the server further keys.
    KeysCommand(String),
    /// The server's configuration could not be read; its defaults were assumed.
    SettingsUnseen,
    /// A Match block whose condition cannot be decided sets this keyword.
    SettingConditional(String),
    /// Something could not be looked at.
    Unseen(Why),
}

impl ReasonKind {
    /// The stable rule name.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        use access_rules::ObstacleKind as O;
        match self {
            Self::NoSuchAccount => "no-such-account",
            Self::AccountLocked => "account-locked",
            Self::ShellMissing(_) => "shell-missing",
            Self::UserNotAllowed(_) => "user-not-allowed",
            Self::RootNotAllowed(_) => "root-not-allowed",
            Self::PublicKeysOff => "public-keys-off",
            Self::NoKeyFileNamed => "no-key-file-named",
            Self::NoKeyFile => "no-key-file",
            Self::NotRegular => "not-a-regular-file",
            Self::LinkLoop => "link-loop",
            Self::Obstacle(O::TooOpen { .. }) => "mode-too-open",
            Self::Obstacle(O::WrongOwner { .. }) => "wrong-owner",
            Self::Obstacle(O::TooClosed { .. }) => "mode-too-closed",
            Self::NoEntry => "no-entry",
            Self::DeadLine(_) => "unusable-line",
            Self::OtherAccount(_) => "other-account",
            Self::OnlyAsAuthority => "only-as-authority",
            Self::FromElsewhere { .. } => "from-elsewhere",
            Self::FromUnknown { .. } => "from-unknown",
            Self::Expired { .. } => "expired",
            Self::PrincipalsOnPlainKey => "principals-on-plain-key",
            Self::KeyTooSmall { .. } => "key-too-small",
            Self::RevokedKeysUnseen => "revoked-keys-unseen",
            Self::FurtherMethod(_) => "further-method",
            Self::KeysCommand(_) => "keys-command",
            Self::SettingsUnseen => "settings-unseen",
            Self::SettingConditional(_) => "setting-conditional",
            Self::Unseen(_) => "not-looked-at",
        }
    }

    /// The class that groups rules by the server's own behaviour.
    #[must_use]
    pub fn class(&self) -> &'static str {
        use access_rules::ObstacleKind as O;
        match self {
            Self::NoSuchAccount => "no-such-account",
            Self::AccountLocked => "account-locked",
            Self::ShellMissing(_) => "shell",
            Self::UserNotAllowed(_) => "user-not-allowed",
            Self::RootNotAllowed(_) => "root-not-allowed",
            Self::PublicKeysOff => "method-off",
            Self::NoKeyFileNamed | Self::NoEntry | Self::OtherAccount(_) | Self::OnlyAsAuthority => "no-match",
            Self::NoKeyFile | Self::LinkLoop | Self::Obstacle(O::TooClosed { .. }) => "cannot-open",
            Self::NotRegular => "not-regular",
            Self::Obstacle(_) => "bad-modes",
            Self::DeadLine(LineFault::Options(_)) => "bad-options",
            Self::DeadLine(_) => "no-match",
            Self::FromElsewhere { .. } | Self::FromUnknown { .. } => "from",
            Self::Expired { .. } => "expired",
            Self::PrincipalsOnPlainKey => "refused-by-options",
            Self::KeyTooSmall { .. } => "key-too-small",
            Self::RevokedKeysUnseen => "key-revoked",
            Self::FurtherMethod(_) => "partial",
            Self::KeysCommand(_) | Self::SettingsUnseen | Self::SettingConditional(_) | Self::Unseen(_) => "undecided",
        }
    }

    /// Whether this leaves the verdict open instead of refusing.
    pub(super) fn is_open(&self) -> bool {
        matches!(
            self,
            Self::FromUnknown { .. }
                | Self::RevokedKeysUnseen
                | Self::KeysCommand(_)
                | Self::SettingsUnseen
                | Self::SettingConditional(_)
                | Self::Unseen(_)
        )
    }
}

impl Reason {
    pub(super) fn plain(kind: ReasonKind) -> Self {
        Self { kind, path: None, line: None }
    }

    pub(super) fn at(kind: ReasonKind, path: &BytePath, line: Option<usize>) -> Self {
        Self { kind, path: Some(path.clone()), line }
    }
}
