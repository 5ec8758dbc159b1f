//! The rules that decide about a login, each with a stable name and the class of the server's own behaviour.

use crate::access_rules;
use crate::fs::{BytePath, Why};
use crate::server_config::ConfigError;
use lavrin_keys::keysfile::LineFault;

/// Why PAM refuses an account whose key was accepted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AccountStage {
    /// The shadow file has no line for it.
    NoShadowLine,
    /// It has expired.
    Expired,
    /// Its password is too old.
    PasswordTooOld,
}

/// Why a certificate is refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WrongCertificate {
    /// It is for hosts.
    ForHosts,
    /// It does not hold yet.
    NotYetValid,
    /// It has ended.
    Ended,
    /// It names nobody.
    NamesNobody,
    /// It is for somebody else.
    ForSomebodyElse,
    /// It has a critical option that no server knows.
    UnknownCriticalOption,
    /// It and the line force different commands.
    TwoCommands,
    /// Its list of addresses does not read.
    BadAddresses,
}

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
    /// The account has ended.
    AccountExpired,
    /// The key is accepted and PAM refuses the account afterwards.
    AccountStage(AccountStage),
    /// The shell is not there.
    ShellMissing(BytePath),
    /// The shell is not an executable file.
    ShellNotExecutable(BytePath),
    /// The shell is not in the system's list of shells.
    ShellNotListed(BytePath),
    /// `MaxAuthTries` is 0.
    NoTries,
    /// The server does not start with its configuration.
    ConfigRejected(ConfigError),
    /// `AuthorizedKeysFile` has a percent sign that the server does not know, and drops the connection over it.
    PatternUnknown(String),
    /// The server does not accept the algorithm.
    AlgorithmOff(String),
    /// The key is among the revoked ones.
    Revoked,
    /// The list of revoked keys is not there, so every key counts as revoked.
    RevokedListMissing,
    /// A certificate was offered and the entry does not make its key an authority.
    NotAnAuthority,
    /// The certificate is refused.
    CertificateRefused(WrongCertificate),
    /// `AllowUsers`, `DenyUsers`, `AllowGroups` or `DenyGroups` keeps the account out.
    UserNotAllowed {
        /// The keyword.
        keyword: &'static str,
        /// What it lists.
        list: Vec<String>,
    },
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
    /// The file holds the key, but broken over lines, glued to another or in another format.
    NotOnItsLine,
    /// The file holds this very key, from its first line to its last, broken apart.
    Broken {
        /// The last line.
        last: usize,
    },
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
    /// The certificate does not take the address.
    CertificateFromElsewhere {
        /// Its list.
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
    /// The entry asks for the authenticator's own check of its user, which only a login shows.
    VerificationUnknown,
    /// `principals=` stands on a plain key.
    PrincipalsOnPlainKey,
    /// The RSA key is shorter than the server takes.
    KeyTooSmall {
        /// Its bits.
        bits: usize,
        /// The server's minimum.
        min: usize,
    },
    /// The RSA key is longer than the server takes.
    KeyTooLarge {
        /// Its bits.
        bits: usize,
        /// The server's maximum.
        max: usize,
    },
    /// The public exponent of a long RSA key is longer than the server's library takes where it checks a signature.
    ExponentTooLong {
        /// The exponent's bits.
        bits: usize,
        /// The library's maximum.
        max: usize,
    },
    /// The device lists the key; by which rules it lets somebody in, it does not show.
    OnlyListed,
    /// `RevokedKeys` is in use and was not looked at.
    RevokedKeysUnseen,
    /// The key alone is not enough.
    FurtherMethod(String),
    /// A file of authorities may make the certificate good.
    Authorities(String),
    /// A command gives the server further keys.
    KeysCommand(String),
    /// The server's configuration could not be read; its defaults were assumed.
    SettingsUnseen,
    /// A keyword that nobody here knows; the server may.
    SettingUnknown(String),
    /// The session of this login ends as soon as it begins.
    SessionEnds(ConfigError),
    /// A Match block whose condition cannot be decided sets this keyword.
    SettingConditional(String),
    /// Something could not be looked at.
    Unseen(Why),
}

impl ReasonKind {
    /// Whether the entry or the settings give it themselves, so that a refusal from here is as it should be.
    #[must_use]
    pub fn refuses_only_from_here(&self) -> bool {
        matches!(
            self,
            Self::FromUnknown { .. }
                | Self::FromElsewhere { .. }
                | Self::CertificateFromElsewhere { .. }
                | Self::Expired { .. }
                | Self::FurtherMethod(_)
        )
    }

