//! The help of every command, kept by a snapshot: options are a promise.

use crate::common::World;

#[test]
fn the_help_of_every_command() {
    let world = World::new();
    for command in
        ["", "key", "key generate", "key inspect", "key convert", "install", "remove", "why", "audit", "probe", "demo"]
    {
        let run = world.typed(&format!("{command} --help")).expect(0);
        insta::assert_snapshot!(format!("help {command}").trim().replace(' ', "_"), run.stdout);
    }
}

#[test]
fn wrong_usage_ends_with_two_and_names_the_next_thing_to_type() {
    let world = World::new();
    let _ = world.typed("no-such-command").expect(2);
    let run = world.typed("install x.pub edda").expect(2);
    assert!(run.stderr.contains("cannot read"), "{run}");
    world.put_pair("edda", 1, "edda");
    let run = world.typed("install home/edda.pub edda").expect(2);
    assert!(run.stderr.contains("edda@HOST; or in a local tree: edda --tree DIR"), "{run}");
    let run = world.typed("audit").expect(2);
    assert!(run.stderr.contains("lavrin register begin"), "{run}");
}
