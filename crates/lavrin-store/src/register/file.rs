//! One file in a folder of the register, by the folder's handle: no link is followed.

use rustix::fd::OwnedFd;
use rustix::fs::{
    AtFlags, FileType, FlockOperation, Mode, OFlags, fchmod, flock, fstat, fsync, openat, renameat, statat,
};
use rustix::io::Errno;
use std::fs::File;
use std::io::{Error, Write as _};
use std::time::{Duration, Instant};

/// How long another writer is waited for: each holds the lock for one file.
const LOCK_TIME: Duration = Duration::from_secs(10);

/// Time between two tries.
const LOCK_PAUSE: Duration = Duration::from_millis(5);

/// Between looking at what is there and putting something in its place nobody else does the same in this folder. The lock ends with
/// the handle.
pub(super) fn lock(folder: &OwnedFd) -> Result<(), Error> {
    let begun = Instant::now();
    loop {
        match flock(folder, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => return Ok(()),
            Err(Errno::WOULDBLOCK) if begun.elapsed() < LOCK_TIME => std::thread::sleep(LOCK_PAUSE),
            Err(Errno::WOULDBLOCK) => return Err(Error::other("somebody else writes in this folder all the time")),
            // Some network file systems have no locks.
            Err(Errno::OPNOTSUPP | Errno::NOLCK | Errno::BADF | Errno::INVAL | Errno::NOSYS) => return Ok(()),
            Err(errno) => return Err(errno.into()),
        }
    }
}

/// The fault of a link, or of something else, where a file or a folder belongs.
pub(super) fn not_what_belongs_there() -> Error {
    Error::other("it is a link, or something else than belongs there")
}

/// Opens a regular file; none where nothing is there.
pub(super) fn open_file(folder: &OwnedFd, name: &str) -> Result<Option<OwnedFd>, Error> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
    let file = match openat(folder, name, flags, Mode::empty()) {
        Ok(file) => file,
        Err(Errno::NOENT) => return Ok(None),
        Err(Errno::LOOP | Errno::NXIO) => return Err(not_what_belongs_there()),
        Err(errno) => return Err(errno.into()),
    };
    if FileType::from_raw_mode(fstat(&file)?.st_mode) != FileType::RegularFile {
        return Err(not_what_belongs_there());
    }
    Ok(Some(file))
}

/// Writes a file under a temporary name, with the mode of the one that it comes in place of, and renames it.
pub(super) fn write_file(folder: &OwnedFd, temporary: &str, name: &str, text: &str) -> Result<(), Error> {
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let usual = Mode::RUSR | Mode::WUSR | Mode::RGRP | Mode::WGRP | Mode::ROTH | Mode::WOTH;
    let mut file = File::from(openat(folder, temporary, flags, usual)?);
    file.write_all(text.as_bytes())?;
    if let Ok(before) = statat(folder, name, AtFlags::SYMLINK_NOFOLLOW) {
        fchmod(&file, Mode::from_raw_mode(before.st_mode & 0o7777))?;
    }
    file.sync_all()?;
    renameat(folder, temporary, folder, name)?;
    Ok(fsync(folder)?)
}
