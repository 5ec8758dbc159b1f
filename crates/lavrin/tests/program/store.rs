//! The memory of a register: how much is in it, and whether it is in order.

use crate::common::fleet::Fleet;
use crate::common::key;
use lavrin_standin::Behaviour;
use std::process::Command;

#[test]
fn what_is_in_the_store_is_told_and_held_against_its_hashes() {
    let mut fleet = Fleet::new();
    drop(fleet.run("store show").expect(2));
    fleet.add("lantern", &(key(3).public().line("edda") + "\n"), Behaviour::default());
    drop(fleet.survey("").expect(0));
    fleet.world.put_pair("edda", 2, "edda");
    drop(fleet.run("install home/edda.pub edda@lantern --identity home/office --login root --yes").expect(0));
    let shown = fleet.run("store show --format json").expect(0).json();
    assert_eq!((shown["hosts"].as_u64(), shown["journal"].as_u64()), (Some(1), Some(2)));
    let text = fleet.run("store show").expect(0).stdout;
    assert!(text.contains("1 host looked at") && text.contains("2 lines in the journal"), "{text}");
    let fine = fleet.run("store check --format json").expect(0).json();
    assert_eq!(fine["journal_hash"], shown["journal_hash"]);
    // Somebody changes why it was done.
    let change = "import sqlite3; c = sqlite3.connect('.lavrin/store.sqlite3'); c.execute(\"UPDATE journal SET time = 'x' WHERE number = 1\"); c.commit()";
    let changed = Command::new("python3").args(["-c", change]).current_dir(fleet.world.path("")).status().unwrap();
    assert!(changed.success());
    let found = fleet.run("store check").expect(1);
    assert!(found.stdout.contains("line 1 of the journal was changed"), "{found}");
    assert!(found.stdout.contains("next: "), "{found}");
}
