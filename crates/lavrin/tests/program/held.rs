//! What nobody on a host, and no register from elsewhere, can do to whoever uses the program. Each test attacks a rule in its own
//! way; `real_held.rs` does so with real servers and accounts.

use crate::common::fleet::Fleet;
use crate::common::terminal::talk;
use crate::common::{Run, World, key};
use lavrin_standin::Behaviour;
use std::os::unix::fs::PermissionsExt as _;

fn line(seed: u8, comment: &str) -> String {
    format!("{}\n", key(seed).public().line(comment))
}

fn person(fleet: &Fleet, name: &str, seed: u8, more: &str) {
    let key = key(seed).public().line(name);
    let text = format!("name = \"{name}\"\n{more}[[key]]\nlabel = \"main\"\nline = \"{key}\"\n");
    fleet.world.write(&format!("people/{name}.toml"), text, 0o644);
}

/// Runa leaves; the office stays.
fn leaving(fleet: &Fleet, more: &str) -> Run {
    fleet.run(&format!("offboard runa --identity home/office --yes {more}"))
}

fn mode(world: &World, path: &str, mode: u32) {
    std::fs::set_permissions(world.path(path), std::fs::Permissions::from_mode(mode)).unwrap();
}

#[test]
fn a_register_that_others_may_write_is_nobodys_word() {
    let mut fleet = Fleet::new();
    person(&fleet, "runa", 2, "");
    fleet.add("lantern", "", Behaviour::default());
    for (path, loose, usual) in [("", 0o777, 0o700), ("people", 0o777, 0o755), ("hosts/lantern.toml", 0o666, 0o644)] {
        mode(&fleet.world, path, loose);
        let run = fleet.survey("").expect(2);
        assert!(run.stderr.contains("others may write it"), "{path}: {run}");
        // To lint it needs no trust: nothing is done by what it says.
        drop(fleet.run("register check").expect(1));
        mode(&fleet.world, path, usual);
    }
    assert!(fleet.survey("").expect(0).stderr.contains("register Skerry lights in "));
}

#[test]
fn what_a_register_says_reaches_no_terminal_as_a_command() {
    let fleet = Fleet::new();
    let escape = "\\u001b[31m\\u009b1m\\u007f";
    person(&fleet, "runa", 2, &format!("team = \"t{escape}\"\n"));
    fleet.world.write("lavrin.toml", format!("name = \"r{escape}\"\n"), 0o644);
    let text = format!("address = \"a{escape}\"\ntags = [\"x{escape}\"]\naccounts = [\"e{escape}\"]\n");
    fleet.world.write("hosts/lantern.toml", text, 0o644);
    fleet.world.write(
        "access.toml",
        format!("[[grant]]\nperson = \"no{escape}\"\naccount = \"e\"\nhosts = [\"*\"]\n"),
        0o644,
    );
    for command in
        ["register check", "person list", "person show runa", "host list", "host show lantern", "compare", "history"]
    {
        for format in ["text", "json"] {
            let run = fleet.run(&format!("{command} --format {format}"));
            let raw = run.to_string().chars().find(|character| character.is_control() && *character != '\n');
            assert_eq!(raw, None, "{command} {format}: {run}");
        }
    }
}

#[test]
fn a_leaver_is_gone_only_where_no_account_holds_their_key() {
    let mut fleet = Fleet::new();
    person(&fleet, "runa", 2, "");
    fleet.add("lantern", &line(2, "runa"), Behaviour::default());
    // An account that the register does not manage, in its second file, behind a limit.
    fleet.put(0, "/home/lamp/.ssh/authorized_keys2", &format!("from=\"192.0.2.9\" {}", line(2, "old")));
    let run = leaving(&fleet, "").expect(3);
    assert!(run.stdout.contains("still there, not managed  lamp@lantern"), "{run}");
    assert!(fleet.world.read("owed.toml").contains("lamp"));
    drop(fleet.run("audit lantern").expect(1));
    let run = leaving(&fleet, "--everywhere").expect(0);
    assert!(run.stdout.contains("removed"), "{run}");
    assert!(!fleet.world.read("owed.toml").contains("lamp"));
}

