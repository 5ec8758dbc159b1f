//! Looking at a local tree.

use super::{LocalTree, enter, magic, system};
use lavrin_keys::key::container::{private_key_head, public_in_head};
use lavrin_server::fs::{BytePath, Fact, Node, NodeKind, Why};
use lavrin_server::survey::{Observation, PublicHalf, StrayKey, Want, Wanted};
use rustix::fd::OwnedFd;
use rustix::fs::{AtFlags, Dir, FileType, Mode, OFlags, fstat, openat, readlinkat, statat};
use rustix::io::Errno;
use std::ffi::OsStr;
use std::io::Read as _;
use std::os::unix::ffi::OsStrExt as _;
use zeroize::Zeroizing;

/// So much of a file is looked at to tell a private key.
const HEAD_BYTES: usize = 4096;

/// Most names that one folder gives.
const NAMES_MAX: usize = 10_000;

impl LocalTree {
    /// Looks at everything that is wanted and writes it into the observation.
    pub fn look(&self, wants: &[Want], seen: &mut Observation) {
        self.walk().look(wants, seen);
    }

    /// Begins to look; what is asked for in several rounds mostly lies together.
    #[must_use]
    pub fn walk(&self) -> Walk<'_> {
        Walk { tree: self, held: Vec::new() }
    }

    pub(super) fn bytes(&self, path: &BytePath, limit: u64) -> Fact<Vec<u8>> {
        self.walk().bytes(path, limit)
    }
}

/// A look in several rounds. The folders on the way to what was looked at last stay open.
#[derive(Debug)]
pub struct Walk<'a> {
    tree: &'a LocalTree,
    held: Vec<(BytePath, OwnedFd)>,
}

