//! A change of a file or folder: what it leaves behind, what takes it back, and what writing a file means.

use crate::fs::{BytePath, Fact, Node, NodeKind};
use crate::steps::OwnerIds;
use crate::survey::Observation;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::repair::LineRepair;

/// What writing a file means.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Deed {
    /// Entries of a key file come, go or change.
    Entries {
        /// Lines that come, as they are counted afterwards.
        come: Vec<usize>,
        /// Lines that go, as they are counted before.
        go: Vec<usize>,
        /// Lines whose options change, as they are counted before.
        limit: Vec<usize>,
    },
    /// Lines of a key file are repaired.
    Repair {
        /// The repairs.
        lines: Vec<LineRepair>,
        /// How many lines lose the CR of their CR LF.
        line_ends: usize,
    },
    /// A copy with another owner takes the place of the file; its content stays.
    Copy,
    /// Keys come into the server's own list of revoked keys: then the file that is written opens nothing.
    Revoke(Vec<Fingerprint>),
    /// Settings of the server come, go or change.
    Settings {
        /// Lines that come, as they are counted afterwards.
        come: Vec<usize>,
        /// Lines that go, as they are counted before.
        go: Vec<usize>,
    },
    /// Something that was done before is taken back.
    PutBack,
    /// A version that kept no deeds did it.
    Unsaid,
}

/// Mode and owner of a file before it is replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Was {
    /// Its permission bits.
    pub mode: u32,
    /// Its owner.
    pub owner: OwnerIds,
}

impl Was {
    /// Those of a file that is there, where writing it gives it others.
    pub(in crate::steps) fn of(node: Option<&Node>, mode: u32, owner: OwnerIds) -> Option<Self> {
        let was = node.map(|node| Self { mode: node.mode, owner: OwnerIds { uid: node.uid, gid: node.gid } });
        was.filter(|was| *was != Self { mode, owner })
    }
}

/// A change of a file or folder. Paths are real ones: no link is on the way, or the step is refused when it is carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileChange {
    /// Make a folder.
    MakeFolder {
        /// Where.
        path: BytePath,
        /// Its permission bits.
        mode: u32,
        /// Its owner.
        owner: OwnerIds,
    },
    /// Remove an empty folder; only ever to take back [`FileChange::MakeFolder`].
    RemoveFolder {
        /// Where.
        path: BytePath,
        /// Its permission bits.
        mode: u32,
        /// Its owner.
        owner: OwnerIds,
    },
    /// Set permission bits.
    SetMode {
        /// Of what.
        path: BytePath,
        /// Bits found.
        from: u32,
        /// Bits wanted.
        to: u32,
    },
    /// Set owner and group.
    SetOwner {
        /// Of what.
        path: BytePath,
        /// Found.
        from: OwnerIds,
        /// Wanted.
        to: OwnerIds,
    },
    /// Put a file in place of the one that was read, or where there was none.
    WriteFile {
        /// Where.
        path: BytePath,
        /// What has to be there still; `None`: nothing.
        old: Option<Vec<u8>>,
        /// What is to be there.
        new: Vec<u8>,
        /// Its permission bits.
        mode: u32,
        /// Its owner.
        owner: OwnerIds,
        /// What the file in its place has just before; `None`: the same, or there is none.
        was: Option<Was>,
        /// What that means.
        deed: Deed,
    },
    /// Remove a file; only ever to take back [`FileChange::WriteFile`] where there was none.
    RemoveFile {
        /// Where.
        path: BytePath,
        /// What has to be there still.
        old: Vec<u8>,
        /// Its permission bits.
        mode: u32,
        /// Its owner.
        owner: OwnerIds,
    },
}

impl FileChange {
    /// The change that takes this one back.
    #[must_use]
    pub fn inverse(&self) -> Self {
        match self.clone() {
            Self::MakeFolder { path, mode, owner } => Self::RemoveFolder { path, mode, owner },
            Self::RemoveFolder { path, mode, owner } => Self::MakeFolder { path, mode, owner },
            Self::SetMode { path, from, to } => Self::SetMode { path, from: to, to: from },
            Self::SetOwner { path, from, to } => Self::SetOwner { path, from: to, to: from },
            Self::WriteFile { path, old: Some(old), new, mode, owner, was, .. } => {
                let now = was.map(|_| Was { mode, owner });
                let Was { mode, owner } = was.unwrap_or(Was { mode, owner });
                Self::WriteFile { path, old: Some(new), new: old, mode, owner, was: now, deed: Deed::PutBack }
            }
            Self::WriteFile { path, old: None, new, mode, owner, .. } => {
                Self::RemoveFile { path, old: new, mode, owner }
            }
            Self::RemoveFile { path, old, mode, owner } => {
                Self::WriteFile { path, old: None, new: old, mode, owner, was: None, deed: Deed::PutBack }
            }
        }
    }

    /// Whether what was seen is what the change leaves behind.
    #[must_use]
    pub fn holds(&self, seen: &Observation) -> bool {
        let node = seen.node(self.path());
        let is = |mode: u32, owner: &OwnerIds| {
            node.known().is_some_and(|node| node.mode == mode && node.uid == owner.uid && node.gid == owner.gid)
        };
        match self {
            Self::MakeFolder { mode, owner, .. } => is(*mode, owner),
            Self::RemoveFolder { .. } | Self::RemoveFile { .. } => node == Fact::Absent,
            Self::SetMode { to, .. } => node.known().is_some_and(|node| node.mode == *to),
            Self::SetOwner { to, .. } => node.known().is_some_and(|node| node.uid == to.uid && node.gid == to.gid),
            Self::WriteFile { path, new, mode, owner, .. } => {
                is(*mode, owner) && seen.content(path).into_known() == Some(new)
            }
        }
    }

    /// Whether what was seen is what was there before the change.
    #[must_use]
    pub fn is_undone(&self, seen: &Observation) -> bool {
        let node = seen.node(self.path());
        match self {
            Self::MakeFolder { .. } | Self::WriteFile { old: None, .. } => node == Fact::Absent,
            Self::RemoveFolder { .. } => node.known().is_some_and(|node| node.kind == NodeKind::Folder),
            Self::SetMode { from, .. } => node.known().is_some_and(|node| node.mode == *from),
            Self::SetOwner { from, .. } => {
                node.known().is_some_and(|node| node.uid == from.uid && node.gid == from.gid)
            }
            Self::WriteFile { path, old: Some(old), .. } | Self::RemoveFile { path, old, .. } => {
                seen.content(path).into_known() == Some(old)
            }
        }
    }

    /// The path it is about.
    #[must_use]
    pub fn path(&self) -> &BytePath {
        match self {
            Self::MakeFolder { path, .. }
            | Self::RemoveFolder { path, .. }
            | Self::SetMode { path, .. }
            | Self::SetOwner { path, .. }
            | Self::WriteFile { path, .. }
            | Self::RemoveFile { path, .. } => path,
        }
    }
}
