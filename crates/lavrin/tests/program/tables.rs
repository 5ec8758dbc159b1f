//! Results for tables, for programs line by line, and for code hosts; the matrix in a terminal.

use crate::common::{fleet::Fleet, hopping, key};
use lavrin_standin::Behaviour;
use serde_json::Value;

/// The cells of a table (RFC 4180), read by somebody else.
fn table(text: &str) -> Vec<Vec<String>> {
    let script = "import csv, json, sys; print(json.dumps(list(csv.reader(sys.stdin, strict=True))))";
    let mut child = std::process::Command::new("python3")
        .args(["-c", script])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), text.as_bytes()).unwrap();
    serde_json::from_slice(&child.wait_with_output().unwrap().stdout).unwrap()
}

#[test]
fn lists_come_as_tables_and_as_lines_with_the_same_rows() {
    let fleet = hopping::fleet();
    for (line, status) in [
        ("person list", 0),
        ("host list", 0),
        ("history", 0),
        ("history --at today", 0),
        ("compare", 1),
        ("matrix", 1),
        ("audit", 1),
        ("audit --entries", 1),
        ("survey --identity home/office", 0),
    ] {
        let csv = fleet.run(&format!("{line} --format csv")).expect(status).stdout;
        assert!(csv.lines().all(|line| !line.is_empty()) && csv.matches("\r\n").count() > 1, "{line}: {csv}");
        let rows = table(&csv);
        let width = rows[0].len();
        assert!(rows.iter().all(|row| row.len() == width), "{line}");
        let lines = fleet.run(&format!("{line} --format jsonl")).expect(status).stdout;
        let mut objects: Vec<Value> = lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
        let (mut rows, mut names) = (rows, Vec::new());
        if line.starts_with("survey") {
            // Each host as it comes.
            names.extend(rows.drain(..1));
            rows.sort();
            objects.sort_by_key(|object| object["host"].to_string());
            rows.splice(..0, names);
        }
        assert_eq!(objects.len(), rows.len() - 1, "{line}");
        for (object, row) in objects.iter().zip(&rows[1..]) {
            for (name, cell) in rows[0].iter().zip(row) {
                let told = match &object[name] {
                    Value::Null => String::new(),
                    Value::String(text) => text.clone(),
                    Value::Array(parts) => {
                        parts.iter().map(|part| part.as_str().unwrap()).collect::<Vec<_>>().join("; ")
                    }
                    other => other.to_string(),
                };
                assert_eq!(cell.trim_start_matches('\''), told.trim_start_matches('\''), "{line}: {name}");
            }
        }
    }
}

#[test]
fn no_cell_begins_a_formula() {
    let mut fleet = Fleet::with_people("edda", "");
    let lines: String = ["=cmd()", "+1", "-2", "@SUM(A1)"]
        .iter()
        .zip(10..)
        .map(|(comment, seed)| format!("{}\n", key(seed).public().line(comment)))
        .collect();
    fleet.add("lantern", &lines, Behaviour::default());
    drop(fleet.survey("").expect(0));
    let rows = table(&fleet.run("matrix --format csv").expect(1).stdout);
    let comments: Vec<&String> = rows[1..].iter().map(|row| &row[7]).filter(|cell| !cell.is_empty()).collect();
    for wanted in ["'=cmd()", "'+1", "'-2", "'@SUM(A1)"] {
        assert!(comments.iter().any(|cell| *cell == wanted), "{wanted}: {comments:?}");
    }
    assert!(rows.iter().flatten().all(|cell| !cell.starts_with(['=', '+', '-', '@'])));
}

#[test]
fn a_form_that_a_command_does_not_have_is_refused_before_anything_is_done() {
    let fleet = Fleet::new();
    for line in [
        "key generate --name x --passphrase none --format csv",
        "history --verify x --format csv",
        "host list --format sarif",
    ] {
        let run = fleet.run(line).expect(2);
        assert!(run.stdout.is_empty() && run.stderr.contains("it gives text, json"), "{run}");
    }
    assert!(!fleet.world.path("home/.ssh/x").exists());
}

