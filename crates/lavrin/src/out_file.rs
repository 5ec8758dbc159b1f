//! A file that a command writes: for its owner alone, whole or not at all, never over one that is there and is not its own.

use crate::error::CommandError;
use crate::{clock, paths};
use lavrin_keys::text::shell_word;
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;

/// Where it goes.
pub struct OutFile<'a> {
    path: &'a Path,
    there: Existing,
    mode: u32,
}

/// What becomes of a file that is there already.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Existing {
    Refused,
    MovedAside,
    Overwritten,
}

/// What was written.
pub struct Written {
    /// Its length in bytes.
    pub length: u64,
    /// Where the one that was there before is now.
    pub moved_aside: Option<PathBuf>,
}

impl<'a> OutFile<'a> {
    /// Looks whether something is there before any work is done.
    pub fn of(path: &'a Path, replaces: bool) -> Result<Self, CommandError> {
        if path.symlink_metadata().is_ok() && !replaces {
            let shown = paths::shown(path);
            return Err(CommandError::usage(format!("{shown} is there already and is not overwritten"))
                .hint(format!("ls -l {}", shell_word(&shown)))
                .again("to move it aside", "--replace"));
        }
        Ok(Self { path, there: if replaces { Existing::MovedAside } else { Existing::Refused }, mode: 0o600 })
    }

    /// One that this program wrote itself, and writes anew.
    pub fn own(path: &'a Path) -> Self {
        Self { path, there: Existing::Overwritten, mode: 0o600 }
    }

    /// For everybody to read.
    pub fn readable(self) -> Self {
        Self { mode: 0o644, ..self }
    }

    /// Writes these bytes.
    pub fn put(self, bytes: &[u8]) -> Result<Written, CommandError> {
        self.write(|out| out.write_all(bytes))
    }

    /// Writes it.
    pub fn write(
        self,
        work: impl FnOnce(&mut BufWriter<&mut NamedTempFile>) -> io::Result<()>,
    ) -> Result<Written, CommandError> {
        let failed = |error: &io::Error| CommandError::file(self.path, "write", error);
        let folder = self.path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let mut draft =
            tempfile::Builder::new().prefix(".lavrin-").tempfile_in(folder).map_err(|error| failed(&error))?;
        let mut out = BufWriter::with_capacity(1 << 16, &mut draft);
        work(&mut out).and_then(|()| out.flush()).map_err(|error| failed(&error))?;
        drop(out);
        if self.mode != 0o600 {
            let mode = std::fs::Permissions::from_mode(self.mode);
            draft.as_file().set_permissions(mode).map_err(|error| failed(&error))?;
        }
        draft.as_file().sync_all().map_err(|error| failed(&error))?;
        let length = draft.as_file().metadata().map_err(|error| failed(&error))?.len();
        if self.there == Existing::Overwritten {
            draft.persist(self.path).map_err(|error| failed(&error.error))?;
            return Ok(Written { length, moved_aside: None });
        }
        let moved_aside = if self.there == Existing::MovedAside { self.move_aside()? } else { None };
        draft.persist_noclobber(self.path).map_err(|error| failed(&error.error))?;
        Ok(Written { length, moved_aside })
    }

    fn move_aside(&self) -> Result<Option<PathBuf>, CommandError> {
        if self.path.symlink_metadata().is_err() {
            return Ok(None);
        }
        let stem = self.path.file_stem().unwrap_or_default().to_string_lossy();
        let ending = self.path.extension().map(|ending| format!(".{}", ending.to_string_lossy())).unwrap_or_default();
        let aside = self.path.with_file_name(format!("{stem}.until-{}{ending}", clock::for_file_name()));
        let moved = rustix::fs::renameat_with(
            rustix::fs::CWD,
            self.path,
            rustix::fs::CWD,
            &aside,
            rustix::fs::RenameFlags::NOREPLACE,
        );
        moved.map_err(|errno| CommandError::file(self.path, "move aside", &errno.into()))?;
        Ok(Some(aside))
    }
}