    /// The stable rule name.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        use access_rules::ObstacleKind as O;
        match self {
            Self::NoSuchAccount => "no-such-account",
            Self::AccountLocked => "account-locked",
            Self::AccountExpired => "account-expired",
            Self::AccountStage(_) => "account-stage",
            Self::ShellMissing(_) => "shell-missing",
            Self::ShellNotExecutable(_) => "shell-not-executable",
            Self::ShellNotListed(_) => "shell-not-listed",
            Self::NoTries => "no-tries",
            Self::ConfigRejected(_) => "config-rejected",
            Self::PatternUnknown(_) => "pattern-unknown",
            Self::AlgorithmOff(_) => "algorithm-off",
            Self::Revoked => "key-revoked",
            Self::RevokedListMissing => "revoked-list-missing",
            Self::NotAnAuthority => "not-an-authority",
            Self::CertificateRefused(_) => "certificate-refused",
            Self::UserNotAllowed { .. } => "user-not-allowed",
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
            Self::NotOnItsLine | Self::Broken { .. } => "key-not-on-its-line",
            Self::DeadLine(_) => "unusable-line",
            Self::OtherAccount(_) => "other-account",
            Self::OnlyAsAuthority => "only-as-authority",
            Self::FromElsewhere { .. } => "from-elsewhere",
            Self::CertificateFromElsewhere { .. } => "certificate-from-elsewhere",
            Self::FromUnknown { .. } => "from-unknown",
            Self::Expired { .. } => "expired",
            Self::VerificationUnknown => "verification-unknown",
            Self::PrincipalsOnPlainKey => "principals-on-plain-key",
            Self::KeyTooSmall { .. } => "key-too-small",
            Self::KeyTooLarge { .. } => "key-too-large",
            Self::ExponentTooLong { .. } => "exponent-too-long",
            Self::SettingUnknown(_) => "setting-unknown",
            Self::SessionEnds(_) => "session-ends",
            Self::RevokedKeysUnseen => "revoked-keys-unseen",
            Self::FurtherMethod(_) => "further-method",
            Self::Authorities(_) => "authorities",
            Self::KeysCommand(_) => "keys-command",
            Self::SettingsUnseen => "settings-unseen",
            Self::SettingConditional(_) => "setting-conditional",
            Self::Unseen(_) => "not-looked-at",
            Self::OnlyListed => "only-listed",
        }
    }

    /// The class that groups rules by the server's own behaviour.
    #[must_use]
    pub fn class(&self) -> &'static str {
        use access_rules::ObstacleKind as O;
        match self {
            Self::NoSuchAccount => "no-such-account",
            Self::AccountLocked => "account-locked",
            Self::AccountExpired => "account-expired",
            Self::AccountStage(_) => "account-stage",
            Self::ShellMissing(_) | Self::ShellNotExecutable(_) | Self::ShellNotListed(_) => "shell",
            Self::NoTries => "too-many-tries",
            Self::ConfigRejected(_) => "config-rejected",
            Self::PatternUnknown(_) | Self::SessionEnds(_) => "server-fatal",
            Self::AlgorithmOff(_) => "algorithm-off",
            Self::CertificateRefused(_) => "certificate",
            Self::UserNotAllowed { .. } => "user-not-allowed",
            Self::RootNotAllowed(_) => "root-not-allowed",
            Self::PublicKeysOff => "method-off",
            Self::NoKeyFileNamed
            | Self::NoEntry
            | Self::NotOnItsLine
            | Self::Broken { .. }
            | Self::OtherAccount(_)
            | Self::OnlyAsAuthority
            | Self::NotAnAuthority => "no-match",
            Self::NoKeyFile
            | Self::LinkLoop
            | Self::Obstacle(O::TooClosed { .. } | O::WrongOwner { unreadable: true, .. }) => "cannot-open",
            Self::NotRegular => "not-regular",
            Self::Obstacle(_) => "bad-modes",
            Self::DeadLine(LineFault::Options(_) | LineFault::ByteOrderMark { before_options: true }) => "bad-options",
            Self::DeadLine(_) => "no-match",
            Self::FromElsewhere { .. } | Self::CertificateFromElsewhere { .. } | Self::FromUnknown { .. } => "from",
            Self::Expired { .. } => "expired",
            Self::PrincipalsOnPlainKey => "refused-by-options",
            Self::VerificationUnknown => "signature",
            Self::KeyTooSmall { .. } => "key-too-small",
            Self::KeyTooLarge { .. } | Self::ExponentTooLong { .. } => "algorithm-off",
            Self::RevokedKeysUnseen | Self::Revoked | Self::RevokedListMissing => "key-revoked",
            Self::FurtherMethod(_) => "partial",
            Self::Authorities(_)
            | Self::KeysCommand(_)
            | Self::SettingsUnseen
            | Self::SettingConditional(_)
            | Self::SettingUnknown(_)
            | Self::OnlyListed
            | Self::Unseen(_) => "undecided",
        }
    }

    /// Whether the server comes to it only when a key has matched.
    pub(super) fn is_behind_the_key(&self) -> bool {
        matches!(self, Self::AccountStage(_) | Self::RootNotAllowed(_))
    }

    /// Whether this leaves the verdict open instead of refusing.
    pub(super) fn is_open(&self) -> bool {
        matches!(
            self,
            Self::FromUnknown { .. }
                | Self::VerificationUnknown
                | Self::RevokedKeysUnseen
                | Self::Authorities(_)
                | Self::KeysCommand(_)
                | Self::SettingsUnseen
                | Self::SettingConditional(_)
                | Self::SettingUnknown(_)
                | Self::OnlyListed
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
