//! What the terminal can show: how wide it is, and whether its locale has more than ASCII.

use std::io::IsTerminal as _;
use std::sync::LazyLock;

/// The narrowest terminal that tables are fitted to.
const WIDTH_MIN: usize = 80;

static WIDTH: LazyLock<Option<usize>> = LazyLock::new(|| {
    let stdout = std::io::stdout();
    let size = rustix::termios::tcgetwinsize(&stdout).ok().filter(|_| stdout.is_terminal())?;
    Some(usize::from(size.ws_col)).filter(|width| *width > 0).map(|width| width.max(WIDTH_MIN))
});

static UNICODE: LazyLock<bool> =
    LazyLock::new(|| !std::io::stdout().is_terminal() || is_unicode_locale(&|name| std::env::var(name).ok()));

/// Columns of the terminal that results are shown on; none where they go elsewhere, and nothing is cut.
pub fn width() -> Option<usize> {
    *WIDTH
}

/// Columns for what has to be fitted somewhere.
pub fn width_or_usual() -> usize {
    width().unwrap_or(WIDTH_MIN)
}

/// Whether more than ASCII can be shown.
pub fn is_unicode() -> bool {
    *UNICODE
}

/// The first of these that is set and not empty decides, as for every program (POSIX, section 8.2).
fn is_unicode_locale(variable: &dyn Fn(&str) -> Option<String>) -> bool {
    let locale =
        ["LC_ALL", "LC_CTYPE", "LANG"].into_iter().find_map(|name| variable(name).filter(|value| !value.is_empty()));
    locale.is_some_and(|locale| {
        let locale = locale.to_ascii_lowercase();
        locale.contains("utf-8") || locale.contains("utf8")
    })
}

#[cfg(test)]
mod tests {
    use super::is_unicode_locale;

    #[test]
    fn the_locale_decides_what_can_be_shown() {
        let of = |set: &'static [(&'static str, &'static str)]| {
            is_unicode_locale(&|name| {
                set.iter().find(|(other, _)| *other == name).map(|(_, value)| (*value).to_owned())
            })
        };
        assert!(of(&[("LANG", "nb_NO.UTF-8")]) && of(&[("LC_ALL", ""), ("LC_CTYPE", "C.utf8")]));
        assert!(!of(&[("LC_ALL", "C"), ("LANG", "nb_NO.UTF-8")]) && !of(&[]));
    }
}
