//! Changes in a local tree: what is there must be what was seen, and nothing outside is ever touched.

use lavrin_keys::key::Fingerprint;
use lavrin_reach::CarryFault;
use lavrin_reach::local::LocalTree;
use lavrin_server::account::Account;
use lavrin_server::fs::BytePath;
use lavrin_server::server::{Known, Server, Version};
use lavrin_server::steps::{Change, Deed, FileChange, Guarded, OwnerIds, Steps, guard};
use lavrin_server::survey::{Observation, Want, Wanted, Who};
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::PathBuf;
use tempfile::TempDir;

const FILE: &str = "/home/edda/.ssh/authorized_keys";

struct Tree {
    dir: TempDir,
    local: LocalTree,
}

impl Tree {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(dir.path().join("home/edda/.ssh")).unwrap();
        let local = LocalTree::open(dir.path()).unwrap();
        Self { dir, local }
    }

    fn path(&self, inner: &str) -> PathBuf {
        self.dir.path().join(inner.trim_start_matches('/'))
    }

    fn put(&self, content: &str) {
        std::fs::write(self.path(FILE), content).unwrap();
        std::fs::set_permissions(self.path(FILE), std::fs::Permissions::from_mode(0o600)).unwrap();
    }

    fn read(&self) -> String {
        std::fs::read_to_string(self.path(FILE)).unwrap()
    }

    fn carry(&self, change: Change) -> Result<(), CarryFault> {
        self.local.carry(&guarded(change))
    }
}

fn own() -> OwnerIds {
    OwnerIds { uid: rustix::process::getuid().as_raw(), gid: rustix::process::getgid().as_raw() }
}

/// Only the guard makes changes that can be carried out.
fn guarded(change: Change) -> Guarded {
    let account = Account {
        name: "edda".into(),
        uid: own().uid,
        gid: own().gid,
        home: "/home/edda".into(),
        shell: "/bin/sh".into(),
        password: None,
        aging: None,
    };
    let steps = Steps {
        account,
        fingerprint: Some(Fingerprint::of(b"")),
        changes: vec![change],
        revived: Vec::new(),
        not_covered: Vec::new(),
    };
    guard(&steps, None, false).unwrap().remove(0)
}

fn write(old: Option<&str>, new: &str) -> Change {
    FileChange::WriteFile {
        path: FILE.into(),
        old: old.map(|old| old.as_bytes().to_vec()),
        new: new.as_bytes().to_vec(),
        mode: 0o640,
        owner: own(),
        was: None,
        deed: Deed::Unsaid,
    }
    .into()
}

#[test]
fn a_file_is_made_and_replaced_with_its_mode() {
    let tree = Tree::new();
    tree.carry(write(None, "one\n")).unwrap();
    tree.carry(write(Some("one\n"), "two\n")).unwrap();
    assert_eq!(tree.read(), "two\n");
    assert_eq!(std::fs::metadata(tree.path(FILE)).unwrap().permissions().mode() & 0o7777, 0o640);
    assert_eq!(std::fs::read_dir(tree.path("/home/edda/.ssh")).unwrap().count(), 1);
}

#[test]
fn a_file_that_is_not_what_was_read_stays() {
    let tree = Tree::new();
    tree.put("somebody else's\n");
    assert!(matches!(tree.carry(write(Some("old\n"), "new\n")), Err(CarryFault::Changed { .. })));
    assert!(matches!(tree.carry(write(None, "new\n")), Err(CarryFault::Changed { .. })));
    assert_eq!(tree.read(), "somebody else's\n");
}

#[test]
fn every_change_has_an_inverse() {
    let tree = Tree::new();
    tree.put("old\n");
    let changes = [
        write(Some("old\n"), "new\n"),
        FileChange::SetMode { path: FILE.into(), from: 0o640, to: 0o600 }.into(),
        FileChange::MakeFolder { path: "/home/edda/keys".into(), mode: 0o700, owner: own() }.into(),
        FileChange::WriteFile {
            path: "/home/edda/keys/x".into(),
            old: None,
            new: b"x".to_vec(),
            mode: 0o600,
            owner: own(),
            was: None,
            deed: Deed::Unsaid,
        }
        .into(),
    ];
    let guarded: Vec<Guarded> = changes.into_iter().map(guarded).collect();
    for change in &guarded {
        tree.local.carry(change).unwrap();
    }
    assert_eq!(tree.read(), "new\n");
    for change in guarded.iter().rev() {
        tree.local.carry(&change.inverse()).unwrap();
    }
    assert_eq!(tree.read(), "old\n");
    assert!(!tree.path("/home/edda/keys").exists());
}

