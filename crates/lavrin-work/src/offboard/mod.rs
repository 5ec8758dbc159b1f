//! A person leaves: what is taken from where, what the hosts are asked, and what became of each key in each account.

mod left_behind;
mod rest;
mod shown;
mod shut_out;

pub use left_behind::{HostLeftBehind, LeftBehind, OwnAccount};
pub use rest::Rest;
pub use shown::{ALL, KeyNotShown, NotShownByHost};
pub use shut_out::ShutOut;

use crate::change::Trouble;
use crate::heard::NoProof;
use crate::owed::NewDebt;
use crate::ways::WayFault;
use lavrin_fleet::register::{Date, Person};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_server::login::NotGone;
use lavrin_server::steps::NoSteps;
use std::sync::Arc;

/// Somebody who leaves.
#[derive(Debug, Clone)]
pub struct Leaver {
    /// By what name the register knows them.
    pub id: String,
    /// Since when they are gone.
    pub left: Date,
    /// Their keys, retired ones too.
    pub keys: Vec<PublicKey>,
    /// The same by fingerprint.
    pub prints: Vec<Fingerprint>,
}

impl Leaver {
    /// A person who is gone from this day.
    #[must_use]
    pub fn of(person: &Person, left: Date) -> Self {
        Self {
            id: person.id.clone(),
            left,
            keys: person.keys.iter().map(|key| key.key.clone()).collect(),
            prints: person.keys.iter().map(|key| key.fingerprint).collect(),
        }
    }
}

/// What became of a key in an account; the worst comes last, where it is read first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum KeyState {
    /// It was taken out, and the host refuses it.
    Removed,
    /// There was nothing to take out, and the host refuses it.
    Refused,
    /// The host was asked and gave no answer that shows anything.
    NotAnswered {
        /// Whether it was taken out all the same.
        removed: bool,
    },
    /// The host's list of revoked keys was not written.
    NotShutOut,
    /// Not everything that the server would read was read: it may stand there.
    NotShown,
    /// The host was not reached.
    Unreachable,
    /// It was not taken out.
    NotRemoved,
    /// It stands in an account that the register does not manage.
    NotManaged,
    /// Nobody knows.
    Unknown,
    /// The host still takes it.
    StillAccepted,
}

/// Why it is so.
#[derive(Debug, Clone)]
pub enum KeyStateReason {
    /// How the change ended.
    Change(Arc<Trouble>),
    /// The host was not reached.
    Host(WayFault),
    /// It gave no answer that shows anything.
    NoProof(NoProof),
    /// It was not asked: so many questions could be taken for an attack.
    NotAsked,
    /// The list of revoked keys cannot be written.
    List(NoSteps),
    /// By what was read, or not read.
    NotGone(NotGone),
    /// It refuses the key from here, and what its files hold was not seen.
    NotRead,
}

/// One key in one account.
#[derive(Debug, Clone)]
pub struct Row {
    /// What became of it.
    pub state: KeyState,
    /// The host.
    pub host: String,
    /// The account; empty where it is about the host.
    pub account: String,
    /// The key, where it is about one.
    pub key: Option<Fingerprint>,
    /// Why.
    pub why: Option<KeyStateReason>,
}

impl Row {
    /// Whether the key is certainly gone.
    #[must_use]
    pub fn is_done(&self) -> bool {
        matches!(self.state, KeyState::Removed | KeyState::Refused | KeyState::NotAnswered { removed: true })
    }

    /// Whether nothing was found that is wrong, by what the host says.
    fn is_quiet(&self) -> bool {
        matches!(self.state, KeyState::Removed | KeyState::Refused | KeyState::NotAnswered { .. })
    }

    /// Whether it is about this key in this account.
    #[must_use]
    pub fn is_about(&self, host: &str, account: &str, key: &str) -> bool {
        self.host == host && self.account == account && self.key.is_some_and(|own| own.to_string() == key)
    }

    /// What is owed from now on, if anything.
    #[must_use]
    pub fn debt(&self, leaver: &Leaver) -> Option<NewDebt> {
        let is_settled = self.is_done() || self.state == KeyState::NotShutOut;
        let key = self.key.filter(|_| !is_settled)?;
        let (account, host) = (self.account.clone(), self.host.clone());
        Some(NewDebt { key, person: leaver.id.clone(), account, host })
    }
}

/// The rows in the order in which they are told.
pub fn sort(rows: &mut [Row]) {
    rows.sort_by(|one, other| {
        let place = |row: &Row| (row.state, row.host.clone(), row.account.clone(), row.key.map(|key| key.to_string()));
        place(one).cmp(&place(other))
    });
}
