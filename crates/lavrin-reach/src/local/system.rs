//! The first look at a local tree: accounts, groups, what runs the logins, homes on a network.

use super::LocalTree;
use lavrin_server::account::{add_shadow, read_groups, read_passwd};
use lavrin_server::fs::BytePath;
use lavrin_server::server::{Known, Server, Version};
use lavrin_server::survey::{NETWORK_FILE_SYSTEMS, Observation};
use std::sync::Arc;

/// Longest account file that is read, in bytes.
const ACCOUNT_BYTES_MAX: u64 = 64 << 20;

pub(super) fn look(tree: &LocalTree, seen: &mut Observation) {
    let read = |path: &str| tree.bytes(&path.into(), ACCOUNT_BYTES_MAX).into_known();
    seen.looked = true;
    seen.viewer = Some(rustix::process::geteuid().as_raw());
    let mut accounts = read("/etc/passwd").map(|bytes| read_passwd(&bytes)).unwrap_or_default();
    seen.groups = Arc::new(read("/etc/group").map(|bytes| read_groups(&bytes)).unwrap_or_default());
    if let Some(bytes) = read("/etc/shadow") {
        add_shadow(&mut accounts, &bytes);
    }
    seen.accounts = Arc::new(accounts);
    let (server, known) = server(&read("/etc/os-release").unwrap_or_default(), read);
    seen.found_server(server, known);
    seen.network_homes = network_homes(tree, seen);
}

/// Debian and its descendants build the server so that it tolerates private groups.
fn descends_from_debian(os_release: &[u8]) -> bool {
    let text = String::from_utf8_lossy(os_release);
    let mut values = text.lines().filter_map(|line| line.split_once('='));
    let descends = |value: &str| value.trim_matches('"').split(' ').any(|id| id == "debian" || id == "ubuntu");
    values.any(|(name, value)| matches!(name, "ID" | "ID_LIKE") && descends(value))
}

/// The version of OpenSSH that a release of Debian itself comes with.
fn of_debian_release(os_release: &[u8]) -> Option<Version> {
    let text = String::from_utf8_lossy(os_release);
    let value = |name: &str| {
        let line = text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix('='))?;
        Some(line.trim_matches('"').to_owned())
    };
    if value("ID").as_deref() != Some("debian") {
        return None;
    }
    match value("VERSION_ID")?.as_str() {
        "11" => Some(Version(8, 4)),
        "12" => Some(Version(9, 2)),
        "13" => Some(Version(10, 0)),
        _ => None,
    }
}

/// Lists of installed packages as text, and the mark in front of a package's name and of its version there.
const PACKAGE_LISTS: [(&str, &str, &str); 3] = [
    ("/var/lib/dpkg/status", "Package: ", "Version: "),
    ("/lib/apk/db/installed", "P:", "V:"),
    ("/usr/lib/opkg/status", "Package: ", "Version: "),
];

/// Which server is installed, by the list of packages, else by the kind of system. Where both are there, OpenSSH's is
/// the one that is asked about.
fn server(os_release: &[u8], read: impl Fn(&str) -> Option<Vec<u8>>) -> (Server, Known) {
    let is_debian = descends_from_debian(os_release);
    let openssh = Server { tolerates_private_groups: is_debian, ..Server::openssh(None) };
    let mut dropbear = None;
    for (path, name, version) in PACKAGE_LISTS {
        let Some(list) = read(path) else { continue };
        let list = String::from_utf8_lossy(&list);
        let installed = |package: &str| {
            let mut blocks = list.split("\n\n");
            let block = blocks.find(|block| block.lines().any(|line| line.strip_prefix(name) == Some(package)))?;
            let gone = block.lines().any(|line| line.starts_with("Status: ") && !line.ends_with(" installed"));
            let number = block.lines().find_map(|line| line.strip_prefix(version)).unwrap_or_default();
            (!gone).then(|| Known::Packages(path.into(), number.to_owned()))
        };
        if let Some(known) = installed("openssh-server") {
            return (openssh, known);
        }
        dropbear = dropbear.or_else(|| ["dropbear-bin", "dropbear"].into_iter().find_map(installed));
    }
    match dropbear {
        Some(known) => (Server::dropbear(None), known),
        None if is_debian => (openssh.or_version(of_debian_release(os_release)), Known::OsRelease),
        None => (openssh, Known::Assumed),
    }
}

fn network_homes(tree: &LocalTree, seen: &Observation) -> Vec<BytePath> {
    // The kernel's own list: asking the file system itself could wait for a server that is gone.
    let mounts = std::fs::read_to_string("/proc/self/mounts").unwrap_or_default();
    let network: Vec<BytePath> = mounts
        .lines()
        .filter_map(|line| {
            let mut words = line.split(' ').skip(1);
            let (at, kind) = (words.next()?, words.next()?);
            NETWORK_FILE_SYSTEMS.contains(&kind).then(|| BytePath::new(at.replace("\\040", " ").as_bytes()))
        })
        .collect();
    if network.is_empty() {
        return Vec::new();
    }
    let outside = |home: &BytePath| {
        use std::os::unix::ffi::OsStrExt as _;
        BytePath::new(tree.outside(home).as_os_str().as_bytes())
    };
    let homes = seen.accounts.iter().map(|account| &account.home);
    homes.filter(|home| network.iter().any(|mount| outside(home).is_within(mount))).cloned().collect()
}
