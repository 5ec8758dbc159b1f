//! The report as a file; how it looks and works in a browser is tested with a real one.

use crate::common::fleet::Fleet;
use crate::common::{hopping, key};
use lavrin_standin::Behaviour;
use std::os::unix::fs::PermissionsExt as _;

/// Comments that want to be more than text.
const HOSTILE: [&str; 4] = [
    "<img src=x onerror=alert(1)>",
    "</style></script><script>alert(2)</script>",
    "{}*{display:none}\"'`onload=alert(3)",
    "\u{202e}ekil kool\u{2066}",
];

#[test]
fn a_report_is_one_file_for_its_owner_and_never_written_over_another() {
    let fleet = hopping::fleet();
    let run = fleet.run("report --out access.html").expect(0);
    insta::with_settings!({filters => vec![(r"\(\d+ KB\)", "(some KB)")]}, {
        insta::assert_snapshot!("report_made", run);
    });
    let path = fleet.world.path("access.html");
    assert_eq!(path.metadata().unwrap().permissions().mode() & 0o777, 0o600);
    let text = fleet.world.read("access.html");
    assert!(text.starts_with("<!DOCTYPE html>") && text.ends_with("</html>\n"));
    drop(fleet.run("report --out access.html").expect(2));
    assert_eq!(fleet.world.read("access.html"), text);
    let out = fleet.run("report --out access.html --replace --format json").expect(0).json();
    assert!(out["moved_aside"].as_str().unwrap().contains("access.until-20261123-080000.html"));
    assert_eq!(std::fs::read_to_string(fleet.world.path("access.until-20261123-080000.html")).unwrap(), text);
    assert!(out["findings"]["critical"].is_u64());
    // A folder that is not there, and nothing left behind.
    drop(fleet.run("report --out no/such/folder.html").expect(2));
}

#[test]
fn the_next_report_tells_what_changed_since() {
    let fleet = hopping::fleet();
    let at = |time: &str, line: &str| {
        fleet.world.run_with(&[("LAVRIN_NOW", time)], &line.split_whitespace().collect::<Vec<_>>())
    };
    drop(at("2026-11-24T08:00:00Z", "report --out first.html").expect(0));
    fleet.put(0, "/home/edda/.ssh/authorized_keys", &format!("{}\n", key(2).public().line("edda")));
    drop(at("2026-11-25T08:00:00Z", "survey --identity home/office").expect(0));
    drop(at("2026-11-26T08:00:00Z", "report --out second.html").expect(0));
    assert!(fleet.world.read("first.html").contains("there is no earlier report"));
    let second = fleet.world.read("second.html");
    assert!(second.contains("since the report of 2026-11-24") && second.contains("+1<span class=\"of\"> −1</span>"));
    // A report of a part is compared with reports of that part, and the past is no report of today.
    drop(at("2026-11-27T08:00:00Z", "report --out part.html --tag lights").expect(0));
    assert!(fleet.world.read("part.html").contains("there is no earlier report"));
    drop(at("2026-11-27T08:00:00Z", "report --out past.html --at 2026-11-24").expect(0));
    let past = fleet.world.read("past.html");
    assert!(past.contains("As it was at") && past.contains("2026-11-24 23:59:59 UTC"));
    // What was there then: sten's entry, which has gone since.
    let section =
        |page: &str| page.split("id=\"person-sten\"").nth(1).unwrap().split("</details>").next().unwrap().to_owned();
    assert!(section(&past).contains("lantern") && section(&past).contains("as registered"));
    assert!(section(&second).contains("missing"));
}

#[test]
fn foreign_text_is_text() {
    let mut fleet = Fleet::with_people("edda", "reason = \"<b>\"\n");
    let lines: String =
        HOSTILE.iter().zip(20..).map(|(comment, seed)| format!("{}\n", key(seed).public().line(comment))).collect();
    fleet.add("lantern", &lines, Behaviour::default());
    drop(fleet.survey("").expect(0));
    drop(fleet.run("report --out access.html").expect(0));
    let text = fleet.world.read("access.html");
    assert_eq!(text.matches("<script>").count(), 1);
    assert!(!text.contains("<img") && text.contains("&lt;img src=x onerror=alert(1)&gt;"));
    assert!(!text.contains(['\u{202e}', '\u{2066}']) && text.contains("\\u{202e}ekil kool"));
}

#[test]
fn hosts_that_were_never_seen_are_said_to_be_so() {
    let fleet = Fleet::with_people("edda", "");
    fleet.register("lantern", 22, "", "");
    let out = fleet.run("report --out access.html --format json").expect(3).json();
    assert_eq!((&out["hosts"], &out["seen"], &out["entries"]), (&1.into(), &0.into(), &0.into()));
    let text = fleet.world.read("access.html");
    assert!(text.contains("never seen: lantern") && text.contains("never surveyed"));
}
