//! What OpenSSH's server requires of modes, owners and paths before it reads a key file (`StrictModes`), and what the
//! account itself needs to reach the file, since the server reads it with the account's rights.

use crate::account::{Account, is_private_group};
use crate::fs::{BytePath, Node, NodeKind};
use crate::server_config::switches::FOLDER_SINCE;
use crate::survey::{Resolved, Want, Wanted, only_roots_links, passed, resolve};
use crate::system::System;

const GROUP_WRITE: u32 = 0o020;
const OTHER_WRITE: u32 = 0o002;

/// Something on the way to a key file for which the server does not read it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Obstacle {
    /// Where.
    pub path: BytePath,
    /// What.
    pub kind: ObstacleKind,
}

/// The kinds of obstacles.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ObstacleKind {
    /// Others may write.
    TooOpen {
        /// Bits found.
        found: u32,
        /// Bits wanted.
        wanted: u32,
    },
    /// Neither the account nor root owns it.
    WrongOwner {
        /// Owner found.
        found: u32,
        /// Owner wanted.
        wanted: u32,
        /// Whether the account cannot even read it because of that.
        unreadable: bool,
    },
    /// The account itself may not read the file or pass the folder.
    TooClosed {
        /// Bits found.
        found: u32,
        /// Bits wanted.
        wanted: u32,
    },
}

/// A key file on the way to being read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FileAccess {
    /// It can be read; this is where it really is.
    Open(BytePath),
    /// It is there and the server does not read it: everything that stands in the way, the file first.
    Barred(BytePath, Vec<Obstacle>),
    /// It is a folder, pipe or device.
    NotRegular(BytePath),
    /// There is nothing at this path on the way.
    Missing(BytePath),
    /// Links in a circle.
    LinkLoop,
    /// This could not be looked at.
    Unseen(BytePath, crate::fs::Why),
}

/// What has to be looked at before [`access`] can decide.
#[must_use]
pub fn wants(file: &BytePath, account: &Account, seen: &System<'_>) -> Vec<Want> {
    // What lies in the home, or behind a link that somebody may have laid, is not looked at with root's rights.
    let ask = |path: BytePath| {
        let inside = path.is_within(&account.home) && path != account.home;
        let accounts = inside || !only_roots_links(file, seen);
        Want { what: Wanted::Node(path), account: accounts.then(|| account.name.clone()) }
    };
    let mut wants = Vec::new();
    for path in [file, &account.home] {
        let Resolved::Ask(next) = resolve(path, seen) else { continue };
        // Where no link is on the way, what comes behind is asked for in the same round.
        let mut here = Some(path.clone()).filter(|path| path.is_within(&next));
        while let Some(path) = here.filter(|path| *path != next) {
            here = path.parent();
            wants.push(ask(path));
        }
        wants.push(ask(next));
    }
    wants
}

/// Whether the server reads this key file for the account. `strict` is the server's `StrictModes`.
#[must_use]
pub fn access(file: &BytePath, account: &Account, strict: bool, seen: &System<'_>) -> FileAccess {
    let (real, node) = match resolve(file, seen) {
        Resolved::To(real, node) => (real, node),
        Resolved::Missing(path) => return FileAccess::Missing(path),
        Resolved::Unseen(path, why) => return FileAccess::Unseen(path, why),
        Resolved::Loop => return FileAccess::LinkLoop,
        Resolved::Ask(path) => return FileAccess::Unseen(path, crate::fs::Why::NotReached),
    };
    if node.kind != NodeKind::File {
        return FileAccess::NotRegular(real);
    }
    // The server opens the file with the account's rights before it looks at owners and modes.
    let mut obstacles = unreachable(file, &real, &node, account, seen);
    if strict {
        let looks_at_file = !seen.server.is_dropbear() || seen.server.rules() < FOLDER_SINCE;
        let on_the_way = unsafe_node(&real, &node, account, seen).filter(|_| looks_at_file).into_iter();
        for wrong in on_the_way.chain(unsafe_folders(file, &real, account, seen)) {
            merge(&mut obstacles, wrong);
        }
    }
    if obstacles.is_empty() { FileAccess::Open(real) } else { FileAccess::Barred(real, obstacles) }
}

/// Where a key file really is, if its content may be asked for: behind a link that somebody else than root may have laid
/// only what the account itself can certainly read.
#[must_use]
pub fn may_be_read(file: &BytePath, account: &Account, seen: &System<'_>) -> Option<BytePath> {
    match access(file, account, false, seen) {
        FileAccess::Open(real) => {
            let uncertain = |at: &BytePath| seen.node(at).known().is_some_and(|node| node.access_list);
            let certain = only_roots_links(file, seen) || !passed(file, seen).iter().any(uncertain);
            certain.then_some(real)
        }
        FileAccess::Barred(real, _) => only_roots_links(file, seen).then_some(real),
        _ => None,
    }
}

