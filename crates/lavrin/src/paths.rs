//! Where things lie on this machine: the user's home, a path with `~` in front, the state folder.

use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

/// The user's home. It is asked for with each path that is shown.
pub fn home() -> Option<&'static Path> {
    static HOME: OnceLock<Option<PathBuf>> = OnceLock::new();
    let asked = || std::env::var_os("HOME").filter(|home| !home.is_empty()).map(PathBuf::from);
    HOME.get_or_init(asked).as_deref()
}

/// A path as the user typed it, with a leading `~` or `~/` replaced: a shell does not do that behind `=` or in quotes.
pub fn typed(text: &str) -> Result<PathBuf, std::convert::Infallible> {
    let path = match (text.strip_prefix('~'), home()) {
        (Some(""), Some(home)) => home.to_owned(),
        (Some(rest), Some(home)) if rest.starts_with('/') => home.join(rest.trim_start_matches('/')),
        _ => PathBuf::from(text),
    };
    Ok(path)
}

/// The path as a person would write it: with `~` for the home.
pub fn shown(path: &Path) -> String {
    let text = match home().and_then(|home| path.strip_prefix(home).ok().map(Path::to_owned)) {
        Some(rest) if rest.as_os_str().is_empty() => "~".into(),
        Some(rest) => OsString::from("~/").into_string().unwrap_or_default() + &rest.to_string_lossy(),
        None => path.to_string_lossy().into_owned(),
    };
    lavrin_keys::text::printable(text.as_bytes())
}

/// The state folder: `$XDG_STATE_HOME/lavrin`, else `~/.local/state/lavrin`.
pub fn state() -> Option<PathBuf> {
    let xdg = std::env::var_os("XDG_STATE_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
    Some(xdg.or_else(|| Some(home()?.join(".local/state")))?.join("lavrin"))
}
