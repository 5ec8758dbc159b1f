//! The register's folder: its files in, and a changed file out in one step. What lies in it came from elsewhere, by version
//! control: no link in it is followed, and nothing but regular files and folders is opened.

mod commit;
mod file;
mod trust;

use crate::StoreFault;
pub use commit::{commit, has_commit};
use file::{lock, not_what_belongs_there, open_file, write_file};
use lavrin_fleet::register::PROFILES;
use lavrin_fleet::register::SourceFile;
use lavrin_fleet::register::kept::FOLDER as KEPT;
use rayon::prelude::*;
use rustix::fd::OwnedFd;
use rustix::fs::{
    AtFlags, CWD, Dir, FileType, Mode, OFlags, RenameFlags, fstat, mkdirat, openat, renameat_with, unlinkat,
};
use rustix::io::Errno;
use std::fs::File;
use std::io::{Error, ErrorKind, Read as _, Write as _};
use std::path::{Path, PathBuf};
pub use trust::Trust;

/// The file that makes a folder a register.
pub const MAIN_FILE: &str = "lavrin.toml";

/// Longest file that is read, in bytes: 100,000 grants take about 15 MB.
const FILE_BYTES_MAX: u64 = 256 << 20;

/// Most files in one folder.
const FILES_MAX: usize = if cfg!(test) { 64 } else { 200_000 };

/// A register on disk.
#[derive(Debug, Clone)]
pub struct RegisterFolder {
    path: PathBuf,
    /// Whom everything in it has to belong to; without one it is only read, as somebody else's word.
    trust: Option<Trust>,
}

impl RegisterFolder {
    /// This folder, if it holds a register.
    #[must_use]
    pub fn at(path: &Path) -> Option<Self> {
        path.join(MAIN_FILE).symlink_metadata().is_ok().then(|| Self { path: path.to_owned(), trust: None })
    }

    /// The nearest folder from here up that holds one.
    #[must_use]
    pub fn nearest(from: &Path) -> Option<Self> {
        from.ancestors().find_map(Self::at)
    }

    /// The same, to be acted on: it belongs to the user or to root, and so does every folder on the way to it. `on_purpose`: the
    /// user has named it, so its group may share it.
    ///
    /// # Errors
    /// [`StoreFault`] with what belongs to somebody else, or may be written by others.
    pub fn trusted(self, trust: Trust, on_purpose: bool) -> Result<Self, StoreFault> {
        trust.way(&self.path).map_err(|(path, source)| StoreFault { path, source })?;
        let own = std::fs::metadata(&self.path).map_err(self.fault(""))?;
        let trust = if on_purpose { trust.shared_by_group_of((&own).into()) } else { trust };
        Ok(Self { path: self.path, trust: Some(trust) })
    }

    /// Whether a group shares it on purpose.
    #[must_use]
    pub fn is_shared(&self) -> bool {
        self.trust.as_ref().is_some_and(Trust::is_shared)
    }

    /// The folder.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Every file of it, in a fixed order.
    ///
    /// # Errors
    /// [`StoreFault`] where one of them cannot be read, or is a link or something else than a file.
    pub fn load(&self) -> Result<Vec<SourceFile>, StoreFault> {
        self.load_some(true)
    }