/// The paths of an account's key file that root may look at where the account itself may not: it lies where only root, or
/// the account in its own folders, has put it.
#[must_use]
pub fn root_may_see(file: &BytePath, seen: &System<'_>) -> Vec<BytePath> {
    if !only_roots_links(file, seen) {
        return Vec::new();
    }
    let mut paths = passed(file, seen);
    if let Resolved::Unseen(path, _) = resolve(file, seen) {
        paths.push(path);
    }
    paths
}

/// Adds an obstacle. Who does not own a file cannot read it for that reason, which is told once.
fn merge(obstacles: &mut Vec<Obstacle>, wrong: Obstacle) {
    let closed = obstacles.iter_mut().find(|other| other.path == wrong.path);
    match (closed, &wrong.kind) {
        (Some(closed), ObstacleKind::WrongOwner { found, wanted, .. }) => {
            closed.kind = ObstacleKind::WrongOwner { found: *found, wanted: *wanted, unreadable: true };
        }
        _ => obstacles.push(wrong),
    }
}

/// The folders the server checks: up to the home where the file lies in it, else up to the root. Dropbear asks for the
/// folder named and the home, wherever links lead.
fn unsafe_folders(named: &BytePath, real: &BytePath, account: &Account, seen: &System<'_>) -> Vec<Obstacle> {
    if seen.server.is_dropbear() {
        let home = seen.switches().looks_at_home().then(|| account.home.clone());
        let folders = [named.parent(), home];
        let found = folders.into_iter().flatten().filter_map(|folder| match resolve(&folder, seen) {
            Resolved::To(path, node) => unsafe_node(&path, &node, account, seen),
            _ => None,
        });
        return found.collect();
    }
    let home = match resolve(&account.home, seen) {
        Resolved::To(home, _) => Some(home),
        _ => None,
    };
    let mut found = Vec::new();
    let mut here = real.parent();
    while let Some(folder) = here {
        if let Some(node) = seen.node(&folder).into_known() {
            found.extend(unsafe_node(&folder, node, account, seen));
        }
        here = if Some(&folder) == home.as_ref() { None } else { folder.parent() };
    }
    found
}

/// The widest mode that is advised: 0600 for a key file, 0700 for folders below the home; of the home and what lies
/// outside of it only the write bits of others are taken.
fn advised(path: &BytePath, node: &Node, account: &Account) -> u32 {
    if !path.is_within(&account.home) || *path == account.home {
        node.mode & !(OTHER_WRITE | GROUP_WRITE)
    } else if node.kind == NodeKind::File {
        0o600
    } else {
        0o700
    }
}

fn unsafe_node(path: &BytePath, node: &Node, account: &Account, seen: &System<'_>) -> Option<Obstacle> {
    if node.uid != 0 && node.uid != account.uid {
        let kind = ObstacleKind::WrongOwner { found: node.uid, wanted: account.uid, unreadable: false };
        return Some(Obstacle { path: path.clone(), kind });
    }
    (node.mode & refused_bits(node, account, seen) != 0).then(|| {
        let kind = ObstacleKind::TooOpen { found: node.mode, wanted: advised(path, node, account) };
        Obstacle { path: path.clone(), kind }
    })
}

/// The write bits for which the server does not read what lies here: those of others, and of a group that is not
/// private to the account.
#[must_use]
pub fn refused_bits(node: &Node, account: &Account, seen: &System<'_>) -> u32 {
    let tolerated = node.mode & GROUP_WRITE != 0
        && seen.server.tolerates_private_groups
        && is_private_group(node.gid, node.uid, account, &seen.accounts, &seen.groups);
    if tolerated { OTHER_WRITE } else { OTHER_WRITE | GROUP_WRITE }
}

fn unreachable(named: &BytePath, real: &BytePath, node: &Node, account: &Account, seen: &System<'_>) -> Vec<Obstacle> {
    // An access list can grant what the bits do not show; nothing is claimed then.
    let barred = |path: &BytePath, node: &Node, need: u32| {
        let all_may = [6, 3, 0].iter().all(|shift| node.mode >> shift & need == need);
        let is_barred =
            !all_may && !account.is_root() && !node.access_list && granted(node, account, seen) & need != need;
        is_barred.then(|| {
            let foreign = node.uid != account.uid && path.is_within(&account.home);
            let kind = if foreign {
                ObstacleKind::WrongOwner { found: node.uid, wanted: account.uid, unreadable: true }
            } else {
                let wanted = node.mode | need_bits(node, account, seen, need);
                ObstacleKind::TooClosed { found: node.mode, wanted }
            };
            Obstacle { path: path.clone(), kind }
        })
    };
    let mut found: Vec<Obstacle> = barred(real, node, 0o4).into_iter().collect();
    // The folders that links lie in are passed too.
    for folder in passed(named, seen).iter().rev().filter(|path| *path != real) {
        if let Some(node) = seen.node(folder).into_known().filter(|node| node.kind == NodeKind::Folder) {
            found.extend(barred(folder, node, 0o1));
        }
    }
    found
}

