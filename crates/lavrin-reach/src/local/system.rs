//! The first look at a local tree: accounts, groups, what runs the logins, homes on a network.

use super::LocalTree;
use lavrin_core::account::{add_shadow, read_groups, read_passwd};
use lavrin_core::fs::BytePath;
use lavrin_core::survey::{NETWORK_FILE_SYSTEMS, Observation, Server};

/// Longest account file that is read, in bytes.
const ACCOUNT_BYTES_MAX: u64 = 64 << 20;

pub(super) fn look(tree: &LocalTree, seen: &mut Observation) {
    let read = |path: &str| tree.bytes(&path.into(), ACCOUNT_BYTES_MAX).into_known();
    seen.looked = true;
    seen.viewer = Some(rustix::process::geteuid().as_raw());
    seen.accounts = read("/etc/passwd").map(|bytes| read_passwd(&bytes)).unwrap_or_default();
    seen.groups = read("/etc/group").map(|bytes| read_groups(&bytes)).unwrap_or_default();
    if let Some(bytes) = read("/etc/shadow") {
        add_shadow(&mut seen.accounts, &bytes);
    }
    seen.server = server(&read("/etc/os-release").unwrap_or_default());
    seen.network_homes = network_homes(tree, seen);
}

/// Debian and its descendants build the server so that it tolerates private groups.
fn server(os_release: &[u8]) -> Server {
    let text = String::from_utf8_lossy(os_release);
    let mut values = text.lines().filter_map(|line| line.split_once('='));
    let descends = |value: &str| value.trim_matches('"').split(' ').any(|id| id == "debian" || id == "ubuntu");
    let tolerates_private_groups = values.any(|(name, value)| matches!(name, "ID" | "ID_LIKE") && descends(value));
    Server::OpenSsh { tolerates_private_groups }
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
