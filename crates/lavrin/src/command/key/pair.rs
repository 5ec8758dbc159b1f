//! The two files of a key pair: written with their modes from the first byte, never over something that is there.

use crate::clock;
use crate::error::CommandError;
use crate::exit::Exit;
use crate::paths;
use crate::wording;
use lavrin_keys::key::container::PieceKind;
use lavrin_keys::pieces::read;
use lavrin_keys::text::shell_word;
use lavrin_work::change::run_name;
use rustix::fs::{Mode, OFlags, RenameFlags};
use rustix::io::Errno;
use std::fs::File;
use std::io::Write as _;
use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

const PRIVATE_MODE: u32 = 0o600;
const PUBLIC_MODE: u32 = 0o644;
const FOLDER_MODE: u32 = 0o700;

/// Where a pair lies.
pub struct Pair {
    folder: PathBuf,
    /// The private file.
    pub private: PathBuf,
    /// The public file.
    pub public: PathBuf,
}

impl Pair {
    /// The paths of a pair; its folder is made, for its owner alone, if it is missing.
    pub fn new(folder: &Path, name: &str) -> Result<Self, CommandError> {
        if !folder.exists() {
            let made = std::fs::DirBuilder::new().recursive(true).mode(FOLDER_MODE).create(folder);
            made.map_err(|error| CommandError::file(folder, "make the folder", &error))?;
            std::fs::set_permissions(folder, std::fs::Permissions::from_mode(FOLDER_MODE))
                .map_err(|error| CommandError::file(folder, "set the mode of", &error))?;
        }
        Ok(Self { folder: folder.to_owned(), private: folder.join(name), public: folder.join(format!("{name}.pub")) })
    }

    /// Says what is there already, with its fingerprint.
    pub fn check_free(&self, replace: bool) -> Result<(), CommandError> {
        let there = [&self.private, &self.public].into_iter().find(|path| path.symlink_metadata().is_ok());
        match there {
            Some(path) if !replace => Err(taken(path)),
            _ => Ok(()),
        }
    }

    /// Whether others may write in the folder, and so take the pair away or put another one there.
    pub fn is_open_to_others(&self) -> bool {
        let mode = std::fs::metadata(&self.folder).map_or(0, |meta| meta.permissions().mode());
        mode & 0o022 != 0 && mode & 0o1000 == 0
    }

    /// Writes both files and gives the paths under which old ones were kept.
    pub fn write(&self, private: &str, public: &str, replace: bool) -> Result<Vec<PathBuf>, CommandError> {
        let mut moved = Vec::new();
        let new_private = Draft::write(&self.folder, &self.private, private.as_bytes(), PRIVATE_MODE)?;
        let new_public = Draft::write(&self.folder, &self.public, public.as_bytes(), PUBLIC_MODE)?;
        if replace {
            for path in [&self.private, &self.public] {
                moved.extend(move_aside(path)?);
            }
        }
        new_private.put(&self.private)?;
        new_public.put(&self.public)?;
        let flushed = File::open(&self.folder).and_then(|folder| folder.sync_all());
        flushed.map_err(|error| CommandError::file(&self.folder, "flush", &error))?;
        Ok(moved)
    }
}

/// Puts one file into place: never over something that is there, unless it is to be moved aside first.
pub fn put_file(target: &Path, bytes: &[u8], private: bool, replace: bool) -> Result<Option<PathBuf>, CommandError> {
    if target.symlink_metadata().is_ok() && !replace {
        return Err(taken(target));
    }
    let folder = target.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let draft = Draft::write(folder, target, bytes, if private { PRIVATE_MODE } else { PUBLIC_MODE })?;
    let moved = if replace { move_aside(target)? } else { None };
    draft.put(target)?;
    let flushed = File::open(folder).and_then(|folder| folder.sync_all());
    flushed.map_err(|error| CommandError::file(folder, "flush", &error))?;
    Ok(moved)
}

/// A file that is whole and on disk, under a temporary name; it is removed unless it is put into place.
struct Draft {
    path: PathBuf,
}