#[test]
fn what_was_not_read_is_owed_until_it_is() {
    let mut fleet = Fleet::new();
    person(&fleet, "runa", 2, "");
    fleet.add("lantern", &(line(3, "sten") + "ssh-ed25519 AAAAbroken runa\n"), Behaviour::default());
    let run = leaving(&fleet, "").expect(3);
    assert!(run.stdout.contains("authorized_keys line 2 is not understood"), "{run}");
    fleet.put(0, "/home/edda/.ssh/authorized_keys", &"# a very long file\n".repeat(900_000));
    let run = leaving(&fleet, "").expect(3);
    assert!(run.stdout.contains("is larger than 16777216 bytes"), "{run}");
    assert!(fleet.world.read("owed.toml").contains("edda"));
    fleet.put(0, "/home/edda/.ssh/authorized_keys", &line(3, "sten"));
    drop(leaving(&fleet, "").expect(0));
    assert!(!fleet.world.read("owed.toml").contains("edda"));
}

#[test]
fn a_host_that_was_not_read_leaves_a_row_and_a_debt() {
    let mut fleet = Fleet::new();
    person(&fleet, "runa", 2, "");
    fleet.add("lantern", "", Behaviour::default());
    fleet.register("skerry", 1, key(9).public().line("").trim(), "");
    let run = leaving(&fleet, "").expect(3);
    assert!(run.stdout.contains("@skerry"), "{run}");
    assert!(fleet.world.read("owed.toml").contains("skerry"));
}

#[test]
fn nobody_stays_by_the_comment_behind_a_key() {
    let mut fleet = Fleet::new();
    person(&fleet, "runa", 2, "");
    let robot = key(5).public().fingerprint();
    fleet.add_with("lantern", &(line(2, "robot") + &line(5, "robot")), Behaviour::default(), "leave = [\"robot\"]\n");
    drop(fleet.survey("").expect(0));
    let found = fleet.run("register check").expect(1);
    assert!(found.stdout.contains(&robot.to_string()), "what was meant is named: {found}");
    assert!(leaving(&fleet, "").expect(0).stdout.contains("removed"));
    // A fingerprint does not keep a key whose person is known either.
    let leave = format!("leave = [\"{}\"]\n", key(2).public().fingerprint());
    let (port, pin) = (fleet.hosts[0].address().port(), fleet.hosts[0].host_key_line());
    fleet.register("lantern", port, &pin, &leave);
    fleet.put(0, "/home/edda/.ssh/authorized_keys", &line(2, "robot"));
    assert!(leaving(&fleet, "").expect(0).stdout.contains("removed"));
}

#[test]
fn an_altered_backup_brings_back_what_was_there() {
    let world = World::new();
    world.put_pair("edda", 1, "edda");
    let before = line(1, "edda") + &line(2, "sten");
    world.put_tree();
    world.write("tree/home/edda/.ssh/authorized_keys", &before, 0o600);
    world.set_mode("tree/home/edda/.ssh", 0o700);
    let tree = world.path("tree");
    drop(world.typed(&format!("remove home/edda.pub edda --tree {} --yes", tree.display())).expect(0));
    let kept = world.path("home/.local/state/lavrin/backups");
    for name in crate::common::names(&kept) {
        std::fs::write(kept.join(name), line(9, "stranger")).unwrap();
    }
    let history = world.typed("history").expect(0).stdout;
    let id = history.split("undo: ").nth(1).unwrap().split_whitespace().next().unwrap().to_owned();
    drop(world.typed(&format!("undo {id} --yes")).expect(0));
    assert_eq!(world.read("tree/home/edda/.ssh/authorized_keys"), before);
}

#[test]
fn a_new_key_where_others_may_write_is_warned_about_however_quiet() {
    let world = World::new();
    let make = |name: &str| {
        world
            .typed(&format!("key generate --passphrase none --folder home/keys --name {name} --quiet"))
            .expect(0)
            .stderr
    };
    assert_eq!(make("edda"), "");
    mode(&world, "home/keys", 0o777);
    assert!(make("sten").contains("careful: other users can write to home/keys"));
}

#[test]
fn a_made_passphrase_is_shown_however_quiet() {
    let world = World::new();
    let (shown, done) =
        talk(&world, "key generate --passphrase made --name edda --quiet", &[("find it again?", "yes")]);
    assert!(done && shown.lines().any(|line| line.split_whitespace().count() >= 5), "{shown}");
    // Where nobody sees it no key is made that nobody could open.
    let (_, done) = talk(&world, "key generate --passphrase made --name sten --quiet 2>told", &[]);
    assert!(!done && !world.path("home/.ssh/sten").exists());
}
