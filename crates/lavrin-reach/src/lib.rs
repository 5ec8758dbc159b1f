//! How a host is spoken to: a local file tree by handles, or a POSIX shell over SSH. A reach looks where the core asks
//! it to, and carries out the changes that the core's guard has let through.

pub mod agent;
pub mod dialogue;
pub mod key_subsystem;
mod length_prefix;
pub mod local;
pub mod netconf;
mod patience;
mod reach;
mod reached;
mod read_exactly;
pub mod sftp;
mod shell;
mod slots;
pub mod ssh;

pub use reach::Reach;
pub use reached::Reached;
pub use read_exactly::{read_exactly, reads_exactly};
pub use shell::{Claims, by_hand};

use lavrin_server::fs::BytePath;
use lavrin_server::steps::{Change, ChangeSubject};
use std::time::Duration;
use thiserror::Error;

/// Work on a host, boxed: what the transport brings along is then built once, here, and not again in every crate that waits
/// for it.
pub type Boxed<'a, T> = std::pin::Pin<Box<dyn Future<Output = T> + Send + 'a>>;

/// A host that reverts changes by itself, unless it learns in time that they are proven.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Armed {
    /// Its name on the host.
    pub name: String,
    /// Where on the host it lies.
    pub folder: String,
    /// What counts the time.
    pub kind: TimerKind,
    /// Whether it also happens if the host restarts before that.
    pub over_a_restart: bool,
    /// How long it waits.
    pub after: Duration,
}

/// What counts the time on a host.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TimerKind {
    /// A timer of systemd, apart from every session.
    Systemd,
    /// A process of its own.
    Process,
    /// A device that holds its configuration on approval.
    Device,
}

/// Why a change was not made, or not for certain.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CarryFault {
    /// The thing is not what it was when it was looked at; nothing was changed.
    #[error("{subject} is not what it was a moment ago")]
    Changed {
        /// Which.
        subject: ChangeSubject,
    },
    /// The system refused; nothing was changed.
    #[error("{subject}: {why}")]
    Refused {
        /// Which.
        subject: ChangeSubject,
        /// In the system's words.
        why: String,
    },
    /// The mode or owner did not hold: a share, a foreign file system.
    #[error("{path} has mode {found:04o} where {wanted:04o} was set")]
    ModeDidNotHold {
        /// Which.
        path: BytePath,
        /// What was read back.
        found: u32,
        /// What was set.
        wanted: u32,
    },
    /// The host has put everything back by itself, since it was not told in time that the changes are proven.
    #[error("the time was over, and the host has put everything back by itself")]
    PutBack,
    /// What was answered is not understood; whether the change was made is not known, and it is not wanted like that.
    #[error("{why}")]
    NotUnderstood {
        /// What was asked and answered.
        why: String,
    },
    /// The connection was lost while the change was made; which state the host is in is not known.
    #[error("the connection was lost while {subject} was changed")]
    Unknown {
        /// Which.
        subject: ChangeSubject,
    },
}

impl CarryFault {
    /// A change of something that this host does not have.
    pub(crate) fn not_there(change: &Change) -> Self {
        let why = "the host has nothing of that kind".to_owned();
        Self::Refused { subject: change.subject(), why }
    }

    /// Whether the host is certainly as it was before this change.
    #[must_use]
    pub fn nothing_changed(&self) -> bool {
        matches!(self, Self::Changed { .. } | Self::Refused { .. } | Self::PutBack)
    }
}
