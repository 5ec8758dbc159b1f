//! What runs by itself every night: only what is new is told, and numbers go to monitoring.

use crate::common::hopping;

#[test]
fn a_nightly_audit_tells_only_what_is_new() {
    let fleet = hopping::fleet();
    let count =
        |line: &str, code: i32| -> usize { fleet.run(line).expect(code).json()["findings"].as_array().unwrap().len() };
    let all = count("audit --new --format json", 1);
    assert!(all > 3, "{all}");
    assert_eq!(count("audit --new --format json", 0), 0);
    // One day later the same is no news, whatever is counted in it.
    let later = fleet.world.run_with(&[("LAVRIN_NOW", "2026-11-24T08:00:00Z")], &["audit", "--new"]).expect(0);
    assert!(later.stderr.contains("told before; all of them: lavrin audit"), "{later}");
    fleet.put(0, "/home/edda/.ssh/authorized_keys", "not a key at all\n");
    drop(fleet.survey("lantern"));
    let new = fleet.run("audit --new --format json").expect(1).json();
    let rules: Vec<&str> =
        new["findings"].as_array().unwrap().iter().map(|one| one["rule"].as_str().unwrap()).collect();
    assert!(rules.contains(&"unusable-line") && rules.len() < all, "{rules:?}");
    // Without the option everything is told, and a part of the register has a memory of its own.
    assert!(count("audit --format json", 1) > rules.len());
    assert!(count("audit lantern --new --format json", 1) > 0);
    drop(fleet.run("audit --new --tree home").expect(2));
}

#[test]
fn the_numbers_for_monitoring_are_those_of_the_audit() {
    let fleet = hopping::fleet();
    let out = fleet.run("audit --metrics numbers.prom --format json").expect(1).json();
    // It is written anew each time; another file under that name is left alone.
    drop(fleet.run("audit --metrics numbers.prom").expect(1));
    fleet.world.write("letter", "dear keeper\n", 0o644);
    drop(fleet.run("audit --metrics letter").expect(2));
    assert_eq!(fleet.world.read("letter"), "dear keeper\n");
    let text = fleet.world.read("numbers.prom");
    assert!(text.ends_with("# EOF\n") && fleet.world.mode("numbers.prom") == "0644");
    let value = |name: &str| -> u64 {
        let line =
            text.lines().find(|line| line.starts_with(name)).unwrap_or_else(|| panic!("{name} is missing: {text}"));
        line.rsplit_once(' ').unwrap().1.parse().unwrap()
    };
    for severity in ["critical", "high", "medium", "low", "info"] {
        let counted = out["summary"]["findings"][severity].as_u64().unwrap();
        assert_eq!(value(&format!("lavrin_open_findings{{severity=\"{severity}\"}}")), counted);
    }
    let by_rule: u64 = text
        .lines()
        .filter(|line| line.starts_with("lavrin_findings{"))
        .map(|line| line.rsplit_once(' ').unwrap().1.parse::<u64>().unwrap())
        .sum();
    assert_eq!(by_rule, out["findings"].as_array().unwrap().len() as u64);
    assert_eq!((value("lavrin_hosts{state=\"seen\"}"), value("lavrin_hosts{state=\"never\"}")), (3, 0));
    assert_eq!(value("lavrin_survey_age_seconds{look=\"oldest\"}"), 0);
    // Every family says what it is before its samples.
    for line in text.lines().filter(|line| !line.starts_with('#')) {
        let name = line.split(['{', ' ']).next().unwrap();
        assert!(text.contains(&format!("# TYPE {name} gauge\n# HELP {name} ")), "{name}");
    }
}
