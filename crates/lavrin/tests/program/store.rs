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

/// Copies the files of one register to another one, as version control does: what both have is the same, or one has more of it.
fn merge(from: &std::path::Path, to: &std::path::Path) {
    for folder in ["journal", "contents"] {
        let _ = std::fs::create_dir(to.join(folder));
        for entry in std::fs::read_dir(from.join(folder)).into_iter().flatten().flatten() {
            let target = to.join(folder).join(entry.file_name());
            let (new, old) = (std::fs::read(entry.path()).unwrap(), std::fs::read(&target).unwrap_or_default());
            assert!(new.starts_with(&old) || old.starts_with(&new), "a conflict in {}", target.display());
            std::fs::write(target, if new.len() > old.len() { new } else { old }).unwrap();
        }
    }
}

#[test]
fn a_colleagues_copy_of_the_register_knows_the_runs_and_takes_them_back() {
    let mut fleet = Fleet::new();
    fleet.add("lantern", &(key(3).public().line("edda") + "\n"), Behaviour::default());
    fleet.world.write("lavrin.toml", "name = \"Skerry lights\"\n[store]\njournal = \"register\"\n", 0o644);
    // A colleague has a copy of the register, and nothing of this desk.
    let colleague = fleet.world.path("colleague");
    std::fs::create_dir_all(colleague.join("hosts")).unwrap();
    for file in ["lavrin.toml", "hosts/lantern.toml"] {
        std::fs::copy(fleet.world.path(file), colleague.join(file)).unwrap();
    }
    fleet.world.put_pair("edda", 2, "edda");
    let before = fleet.hosts[0].file("/home/edda/.ssh/authorized_keys");
    let before = std::fs::read_to_string(before).unwrap();
    let sign_in = "--identity home/office --login root";
    drop(fleet.run(&format!("install home/edda.pub edda@lantern {sign_in} --reason tides --yes")).expect(0));
    merge(&fleet.world.path(""), &colleague);
    let there = "--register colleague";
    let history = fleet.run(&format!("history lantern {there}")).expect(0);
    assert!(history.stdout.contains("install") && history.stdout.contains("tides"), "{history}");
    let undone = fleet.run(&format!("undo --last {sign_in} --yes {there}")).expect(0);
    let now = std::fs::read_to_string(fleet.hosts[0].file("/home/edda/.ssh/authorized_keys")).unwrap();
    assert_eq!(now, before, "{undone}");
    merge(&colleague, &fleet.world.path(""));
    let back = fleet.run("history lantern").expect(0);
    assert!(back.stdout.contains("undo"), "{back}");
    for register in [".", "colleague"] {
        let check = fleet.run(&format!("store check --register {register} --format json")).expect(0).json();
        assert_eq!(check["journal_in_register"], 4, "{check}");
    }
    // A line that was changed is found in every copy.
    let read = |run: &String| std::fs::read_to_string(colleague.join("journal").join(run)).unwrap();
    let runs = crate::common::names(&colleague.join("journal"));
    let run = runs.iter().find(|run| read(run).contains("tides")).unwrap();
    std::fs::write(colleague.join("journal").join(run), read(run).replace("tides", "lamps")).unwrap();
    let found = fleet.run(&format!("store check {there}")).expect(1);
    assert!(found.stdout.contains(&format!("journal/{run} was changed")), "{found}");
}

#[test]
fn two_who_work_from_different_registers_are_told() {
    let mut fleet = Fleet::with_people("edda", "");
    fleet.add("lantern", &(key(1).public().line("office") + "\n"), Behaviour::default());
    let git = |line: &str| {
        let mut command = Command::new("git");
        command.args(["-c", "user.name=Edda", "-c", "user.email=edda@example.invalid"]).args(line.split_whitespace());
        let done = command.current_dir(fleet.world.path("")).env("GIT_CONFIG_NOSYSTEM", "1").output().unwrap();
        assert!(done.status.success(), "{line}: {}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8(done.stdout).unwrap().trim().to_owned()
    };
    git("init -q");
    git("add lavrin.toml people hosts access.toml");
    git("commit -q -m first");
    let first = git("rev-parse HEAD");
    drop(fleet.run("enforce --identity home/office --yes").expect(0));
    let rules = |run: crate::common::Run| -> Vec<String> {
        let json = run.json();
        let findings = json["findings"].as_array().unwrap();
        findings.iter().map(|finding| finding["rule"].as_str().unwrap().to_owned()).collect()
    };
    assert!(!rules(fleet.run("audit --format json")).contains(&"other-register".to_owned()));
    // Going on from there is the same register.
    git("commit -q --allow-empty -m second");
    assert!(!rules(fleet.run("audit --format json")).contains(&"other-register".to_owned()));
    // This copy never had that version.
    std::fs::remove_dir_all(fleet.world.path(".git")).unwrap();
    git("init -q");
    git("add lavrin.toml people hosts access.toml");
    git("commit -q -m elsewhere");
    let told = fleet.run("audit").expect(1);
    assert!(told.stdout.contains(&format!("by commit {} of the register", &first[..12])), "{told}");
}
