//! Whose word a register is. It says where passwords go and whose keys open which accounts, so what it is made of, and each
//! folder on the way to it in which it could be swapped, belongs to the user or to root, and nobody else may write there.

use lavrin_server::account::{is_private_group, read_groups, read_passwd};
use rustix::fs::Stat;
use rustix::process::{getegid, geteuid};
use std::collections::VecDeque;
use std::ffi::OsString;
use std::fs::Metadata;
use std::io::{Error, ErrorKind};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Component, Path, PathBuf};

/// Links followed on the way to a register; Linux itself stops at 40.
const LINKS_MAX: usize = 40;

const OTHERS_WRITE: u32 = 0o002;
const GROUP_WRITE: u32 = 0o020;
const STICKY: u32 = 0o1000;

/// Whom a register may belong to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trust {
    uids: Vec<u32>,
    /// Groups in which nobody else is.
    private: Vec<u32>,
    /// A group that shares the register on purpose.
    shared: Option<u32>,
}

/// Owner, group and mode of something.
#[derive(Clone, Copy)]
pub(super) struct FileRights {
    uid: u32,
    gid: u32,
    mode: u32,
}

impl From<&Metadata> for FileRights {
    fn from(meta: &Metadata) -> Self {
        Self { uid: meta.uid(), gid: meta.gid(), mode: meta.mode() }
    }
}

impl From<&Stat> for FileRights {
    fn from(stat: &Stat) -> Self {
        Self { uid: stat.st_uid, gid: stat.st_gid, mode: stat.st_mode }
    }
}

impl Trust {
    /// The one who runs this, and root. `behind` is the user on whose behalf root acts.
    #[must_use]
    pub fn of_user(behind: Option<u32>) -> Self {
        let (uid, gid) = (geteuid().as_raw(), getegid().as_raw());
        let mut uids = vec![0, uid];
        uids.extend(behind.filter(|_| uid == 0));
        let read = |path: &str| std::fs::read(path).unwrap_or_default();
        let (accounts, groups) = (read_passwd(&read("/etc/passwd")), read_groups(&read("/etc/group")));
        let own = accounts.iter().filter(|account| uids.contains(&account.uid));
        let private = own.filter(|own| is_private_group(own.gid, own.uid, own, &accounts, &groups));
        let mut private: Vec<u32> = private.map(|own| own.gid).collect();
        private.extend(Some(gid).filter(|gid| *gid == 0));
        Self { uids, private, shared: None }
    }

    /// The same for a register whose group shares it, as far as the register's own folder says so.
    pub(super) fn shared_by_group_of(mut self, folder: FileRights) -> Self {
        self.shared = (folder.mode & GROUP_WRITE != 0).then_some(folder.gid);
        self
    }

    /// Whether a group shares the register.
    #[must_use]
    pub fn is_shared(&self) -> bool {
        self.shared.is_some_and(|gid| !self.private.contains(&gid))
    }

    /// A file, or a folder whose entries are looked at one by one.
    pub(super) fn of(&self, rights: FileRights) -> Result<(), Error> {
        if !self.uids.contains(&rights.uid) {
            let said =
                format!("it belongs to uid {}, not to you or root, and could be changed at any time", rights.uid);
            return Err(Error::other(said));
        }
        let may_group = self.private.contains(&rights.gid) || self.shared == Some(rights.gid);
        if rights.mode & OTHERS_WRITE != 0 || rights.mode & GROUP_WRITE != 0 && !may_group {
            return Err(Error::other(
                "others may write it, so it is nobody's word; chmod go-w, and look at what it says",
            ));
        }
        Ok(())
    }

    /// A folder in which the next name on the way stands: what others cannot move or replace there may stand in it.
    fn folder(&self, folder: FileRights, next: FileRights) -> Result<(), Error> {
        if folder.mode & STICKY != 0 && [next.uid, folder.uid].iter().all(|uid| self.uids.contains(uid)) {
            return Ok(());
        }
        self.of(folder)
    }

