//! What is kept for its owner alone: folders and files that nobody else may read or write. Loose modes are set right; what
//! belongs to somebody else, or is a link or something else than a file, is refused.

use rustix::fd::{AsFd, OwnedFd};
use rustix::fs::{CWD, FileType, Mode, OFlags, fchmod, fstat, openat};
use rustix::io::Errno;
use rustix::process::geteuid;
use std::fs::File;
use std::io::{Error, Read as _};
use std::path::Path;

/// Longest file that is read back, in bytes: what a host may give, and room for a journal of many years.
const BYTES_MAX: u64 = 1 << 30;

/// A folder, opened without following a link, once it is its owner's alone; none where nothing is there.
pub(crate) fn folder(path: &Path) -> Result<Option<OwnedFd>, Error> {
    open(path, OFlags::RDONLY | OFlags::DIRECTORY, FileType::Directory, Mode::RWXU)
}

/// A file, likewise.
pub(crate) fn file(path: &Path) -> Result<Option<File>, Error> {
    Ok(open(path, OFlags::RDONLY | OFlags::NONBLOCK, FileType::RegularFile, Mode::RUSR | Mode::WUSR)?.map(File::from))
}

/// What stands in such a file.
pub(crate) fn read(path: &Path) -> Result<Option<Vec<u8>>, Error> {
    let Some(file) = file(path)? else { return Ok(None) };
    let mut bytes = Vec::new();
    if file.take(BYTES_MAX + 1).read_to_end(&mut bytes)? as u64 > BYTES_MAX {
        return Err(Error::other("it is longer than anything that is kept here"));
    }
    Ok(Some(bytes))
}

fn open(path: &Path, flags: OFlags, kind: FileType, mode: Mode) -> Result<Option<OwnedFd>, Error> {
    let odd = || Error::other("it is a link, or something else than belongs there");
    let opened = match openat(CWD, path, flags | OFlags::NOFOLLOW | OFlags::NOCTTY | OFlags::CLOEXEC, Mode::empty()) {
        Ok(opened) => opened,
        Err(Errno::NOENT) => return Ok(None),
        Err(Errno::LOOP | Errno::NOTDIR | Errno::NXIO) => return Err(odd()),
        Err(errno) => return Err(errno.into()),
    };
    let stat = fstat(&opened)?;
    if FileType::from_raw_mode(stat.st_mode) != kind {
        return Err(odd());
    }
    for_its_owner(&opened, stat.st_uid, stat.st_mode, mode)?;
    Ok(Some(opened))
}

fn for_its_owner(opened: impl AsFd, uid: u32, found: u32, mode: Mode) -> Result<(), Error> {
    if ![0, geteuid().as_raw()].contains(&uid) {
        return Err(Error::other(format!("it belongs to uid {uid}, who could have put anything into it")));
    }
    if Mode::from_raw_mode(found).intersects(Mode::RWXG | Mode::RWXO) {
        fchmod(opened, mode)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt as _, symlink};

    #[test]
    fn loose_modes_are_set_right_and_links_are_refused() {
        let place = tempfile::tempdir().unwrap();
        let (kept, link) = (place.path().join("kept"), place.path().join("link"));
        std::fs::write(&kept, "a").unwrap();
        symlink(&kept, &link).unwrap();
        let mode = |path: &Path| std::fs::metadata(path).unwrap().permissions().mode() & 0o777;
        let loose = |path: &Path| std::fs::set_permissions(path, std::fs::Permissions::from_mode(0o777)).unwrap();
        loose(&kept);
        assert_eq!(read(&kept).unwrap().unwrap(), b"a");
        assert_eq!(mode(&kept), 0o600);
        assert!(read(&link).unwrap_err().to_string().contains("link"));
        assert!(read(&place.path().join("gone")).unwrap().is_none());
        loose(place.path());
        assert!(folder(place.path()).unwrap().is_some());
        assert_eq!(mode(place.path()), 0o700);
        assert!(folder(&kept).is_err() && read(place.path()).is_err());
    }
}
