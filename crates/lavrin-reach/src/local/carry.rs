//! Carrying out changes in a local tree, by handles.

use super::{LocalTree, enter, hold, magic};
use crate::CarryFault;
use lavrin_server::fs::BytePath;
use lavrin_server::steps::{FileChange, Guarded, OwnerIds};
use rustix::fd::OwnedFd;
use rustix::fs::{AtFlags, FileType, FlockOperation, Gid, Mode, OFlags, RenameFlags, Stat, Uid};
use rustix::fs::{
    chmod, chownat, fchmod, fchown, flock, fstat, fsync, linkat, mkdirat, openat, renameat, renameat_with, unlinkat,
};
use rustix::io::Errno;
use std::ffi::OsStr;
use std::fs::File;
use std::io::{Read as _, Write as _};
use std::os::unix::ffi::OsStrExt as _;

/// Our temporary files begin with this, so that what a killed run left behind is known and swept up.
const TEMPORARY: &[u8] = b".lavrin-";

/// The temporary name; the folder is locked while it is in use, so one name is enough.
const NEW: &[u8] = b".lavrin-new";

impl LocalTree {
    /// Makes one change. What was looked at before must still hold, else nothing is changed.
    ///
    /// # Errors
    /// [`CarryFault`].
    pub fn carry(&self, change: &Guarded) -> Result<(), CarryFault> {
        let change = change.change();
        let Some(change) = change.as_file() else { return Err(CarryFault::not_there(change)) };
        let path = change.path();
        let parent = self.parent(path).map_err(|errno| refused(path, errno))?;
        match change {
            FileChange::MakeFolder { path, mode, owner } => make_folder(&parent, path, *mode, *owner),
            FileChange::RemoveFolder { path, .. } => {
                unlinkat(&parent, OsStr::from_bytes(path.name()), AtFlags::REMOVEDIR)
                    .map_err(|errno| refused(path, errno))
            }
            FileChange::SetMode { path, from, to } => set_mode(&parent, path, *from, *to),
            FileChange::SetOwner { path, from, to } => set_owner(&parent, path, *from, *to),
            FileChange::WriteFile { path, old, new, mode, owner, .. } => {
                let parent = readable(&parent, path)?;
                write_file(&parent, path, old.as_deref(), new, *mode, *owner)
            }
            FileChange::RemoveFile { path, old, .. } => {
                if content(&parent, path.name()).as_deref() != Ok(old) {
                    return Err(CarryFault::Changed { subject: path.clone().into() });
                }
                unlinkat(&parent, OsStr::from_bytes(path.name()), AtFlags::empty())
                    .map_err(|errno| refused(path, errno))
            }
        }
    }
}

fn refused(path: &BytePath, errno: Errno) -> CarryFault {
    let why = match errno {
        Errno::PERM => "the system does not allow it; perhaps it is marked immutable".to_owned(),
        other => std::io::Error::from(other).to_string(),
    };
    CarryFault::Refused { subject: path.clone().into(), why }
}