    /// Every folder that is passed on the way to a folder, links followed. Gives where it really is.
    pub(super) fn way(&self, to: &Path) -> Result<(), (PathBuf, Error)> {
        let mut rest: VecDeque<OsString> = names(&std::path::absolute(to).map_err(|error| (to.to_owned(), error))?);
        let mut here = PathBuf::from("/");
        let mut links = 0;
        while let Some(name) = rest.pop_front() {
            if name == ".." {
                here.pop();
                continue;
            }
            let next = here.join(&name);
            let at = |path: &Path| path.symlink_metadata().map_err(|error| (path.to_owned(), error));
            let (folder, meta) = (at(&here)?, at(&next)?);
            self.folder(FileRights::from(&folder), FileRights::from(&meta)).map_err(|error| (here.clone(), error))?;
            if !meta.is_symlink() {
                here = next;
                continue;
            }
            links += 1;
            if links > LINKS_MAX {
                return Err((next, Error::from(ErrorKind::InvalidInput)));
            }
            let target = next.read_link().map_err(|error| (next.clone(), error))?;
            if target.is_absolute() {
                here = PathBuf::from("/");
            }
            for name in names(&target).into_iter().rev() {
                rest.push_front(name);
            }
        }
        Ok(())
    }
}

fn names(path: &Path) -> VecDeque<OsString> {
    let name = |part: Component<'_>| match part {
        Component::Normal(name) => Some(name.to_owned()),
        Component::ParentDir => Some("..".into()),
        _ => None,
    };
    path.components().filter_map(name).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rights(uid: u32, gid: u32, mode: u32) -> FileRights {
        FileRights { uid, gid, mode }
    }

    #[test]
    fn a_register_is_the_word_of_its_owner_alone() {
        let trust = Trust { uids: vec![0, 1001], private: vec![1001], shared: None };
        for (of, fine) in [
            (rights(1001, 1001, 0o644), true),
            (rights(0, 0, 0o755), true),
            (rights(1001, 1001, 0o664), true),
            (rights(1001, 50, 0o664), false),
            (rights(1001, 1001, 0o666), false),
            (rights(1002, 1001, 0o644), false),
        ] {
            assert_eq!(trust.of(of).is_ok(), fine, "{} {} {:o}", of.uid, of.gid, of.mode);
        }
        let shared = trust.clone().shared_by_group_of(rights(1001, 50, 0o775));
        assert!(shared.is_shared() && shared.of(rights(1001, 50, 0o664)).is_ok());
        assert!(shared.of(rights(1001, 51, 0o664)).is_err());
        assert!(!trust.clone().shared_by_group_of(rights(1001, 50, 0o755)).is_shared());
        // In a sticky folder nobody moves what is not theirs.
        let tmp = rights(0, 0, 0o1777);
        assert!(trust.folder(tmp, rights(1001, 1001, 0o755)).is_ok());
        assert!(trust.folder(tmp, rights(1002, 1002, 0o755)).is_err());
        assert!(trust.folder(rights(0, 0, 0o777), rights(1001, 1001, 0o755)).is_err());
    }

    #[test]
    fn the_way_to_a_register_is_looked_at_link_by_link() {
        use std::os::unix::fs::{PermissionsExt as _, symlink};
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().canonicalize().unwrap();
        let (open, register) = (path.join("open"), path.join("open/register"));
        std::fs::create_dir_all(&register).unwrap();
        symlink(&register, path.join("link")).unwrap();
        let trust = Trust::of_user(None);
        assert!(trust.way(&register).is_ok() && trust.way(&path.join("link")).is_ok());
        std::fs::set_permissions(&open, std::fs::Permissions::from_mode(0o777)).unwrap();
        for to in [register.clone(), path.join("link"), path.join("link/../register")] {
            assert_eq!(trust.way(&to).unwrap_err().0, open, "{}", to.display());
        }
    }
}
