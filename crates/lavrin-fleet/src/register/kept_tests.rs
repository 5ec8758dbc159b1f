use super::check::check;
use super::edit_kept::{NewVersion, add_hand_out, add_version, begin, rename_person, set_administrators, set_day};
use super::*;
use lavrin_keys::key::PrivateKey;

const TODAY: Date = Date { year: 2026, month: 11, day: 23 };

fn line(seed: u8) -> String {
    PrivateKey::ed25519(&[seed; 32]).unwrap().public().line("root@lantern")
}

/// A register with a host, two people of whom one has left, and this file of a kept key.
fn register(name: &str, kept: &str) -> Reading {
    let person = |seed: u8, more: &str| format!("name = \"x\"\n{more}[[key]]\nline = \"{}\"\n", line(seed));
    let files = [
        ("lavrin.toml", "name = \"x\"\n[kept]\nadministrators = [\"edda\", \"nobody\"]\n".to_owned()),
        ("people/edda.toml", person(1, "")),
        ("people/runa.toml", person(2, "left = 2026-11-01\n")),
        ("hosts.toml", format!("[lantern]\nhost_keys = [\"{}\"]\naccounts = [\"root\"]\n", line(9))),
        (name, kept.to_owned()),
    ];
    read(&files.map(|(path, text)| SourceFile { path: path.to_owned(), text }))
}

fn version(number: u32, seed: u8, more: &str) -> String {
    format!("[[key]]\nversion = {number}\nline = \"{}\"\nsealed_for = [\"edda\"]\n{more}\n", line(seed))
}

fn rules(reading: &Reading) -> Vec<&'static str> {
    check(reading, TODAY, &|_| None).into_iter().map(|finding| finding.fault.rule()).collect()
}

#[test]
fn versions_replace_each_other_and_the_one_in_use_is_the_newest_that_has_opened_the_account() {
    let text = version(2, 4, "") + &version(1, 3, "proven = 2026-11-20");
    let reading = register("kept/root@lantern.toml", &text);
    assert!(reading.findings.is_empty(), "{:?}", reading.findings);
    let kept = reading.register.kept_of("root", "lantern").unwrap();
    assert_eq!((kept.newest(), kept.keys[1].replaces.as_ref().unwrap().value.as_str()), (2, "1"));
    assert_eq!(kept.current(TODAY).unwrap().1.number, 1);
    let proven = version(1, 3, "proven = 2026-11-20") + &version(2, 4, "proven = 2026-11-21");
    let reading = register("kept/root@lantern.toml", &proven);
    let kept = reading.register.kept_of("root", "lantern").unwrap();
    assert_eq!(kept.current(TODAY).unwrap().1.number, 2);
    // An old one that is retired is not in use, proven or not.
    let retired = version(1, 3, "proven = 2026-11-20\nretired = 2026-11-21") + &version(2, 4, "");
    let reading = register("kept/root@lantern.toml", &retired);
    let kept = reading.register.kept_of("root", "lantern").unwrap();
    assert_eq!(kept.current(TODAY).unwrap().1.number, 2);
    // Only an administrator that nobody knows is left to be told.
    assert_eq!(rules(&reading), ["unknown-name"]);
}

#[test]
fn what_does_not_read_is_told_and_left_out() {
    let faults = |name: &str, text: &str| -> Vec<&'static str> {
        let reading = register(name, text);
        reading.findings.iter().map(|finding| finding.fault.rule()).collect()
    };
    let good = version(1, 3, "");
    for name in [
        "kept/lantern.toml",
        "kept/@lantern.toml",
        "kept/..@lantern.toml",
        "kept/a b@lantern.toml",
        "kept/-x@lantern.toml",
    ] {
        assert_eq!(faults(name, &good), ["bad-value"], "{name}");
    }
    let name = "kept/root@lantern.toml";
    assert_eq!(faults(name, &good.replace("version = 1", "version = 0")), ["wrong-kind"]);
    assert_eq!(faults(name, &good.replace("version = 1\n", "")), ["missing-field"]);
    assert_eq!(faults(name, &(good.clone() + &version(1, 4, ""))), ["named-twice"]);
    assert_eq!(faults(name, &good.replace("AAAA", "AA")), ["bad-key"]);
    assert_eq!(faults(name, &good.replace("sealed_for", "sealed_to")), ["unknown-field"]);
    assert_eq!(faults(name, &format!("options = [\"frobnicate\"]\n{good}")), ["bad-value"]);
}

#[test]
fn leavers_strangers_and_accounts_that_nobody_manages_are_told() {
    let told = |name: &str, text: &str| rules(&register(name, text));
    let leaver = version(1, 3, "").replace("\"edda\"", "\"edda\", \"runa\"");
    assert!(told("kept/root@lantern.toml", &leaver).contains(&"kept-known-to-leaver"));
    let handed = add_hand_out(&version(1, 3, ""), 1, "runa", TODAY, Some("lamp")).unwrap();
    assert!(told("kept/root@lantern.toml", &handed).contains(&"kept-known-to-leaver"));
    // What is retired opens nothing any more.
    let over = version(1, 3, "retired = 2026-11-02").replace("\"edda\"", "\"runa\"") + &version(2, 4, "");
    assert!(!told("kept/root@lantern.toml", &over).contains(&"kept-known-to-leaver"));
    assert!(told("kept/keeper@lantern.toml", &version(1, 3, "")).contains(&"kept-not-managed"));
    assert!(told("kept/root@lantren.toml", &version(1, 3, "")).contains(&"unknown-name"));
    // The same key for an account and a person.
    assert!(told("kept/root@lantern.toml", &version(1, 1, "")).contains(&"shared-key"));
}

#[test]
fn edits_leave_everything_else_as_it_is() {
    let people = ["edda".to_owned(), "sten".to_owned()];
    let new = NewVersion { version: 1, line: "ssh-ed25519 AAAA", added: TODAY, sealed_for: &people, proven: None };
    let text = add_version(&begin(&["no-pty".to_owned()]).unwrap(), &new).unwrap();
    let text = format!("# of the lamp room\n{text}# behind\n");
    let text = add_version(&text, &NewVersion { version: 2, proven: Some(TODAY), ..new }).unwrap();
    let text = add_hand_out(&text, 2, "sten", TODAY, None).unwrap();
    let text = set_day(&text, 1, "retired", TODAY).unwrap();
    insta::assert_snapshot!(text);
    let renamed = rename_person(&text, "sten", "sten.a").unwrap();
    assert_eq!(renamed, text.replace("\"sten\"", "\"sten.a\""));
    assert!(set_day(&text, 3, "retired", TODAY).is_err());
    let main = "name = \"x\"\n# who opens\n[kept]\nadministrators = [\"edda\"] # one\n";
    assert_eq!(rename_person(main, "edda", "e").unwrap(), main.replace("\"edda\"", "\"e\""));
    assert_eq!(set_administrators(main, &people).unwrap(), main.replace("[\"edda\"]", "[\"edda\", \"sten\"]"));
    let added = set_administrators("name = \"x\"\n", &people).unwrap();
    assert_eq!(added, "name = \"x\"\n\n[kept]\nadministrators = [\"edda\", \"sten\"]\n");
    assert!(set_administrators("kept = 1\n", &people).is_err());
}
