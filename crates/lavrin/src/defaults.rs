//! Defaults for options: what the register says, and then what the user's own file says.

use crate::error::CommandError;
use crate::paths;
use lavrin_fleet::register::{Defaults, Register, read_defaults};
use lavrin_keys::text::shell_word;
use std::path::PathBuf;

/// Bytes of the file that are read.
const BYTES_MAX: u64 = 64 << 10;

/// What holds where an option is not typed.
pub fn of(register: Option<&Register>) -> Result<Defaults, CommandError> {
    let of_register = register.map(|register| register.defaults.clone()).unwrap_or_default();
    Ok(of_register.or(of_user()?))
}

/// `$XDG_CONFIG_HOME/lavrin/defaults.toml`, else `~/.config/lavrin/defaults.toml`.
fn path() -> Option<PathBuf> {
    let xdg = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
    Some(xdg.or_else(|| Some(paths::home()?.join(".config")))?.join("lavrin/defaults.toml"))
}

fn of_user() -> Result<Defaults, CommandError> {
    let Some(path) = path() else { return Ok(Defaults::default()) };
    let size = match std::fs::metadata(&path) {
        Ok(found) => found.len(),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Defaults::default()),
        Err(error) => return Err(CommandError::file(&path, "read", &error)),
    };
    if size > BYTES_MAX {
        return Err(CommandError::usage(format!("{} is larger than {BYTES_MAX} bytes", paths::shown(&path))));
    }
    let text = std::fs::read_to_string(&path).map_err(|error| CommandError::file(&path, "read", &error))?;
    read_defaults(&text).map_err(|(fault, place)| {
        let line = text.get(..place.start).unwrap_or_default().matches('\n').count() + 1;
        let shown = paths::shown(&path);
        CommandError::usage(format!("{shown} line {line}: {}", crate::wording::register::message(&fault)))
            .hint(format!("sed -n {line}p {}", shell_word(&shown)))
    })
}