    /// The same without who may do what, for those who only ask whose something is: grants are most of a large register.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn load_without_grants(&self) -> Result<Vec<SourceFile>, StoreFault> {
        self.load_some(false)
    }

    fn load_some(&self, with_grants: bool) -> Result<Vec<SourceFile>, StoreFault> {
        let own = self.open_folder("")?;
        let take = |name: &str| self.take(own.as_ref(), "", name);
        // Some are many, and others long.
        let ((main, people), (hosts, grants)) = rayon::join(
            || (take(MAIN_FILE), self.take_all("people")),
            || {
                let grants = with_grants.then(|| (take("access.toml"), take("owed.toml")));
                (take("hosts.toml"), grants)
            },
        );
        let mut files = Vec::new();
        files.extend(main?);
        files.extend(people?);
        files.extend(hosts?);
        files.extend(self.take_all("hosts")?);
        files.extend(self.take_all(PROFILES)?);
        if let Some((access, owed)) = grants {
            files.extend(access?);
            files.extend(owed?);
        }
        files.extend(self.take_all(KEPT)?);
        Ok(files)
    }

    /// Every file of a folder, in the order of their names.
    fn take_all(&self, below: &str) -> Result<Vec<SourceFile>, StoreFault> {
        let folder = self.open_folder(below)?;
        let names = self.names(folder.as_ref(), below)?;
        let read = names.par_iter().map(|name| self.take(folder.as_ref(), below, name));
        // With several faults the first in this order is reported, however the cores share the work.
        read.collect::<Vec<_>>().into_iter().filter_map(Result::transpose).collect()
    }

    fn fault(&self, path: &str) -> impl Fn(Error) -> StoreFault + use<> {
        let path = self.path.join(path);
        move |source| StoreFault { path: path.clone(), source }
    }

    /// The register's folder, or one in it; none where it is not there.
    fn open_folder(&self, name: &str) -> Result<Option<OwnedFd>, StoreFault> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
        // Where the register itself lies is the user's own word; what is in it is not.
        let opened = openat(CWD, &self.path, flags, Mode::empty()).and_then(|own| {
            if name.is_empty() { Ok(own) } else { openat(&own, name, flags | OFlags::NOFOLLOW, Mode::empty()) }
        });
        match opened {
            Ok(folder) => self.belongs(&folder).map(|()| Some(folder)).map_err(self.fault(name)),
            Err(Errno::NOENT) => Ok(None),
            Err(Errno::LOOP | Errno::NOTDIR) => Err(self.fault(name)(not_what_belongs_there())),
            Err(errno) => Err(self.fault(name)(errno.into())),
        }
    }

    fn names(&self, folder: Option<&OwnedFd>, name: &str) -> Result<Vec<String>, StoreFault> {
        self.names_that(folder, name, |name| name.ends_with(".toml") && !name.starts_with('.'))
    }

    fn names_that(
        &self,
        folder: Option<&OwnedFd>,
        name: &str,
        fits: impl Fn(&str) -> bool,
    ) -> Result<Vec<String>, StoreFault> {
        let Some(folder) = folder else { return Ok(Vec::new()) };
        let fault = |errno: Errno| self.fault(name)(errno.into());
        let mut names = Vec::new();
        for (number, entry) in Dir::read_from(folder).map_err(fault)?.enumerate() {
            if number >= FILES_MAX {
                return Err(self.fault(name)(Error::other("there are more files than a register can have")));
            }
            let entry = entry.map_err(fault)?;
            let Ok(name) = entry.file_name().to_str() else { continue };
            if fits(name) {
                names.push(name.to_owned());
            }
        }
        names.sort_unstable();
        Ok(names)
    }

    /// Reads a file, if it is there.
    fn take(&self, folder: Option<&OwnedFd>, below: &str, name: &str) -> Result<Option<SourceFile>, StoreFault> {
        let path = if below.is_empty() { name.to_owned() } else { format!("{below}/{name}") };
        let text = folder.map(|folder| self.read_file(folder, name)).transpose().map_err(self.fault(&path))?.flatten();
        Ok(text.map(|text| SourceFile { path, text }))
    }

    /// The text of one file; none where it is not there.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn text(&self, path: &str) -> Result<Option<String>, StoreFault> {
        let (below, name) = path.rsplit_once('/').unwrap_or(("", path));
        let folder = self.open_folder(below)?;
        Ok(folder.map(|folder| self.read_file(&folder, name)).transpose().map_err(self.fault(path))?.flatten())
    }

    /// The names in one of its folders, whatever they end in; none where there is no such folder.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn names_in(&self, folder: &str) -> Result<Vec<String>, StoreFault> {
        self.names_that(self.open_folder(folder)?.as_ref(), folder, |name| !name.starts_with('.'))
    }

    /// Takes a file away, where it is still what was read.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn remove(&self, path: &str, old: &str) -> Result<(), StoreFault> {
        let fault = self.fault(path);
        let (below, name) = path.rsplit_once('/').unwrap_or(("", path));
        let folder = self.open_folder(below)?.ok_or_else(|| fault(ErrorKind::NotFound.into()))?;
        lock(&folder).map_err(&fault)?;
        if self.read_file(&folder, name).map_err(&fault)?.as_deref() != Some(old) {
            return Err(fault(Error::other("somebody else has changed it; nothing was removed")));
        }
        unlinkat(&folder, name, AtFlags::empty()).and_then(|()| rustix::fs::fsync(&folder)).map_err(|e| fault(e.into()))
    }

    /// Puts a file in place of the one that was read, or where there was none, in one step.
    ///
    /// # Errors
    /// [`StoreFault`]; also where the file is not any more what was read.
    pub fn save(&self, path: &str, old: Option<&str>, new: &str) -> Result<(), StoreFault> {
        let fault = self.fault(path);
        let (below, name) = path.rsplit_once('/').unwrap_or(("", path));
        let folder = match self.open_folder(below)? {
            Some(folder) => folder,
            None => self.make_folder(below)?,
        };
        lock(&folder).map_err(&fault)?;
        let now = self.read_file(&folder, name).map_err(&fault)?;
        if now.as_deref() != old {
            return Err(fault(Error::other("somebody else has changed it; nothing was written")));
        }
        let temporary = format!(".lavrin-{}.new", std::process::id());
        // What a killed run left behind goes; a link that somebody put there is never written through.
        let _ = unlinkat(&folder, &temporary, AtFlags::empty());
        write_file(&folder, &temporary, name, new).map_err(|source| {
            let _ = unlinkat(&folder, &temporary, AtFlags::empty());
            fault(source)
        })
    }

    /// Puts a text behind what is in a file, which is made where there is none, and waits until it is on disk.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn append(&self, path: &str, text: &str) -> Result<(), StoreFault> {
        let fault = self.fault(path);
        let (below, name) = path.rsplit_once('/').unwrap_or(("", path));
        let folder = match self.open_folder(below)? {
            Some(folder) => folder,
            None => self.make_folder(below)?,
        };
        let is_new = open_file(&folder, name).map_err(&fault)?.is_none();
        let flags = OFlags::WRONLY | OFlags::APPEND | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::NONBLOCK;
        let usual = Mode::RUSR | Mode::WUSR | Mode::RGRP | Mode::WGRP | Mode::ROTH | Mode::WOTH;
        let write = || {
            let mut file = File::from(openat(&folder, name, flags | OFlags::CLOEXEC, usual)?);
            if FileType::from_raw_mode(fstat(&file)?.st_mode) != FileType::RegularFile {
                return Err(not_what_belongs_there());
            }
            file.write_all(text.as_bytes())?;
            file.sync_all()?;
            if is_new { Ok(rustix::fs::fsync(&folder)?) } else { Ok(()) }
        };
        write().map_err(&fault)
    }

    /// Gives a file another name, where it is still what was read and nothing has that name.
    ///
    /// # Errors
    /// [`StoreFault`].
    pub fn rename(&self, path: &str, old: &str, new_path: &str) -> Result<(), StoreFault> {
        let fault = self.fault(path);
        let (below, name) = path.rsplit_once('/').unwrap_or(("", path));
        let (new_below, new_name) = new_path.rsplit_once('/').unwrap_or(("", new_path));
        let folder = self.open_folder(below)?.ok_or_else(|| fault(ErrorKind::NotFound.into()))?;
        lock(&folder).map_err(&fault)?;
        let new_folder = self.open_folder(new_below)?.ok_or_else(|| fault(ErrorKind::NotFound.into()))?;
        if self.read_file(&folder, name).map_err(&fault)?.as_deref() != Some(old) {
            return Err(fault(Error::other("somebody else has changed it; nothing was written")));
        }
        renameat_with(&folder, name, &new_folder, new_name, RenameFlags::NOREPLACE).map_err(|errno| fault(errno.into()))
    }

    fn make_folder(&self, name: &str) -> Result<OwnedFd, StoreFault> {
        let fault = self.fault(name);
        if name.is_empty() {
            std::fs::create_dir_all(&self.path).map_err(&fault)?;
        } else {
            let own = self.open_folder("")?.ok_or_else(|| fault(ErrorKind::NotFound.into()))?;
            let all = Mode::RWXU | Mode::RWXG | Mode::RWXO;
            match mkdirat(&own, name, all) {
                // Somebody else has made it meanwhile.
                Ok(()) | Err(Errno::EXIST) => {}
                Err(errno) => return Err(fault(errno.into())),
            }
        }
        self.open_folder(name)?.ok_or_else(|| fault(ErrorKind::NotFound.into()))
    }

    /// Begins a register in a folder that holds none.
    ///
    /// # Errors
    /// [`StoreFault`]; also where one of the files is there already.
    pub fn begin(path: &Path, files: &[SourceFile]) -> Result<Self, StoreFault> {
        std::fs::create_dir_all(path).map_err(|source| StoreFault { path: path.to_owned(), source })?;
        let folder = Self { path: path.to_owned(), trust: None };
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

impl RegisterFolder {
    /// Whether something that was opened belongs to whom it should. A sticky folder is everybody's to put something into, and
    /// what is in it is looked at by itself.
    fn belongs(&self, opened: &OwnedFd) -> Result<(), Error> {
        let Some(trust) = &self.trust else { return Ok(()) };
        let mut stat = fstat(opened)?;
        if FileType::from_raw_mode(stat.st_mode) == FileType::Directory && stat.st_mode & Mode::SVTX.as_raw_mode() != 0
        {
            stat.st_mode &= !(Mode::WGRP | Mode::WOTH).as_raw_mode();
        }
        trust.of((&stat).into())
    }

    /// The text of a regular file; none where nothing is there. Nothing that would have to be waited for is opened.
    fn read_file(&self, folder: &OwnedFd, name: &str) -> Result<Option<String>, Error> {
        let Some(file) = open_file(folder, name)? else { return Ok(None) };
        self.belongs(&file)?;
        let file = File::from(file);
        let mut text = String::with_capacity(usize::try_from(file.metadata()?.len().min(FILE_BYTES_MAX)).unwrap_or(0));
        let length = file.take(FILE_BYTES_MAX + 1).read_to_string(&mut text)?;
        if length as u64 > FILE_BYTES_MAX {
            return Err(Error::other("the file is longer than a register's file can be"));
        }
        Ok(Some(text))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn file(path: &str, text: &str) -> SourceFile {
        SourceFile { path: path.to_owned(), text: text.to_owned() }
    }

    #[test]
    fn of_two_who_write_at_once_one_wins() {
        let folder = tempfile::tempdir().unwrap();
        let register = RegisterFolder { path: folder.path().to_owned(), trust: None };
        let one_of_many = |old: Option<&str>, path: &str| {
            let wins = std::thread::scope(|scope| {
                let write = |number: usize| {
                    let register = &register;
                    move || register.save(path, old, &format!("{path} by {number}, not {old:?}")).ok().map(|()| number)
                };
                let all: Vec<_> = (0..8).map(|number| scope.spawn(write(number))).collect();
                all.into_iter().filter_map(|one| one.join().unwrap()).collect::<Vec<_>>()
            });
            assert_eq!(wins.len(), 1, "{wins:?}");
            assert_eq!(register.text(path).unwrap(), Some(format!("{path} by {}, not {old:?}", wins[0])));
        };
        for round in 0..20 {
            let path = format!("kept/{round}");
            one_of_many(None, &path);
            let old = register.text(&path).unwrap().unwrap();
            one_of_many(Some(&old), &path);
        }
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
    fn of_too_many_files_none_is_left_out_in_silence() {
        let folder = tempfile::tempdir().unwrap();
        let register = RegisterFolder::begin(folder.path(), &[file("lavrin.toml", "")]).unwrap();
        std::fs::create_dir(folder.path().join("people")).unwrap();
        let write = |number: usize| std::fs::write(folder.path().join(format!("people/p{number}.toml")), "").unwrap();
        // The folder itself and the one above it are entries too.
        (2..FILES_MAX).for_each(write);
        assert_eq!(register.load().unwrap().len(), FILES_MAX - 1);
        write(FILES_MAX);
        let fault = register.load().unwrap_err();
        assert!(fault.to_string().contains("more files than a register can have"), "{fault}");
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

    #[test]
    fn links_and_pipes_in_a_register_are_refused_and_nothing_behind_them_is_read_or_written() {
        use std::os::unix::fs::symlink;
        let folder = tempfile::tempdir().unwrap();
        let outside = folder.path().join("outside");
        std::fs::create_dir(&outside).unwrap();
        std::fs::write(outside.join("edda.toml"), "secret").unwrap();
        let path = folder.path().join("register");
        let fresh = || {
            let _ = std::fs::remove_dir_all(&path);
            RegisterFolder::begin(&path, &[file("lavrin.toml", ""), file("people/edda.toml", "")]).unwrap()
        };
        let pipe = |at: &Path| rustix::fs::mknodat(CWD, at, FileType::Fifo, Mode::RUSR, 0).unwrap();
        for lay in ["file", "folder", "main", "pipe", "folder as file"] {
            let register = fresh();
            let (people, edda) = (path.join("people"), path.join("people/edda.toml"));
            match lay {
                "file" | "pipe" => std::fs::remove_file(&edda).unwrap(),
                "main" => std::fs::remove_file(path.join("lavrin.toml")).unwrap(),
                _ => std::fs::remove_dir_all(&people).unwrap(),
            }
            match lay {
                "file" => symlink(outside.join("edda.toml"), &edda).unwrap(),
                "folder" => symlink(&outside, &people).unwrap(),
                "main" => symlink(outside.join("edda.toml"), path.join("lavrin.toml")).unwrap(),
                "pipe" => pipe(&edda),
                _ => std::fs::write(&people, "").unwrap(),
            }
            let fault = register.load().unwrap_err();
            assert!(fault.to_string().contains("it is a link, or something else"), "{lay}: {fault}");
            if lay != "main" {
                assert!(register.save("people/edda.toml", Some("secret"), "changed").is_err(), "{lay}");
            }
            assert_eq!(std::fs::read_to_string(outside.join("edda.toml")).unwrap(), "secret", "{lay}");
        }
    }
}
