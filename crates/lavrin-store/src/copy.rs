//! A second copy of each backup, in a folder of its own and with every bit turned over: what damages the first, or alters it by
//! what it says, leaves this one whole. Which of the two is the content that was kept, its hash tells.

use crate::private;
use std::fs::OpenOptions;
use std::io::{Error, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _};
use std::path::Path;

/// The folder, beside the first copies.
pub(crate) const FOLDER: &str = "copies";

/// Keeps a copy, unless it is there already.
pub(crate) fn keep(folder: &Path, name: &str, bytes: &[u8]) -> Result<(), Error> {
    if private::folder(folder)?.is_none() {
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    }
    if read(folder, name)?.is_some_and(|kept| kept == bytes) {
        return Ok(());
    }
    let temporary = folder.join(format!(".{name}.{}", std::process::id()));
    let _ = std::fs::remove_file(&temporary);
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&temporary)?;
    file.write_all(&turned_over(bytes))?;
    std::fs::rename(&temporary, folder.join(name))
}

/// What was kept; none where there is no copy.
pub(crate) fn read(folder: &Path, name: &str) -> Result<Option<Vec<u8>>, Error> {
    Ok(private::read(&folder.join(name))?.map(|bytes| turned_over(&bytes)))
}

fn turned_over(bytes: &[u8]) -> Vec<u8> {
    bytes.iter().map(|byte| !byte).collect()
}