#[test]
fn code_hosts_are_told_the_line_of_each_finding() {
    let fleet = hopping::fleet();
    fleet.world.write(
        "access.toml",
        "\n[[grant]]\nperson = \"nobody\"\naccount = \"root\"\nhosts = [\"lantern\"]\n",
        0o644,
    );
    let check = fleet.run("register check --format sarif").expect(1).json();
    assert_eq!(check["version"], "2.1.0");
    let result =
        check["runs"][0]["results"].as_array().unwrap().iter().find(|one| one["ruleId"] == "unknown-name").unwrap();
    let place = &result["locations"][0]["physicalLocation"];
    assert_eq!((&place["artifactLocation"]["uri"], &place["region"]["startLine"]), (&"access.toml".into(), &3.into()));
    let audit = fleet.run("audit --format sarif").expect(1).json();
    let results = audit["runs"][0]["results"].as_array().unwrap();
    assert!(!results.is_empty());
    for result in results {
        let place = &result["locations"][0]["physicalLocation"]["artifactLocation"]["uri"];
        assert!(place.as_str().unwrap().starts_with("hosts/"), "{result}");
        let rule = usize::try_from(result["ruleIndex"].as_u64().unwrap()).unwrap();
        assert_eq!(audit["runs"][0]["tool"]["driver"]["rules"][rule]["id"], result["ruleId"]);
    }
}

#[test]
fn the_matrix_shows_who_gets_in_where_and_where_that_differs() {
    let fleet = hopping::fleet();
    let prints = vec![(r"SHA256:[A-Za-z0-9+/]{43}", "SHA256:…")];
    insta::with_settings!({filters => prints}, {
        insta::assert_snapshot!("matrix_grid", fleet.run("matrix").expect(1));
        insta::assert_snapshot!("matrix_of_one", fleet.run("matrix sten").expect(1));
    });
    let before = fleet.run("matrix --at 2026-11-20 --format json").expect(3).json();
    assert!(before["hosts"].as_array().unwrap().iter().all(|host| host["seen"].is_null()));
    assert!(before["ways"].as_array().unwrap().iter().all(|way| way["state"] == "not-seen"));
    drop(fleet.run("matrix nobody").expect(2));
}

#[test]
fn a_large_matrix_is_told_by_teams_and_tags() {
    let fleet = Fleet::with_people("edda", "");
    let hosts: String =
        (0..70).map(|number| format!("[buoy-{number:02}]\ntags = [\"sea-{}\"]\n", number % 2)).collect();
    fleet.world.write("hosts.toml", hosts, 0o644);
    let run = fleet.run("matrix").expect(3);
    assert!(run.stdout.contains("sea-1") && run.stdout.contains("35?"), "{run}");
    assert!(!run.stdout.contains("│ buoy-01"), "{run}");
}

/// What a run shows on a terminal of 80 columns, with these variables.
fn on_a_terminal(fleet: &Fleet, line: &str, variables: &[(&str, &str)]) -> String {
    let program = env!("CARGO_BIN_EXE_lavrin");
    let mut command = std::process::Command::new("/usr/bin/script");
    let typed = format!("stty cols 80 rows 40; exec {program} {line}");
    command
        .args(["-qec", &typed, "/dev/null"])
        .env_clear()
        .env("PATH", "/usr/bin:/bin")
        .env("HOME", fleet.world.path("home"));
    command.env("LAVRIN_NOW", crate::common::NOW).env("NO_COLOR", "1").envs(variables.iter().copied());
    let output = command.current_dir(fleet.world.path("")).stdin(std::process::Stdio::null()).output().unwrap();
    String::from_utf8(output.stdout).unwrap().replace("\r\n", "\n")
}

#[test]
fn tables_fit_the_terminal_and_a_poor_locale_gets_ascii() {
    let fleet = hopping::fleet();
    let modern = on_a_terminal(&fleet, "audit --entries", &[("LANG", "C.UTF-8")]);
    assert!(modern.contains('…') && modern.lines().all(|line| line.chars().count() <= 80), "{modern}");
    let poor = on_a_terminal(&fleet, "matrix", &[("LC_ALL", "C")]);
    assert!(poor.is_ascii() && poor.contains("| | skerry") && poor.contains("  sten           a - -"), "{poor}");
    // In a pipe nothing is cut.
    assert!(fleet.run("audit --entries").stdout.lines().any(|line| line.chars().count() > 80));
}

#[test]
fn a_pager_shows_it_only_where_it_is_asked_for_and_named() {
    let fleet = hopping::fleet();
    let pager = ("PAGER", "sed s/^/paged:/");
    let paged = on_a_terminal(&fleet, "person list --pager", &[pager]);
    assert!(paged.contains("paged:office") && paged.contains("paged:3 people"), "{paged}");
    for (line, variables) in [("person list", &[pager][..]), ("person list --pager", &[][..])] {
        assert!(!on_a_terminal(&fleet, line, variables).contains("paged:"), "{line}");
    }
    assert!(!fleet.world.run_with(&[pager], &["person", "list", "--pager"]).stdout.contains("paged:"));
}
