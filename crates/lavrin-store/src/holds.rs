//! Who changes which host from this machine: a locked file for each, which says who it is. A lock goes with its process, so a run that
//! was killed holds nothing.

use crate::StoreFault;
use crate::store::HostHold;
use lavrin_keys::text::printable;
use lavrin_server::survey::snapshot::hash;
use rustix::fs::{FlockOperation, Mode, OFlags, flock, open};
use std::cell::RefCell;
use std::collections::HashMap;
use std::fs::File;
use std::io::{Error, Read as _, Seek as _, Write as _};
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};

/// The folder, beside what else this machine keeps.
const FOLDER: &str = "at-work";

/// The locked files.
#[derive(Debug)]
pub(crate) struct HoldFiles {
    folder: PathBuf,
    held: RefCell<HashMap<String, File>>,
}

impl HoldFiles {
    /// In the folder of what this machine keeps.
    pub(crate) fn in_folder(folder: &Path) -> Self {
        Self { folder: folder.join(FOLDER), held: RefCell::default() }
    }

    /// Takes the file of a host, or tells who has it.
    pub(crate) fn take(&self, host: &str, who: &str, now: i64) -> Result<HostHold, StoreFault> {
        let path = self.path(host);
        self.locked(&path, host, who, now).map_err(|source| StoreFault { path, source })
    }

    fn locked(&self, path: &Path, host: &str, who: &str, now: i64) -> Result<HostHold, Error> {
        if crate::private::folder(&self.folder)?.is_none() {
            let _ = std::fs::DirBuilder::new().mode(0o700).create(&self.folder);
        }
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let mut file = File::from(open(path, flags, Mode::RUSR | Mode::WUSR)?);
        if flock(&file, FlockOperation::NonBlockingLockExclusive).is_err() {
            let mut text = String::new();
            let _ = (&file).take(1024).read_to_string(&mut text);
            let known = text
                .trim_end()
                .split_once(' ')
                .and_then(|(since, who)| Some((printable(who.as_bytes()), since.parse().ok()?)));
            return Ok(HostHold::Other(known));
        }
        file.set_len(0)?;
        file.rewind()?;
        writeln!(file, "{now} {who}")?;
        self.held.borrow_mut().insert(host.to_owned(), file);
        Ok(HostHold::Own)
    }

    /// Lets it go. The file stays: one that is removed could be locked twice.
    pub(crate) fn give_back(&self, host: &str) {
        self.held.borrow_mut().remove(host);
    }

    /// A name of a host or tree may hold anything.
    fn path(&self, host: &str) -> PathBuf {
        let name: String = hash(host.as_bytes())[..12].iter().map(|byte| format!("{byte:02x}")).collect();
        self.folder.join(name)
    }
}
