//! How a host is spoken to: a local file tree by handles, or a POSIX shell over SSH. A reach looks where the core asks
//! it to, and carries out the changes that the core's guard has let through.

pub mod local;
pub mod shell;
pub mod ssh;

use lavrin_server::fs::BytePath;
use thiserror::Error;

/// Work on a host, boxed: what the transport brings along is then built once, here, and not again in every crate that waits
/// for it.
pub type Boxed<'a, T> = std::pin::Pin<Box<dyn Future<Output = T> + Send + 'a>>;

/// Why a change was not made, or not for certain.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CarryFault {
    /// The thing is not what it was when it was looked at; nothing was changed.
    #[error("{path} is not what it was a moment ago")]
    Changed {
        /// Which.
        path: BytePath,
    },
    /// The system refused; nothing was changed.
    #[error("{path}: {why}")]
    Refused {
        /// Which.
        path: BytePath,
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
    /// The connection was lost while the change was made; which state the host is in is not known.
    #[error("the connection was lost while {path} was changed")]
    Unknown {
        /// Which.
        path: BytePath,
    },
}

impl CarryFault {
    /// Whether the host is certainly as it was before this change.
    #[must_use]
    pub fn nothing_changed(&self) -> bool {
        matches!(self, Self::Changed { .. } | Self::Refused { .. })
    }
}
