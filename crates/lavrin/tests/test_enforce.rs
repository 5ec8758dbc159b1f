//! Register and hosts held against each other and brought into line, on stand-ins.

mod common;

use common::fleet::Fleet;
use common::key;
use lavrin_standin::Behaviour;

fn line(seed: u8, comment: &str) -> String {
    key(seed).public().line(comment) + "\n"
}

fn person(name: &str, more: &str, seed: u8) -> String {
    format!("name = \"{name}\"\n{more}\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line(seed, "a key").trim())
}

/// edda may enter her account everywhere, runa only from the harbour; sten has left; the key 4 is nobody's.
fn people(fleet: &Fleet) {
    fleet.world.write("people/office.toml", person("The office", "", 1), 0o644);
    fleet.world.write("people/edda.toml", person("Edda Mole", "", 2), 0o644);
    fleet.world.write("people/sten.toml", person("Sten Kvarn", "left = 2026-10-01\n", 3), 0o644);
    fleet.world.write("people/runa.toml", person("Runa Fjell", "", 5), 0o644);
    let access = "[[grant]]\nperson = \"office\"\naccount = \"root\"\nhosts = [\"*\"]\n\n\
                  [[grant]]\nperson = \"edda\"\naccount = \"edda\"\nhosts = [\"*\"]\n\n\
                  [[grant]]\nperson = \"runa\"\naccount = \"edda\"\nhosts = [\"lantern\"]\nfrom = \"127.0.0.0/8\"\n";
    fleet.world.write("access.toml", access, 0o644);
}

fn keys(fleet: &Fleet, host: usize) -> String {
    std::fs::read_to_string(fleet.hosts[host].file("/home/edda/.ssh/authorized_keys")).unwrap_or_default()
}

const ENFORCE: &str = "enforce --identity home/office";

#[test]
fn what_differs_is_told_ended_and_then_nothing_is_left_to_do() {
    let mut fleet = Fleet::new();
    people(&fleet);
    let before = format!("# kept\n{}{}{}", line(3, "sten@lantern"), line(4, "who knows"), line(5, "runa"));
    fleet.add("lantern", &before, Behaviour::default());
    fleet.add("skerry", &line(2, "edda"), Behaviour::default());
    drop(fleet.survey("").expect(0));
    insta::assert_snapshot!("compare", fleet.run("compare").expect(1));
    let json = fleet.run("compare --format json").expect(1).json();
    assert_eq!((&json["schema"], &json["summary"]["in_line"]), (&"lavrin/compare/1".into(), &1.into()));
    insta::with_settings!({filters => vec![(r"\d{8}-\d{6}-[0-9a-f]{6}", "RUN")]}, {
        insta::assert_snapshot!("enforce", fleet.run(&format!("{ENFORCE} --yes --reason tidy")).expect(0));
    });
    let options = "from=\"127.0.0.0/8\" ";
    let after = format!("# kept\n{}{options}{}{}", line(4, "who knows"), line(5, "runa"), line(2, "a key"));
    assert_eq!(keys(&fleet, 0), after);
    // What is done is known without another look, and nothing is left to do.
    insta::assert_snapshot!("compare_after", fleet.run("compare").expect(1));
    insta::assert_snapshot!("enforce_again", fleet.run(&format!("{ENFORCE} --yes")).expect(0));
    assert_eq!(keys(&fleet, 0), after);
}