#[test]
fn links_are_never_followed() {
    let tree = Tree::new();
    let outside = tempfile::tempdir().unwrap();
    std::fs::write(outside.path().join("secret"), "secret\n").unwrap();
    symlink(outside.path(), tree.path("/home/edda/link")).unwrap();
    symlink(outside.path().join("secret"), tree.path(FILE)).unwrap();
    assert!(tree.carry(write(Some("secret\n"), "new\n")).is_err());
    let through = FileChange::WriteFile {
        path: "/home/edda/link/secret".into(),
        old: Some(b"secret\n".to_vec()),
        new: b"x".to_vec(),
        mode: 0o600,
        owner: own(),
        was: None,
        deed: Deed::Unsaid,
    }
    .into();
    assert!(matches!(tree.carry(through), Err(CarryFault::Refused { .. })));
    let mode = FileChange::SetMode { path: FILE.into(), from: 0o777, to: 0o600 }.into();
    assert!(tree.carry(mode).is_err());
    assert_eq!(std::fs::read_to_string(outside.path().join("secret")).unwrap(), "secret\n");
    assert_ne!(std::fs::metadata(outside.path().join("secret")).unwrap().permissions().mode() & 0o777, 0o600);
    let up = FileChange::MakeFolder { path: BytePath::new(b"/home/../../x"), mode: 0o700, owner: own() }.into();
    assert!(tree.carry(up).is_err());
}

#[test]
fn a_file_with_a_second_name_is_left_alone() {
    let tree = Tree::new();
    tree.put("shared\n");
    std::fs::hard_link(tree.path(FILE), tree.path("/home/edda/second")).unwrap();
    let mode = FileChange::SetMode { path: FILE.into(), from: 0o600, to: 0o644 }.into();
    let Err(CarryFault::Refused { why, .. }) = tree.carry(mode) else { panic!() };
    assert!(why.contains("second name"), "{why}");
    // Replacing it is another matter: the second name keeps the old content.
    tree.carry(write(Some("shared\n"), "mine\n")).unwrap();
    assert_eq!(std::fs::read_to_string(tree.path("/home/edda/second")).unwrap(), "shared\n");
}

/// What a tree with these files says about its server.
fn server_in(files: &[(&str, &str)]) -> (Server, Known) {
    let folder = tempfile::tempdir().unwrap();
    for (path, text) in files {
        let path = folder.path().join(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, text).unwrap();
    }
    let tree = LocalTree::open(folder.path()).unwrap();
    let mut seen = Observation::default();
    tree.look(&[Want { what: Wanted::System(Who::All), account: None }], &mut seen);
    (seen.server, seen.server_known)
}

#[test]
fn the_server_is_found_in_the_lists_of_packages() {
    let debian = ("etc/os-release", "ID=debian\n");
    let package = |name: &str, status: &str| {
        format!(
            "Package: other\nStatus: install ok installed\n\nPackage: {name}\nStatus: {status}\nVersion: 1:9.2p1-2\n"
        )
    };
    let openssh = package("openssh-server", "install ok installed");
    let (server, known) = server_in(&[debian, ("var/lib/dpkg/status", &openssh)]);
    assert_eq!(server, Server::debian(Version(9, 2)));
    assert_eq!(known, Known::Packages("/var/lib/dpkg/status".into(), "1:9.2p1-2".to_owned()));
    let gone = package("openssh-server", "deinstall ok config-files");
    assert_eq!(server_in(&[debian, ("var/lib/dpkg/status", &gone)]).1, Known::OsRelease);
    let small = "P:dropbear\nV:2022.83-r1\n\nP:musl\nV:1\n";
    let (server, known) = server_in(&[("lib/apk/db/installed", small)]);
    assert_eq!(
        (server, known),
        (
            Server::dropbear(Some(Version(2022, 83))),
            Known::Packages("/lib/apk/db/installed".into(), "2022.83-r1".to_owned())
        )
    );
    let twelve = ("etc/os-release", "ID=debian\nVERSION_ID=\"12\"\n");
    assert_eq!(server_in(&[twelve]), (Server::debian(Version(9, 2)), Known::OsRelease));
    assert_eq!(server_in(&[]), (Server::openssh(None), Known::Assumed));
}

#[test]
fn what_the_user_says_about_the_server_goes_before_what_is_found() {
    let mut seen = Observation::default();
    seen.found_server(Server::dropbear(None), Known::Given("dropbear-2022.83".to_owned()));
    seen.found_server(Server::default(), Known::OsRelease);
    assert_eq!(seen.server, Server::dropbear(Some(Version(2022, 83))));
}

#[test]
fn what_is_asked_in_any_order_and_twice_is_seen_as_one_by_one() {
    let tree = Tree::new();
    tree.put("one\n");
    symlink("edda", tree.path("/home/link")).unwrap();
    let paths =
        [FILE, "/home/edda", "/home/link", "/home/edda/.ssh", "/home/edda/none", "/", FILE, "/home", "/home/edda"];
    let want = |path: &str| Want { what: Wanted::Node(path.into()), account: None };
    let (mut at_once, mut one_by_one) = (Observation::default(), Observation::default());
    tree.local.look(&paths.map(want), &mut at_once);
    for path in paths {
        tree.local.look(&[want(path)], &mut one_by_one);
    }
    assert_eq!(at_once.nodes, one_by_one.nodes);
    assert_eq!(at_once.nodes.len(), 7);
    let kinds: Vec<bool> = paths.iter().map(|path| at_once.node(&(*path).into()).known().is_some()).collect();
    assert_eq!(kinds, [true, true, true, true, false, true, true, true, true]);
}
