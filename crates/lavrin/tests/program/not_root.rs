//! Without root's rights: what could not be read is not checked, never fine.

use crate::common::{Run, World, key};
use std::os::unix::fs::chown;
use std::process::Command;

/// Runs the built program as nobody.
fn as_nobody(world: &World, line: &str) -> Run {
    let program = world.path("lavrin");
    if !program.exists() {
        std::fs::copy(env!("CARGO_BIN_EXE_lavrin"), &program).unwrap();
    }
    let mut command = Command::new("/usr/bin/setpriv");
    command
        .args(["--reuid", "65534", "--regid", "65534", "--clear-groups"])
        .arg(&program)
        .args(line.split_whitespace())
        .env_clear()
        .env("HOME", "/nonexistent")
        .env("LAVRIN_NOW", crate::common::NOW)
        .current_dir(world.path(""));
    world.finish(command)
}

#[test]
#[ignore = "needs root to become somebody else: scripts/test.sh"]
fn what_nobody_may_read_is_not_checked() {
    let world = World::new();
    world.put_tree();
    world.write("edda.pub", format!("{}\n", key(1).public().line("edda@lantern")), 0o644);
    world.set_mode("tree/home/sten/.ssh", 0o700);
    world.set_mode("tree/home/edda", 0o700);
    for path in ["tree/home/sten", "tree/home/sten/.ssh", "tree/home/sten/.ssh/authorized_keys", "tree/home/edda"] {
        chown(world.path(path), Some(1002), Some(1002)).unwrap();
    }
    let audit = as_nobody(&world, "audit --tree tree --format json");
    assert_eq!(audit.status, 3, "{audit}");
    let json = audit.json();
    assert_eq!(json["entries"].as_array().unwrap().len(), 0);
    let paths: Vec<&str> =
        json["not_checked"].as_array().unwrap().iter().filter_map(|item| item["path"].as_str()).collect();
    assert!(paths.iter().any(|path| path.starts_with("/home/sten/.ssh")), "{json}");
    assert!(paths.iter().any(|path| path.starts_with("/home/edda/.ssh")), "{json}");
    for account in ["sten", "edda"] {
        let why = as_nobody(&world, &format!("why {account} --key edda.pub --tree tree --format json"));
        assert_eq!((why.status, why.json()["verdict"].as_str()), (3, Some("undecided")), "{why}");
    }
    let mend = as_nobody(&world, "mend sten --tree tree --yes");
    assert!(mend.status != 0 && !mend.stdout.contains("Nothing to mend"), "{mend}");
}