impl Walk<'_> {
    /// Looks at everything that is wanted and writes it into the observation.
    pub fn look(&mut self, wants: &[Want], seen: &mut Observation) {
        let paths = wants.iter().filter_map(|want| if let Wanted::Node(path) = &want.what { Some(path) } else { None });
        let mut nodes: Vec<&BytePath> = paths.collect();
        // Each once, and folders before what is in them, so that few are opened again.
        nodes.sort_unstable();
        nodes.dedup();
        for path in nodes {
            let node = self.node(path);
            seen.nodes.insert(path.clone(), node);
        }
        for want in wants {
            match &want.what {
                Wanted::Node(_) => {}
                Wanted::System(_) => system::look(self.tree, seen),
                Wanted::Bytes(path, limit) => drop(seen.bytes.insert(path.clone(), self.bytes(path, *limit))),
                Wanted::Names(path) => drop(seen.names.insert(path.clone(), self.names(path))),
                Wanted::PrivateKeys(path) => {
                    let keys = self.private_keys(path, seen);
                    seen.private_keys.insert(path.clone(), keys);
                }
                Wanted::Slots(_) | Wanted::Traces(_) => seen.give_up(want, &Why::WrongKind),
            }
        }
    }

    /// A handle on the folder that holds `path`, reached without following a link.
    fn parent(&mut self, path: &BytePath) -> Result<&OwnedFd, Errno> {
        let folder = path.parent().unwrap_or_else(|| "/".into());
        while self.held.last().is_some_and(|(held, _)| !folder.is_within(held)) {
            self.held.pop();
        }
        let from = self.held.last().map_or(0, |(held, _)| held.as_bytes().len());
        for name in folder.as_bytes()[from..].split(|byte| *byte == b'/').filter(|name| !name.is_empty()) {
            if name == b".." {
                return Err(Errno::INVAL);
            }
            let next = enter(self.held.last().map_or(&self.tree.root, |(_, handle)| handle), name)?;
            let path = self.held.last().map_or_else(|| "/".into(), |(path, _)| path.clone()).join(name);
            self.held.push((path, next));
        }
        Ok(self.held.last().map_or(&self.tree.root, |(_, handle)| handle))
    }

    fn node(&mut self, path: &BytePath) -> Fact<Node> {
        self.try_node(path).map_or_else(fact_of, Fact::Known)
    }

    fn try_node(&mut self, path: &BytePath) -> Result<Node, Errno> {
        let parent = self.parent(path)?;
        let name = path.name();
        let stat = if name.is_empty() {
            fstat(parent)?
        } else {
            statat(parent, OsStr::from_bytes(name), AtFlags::SYMLINK_NOFOLLOW)?
        };
        let kind = match FileType::from_raw_mode(stat.st_mode) {
            FileType::RegularFile => NodeKind::File,
            FileType::Directory => NodeKind::Folder,
            FileType::Symlink => NodeKind::Link(readlinkat(parent, OsStr::from_bytes(name), Vec::new())?.into_bytes()),
            _ => NodeKind::Special,
        };
        let access_list = matches!(kind, NodeKind::File | NodeKind::Folder) && has_access_list(parent, name);
        Ok(Node { kind, mode: stat.st_mode & 0o7777, uid: stat.st_uid, gid: stat.st_gid, access_list })
    }

    fn bytes(&mut self, path: &BytePath, limit: u64) -> Fact<Vec<u8>> {
        match self.open_file(path) {
            Err(Errno::INVAL) => Fact::Unseen(Why::WrongKind),
            Err(errno) => fact_of(errno),
            Ok(file) => read_up_to(std::fs::File::from(file), limit),
        }
    }

    /// Opens a regular file; `EINVAL` stands for anything else.
    fn open_file(&mut self, path: &BytePath) -> Result<OwnedFd, Errno> {
        let parent = self.parent(path)?;
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
        let file = openat(parent, OsStr::from_bytes(path.name()), flags, Mode::empty())?;
        if FileType::from_raw_mode(fstat(&file)?.st_mode) == FileType::RegularFile {
            Ok(file)
        } else {
            Err(Errno::INVAL)
        }
    }

    fn names(&mut self, path: &BytePath) -> Fact<Vec<Vec<u8>>> {
        self.try_names(path).map_or_else(fact_of, Fact::Known)
    }

    fn try_names(&mut self, path: &BytePath) -> Result<Vec<Vec<u8>>, Errno> {
        let parent = self.parent(path)?;
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let name = if path.name().is_empty() { OsStr::new(".") } else { OsStr::from_bytes(path.name()) };
        let folder = openat(parent, name, flags, Mode::empty())?;
        let mut names = Vec::new();
        for entry in Dir::new(folder)?.take(NAMES_MAX) {
            let name = entry?.file_name().to_bytes().to_vec();
            if name != b"." && name != b".." {
                names.push(name);
            }
        }
        names.sort();
        Ok(names)
    }

    fn private_keys(&mut self, folder: &BytePath, seen: &Observation) -> Fact<Vec<StrayKey>> {
        self.names(folder)
            .map(|names| names.iter().filter_map(|name| self.stray_key(folder.join(name), seen)).collect())
    }

    /// A private key shows what it is in its first bytes. What was read already need not be opened again.
    fn stray_key(&mut self, path: BytePath, seen: &Observation) -> Option<StrayKey> {
        let read;
        let head = if let Some(Fact::Known(bytes)) = seen.bytes.get(&path) {
            &bytes[..bytes.len().min(HEAD_BYTES)]
        } else {
            let mut head = Zeroizing::new([0; HEAD_BYTES]);
            let length = std::fs::File::from(self.open_file(&path).ok()?).read(&mut *head).ok()?;
            read = head;
            &read[..length]
        };
        let protected = private_key_head(head)?;
        let in_front = public_in_head(head).map(|key| PublicHalf::in_front(&key));
        let public = in_front.or_else(|| self.beside(&path));
        Some(StrayKey { path, protected, public })
    }

    /// What the file with the public half says that often lies beside a private key.
    fn beside(&mut self, path: &BytePath) -> Option<PublicHalf> {
        let path = BytePath::new(&[path.as_bytes(), b".pub"].concat());
        let mut bytes = Vec::new();
        std::fs::File::from(self.open_file(&path).ok()?).take(HEAD_BYTES as u64).read_to_end(&mut bytes).ok()?;
        PublicHalf::beside(&bytes)
    }
}

fn read_up_to(file: std::fs::File, limit: u64) -> Fact<Vec<u8>> {
    // One more, so that the end shows without growing.
    let length = file.metadata().map_or(0, |meta| meta.len().min(limit) + 1);
    let mut bytes = Vec::with_capacity(usize::try_from(length).unwrap_or_default());
    match file.take(limit + 1).read_to_end(&mut bytes) {
        Err(error) => Fact::Unseen(Why::Other(error.to_string())),
        Ok(length) if length as u64 > limit => Fact::Unseen(Why::TooLarge(limit)),
        Ok(_) => Fact::Known(bytes),
    }
}

fn has_access_list(parent: &OwnedFd, name: &[u8]) -> bool {
    // Below the handle, whatever its name has become; a link in this last place is not followed.
    let path = magic(parent).join(OsStr::from_bytes(if name.is_empty() { b"." } else { name }));
    let mut none = [0u8; 0];
    rustix::fs::lgetxattr(path, "system.posix_acl_access", &mut none).is_ok_and(|length| length > 0)
}

pub(super) fn fact_of<T>(errno: Errno) -> Fact<T> {
    match errno {
        Errno::NOENT | Errno::NOTDIR => Fact::Absent,
        Errno::ACCESS | Errno::PERM => Fact::Unseen(Why::Permission),
        Errno::LOOP => Fact::Unseen(Why::WrongKind),
        other => Fact::Unseen(Why::Other(std::io::Error::from(other).to_string())),
    }
}
