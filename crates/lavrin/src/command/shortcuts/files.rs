//! The files of the shortcuts, and the one line in the client's own configuration that reads them.

use super::blocks::{MARK, quoted};
use crate::client_config::statement;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::out_file::OutFile;
use crate::paths;
use crate::ui::Ui;
use lavrin_keys::text::shell_word;
use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

/// Longest configuration of a client that is changed, in bytes.
const CONFIG_BYTES_MAX: u64 = 1 << 20;

/// Where the files of one name lie.
pub struct ShortcutFiles {
    folder: PathBuf,
    /// The blocks.
    pub blocks: PathBuf,
    /// The keys of the hosts.
    pub known_hosts: PathBuf,
}

impl ShortcutFiles {
    pub fn of(folder: &Path, name: &str) -> Self {
        let folder = std::path::absolute(folder).unwrap_or_else(|_| folder.to_owned());
        let at = |ending: &str| folder.join(format!("{name}.{ending}"));
        Self { blocks: at("conf"), known_hosts: at("known_hosts"), folder }
    }

    /// Writes both, where what is there is their own.
    pub fn write(&self, blocks: &str, known_hosts: &str) -> Result<(), CommandError> {
        [&self.blocks, &self.known_hosts].into_iter().try_for_each(|path| is_own(path).map(drop))?;
        if !self.folder.exists() {
            let made = std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&self.folder);
            made.map_err(|error| CommandError::file(&self.folder, "make the folder", &error))?;
        }
        OutFile::own(&self.known_hosts).put(known_hosts.as_bytes())?;
        OutFile::own(&self.blocks).put(blocks.as_bytes())?;
        Ok(())
    }

    /// Removes both, and says whether there was one.
    pub fn remove(&self) -> Result<bool, CommandError> {
        let mut any = false;
        for path in [&self.blocks, &self.known_hosts] {
            if is_own(path)? {
                std::fs::remove_file(path).map_err(|error| CommandError::file(path, "remove", &error))?;
                any = true;
            }
        }
        // Only an empty one goes.
        let _ = std::fs::remove_dir(&self.folder);
        Ok(any)
    }

    /// Whether other shortcuts are there.
    pub fn has_others(&self) -> bool {
        let entries = std::fs::read_dir(&self.folder).into_iter().flatten().flatten();
        entries.map(|entry| entry.path()).any(|path| path.extension().is_some_and(|ending| ending == "conf"))
    }

    /// The line by which a client reads all of them.
    pub fn include(&self) -> String {
        format!("Include {}", quoted(&self.folder.join("*.conf").to_string_lossy()))
    }
}

/// Whether a file is there, which has to be one that this command wrote.
fn is_own(path: &Path) -> Result<bool, CommandError> {
    if path.symlink_metadata().is_err() {
        return Ok(false);
    }
    let begins = std::fs::read(path).is_ok_and(|bytes| bytes.starts_with(MARK.as_bytes()));
    if begins {
        return Ok(true);
    }
    let shown = paths::shown(path);
    Err(CommandError::with(Exit::Stopped, format!("{shown} was not written by this command and is left as it is"))
        .hint(format!("ls -l {}", shell_word(&shown)))
        .again("another folder", "--into DIR"))
}

/// The client's own configuration.
pub struct ClientFile {
    /// Where it is, behind links: a link stays one.
    path: PathBuf,
    /// What is in it.
    text: String,
    mode: u32,
}

impl ClientFile {
    pub fn read(path: &Path) -> Result<Self, CommandError> {
        let path = path.canonicalize().unwrap_or_else(|_| path.to_owned());
        let failed = |error: &std::io::Error| CommandError::file(&path, "read", error);
        let meta = match std::fs::metadata(&path) {
            Ok(meta) => meta,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                return Ok(Self { path, text: String::new(), mode: 0o600 });
            }
            Err(error) => return Err(failed(&error)),
        };
        if !meta.is_file() || meta.len() > CONFIG_BYTES_MAX {
            let said = format!("{} is no file of up to {CONFIG_BYTES_MAX} bytes", paths::shown(&path));
            return Err(CommandError::usage(said).again("", "--config FILE"));
        }
        let bytes = std::fs::read(&path).map_err(|error| failed(&error))?;
        let text = String::from_utf8(bytes).map_err(|_| {
            CommandError::usage(format!("{} is no text in UTF-8 and is left as it is", paths::shown(&path)))
                .again("", "--config FILE")
        })?;
        Ok(Self { path, text, mode: meta.permissions().mode() & 0o7777 })
    }

    /// The line that is already there.
    pub fn includes(&self, line: &str) -> bool {
        self.text.lines().any(|own| is_same(own, line))
    }

    /// Puts the line first, asked and shown.
    pub fn add(&self, line: &str, ui: &Ui, yes: bool) -> Result<bool, CommandError> {
        let end = if self.text.contains("\r\n") { "\r\n" } else { "\n" };
        self.change(&format!("{line}{end}{}", self.text), &format!("+ {line}"), ui, yes)
    }

    /// Takes the line out, asked and shown.
    pub fn take_out(&self, line: &str, ui: &Ui, yes: bool) -> Result<bool, CommandError> {
        let kept: String = self.text.split_inclusive('\n').filter(|own| !is_same(own, line)).collect();
        self.change(&kept, &format!("- {line}"), ui, yes)
    }

    fn change(&self, new: &str, shown: &str, ui: &Ui, yes: bool) -> Result<bool, CommandError> {
        let path = paths::shown(&self.path);
        ui.show(&format!("{path}\n  {shown}"));
        if !yes && !ui.confirm("Change this line of your client's configuration?", &[("", "--yes")])? {
            return Ok(false);
        }
        let fresh = Self::read(&self.path)?;
        if fresh.text != self.text {
            let said = format!("{path} was changed meanwhile and is left as it is");
            return Err(CommandError::with(Exit::Stopped, said).again("", "--yes"));
        }
        if let Some(folder) = self.path.parent().filter(|folder| !folder.exists()) {
            let made = std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder);
            made.map_err(|error| CommandError::file(folder, "make the folder", &error))?;
        }
        if self.path.exists() {
            let old = free_name(&self.path)?;
            OutFile::of(&old, false)?.put(self.text.as_bytes())?;
            ui.status(&format!("as it was before: {}", paths::shown(&old)));
        }
        OutFile::own(&self.path).put(new.as_bytes())?;
        std::fs::set_permissions(&self.path, std::fs::Permissions::from_mode(self.mode))
            .map_err(|error| CommandError::file(&self.path, "set the mode of", &error))?;
        Ok(true)
    }
}

/// Whether a line of a configuration says the same as another one.
fn is_same(own: &str, line: &str) -> bool {
    matches!((statement(own), statement(line)), (Some(one), Some(other)) if one == other)
}

/// A dated name beside a file under which nothing is.
fn free_name(path: &Path) -> Result<PathBuf, CommandError> {
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let stamp = crate::clock::for_file_name();
    let names = (0..100).map(|number| if number == 0 { String::new() } else { format!("-{number}") });
    let mut free = names.map(|again| path.with_file_name(format!("{name}.until-{stamp}{again}")));
    free.find(|path| path.symlink_metadata().is_err()).ok_or_else(|| {
        CommandError::usage(format!("no free name was found for a copy of {}", paths::shown(path)))
            .hint(format!("ls -l {}", shell_word(&paths::shown(path.parent().unwrap_or(path)))))
    })
}
