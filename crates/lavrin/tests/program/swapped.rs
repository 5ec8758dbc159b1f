//! Somebody swaps folders and links while Lavrin works: nothing outside of the account's own files ever changes.

use crate::common::World;
use std::os::unix::fs::symlink;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};

/// How often the program runs against the swapping.
const RUNS: usize = 60;

#[test]
fn a_swapped_folder_leads_nowhere() {
    let world = World::new();
    world.put_tree();
    world.put_pair("edda", 1, "edda@lantern");
    world.write("outside/authorized_keys", "somebody else's\n", 0o644);
    world.set_mode("outside", 0o755);
    let own = world.path("tree/home/edda/.ssh");
    std::fs::create_dir(&own).unwrap();
    world.set_mode("tree/home/edda/.ssh", 0o700);
    let stop = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let aside = world.path("tree/home/edda/aside");
            while !stop.load(Ordering::Relaxed) {
                // The folder is there, then a link that leads out of the tree is, then the folder again.
                let _ = std::fs::rename(&own, &aside);
                let _ = symlink(world.path("outside"), &own);
                std::thread::yield_now();
                let _ = std::fs::remove_file(&own);
                let _ = std::fs::rename(&aside, &own);
            }
        });
        for number in 0..RUNS {
            let command = ["install home/edda.pub edda", "remove home/edda.pub edda", "mend edda"][number % 3];
            let run = world.typed(&format!("{command} --tree tree --yes"));
            assert!(matches!(run.status, 0 | 1 | 4 | 5), "{run}");
            check(&world.path("outside"));
        }
        stop.store(true, Ordering::Relaxed);
    });
    check(&world.path("outside"));
}

fn check(outside: &Path) {
    assert_eq!(crate::common::names(outside), ["authorized_keys"]);
    assert_eq!(std::fs::read_to_string(outside.join("authorized_keys")).unwrap(), "somebody else's\n");
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(outside).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o755);
}
