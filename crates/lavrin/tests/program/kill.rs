//! The program is killed at random moments of an install: the key file is always the old or the new one, whole.

use crate::common::{World, key};
use std::time::{Duration, Instant};

/// How often it is killed.
const KILLS: u32 = 200;

#[test]
fn a_kill_leaves_the_old_or_the_new_file() {
    let world = World::new();
    world.put_tree();
    world.put_pair("edda", 1, "edda@lantern");
    let old: String =
        (0..200).map(|number| format!("# line {number} of a file that is not small\n")).collect::<String>()
            + &key(9).public().line("sten");
    let new = format!("{old}\n{}", world.read("home/edda.pub"));
    let file = "tree/home/edda/.ssh/authorized_keys";
    let start = || {
        world
            .command(&["install", "home/edda.pub", "edda", "--tree", "tree", "--yes", "-q"])
            .stdout(std::process::Stdio::null())
            .spawn()
            .unwrap()
    };
    // How long it takes here, undisturbed: the kills are spread over that time and a little beyond.
    world.write(file, &old, 0o600);
    world.set_mode("tree/home/edda/.ssh", 0o700);
    let begun = Instant::now();
    assert!(start().wait().unwrap().success());
    let whole = u64::try_from(begun.elapsed().as_micros()).unwrap() * 3 / 2;
    let (mut saw_old, mut saw_new) = (0, 0);
    for number in 0..KILLS {
        world.write(file, &old, 0o600);
        world.set_mode("tree/home/edda/.ssh", 0o700);
        let mut child = start();
        // A step that shares no factor with the number of kills, so that the moments do not repeat.
        std::thread::sleep(Duration::from_micros(u64::from(number * 77 % KILLS) * whole / u64::from(KILLS)));
        let _ = child.kill();
        child.wait().unwrap();
        let now = world.read(file);
        assert!(now == old || now == new, "neither old nor new after {number} kills: {now:?}");
        assert_eq!(world.mode(file), "0600");
        saw_old += u32::from(now == old);
        saw_new += u32::from(now == new);
    }
    assert!(saw_old > 0 && saw_new > 0, "the kills did not spread: {saw_old} old, {saw_new} new");
    // What a killed run left behind is swept up by the next one.
    world.write(file, &old, 0o600);
    let _ = world.typed("install home/edda.pub edda --tree tree --yes").expect(0);
    assert_eq!(crate::common::names(&world.path("tree/home/edda/.ssh")), ["authorized_keys"]);
}
