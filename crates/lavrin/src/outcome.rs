//! How things ended and what servers answered, as results carry it. Programs read the names; words and colours are made of them.

use serde::Serialize;

/// How it ended for a host or an account.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ChangeState {
    /// Done, read back and proven as far as that goes.
    Done,
    /// Nothing had to be done.
    NothingToDo,
    /// Something differs, and a problem keeps it from being changed.
    NotPossible,
    /// Only shown.
    Preview,
    /// For the next run.
    Waiting,
    /// Taken back, or never made.
    AsBefore,
    /// Nothing was tried.
    NotBegun,
    /// No connection to the host came about.
    NotReached,
    /// The host was reached, and not seen.
    NotSeen,
    /// Nobody knows.
    Unknown,
}

/// What a server says from outside about a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum KeyAnswer {
    /// It takes the key.
    Accepted,
    /// It does not.
    Refused,
    /// It said nothing that shows either.
    NoAnswer,
    /// It was not asked.
    NotAsked,
}

impl KeyAnswer {
    /// Each, in the order in which they are counted.
    pub const ALL: [Self; 4] = [Self::Accepted, Self::Refused, Self::NoAnswer, Self::NotAsked];

    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Accepted => "accepted",
            Self::Refused => "refused",
            Self::NoAnswer => "no answer",
            Self::NotAsked => "not asked",
        }
    }
}

/// What a fresh connection showed after a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum ProofKind {
    /// The key opened a login.
    LoggedIn,
    /// The server would take it.
    WouldAccept,
    /// The server refuses it.
    Refused,
    /// The server takes the key and refuses the login.
    LoginRefused,
    /// Nothing.
    Nothing,
    /// No server was asked: what was written was read back.
    ReadBack,
}

/// What kind of difference there is between register and host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum DifferenceKind {
    /// A key that is granted is not there.
    Missing,
    /// It is there with other options.
    Options,
    /// A key that is not granted is there.
    Extra,
    /// A key that is nobody's is there.
    Unknown,
    /// Nobody can tell what is there.
    NotUnderstood,
    /// A mode or owner is wrong.
    Mode,
    /// The account is not there, and is to be made.
    Account,
    /// The server takes passwords, and should not.
    Passwords,
    /// Somebody with a grant has no key that the host takes.
    NotTaken,
}

impl DifferenceKind {
    /// Its word in a list.
    pub fn word(self) -> &'static str {
        match self {
            Self::Missing => "missing",
            Self::Options => "options",
            Self::Extra => "extra",
            Self::Unknown | Self::NotUnderstood => "unknown",
            Self::Mode => "mode",
            Self::Account => "account",
            Self::Passwords => "passwords",
            Self::NotTaken => "not taken",
        }
    }
}
