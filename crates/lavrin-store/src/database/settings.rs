//! Which store a register has, and whether whoever sits here has agreed to it.

use super::{DatabaseFault, desk};
use crate::fault::StoreResult;
use crate::register::{MAIN_FILE, RegisterFolder};
use crate::shared_journal::SharedJournal;
use crate::{StoreFault, private};
use lavrin_fleet::register::{JournalPlace, SourceFile, is_store_url};
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

/// The file that holds the address to which somebody here has agreed.
const AGREED: &str = "url";

/// What a register says of its store.
pub(super) struct StoreSettings {
    /// The journal in the register, where that is asked for.
    pub shared: Option<SharedJournal>,
    /// Where a store for several machines is.
    pub url: Option<String>,
}

impl StoreSettings {
    /// Of the register in this folder. What a pull request wrote into it sends nothing anywhere: an address counts once somebody
    /// here has agreed to it.
    pub(super) fn of(register: &Path) -> StoreResult<Self> {
        let Some(folder) = RegisterFolder::at(register) else { return Ok(Self { shared: None, url: None }) };
        let text = folder.text(MAIN_FILE)?.unwrap_or_default();
        let main = lavrin_fleet::register::read(&[SourceFile { path: MAIN_FILE.to_owned(), text }]);
        let is_shared = main.register.journal == JournalPlace::Register;
        let url = main.register.store_url;
        if let Some(url) = &url {
            check_address(url)?;
            let agreed = agreed(register)?;
            if agreed.as_ref() != Some(url) {
                return Err(DatabaseFault::Unconfirmed { url: url.clone(), before: agreed });
            }
        }
        Ok(Self { shared: if is_shared { SharedJournal::at(register) } else { None }, url })
    }
}

/// An address with a password in it is used by nobody, and not shown either.
pub(super) fn check_address(url: &str) -> StoreResult<()> {
    if is_store_url(url) {
        return Ok(());
    }
    let said = "it has to be postgresql://NAME@HOST/DATABASE, without a password (~/.pgpass is for those)".to_owned();
    let url = match url.rsplit_once('@') {
        Some((_, place)) => format!("…@{}", place.split('?').next().unwrap_or_default()),
        None => url.split('?').next().unwrap_or_default().to_owned(),
    };
    Err(DatabaseFault::Address { url, said })
}

/// The address to which somebody here has agreed.
pub(super) fn agreed(register: &Path) -> StoreResult<Option<String>> {
    let path = desk::folder_of(register)?.join(AGREED);
    let bytes = private::read(&path).map_err(|source| StoreFault { path, source })?;
    Ok(bytes.map(|bytes| String::from_utf8_lossy(&bytes).trim_end().to_owned()))
}

/// Agrees to an address on this machine; without one the store is the file on this machine again.
pub(super) fn agree(register: &Path, url: Option<&str>) -> StoreResult<()> {
    let folder = desk::folder_of(register)?;
    let path = folder.join(AGREED);
    let write = || {
        let Some(url) = url else {
            return match std::fs::remove_file(&path) {
                Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
                _ => Ok(()),
            };
        };
        let new = folder.join(format!(".{AGREED}.{}", std::process::id()));
        let _ = std::fs::remove_file(&new);
        let mut file = std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&new)?;
        file.write_all(format!("{url}\n").as_bytes())?;
        file.sync_all()?;
        std::fs::rename(&new, &path)
    };
    write().map_err(|source| StoreFault { path: path.clone(), source }.into())
}
