//! A file tree on this machine: an image, a chroot, or `/` itself. Every path is walked from the root down by handles,
//! and no link is ever followed: the core resolves links by what it was told and asks for real paths.

mod carry;
mod look;
mod system;

pub use look::Walk;

use lavrin_server::fs::BytePath;
use rustix::fd::{AsFd, OwnedFd};
use rustix::fs::{Mode, OFlags, open, openat};
use rustix::io::Errno;
use std::ffi::OsStr;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

/// A tree seen as `/`.
#[derive(Debug)]
pub struct LocalTree {
    root: OwnedFd,
    path: PathBuf,
}

impl LocalTree {
    /// Opens the tree.
    ///
    /// # Errors
    /// The system's error where `path` is no folder that can be entered.
    pub fn open(path: &Path) -> Result<Self, std::io::Error> {
        let root = open(path, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
        Ok(Self { root, path: path.to_owned() })
    }

    /// Where the tree lies on this machine.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// A path of the tree as this machine sees it, for messages and remedies.
    #[must_use]
    pub fn outside(&self, path: &BytePath) -> PathBuf {
        let inner = path.as_bytes().strip_prefix(b"/").unwrap_or(path.as_bytes());
        self.path.join(OsStr::from_bytes(inner))
    }

    /// A handle on the folder that holds `path`, reached without following a link.
    fn parent(&self, path: &BytePath) -> Result<OwnedFd, Errno> {
        let mut here = self
            .root
            .as_fd()
            .try_clone_to_owned()
            .map_err(|error| Errno::from_io_error(&error).unwrap_or(Errno::IO))?;
        let Some(parent) = path.parent() else { return Ok(here) };
        for name in parent.as_bytes().split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            if name == b".." {
                return Err(Errno::INVAL);
            }
            here = enter(&here, name)?;
        }
        Ok(here)
    }
}

/// Opens a folder below a handle without following a link.
fn enter(parent: &OwnedFd, name: &[u8]) -> Result<OwnedFd, Errno> {
    openat(
        parent,
        OsStr::from_bytes(name),
        OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC,
        Mode::empty(),
    )
}

/// Opens anything below a handle for looking at it, without following a link and without waiting on a pipe.
fn hold(parent: &OwnedFd, name: &[u8]) -> Result<OwnedFd, Errno> {
    if name.is_empty() {
        return openat(parent, ".", OFlags::PATH | OFlags::CLOEXEC, Mode::empty());
    }
    openat(parent, OsStr::from_bytes(name), OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty())
}

/// The path through which the kernel gives a handle's own object, whatever its name has become.
fn magic(handle: &OwnedFd) -> PathBuf {
    use std::os::fd::AsRawFd as _;
    PathBuf::from(format!("/proc/self/fd/{}", handle.as_raw_fd()))
}
