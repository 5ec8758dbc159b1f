//! Why a store cannot be used.

use crate::StoreFault;
use thiserror::Error;

/// Why the store cannot be used. It is never overwritten for any of these.
#[derive(Debug, Error)]
pub enum DatabaseFault {
    /// Written by a newer version.
    #[error("{place} was written by a newer version (form {found}, known is {known})")]
    Newer {
        /// Where it is.
        place: String,
        /// Its form.
        found: i32,
        /// The newest form that this version knows.
        known: i32,
    },
    /// Not a store, or damaged.
    #[error("{place} is damaged or no store of this program: {said}")]
    Damaged {
        /// Where it is.
        place: String,
        /// In the database's words.
        said: String,
    },
    /// Another process holds it for too long.
    #[error("{place} is in use by another process")]
    Busy {
        /// Where it is.
        place: String,
    },
    /// A database server that does not answer, or went away in the middle.
    #[error("{place} does not answer: {said}")]
    Away {
        /// Where it is.
        place: String,
        /// In the system's words.
        said: String,
    },
    /// A database server that lets nobody in, or not do this.
    #[error("{place} refuses that: {said}")]
    Refused {
        /// Where it is.
        place: String,
        /// In the server's words.
        said: String,
    },
    /// A database in which nobody has set up a store, or an earlier form of one.
    #[error("{place} holds no store of this form (form {found}, needed is {needed})")]
    NotSetUp {
        /// Where it is.
        place: String,
        /// Its form; 0: there is none.
        found: i32,
        /// The form that this version needs.
        needed: i32,
    },
    /// A store that was moved elsewhere.
    #[error("{place} was moved to {to}")]
    Moved {
        /// Where it was.
        place: String,
        /// Where it is now.
        to: String,
    },
    /// A store on one machine, where one for several is needed.
    #[error("{place} is for one machine; collectors share a PostgreSQL")]
    OneMachine {
        /// Where it is.
        place: String,
    },
    /// An address that names no store.
    #[error("'{url}' names no store: {said}")]
    Address {
        /// The address.
        url: String,
        /// Why.
        said: String,
    },
    /// The register names a store that nobody on this machine has agreed to.
    #[error("the register keeps its memory at {url}, and nobody here has agreed to that")]
    Unconfirmed {
        /// The address.
        url: String,
        /// The one that was agreed to.
        before: Option<String>,
    },
    /// Anything else.
    #[error("{place}: {said}")]
    Other {
        /// Where it is.
        place: String,
        /// In the database's words.
        said: String,
    },
    /// The folder or the file itself.
    #[error(transparent)]
    System(#[from] StoreFault),
}

impl DatabaseFault {
    /// Whether it is about a store on a server, which does not answer, refuses, or to which nobody here has agreed.
    #[must_use]
    pub fn is_of_a_place_elsewhere(&self) -> bool {
        matches!(
            self,
            Self::Away { .. }
                | Self::Refused { .. }
                | Self::NotSetUp { .. }
                | Self::Moved { .. }
                | Self::Address { .. }
                | Self::Unconfirmed { .. }
        )
    }
}

/// What every question to a store ends with.
pub(crate) type StoreResult<T> = Result<T, DatabaseFault>;
