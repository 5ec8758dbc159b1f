//! Backups by content: a file that is backed up twice is kept once.

use crate::{State, StoreFault, copy, private};
use aws_lc_rs::digest;
use std::fmt::Write as _;
use std::fs::{File, OpenOptions};
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::PathBuf;

impl State {
    /// Keeps these bytes and gives the name under which they are found again: their SHA-256 in hexadecimal.
    ///
    /// # Errors
    /// [`StoreFault`] where they could not be written down safely; nothing should be changed then.
    pub fn back_up(&self, bytes: &[u8]) -> Result<String, StoreFault> {
        let name = name_of(bytes);
        let folder = self.folder_for("backups")?;
        let path = folder.join(&name);
        copy::keep(&self.copies(), &name, bytes).map_err(Self::fault(&path))?;
        if private::read(&path).map_err(Self::fault(&path))?.is_some_and(|kept| kept == bytes) {
            return Ok(name);
        }
        let temporary = folder.join(format!(".{name}.{}", std::process::id()));
        let write = || {
            let mut file = OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&temporary)?;
            file.write_all(bytes)?;
            file.sync_all()?;
            std::fs::rename(&temporary, &path)?;
            File::open(&folder)?.sync_all()
        };
        write().map_err(Self::fault(&path))?;
        Ok(name)
    }

    pub(crate) fn copies(&self) -> PathBuf {
        self.folder().join(copy::FOLDER)
    }

    /// Where a backup lies.
    #[must_use]
    pub fn backup_path(&self, name: &str) -> PathBuf {
        self.folder().join("backups").join(name)
    }
}

/// The name of a content: its SHA-256 in hexadecimal.
pub(crate) fn name_of(bytes: &[u8]) -> String {
    digest::digest(&digest::SHA256, bytes).as_ref().iter().fold(String::new(), |mut name, byte| {
        let _ = write!(name, "{byte:02x}");
        name
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt as _;

    #[test]
    fn a_backup_is_kept_once_and_for_its_owner_alone() {
        let folder = tempfile::tempdir().unwrap();
        let state = State::at(&folder.path().join("state"));
        let name = state.back_up(b"old\n").unwrap();
        assert_eq!(state.back_up(b"old\n").unwrap(), name);
        let path = state.backup_path(&name);
        assert_eq!(std::fs::read(&path).unwrap(), b"old\n");
        assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        assert_eq!(std::fs::read_dir(path.parent().unwrap()).unwrap().count(), 1);
        let kept = || crate::Keeper::kept(&state, &name);
        std::fs::write(&path, b"damaged").unwrap();
        assert_eq!(kept().unwrap().unwrap(), b"old\n", "the second copy is whole");
        std::fs::remove_file(&path).unwrap();
        assert_eq!(kept().unwrap().unwrap(), b"old\n");
        std::fs::write(&path, b"damaged").unwrap();
        std::fs::write(state.copies().join(&name), b"damaged too").unwrap();
        let fault = kept().unwrap_err();
        assert!(fault.to_string().contains("not the content that was kept"), "{fault}");
        state.back_up(b"old\n").unwrap();
        assert_eq!(std::fs::read(&path).unwrap(), b"old\n");
    }

    #[test]
    fn a_state_folder_that_cannot_be_made_is_a_fault_with_its_path() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("a file");
        std::fs::write(&file, "in the way").unwrap();
        let state = State::at(&file.join("state"));
        let fault = state.back_up(b"old").unwrap_err();
        assert!(fault.path.starts_with(&file), "{fault}");
        let event = crate::Event::Outcome { outcome: crate::ChangeOutcome::Unknown, detail: String::new() };
        let fault = state.write_down(&crate::JournalEntry::new("1", "2026-11-23T08:00:00Z", event));
        assert!(fault.is_err());
        assert_eq!(std::fs::read_to_string(&file).unwrap(), "in the way");
    }

    #[test]
    fn different_contents_have_different_names() {
        let folder = tempfile::tempdir().unwrap();
        let state = State::at(folder.path());
        let names = [state.back_up(b"").unwrap(), state.back_up(b"a").unwrap(), state.back_up(b"a\n").unwrap()];
        assert!(names[0] != names[1] && names[1] != names[2]);
        assert_eq!(std::fs::read(state.backup_path(&names[2])).unwrap(), b"a\n");
    }
}
