//! The register's folder: its files in, and a changed file out in one step.

use crate::StoreFault;
use lavrin_core::register::SourceFile;
use std::fs::{File, OpenOptions};
use std::io::{ErrorKind, Read as _, Write as _};
use std::path::{Path, PathBuf};

/// The file that makes a folder a register.
pub const MAIN_FILE: &str = "lavrin.toml";

/// Longest file that is read, in bytes: 100,000 grants take about 15 MB.
const FILE_BYTES_MAX: u64 = 256 << 20;

/// Most files of one kind.
const FILES_MAX: usize = 200_000;

/// A register on disk.
#[derive(Debug, Clone)]
pub struct RegisterFolder {
    path: PathBuf,
}

impl RegisterFolder {
    /// This folder, if it holds a register.
    #[must_use]
    pub fn at(path: &Path) -> Option<Self> {
        path.join(MAIN_FILE).is_file().then(|| Self { path: path.to_owned() })
    }

    /// The nearest folder from here up that holds one.
    #[must_use]
    pub fn nearest(from: &Path) -> Option<Self> {
        from.ancestors().find_map(Self::at)
    }

    /// The folder.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Every file of it, in a fixed order.
    ///
    /// # Errors
    /// [`StoreFault`] where one of them cannot be read.
    pub fn load(&self) -> Result<Vec<SourceFile>, StoreFault> {
        let mut files = Vec::new();
        self.take(MAIN_FILE.to_owned(), &mut files)?;
        for folder in ["people", "hosts"] {
            if folder == "hosts" {
                self.take("hosts.toml".to_owned(), &mut files)?;
            }
            for name in self.names(folder)? {
                self.take(format!("{folder}/{name}"), &mut files)?;
            }
        }
        self.take("access.toml".to_owned(), &mut files)?;
        self.take("owed.toml".to_owned(), &mut files)?;
        Ok(files)
    }

    fn names(&self, folder: &str) -> Result<Vec<String>, StoreFault> {
        let path = self.path.join(folder);
        let entries = match std::fs::read_dir(&path) {
            Ok(entries) => entries,
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(Vec::new()),
            Err(source) => return Err(StoreFault { path, source }),
        };
        let names = entries.take(FILES_MAX).filter_map(|entry| entry.ok()?.file_name().into_string().ok());
        let mut names: Vec<String> =
            names.filter(|name| name.strip_suffix(".toml").is_some() && !name.starts_with('.')).collect();
        names.sort_unstable();
        Ok(names)
    }

    /// Reads a file, if it is there.
    fn take(&self, path: String, files: &mut Vec<SourceFile>) -> Result<(), StoreFault> {
        let full = self.path.join(&path);
        let fault = |source| StoreFault { path: full.clone(), source };
        let file = match File::open(&full) {
            Ok(file) => file,
            Err(error) if error.kind() == ErrorKind::NotFound => return Ok(()),
            Err(source) => return Err(fault(source)),
        };
        let mut text = String::new();
        let length = file.take(FILE_BYTES_MAX + 1).read_to_string(&mut text).map_err(fault)?;
        if length as u64 > FILE_BYTES_MAX {
            return Err(fault(std::io::Error::other("the file is longer than a register's file can be")));
        }
        files.push(SourceFile { path, text });
        Ok(())
    }

    /// Puts a file in place of the one that was read, or where there was none, in one step.
    ///
    /// # Errors
    /// [`StoreFault`]; also where the file is not any more what was read.
    pub fn save(&self, path: &str, old: Option<&str>, new: &str) -> Result<(), StoreFault> {
        let full = self.path.join(path);
        let fault = |source| StoreFault { path: full.clone(), source };
        let now = match std::fs::read_to_string(&full) {
            Ok(text) => Some(text),
            Err(error) if error.kind() == ErrorKind::NotFound => None,
            Err(source) => return Err(fault(source)),
        };
        if now.as_deref() != old {
            return Err(fault(std::io::Error::other("somebody else has changed it; nothing was written")));
        }
        let folder = full.parent().unwrap_or(&self.path);
        std::fs::create_dir_all(folder).map_err(fault)?;
        let temporary = folder.join(format!(".lavrin-{}.new", std::process::id()));
        // What a killed run left behind goes; a link that somebody put there is never written through.
        let _ = std::fs::remove_file(&temporary);
        let write = || {
            let mut file = OpenOptions::new().write(true).create_new(true).open(&temporary)?;
            file.write_all(new.as_bytes())?;
            if let Ok(before) = std::fs::metadata(&full) {
                file.set_permissions(before.permissions())?;
            }
            file.sync_all()?;
            std::fs::rename(&temporary, &full)?;
            File::open(folder)?.sync_all()
        };
        write().map_err(|source| {
            let _ = std::fs::remove_file(&temporary);
            fault(source)
        })
    }

    /// Begins a register in a folder that holds none.
    ///
    /// # Errors
    /// [`StoreFault`]; also where one of the files is there already.
    pub fn begin(path: &Path, files: &[SourceFile]) -> Result<Self, StoreFault> {
        std::fs::create_dir_all(path).map_err(|source| StoreFault { path: path.to_owned(), source })?;
        let folder = Self { path: path.to_owned() };
        if let Some(there) = files.iter().map(|file| path.join(&file.path)).find(|file| file.exists()) {
            let source = std::io::Error::new(ErrorKind::AlreadyExists, "it is there already; nothing was written");
            return Err(StoreFault { path: there, source });
        }
        for file in files {
            folder.save(&file.path, None, &file.text)?;
        }
        Ok(folder)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(path: &str, text: &str) -> SourceFile {
        SourceFile { path: path.to_owned(), text: text.to_owned() }
    }

    #[test]
    fn a_register_is_begun_found_and_read_in_a_fixed_order() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("register");
        let files = [file("lavrin.toml", "name = \"x\"\n"), file("people/sten.toml", ""), file("people/edda.toml", "")];
        RegisterFolder::begin(&path, &files).unwrap();
        assert!(RegisterFolder::begin(&path, &files).is_err());
        let found = RegisterFolder::nearest(&path.join("people")).unwrap();
        let read: Vec<String> = found.load().unwrap().into_iter().map(|file| file.path).collect();
        assert_eq!(read, ["lavrin.toml", "people/edda.toml", "people/sten.toml"]);
        assert!(RegisterFolder::at(folder.path()).is_none());
    }

    #[test]
    fn what_somebody_else_changed_is_not_overwritten() {
        let folder = tempfile::tempdir().unwrap();
        let register = RegisterFolder::begin(folder.path(), &[file("lavrin.toml", "one")]).unwrap();
        register.save("lavrin.toml", Some("one"), "two").unwrap();
        let fault = register.save("lavrin.toml", Some("one"), "three").unwrap_err();
        assert!(fault.to_string().contains("somebody else"), "{fault}");
        assert_eq!(std::fs::read_to_string(folder.path().join("lavrin.toml")).unwrap(), "two");
        assert!(register.save("access.toml", Some("x"), "y").is_err());
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 1);
    }
}
