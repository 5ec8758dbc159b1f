//! Stores that an earlier version wrote: `tests/stores`, by version 0.1.0 on 2026-11-28, with observations of the second form and
//! changes of the first. What they say has to stay what it was, and what they hold can be taken back.

use crate::common::World;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

/// Copies a folder of the test data into a world, with the modes that a store has.
fn copy(world: &World, from: &Path, below: &str) {
    let folder = world.path(below);
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o700)).unwrap();
    for entry in std::fs::read_dir(from).unwrap().map(Result::unwrap) {
        let name = format!("{below}/{}", entry.file_name().to_string_lossy());
        if entry.file_type().unwrap().is_dir() {
            copy(world, &entry.path(), &name);
        } else {
            drop(world.write(&name, std::fs::read(entry.path()).unwrap(), 0o600));
        }
    }
}

fn world_with(what: &str) -> World {
    let world = World::new();
    let data = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/stores").join(what);
    if what == "register" {
        copy(&world, &data, ".");
        std::fs::rename(world.path("store"), world.path(".lavrin")).unwrap();
    } else {
        copy(&world, &data.join("lavrin"), "home/.local/state/lavrin");
        copy(&world, &data.join("tree"), "tree");
        // Whoever runs the test owns the tree, and it lies where the test put it.
        let (uid, gid) = (rustix::process::getuid().as_raw(), rustix::process::getgid().as_raw());
        let journal = world.read("home/.local/state/lavrin/journal.jsonl").replace("[0,0]", &format!("[{uid},{gid}]"));
        let journal = journal.replace("\"place\":\"tree\"", &format!("\"place\":\"{}\"", world.path("tree").display()));
        world.write("home/.local/state/lavrin/journal.jsonl", journal, 0o600);
        let passwd = world.read("tree/etc/passwd").replace(":0:0:", &format!(":{uid}:{gid}:"));
        world.write("tree/etc/passwd", passwd, 0o644);
    }
    world
}

#[test]
fn the_store_of_a_register_says_what_it_said() {
    let world = world_with("register");
    for line in ["history", "history --at 2026-11-21", "audit", "compare --format json"] {
        insta::assert_snapshot!(format!("store {line}").replace(' ', "_"), world.typed(line));
    }
}

#[test]
fn changes_without_a_register_are_taken_back() {
    let world = world_with("state");
    insta::assert_snapshot!("store_of_a_tree", world.typed("history"));
    let keys = "tree/home/sten/.ssh/authorized_keys";
    assert_eq!(world.read(keys), "# lamp room\n");
    insta::assert_snapshot!("store_takes_a_removal_back", world.typed("undo 5e62c5974c5904f9 --yes").expect(0));
    assert!(world.read(keys).starts_with("# lamp room\nssh-ed25519 "));
    insta::assert_snapshot!("store_takes_an_installation_back", world.typed("undo c79357a871623a3b --yes").expect(0));
    assert!(!world.path("tree/home/edda/.ssh").exists());
}
