//! `mend` in a local tree: what is certain is repaired, what would bring a key to life waits for its name.

use crate::common::{World, key};
use std::os::unix::fs::symlink;

const KEYS: &str = "tree/home/edda/.ssh/authorized_keys";

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment)
}

/// A tree in which edda's file is readable by everybody and holds this.
fn world(content: &str, mode: u32) -> World {
    let world = World::new();
    world.put_tree();
    world.write(KEYS, content, mode);
    world.set_mode("tree/home/edda/.ssh", 0o700);
    world
}

#[test]
fn modes_wider_than_policy_and_line_ends_are_put_right() {
    let text = format!("# keys\r\n{}\r\n", line(1, "edda@lantern"));
    let world = world(&text, 0o644);
    insta::assert_snapshot!(world.typed("mend edda --tree tree --yes").expect(0).to_string());
    assert_eq!(world.read(KEYS), text.replace('\r', ""));
    assert_eq!(world.mode(KEYS), "0600");
    let again = world.typed("mend edda --tree tree --yes").expect(0);
    assert!(again.stdout.starts_with("Nothing to mend"), "{again}");
    let backups = world.path("home/.local/state/lavrin/backups");
    assert_eq!(std::fs::read(backups.join(&crate::common::names(&backups)[0])).unwrap(), text.as_bytes());
}

#[test]
fn glued_entries_wait_for_consent() {
    let glued = format!("{}{}\n", line(1, "edda@lantern"), line(2, "sten@kvarnholm"));
    let world = world(&glued, 0o600);
    insta::assert_snapshot!(world.typed("mend edda --tree tree --yes").expect(1).to_string());
    assert_eq!(world.read(KEYS), glued);
    let consent = format!("mend edda --tree tree --yes --revive {}", key(2).public().fingerprint());
    let run = world.typed(&consent).expect(0);
    assert!(run.stdout.contains("becomes active: SHA256:"), "{run}");
    assert_eq!(world.read(KEYS), format!("{}\n{}\n", line(1, "edda@lantern"), line(2, "sten@kvarnholm")));
}

#[test]
fn tightening_a_mode_waits_for_every_key_that_it_brings_to_life() {
    let world = world(&format!("{}\n{}\n", line(1, "edda@lantern"), line(2, "sten@kvarnholm")), 0o666);
    let run = world.typed("mend edda --tree tree --preview").expect(1);
    insta::assert_snapshot!(run.to_string());
    let [one, two] = [1, 2].map(|seed| key(seed).public().fingerprint());
    let half = world.typed(&format!("mend edda --tree tree --yes --revive {one}")).expect(1);
    assert!(half.stdout.contains(&format!("--revive {two} --revive {one}")), "{half}");
    assert_eq!(world.mode(KEYS), "0666");
    let _ = world.typed(&format!("mend edda --tree tree --yes --revive {one} --revive {two}")).expect(0);
    assert_eq!(world.mode(KEYS), "0600");
}

#[test]
fn broken_lines_and_blocks_become_entries_and_the_rest_is_left_alone() {
    let (one, two) = (line(1, "edda@lantern"), line(2, "sten@kvarnholm"));
    let broken = format!("{}\n{}\nwhat is this\n{one}restrict {two}\n", &one[..76], &one[76..]);
    let world = world(&broken, 0o600);
    let consent = format!("mend edda --tree tree --yes --revive {}", key(1).public().fingerprint());
    insta::assert_snapshot!(world.typed(&consent).expect(1).to_string());
    assert_eq!(world.read(KEYS), format!("{one}\nwhat is this\n{one}restrict {two}\n"));
}

#[test]
fn all_accounts_are_mended_and_links_that_lead_out_are_not_followed() {
    let world = world(&format!("{}\n", line(1, "edda@lantern")), 0o640);
    let outside = world.write("outside/authorized_keys", "somebody else's\r\n", 0o666);
    std::fs::remove_file(world.path("tree/home/sten/.ssh/authorized_keys")).unwrap();
    symlink("/srv/authorized_keys", world.path("tree/home/sten/.ssh/authorized_keys")).unwrap();
    world.write("tree/srv/authorized_keys", "kept elsewhere\r\n", 0o644);
    let run = world.typed("mend --all --tree tree --yes --format json").expect(1).json();
    let accounts = run["accounts"].as_array().unwrap();
    assert_eq!(accounts.len(), 2, "{run}");
    assert_eq!(accounts[0]["state"], "done");
    assert_eq!(accounts[1]["state"], "nothing-to-do");
    assert!(accounts[1]["left_alone"][0]["message"].as_str().unwrap().contains("leads out"), "{run}");
    assert_eq!(world.mode(KEYS), "0600");
    assert_eq!(world.read("tree/srv/authorized_keys"), "kept elsewhere\r\n");
    assert_eq!(std::fs::read_to_string(outside).unwrap(), "somebody else's\r\n");
}

#[test]
fn whom_and_where_have_to_fit() {
    let world = world("", 0o600);
    for (line, says) in [
        ("mend --all", "--all --tree DIR"),
        ("mend --all edda --tree tree", "only one can be meant"),
        ("mend edda", "on which host"),
        ("mend --tree tree", "ACCOUNT"),
    ] {
        let run = world.typed(line).expect(2);
        assert!(run.stderr.contains(says), "{run}");
    }
    let run = world.typed("mend nobody --tree tree").expect(1);
    assert!(run.stderr.contains("there is no account nobody"), "{run}");
}
