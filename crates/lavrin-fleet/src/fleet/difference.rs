//! What a register and an observation can disagree on.

use crate::register::Date;
use lavrin_keys::key::Fingerprint;
use lavrin_server::device::LimitBroken;
use lavrin_server::login::Place;
use lavrin_server::steps::{Change, NewAccount, OpenSetting};

/// One thing that register and observation disagree on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Difference {
    /// An entry is missing.
    Add {
        /// Whose key.
        who: String,
        /// Which key.
        fingerprint: Fingerprint,
        /// The line, options first.
        line: String,
        /// The options alone.
        options: String,
    },
    /// An entry should carry other options.
    Options {
        /// Whose key.
        who: String,
        /// Which key.
        fingerprint: Fingerprint,
        /// Where.
        place: Place,
        /// What it carries.
        from: String,
        /// What it should carry.
        to: String,
    },
    /// An entry should not be there.
    Remove {
        /// Whose key, where the register knows.
        who: Option<String>,
        /// Which key.
        fingerprint: Fingerprint,
        /// Where.
        place: Place,
        /// Its comment, safe to show.
        comment: String,
        /// Why not.
        why: WhyGone,
        /// When it was removed before; something has put it back since.
        back: Option<Date>,
    },
    /// Nobody in the register has this key. It stays.
    Unknown {
        /// Which key.
        fingerprint: Fingerprint,
        /// Where.
        place: Place,
        /// Its comment, safe to show.
        comment: String,
    },
    /// Nobody can tell what a line of a managed file holds. It stays.
    NotUnderstood {
        /// Where.
        place: Place,
    },
    /// A mode or an owner is not as it should be.
    Mode(Change),
    /// Somebody has a grant, and no key that the host takes.
    NoKeyTaken {
        /// Who.
        who: String,
        /// What it takes.
        limit: LimitBroken,
    },
    /// The account is not there, and a grant asks for it to be made.
    MakeAccount {
        /// As it is to be made.
        new: NewAccount,
        /// The groups that it is put into.
        groups: Vec<String>,
    },
    /// The server takes passwords, and should take keys only. None: whether it does is not known.
    Passwords(Option<Vec<OpenSetting>>),
}

/// Why an entry should not be there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WhyGone {
    /// Its person has left.
    Left(Date),
    /// The key is not used any more.
    Retired(Date),
    /// The grant is over.
    Over(Date),
    /// There is no grant.
    NotGranted,
    /// Nobody has the key, and the register is complete for this host.
    Nobody,
    /// Another entry of the same key says what it may do.
    Second,
}

/// Which differences are ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// Missing entries and options.
    Add,
    /// Entries that should not be there.
    Remove,
    /// Modes and owners.
    Modes,
}

impl Difference {
    /// To which part it belongs; `None` for what only a person can decide.
    #[must_use]
    pub fn part(&self) -> Option<Part> {
        match self {
            Self::Add { .. } | Self::Options { .. } | Self::MakeAccount { .. } | Self::NoKeyTaken { .. } => {
                Some(Part::Add)
            }
            Self::Remove { .. } => Some(Part::Remove),
            // Passwords end by a command of their own, which proves more.
            Self::Unknown { .. } | Self::NotUnderstood { .. } | Self::Passwords(_) => None,
            Self::Mode(_) => Some(Part::Modes),
        }
    }

    /// Whether somebody asked for it by name, so that it counts in an account that is not managed too.
    #[must_use]
    pub fn is_asked_for(&self) -> bool {
        matches!(self, Self::Add { .. } | Self::MakeAccount { .. } | Self::Passwords(_) | Self::NoKeyTaken { .. })
    }

    /// The key that it is about.
    #[must_use]
    pub fn key(&self) -> Option<Fingerprint> {
        match self {
            Self::Add { fingerprint, .. }
            | Self::Options { fingerprint, .. }
            | Self::Remove { fingerprint, .. }
            | Self::Unknown { fingerprint, .. } => Some(*fingerprint),
            Self::NotUnderstood { .. }
            | Self::NoKeyTaken { .. }
            | Self::Mode(_)
            | Self::MakeAccount { .. }
            | Self::Passwords(_) => None,
        }
    }
}