impl Draft {
    fn write(folder: &Path, target: &Path, bytes: &[u8], mode: u32) -> Result<Self, CommandError> {
        let name = target.file_name().unwrap_or_default().to_string_lossy();
        // Random: what a run that was killed left behind is in nobody's way, and nobody can foretell it.
        let path = folder.join(format!(".lavrin-{}-{name}", run_name("draft")));
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let open = rustix::fs::open(&path, flags, Mode::from_raw_mode(PRIVATE_MODE));
        let fail = |error: std::io::Error| CommandError::file(target, "write", &error);
        let file = open.map_err(|errno| fail(errno.into()))?;
        let draft = Self { path };
        rustix::fs::fchmod(&file, Mode::from_raw_mode(mode)).map_err(|errno| fail(errno.into()))?;
        let held = rustix::fs::fstat(&file).map_err(|errno| fail(errno.into()))?.st_mode & 0o7777;
        if held != mode {
            return Err(mode_did_not_hold(target, held, mode));
        }
        let mut file = File::from(file);
        file.write_all(bytes).and_then(|()| file.sync_all()).map_err(fail)?;
        Ok(draft)
    }

    fn put(self, target: &Path) -> Result<(), CommandError> {
        move_to_free(&self.path, target).map_err(|errno| {
            if errno == Errno::EXIST { taken(target) } else { CommandError::file(target, "write", &errno.into()) }
        })
    }
}

/// Moves a file to a name that is free; what is there already is never replaced.
fn move_to_free(from: &Path, to: &Path) -> Result<(), Errno> {
    let here = rustix::fs::CWD;
    match rustix::fs::renameat_with(here, from, here, to, RenameFlags::NOREPLACE) {
        // File systems without this kind of rename have links that do not replace either.
        Err(Errno::INVAL | Errno::NOSYS) => {
            rustix::fs::link(from, to)?;
            rustix::fs::unlink(from)
        }
        other => other,
    }
}

impl Drop for Draft {
    fn drop(&mut self) {
        // Gone already where it was put into place.
        let _ = std::fs::remove_file(&self.path);
    }
}

fn mode_did_not_hold(path: &Path, held: u32, wanted: u32) -> CommandError {
    CommandError::with(
        Exit::Stopped,
        format!(
            "the file system does not keep modes: {} would have mode {held:04o} instead of {wanted:04o}",
            paths::shown(path)
        ),
    )
    .because("no key was written")
    .again("in a folder on a local Linux file system", "--folder DIR")
}

fn taken(path: &Path) -> CommandError {
    let refused = CommandError::usage(format!("{} is there already and is not overwritten", paths::shown(path)));
    let refused = match what_is_there(path) {
        Some(what) => refused.because(what),
        None => refused,
    };
    refused
        .hint(format!("lavrin key inspect {}", shell_word(&paths::shown(path))))
        .again("another name", "--name NAME")
        .again("to move the old pair aside", "--replace")
}

fn what_is_there(path: &Path) -> Option<String> {
    let bytes = zeroize::Zeroizing::new(std::fs::read(path).ok()?);
    Some(match read(&bytes).into_iter().next()?.kind {
        PieceKind::Private(closed) => match closed.public() {
            Some(key) => format!("it holds the private key {}", key.fingerprint()),
            None => "it holds a protected private key".to_owned(),
        },

        PieceKind::Public { key, comment, .. } => {
            format!("it holds the public key {} {}", key.fingerprint(), crate::wording::comment(&comment))
        }
        PieceKind::Certificate { certificate, .. } => {
            format!("it holds a certificate of the key {}", certificate.key.fingerprint())
        }
        PieceKind::Rejected(fault) => format!("what it holds: {}", wording::key::fault(&fault)),
    })
}

/// Moves a file to a dated name that is free.
fn move_aside(path: &Path) -> Result<Option<PathBuf>, CommandError> {
    if path.symlink_metadata().is_err() {
        return Ok(None);
    }
    let name = path.file_name().unwrap_or_default().to_string_lossy();
    let (stem, ending) = name.strip_suffix(".pub").map_or((name.as_ref(), ""), |stem| (stem, ".pub"));
    let stamp = clock::for_file_name();
    for number in 0..100 {
        let again = if number == 0 { String::new() } else { format!("-{number}") };
        let aside = path.with_file_name(format!("{stem}.until-{stamp}{again}{ending}"));
        match move_to_free(path, &aside) {
            Ok(()) => return Ok(Some(aside)),
            Err(Errno::EXIST) => {}
            Err(errno) => return Err(CommandError::file(path, "move aside", &errno.into())),
        }
    }
    Err(CommandError::usage(format!("no free name was found to move {} to", paths::shown(path))))
}