fn in_group(gid: u32, account: &Account, seen: &System<'_>) -> bool {
    account.gid == gid || seen.groups.iter().any(|group| group.gid == gid && group.members.contains(&account.name))
}

/// The three bits of the mode that hold for this account.
fn granted(node: &Node, account: &Account, seen: &System<'_>) -> u32 {
    match shift(node, account, seen) {
        6 => node.mode >> 6 & 7,
        3 => node.mode >> 3 & 7,
        _ => node.mode & 7,
    }
}

fn need_bits(node: &Node, account: &Account, seen: &System<'_>, need: u32) -> u32 {
    need << shift(node, account, seen)
}

fn shift(node: &Node, account: &Account, seen: &System<'_>) -> u32 {
    if node.uid == account.uid {
        6
    } else if in_group(node.gid, account, seen) {
        3
    } else {
        0
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::{read_groups, read_passwd};
    use crate::fs::Fact;
    use crate::server::{Server, Version};
    use crate::survey::Observation;

    const FILE: &str = "/home/edda/.ssh/authorized_keys";

    fn seen(home: u32, folder: u32, file: u32, owner: u32, server: Server) -> (Account, Observation) {
        let accounts = read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\nsten:x:1002:1002::/home/sten:/bin/sh\n");
        let mut seen = Observation { server, groups: read_groups(b"edda:x:1001:\n").into(), ..Observation::default() };
        let mut put = |path: &str, kind, mode, uid| {
            let node = Node { kind, mode, uid, gid: uid, access_list: false };
            seen.nodes.insert(path.into(), Fact::Known(node));
        };
        put("/home", NodeKind::Folder, 0o777, 0);
        put("/home/edda", NodeKind::Folder, home, 1001);
        put("/home/edda/.ssh", NodeKind::Folder, folder, 1001);
        put(FILE, NodeKind::File, file, owner);
        seen.accounts = accounts.clone().into();
        (accounts[0].clone(), seen)
    }

    fn verdict(home: u32, folder: u32, file: u32, owner: u32, server: Server) -> FileAccess {
        let (account, seen) = seen(home, folder, file, owner, server);
        access(&FILE.into(), &account, true, &System::of(&seen))
    }

    #[test]
    fn folders_above_the_home_do_not_matter() {
        assert_eq!(verdict(0o755, 0o700, 0o600, 1001, Server::default()), FileAccess::Open(FILE.into()));
        assert_eq!(verdict(0o755, 0o100, 0o644, 0, Server::default()), FileAccess::Open(FILE.into()));
    }

    #[test]
    fn group_write_is_tolerated_only_by_debian_and_world_write_by_nobody() {
        let debian = Server::debian(Version(9, 2));
        assert_eq!(verdict(0o775, 0o770, 0o664, 1001, debian), FileAccess::Open(FILE.into()));
        let FileAccess::Barred(_, obstacles) = verdict(0o775, 0o700, 0o664, 1001, Server::default()) else { panic!() };
        assert_eq!(obstacles.len(), 2);
        assert_eq!(obstacles[0].kind, ObstacleKind::TooOpen { found: 0o664, wanted: 0o600 });
        assert_eq!(obstacles[1].kind, ObstacleKind::TooOpen { found: 0o775, wanted: 0o755 });
        assert!(matches!(verdict(0o755, 0o1777, 0o600, 1001, debian), FileAccess::Barred(..)));
    }

    #[test]
    fn the_account_has_to_own_and_to_reach_its_file() {
        let only = |access| match access {
            FileAccess::Barred(_, mut obstacles) => obstacles.remove(0).kind,
            other => panic!("{other:?}"),
        };
        let wrong = ObstacleKind::WrongOwner { found: 1002, wanted: 1001, unreadable: false };
        assert_eq!(only(verdict(0o755, 0o700, 0o644, 1002, Server::default())), wrong);
        let roots = ObstacleKind::WrongOwner { found: 0, wanted: 1001, unreadable: true };
        assert_eq!(only(verdict(0o755, 0o700, 0o600, 0, Server::default())), roots);
        let closed = ObstacleKind::TooClosed { found: 0o600, wanted: 0o700 };
        assert_eq!(only(verdict(0o755, 0o600, 0o600, 1001, Server::default())), closed);
    }

    #[test]
    fn the_folder_that_a_link_lies_in_has_to_let_the_account_pass() {
        let (account, mut seen) = seen(0o755, 0o700, 0o600, 1001, Server::default());
        let mut put = |path: &str, kind, uid| {
            seen.nodes.insert(path.into(), Fact::Known(Node { kind, mode: 0o700, uid, gid: uid, access_list: false }));
        };
        put(FILE, NodeKind::Link(b"/home/edda/kept".to_vec()), 0);
        put("/home/edda/kept", NodeKind::File, 1001);
        assert_eq!(
            access(&FILE.into(), &account, true, &System::of(&seen)),
            FileAccess::Open("/home/edda/kept".into())
        );
        let mut put = |path: &str, kind, uid| {
            seen.nodes.insert(path.into(), Fact::Known(Node { kind, mode: 0o700, uid, gid: uid, access_list: false }));
        };
        put("/home/edda/.ssh", NodeKind::Folder, 0);
        assert!(matches!(access(&FILE.into(), &account, true, &System::of(&seen)), FileAccess::Barred(_, _)));
    }

    #[test]
    fn roots_rights_are_not_led_along_a_link_that_somebody_else_may_have_laid() {
        let (account, mut seen) = seen(0o755, 0o700, 0o600, 0, Server::default());
        let mut put = |path: &str, kind, mode, uid, access_list| {
            seen.nodes.insert(path.into(), Fact::Known(Node { kind, mode, uid, gid: uid, access_list }));
        };
        put("/etc", NodeKind::Folder, 0o755, 0, false);
        put("/etc/shadow", NodeKind::File, 0o640, 0, false);
        put("/etc/motd", NodeKind::File, 0o644, 0, false);
        put("/etc/listed", NodeKind::File, 0o644, 0, true);
        put("/etc/roots_link", NodeKind::Link(b"shadow".to_vec()), 0o777, 0, false);
        let laid = |to: &str| {
            let mut seen = seen.clone();
            let link = Node { kind: NodeKind::Link(to.into()), mode: 0o777, uid: 1001, gid: 1001, access_list: false };
            seen.nodes.insert(FILE.into(), Fact::Known(link));
            let read = may_be_read(&FILE.into(), &account, &System::of(&seen)).map(|path| path.to_string());
            (read, root_may_see(&FILE.into(), &System::of(&seen)).len())
        };
        // What root left in the home is read by root; what a link of the account leads to only where the account may.
        assert_eq!(may_be_read(&FILE.into(), &account, &System::of(&seen)), Some(FILE.into()));
        assert_eq!(root_may_see(&FILE.into(), &System::of(&seen)).len(), 4);
        assert_eq!(laid("/etc/shadow"), (None, 0));
        assert_eq!(laid("../../../etc/roots_link"), (None, 0));
        assert_eq!(laid("/etc/motd"), (Some("/etc/motd".to_owned()), 0));
        assert_eq!(laid("/etc/listed"), (None, 0));
        // A link that root laid, and a file that root could not see, with the way to it.
        assert_eq!(may_be_read(&"/etc/roots_link".into(), &account, &System::of(&seen)), Some("/etc/shadow".into()));
        seen.nodes.insert("/etc/shadow".into(), Fact::Unseen(crate::fs::Why::Permission));
        assert_eq!(root_may_see(&"/etc/shadow".into(), &System::of(&seen)), ["/etc".into(), "/etc/shadow".into()]);
        // Whatever lies behind such a link is asked for with the account's rights.
        let link = NodeKind::Link(b"/root/keys".to_vec());
        let link = Node { kind: link, mode: 0o777, uid: 1001, gid: 1001, access_list: false };
        seen.nodes.insert(FILE.into(), Fact::Known(link));
        let asked = wants(&FILE.into(), &account, &System::of(&seen));
        assert!(asked.iter().all(|want| want.account.as_deref() == Some("edda")) && asked.len() == 1, "{asked:?}");
    }

    #[test]
    fn a_folder_in_place_of_the_file_is_told() {
        let (account, mut seen) = seen(0o755, 0o700, 0o600, 1001, Server::default());
        seen.nodes.insert(FILE.into(), Fact::Absent);
        assert_eq!(access(&FILE.into(), &account, true, &System::of(&seen)), FileAccess::Missing(FILE.into()));
        let node = Node { kind: NodeKind::Folder, mode: 0o700, uid: 1001, gid: 1001, access_list: false };
        seen.nodes.insert(FILE.into(), Fact::Known(node));
        assert_eq!(access(&FILE.into(), &account, true, &System::of(&seen)), FileAccess::NotRegular(FILE.into()));
    }
}
