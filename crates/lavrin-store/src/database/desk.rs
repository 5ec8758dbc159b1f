//! What this machine keeps of a register whose memory is elsewhere: the address to which somebody here agreed, and what waits to be
//! delivered. It lies in the user's state folder and not in the register: whatever lies there may come from a pull request.

use crate::{StoreFault, private};
use lavrin_server::survey::snapshot::hash;
use std::io::Error;
use std::os::unix::ffi::OsStrExt as _;
use std::os::unix::fs::DirBuilderExt as _;
use std::path::{Path, PathBuf};

/// Letters of a folder's name: enough that no two registers share one.
const NAME_BYTES: usize = 16;

/// The folder for the register in this one, made for its owner alone where it is not there.
pub(super) fn folder_of(register: &Path) -> Result<PathBuf, StoreFault> {
    let made = || {
        let register = std::fs::canonicalize(register)?;
        let name: String =
            hash(register.as_os_str().as_bytes())[..NAME_BYTES].iter().map(|byte| format!("{byte:02x}")).collect();
        let folder = state(&register)?.join("registers").join(name);
        std::fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder)?;
        private::folder(&folder)?;
        Ok(folder)
    };
    made().map_err(|source: Error| StoreFault { path: register.to_owned(), source })
}

/// `$XDG_STATE_HOME/lavrin`, else `~/.local/state/lavrin`.
fn state(register: &Path) -> Result<PathBuf, Error> {
    if cfg!(test) {
        return Ok(register.join("state"));
    }
    let folder = |name: &str| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    let state = folder("XDG_STATE_HOME").or_else(|| Some(folder("HOME")?.join(".local/state")));
    state
        .map(|state| state.join("lavrin"))
        .ok_or_else(|| Error::other("neither XDG_STATE_HOME nor HOME says where it is kept"))
}
