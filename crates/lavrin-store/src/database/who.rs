//! Who works here, for others who share the store.

use std::env::var;

/// As `edda@desk`.
pub(super) fn own_name() -> String {
    let user = ["SUDO_USER", "USER", "LOGNAME"].iter().find_map(|name| var(name).ok().filter(|user| !user.is_empty()));
    let user = user.unwrap_or_else(|| format!("uid {}", rustix::process::geteuid().as_raw()));
    let machine = rustix::system::uname();
    lavrin_keys::text::printable(format!("{user}@{}", machine.nodename().to_string_lossy()).as_bytes())
}