/// The folder once more, opened so that it can be locked and flushed.
fn readable(parent: &OwnedFd, path: &BytePath) -> Result<OwnedFd, CarryFault> {
    openat(parent, ".", OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
        .map_err(|errno| refused(path, errno))
}

fn uid(owner: OwnerIds) -> (Option<Uid>, Option<Gid>) {
    (Some(Uid::from_raw(owner.uid)), Some(Gid::from_raw(owner.gid)))
}

fn is_owned(stat: &Stat, owner: OwnerIds) -> bool {
    stat.st_uid == owner.uid && stat.st_gid == owner.gid
}

/// Reads a mode back: a share or a foreign file system may not keep it.
fn check_mode(path: &BytePath, handle: &OwnedFd, wanted: u32) -> Result<(), CarryFault> {
    let found = fstat(handle).map_err(|errno| refused(path, errno))?.st_mode & 0o7777;
    if found == wanted { Ok(()) } else { Err(CarryFault::ModeDidNotHold { path: path.clone(), found, wanted }) }
}

fn make_folder(parent: &OwnedFd, path: &BytePath, mode: u32, owner: OwnerIds) -> Result<(), CarryFault> {
    let name = OsStr::from_bytes(path.name());
    let fail = |errno| refused(path, errno);
    mkdirat(parent, name, Mode::RWXU).map_err(|errno| match errno {
        Errno::EXIST => CarryFault::Changed { subject: path.clone().into() },
        other => fail(other),
    })?;
    let done = || {
        let folder = enter(parent, path.name()).map_err(fail)?;
        let folder = readable(&folder, path)?;
        if !is_owned(&fstat(&folder).map_err(fail)?, owner) {
            let (user, group) = uid(owner);
            fchown(&folder, user, group).map_err(fail)?;
        }
        fchmod(&folder, Mode::from_raw_mode(mode)).map_err(fail)?;
        check_mode(path, &folder, mode)
    };
    done().inspect_err(|_| {
        // It was made a moment ago and is empty; a folder that nobody asked for must not stay.
        let _ = unlinkat(parent, name, AtFlags::REMOVEDIR);
    })
}

fn set_mode(parent: &OwnedFd, path: &BytePath, from: u32, to: u32) -> Result<(), CarryFault> {
    let fail = |errno| refused(path, errno);
    let handle = hold(parent, path.name()).map_err(fail)?;
    let stat = fstat(&handle).map_err(fail)?;
    if stat.st_mode & 0o7777 != from || FileType::from_raw_mode(stat.st_mode) == FileType::Symlink {
        return Err(CarryFault::Changed { subject: path.clone().into() });
    }
    refuse_shared(path, &stat)?;
    chmod(magic(&handle), Mode::from_raw_mode(to)).map_err(fail)?;
    check_mode(path, &handle, to)
}

fn set_owner(parent: &OwnedFd, path: &BytePath, from: OwnerIds, to: OwnerIds) -> Result<(), CarryFault> {
    let fail = |errno| refused(path, errno);
    let handle = hold(parent, path.name()).map_err(fail)?;
    let stat = fstat(&handle).map_err(fail)?;
    if !is_owned(&stat, from) || FileType::from_raw_mode(stat.st_mode) == FileType::Symlink {
        return Err(CarryFault::Changed { subject: path.clone().into() });
    }
    refuse_shared(path, &stat)?;
    let (user, group) = uid(to);
    chownat(&handle, "", user, group, AtFlags::EMPTY_PATH).map_err(fail)
}

/// A file with a second name may be somebody else's file that was linked here to have its owner or mode changed.
fn refuse_shared(path: &BytePath, stat: &Stat) -> Result<(), CarryFault> {
    if FileType::from_raw_mode(stat.st_mode) == FileType::RegularFile && stat.st_nlink > 1 {
        return Err(CarryFault::Refused {
            subject: path.clone().into(),
            why: "the file has a second name somewhere else (a hard link)".to_owned(),
        });
    }
    Ok(())
}

fn content(parent: &OwnedFd, name: &[u8]) -> Result<Vec<u8>, Errno> {
    let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
    let file = openat(parent, OsStr::from_bytes(name), flags, Mode::empty())?;
    if FileType::from_raw_mode(fstat(&file)?.st_mode) != FileType::RegularFile {
        return Err(Errno::INVAL);
    }
    let mut bytes = Vec::new();
    let limit = lavrin_server::survey::KEYS_FILE_BYTES_MAX + 1;
    File::from(file)
        .take(limit)
        .read_to_end(&mut bytes)
        .map_err(|error| Errno::from_io_error(&error).unwrap_or(Errno::IO))?;
    Ok(bytes)
}

/// Puts a new file in place of the old one in a single step. The new file is whole, owned, with its mode and on disk
/// before it gets the name, so a crash at any moment leaves the old or the new file.
fn write_file(
    parent: &OwnedFd,
    path: &BytePath,
    old: Option<&[u8]>,
    new: &[u8],
    mode: u32,
    owner: OwnerIds,
) -> Result<(), CarryFault> {
    let fail = |errno| refused(path, errno);
    let changed = || CarryFault::Changed { subject: path.clone().into() };
    flock(parent, FlockOperation::NonBlockingLockExclusive).map_err(|_| CarryFault::Refused {
        subject: path.clone().into(),
        why: "another change is being made in this folder".to_owned(),
    })?;
    sweep(parent);
    let name = OsStr::from_bytes(path.name());
    let temporary = OsStr::from_bytes(NEW);
    let prepared = prepare(parent, path, old.is_some(), new, mode, owner);
    let put = prepared.and_then(|()| match old {
        None => linkat(parent, temporary, parent, name, AtFlags::empty())
            .map_err(|errno| if errno == Errno::EXIST { changed() } else { fail(errno) }),
        Some(old) => exchange(parent, path, old),
    });
    let _ = unlinkat(parent, temporary, AtFlags::empty());
    put?;
    fsync(parent).map_err(fail)
}

/// Swaps the new file with the old one and looks at what came out; if it is not what was read, both are swapped back.
fn exchange(parent: &OwnedFd, path: &BytePath, old: &[u8]) -> Result<(), CarryFault> {
    let (name, temporary) = (OsStr::from_bytes(path.name()), OsStr::from_bytes(NEW));
    let is_old = |name: &[u8]| content(parent, name).is_ok_and(|bytes| bytes == old);
    if !is_old(path.name()) {
        return Err(CarryFault::Changed { subject: path.clone().into() });
    }
    match renameat_with(parent, temporary, parent, name, RenameFlags::EXCHANGE) {
        Ok(()) if is_old(NEW) => Ok(()),
        Ok(()) => {
            renameat_with(parent, temporary, parent, name, RenameFlags::EXCHANGE)
                .map_err(|_| CarryFault::Unknown { subject: path.clone().into() })?;
            Err(CarryFault::Changed { subject: path.clone().into() })
        }
        // Some file systems cannot swap; a plain rename leaves the moment since the comparison unguarded.
        Err(Errno::INVAL | Errno::NOSYS) => {
            renameat(parent, temporary, parent, name).map_err(|errno| refused(path, errno))
        }
        Err(errno) => Err(refused(path, errno)),
    }
}

fn prepare(
    parent: &OwnedFd,
    path: &BytePath,
    replaces: bool,
    new: &[u8],
    mode: u32,
    owner: OwnerIds,
) -> Result<(), CarryFault> {
    let fail = |errno| refused(path, errno);
    let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let file = openat(parent, OsStr::from_bytes(NEW), flags, Mode::RUSR | Mode::WUSR).map_err(fail)?;
    if replaces {
        copy_attributes(parent, path.name(), &file).map_err(fail)?;
    }
    if !is_owned(&fstat(&file).map_err(fail)?, owner) {
        let (user, group) = uid(owner);
        fchown(&file, user, group).map_err(fail)?;
    }
    fchmod(&file, Mode::from_raw_mode(mode)).map_err(fail)?;
    check_mode(path, &file, mode)?;
    let mut file = File::from(file);
    let written = file.write_all(new).and_then(|()| file.sync_all());
    written.map_err(|error| CarryFault::Refused { subject: path.clone().into(), why: error.to_string() })
}

/// Security label, access list and extended attributes go along with the content.
fn copy_attributes(parent: &OwnedFd, name: &[u8], to: &OwnedFd) -> Result<(), Errno> {
    let from = openat(
        parent,
        OsStr::from_bytes(name),
        OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC,
        Mode::empty(),
    )?;
    let mut names = vec![0u8; 64 << 10];
    let length = match rustix::fs::flistxattr(&from, &mut names) {
        Ok(length) => length,
        Err(Errno::NOTSUP) => return Ok(()),
        Err(errno) => return Err(errno),
    };
    for attribute in names[..length].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let attribute = OsStr::from_bytes(attribute);
        let mut value = vec![0u8; 64 << 10];
        let length = rustix::fs::fgetxattr(&from, attribute, &mut value)?;
        match rustix::fs::fsetxattr(to, attribute, &value[..length], rustix::fs::XattrFlags::empty()) {
            // A label that the kernel sets by itself, or one that only root may set and that was not set by us.
            Err(Errno::NOTSUP | Errno::PERM) if !attribute.as_bytes().starts_with(b"user.") => {}
            other => other?,
        }
    }
    Ok(())
}

/// Removes what a killed run left behind. The folder is locked, so nothing here is in use.
fn sweep(parent: &OwnedFd) {
    let Ok(folder) = rustix::fs::Dir::read_from(parent) else { return };
    for entry in folder.flatten().filter(|entry| entry.file_name().to_bytes().starts_with(TEMPORARY)) {
        let _ = unlinkat(parent, entry.file_name(), AtFlags::empty());
    }
}
