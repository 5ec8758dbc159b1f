//! The report in Debian's chromium, driven by playwright.

use crate::common::{hopping, key};
use serde_json::Value;
use std::process::Command;

/// What the page shows in a browser.
fn look(modules: &str, page: &std::path::Path, matrix: &std::path::Path) -> Value {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/browser/report.mjs");
    let output = Command::new("node").arg(script).arg(modules).arg(page).arg(matrix).output().unwrap();
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{said}");
    serde_json::from_slice(&output.stdout).unwrap()
}

fn texts(value: &Value) -> Vec<&str> {
    value.as_array().unwrap().iter().map(|one| one.as_str().unwrap_or_default()).collect()
}

#[test]
#[ignore = "needs chromium, node and playwright-core: scripts/test.sh"]
fn a_report_reads_well_in_a_real_browser_and_asks_nothing_of_anybody() {
    let modules = std::env::var("LAVRIN_PLAYWRIGHT").expect("scripts/playwright.sh tells the folder");
    let fleet = hopping::fleet();
    let hostile = ["<img src=x onerror=alert(1)>", "</script><script>alert(2)</script>", "\u{202e}desrever"];
    let lines: String =
        hostile.iter().zip(20..).map(|(comment, seed)| format!("{}\n", key(seed).public().line(comment))).collect();
    fleet.put(1, "/home/edda/.ssh/authorized_keys", &(fleet_line(5) + &lines));
    drop(fleet.survey("").expect(0));
    drop(fleet.run("report --out access.html").expect(0));
    let matrix = fleet.run("matrix --format json").expect(1).stdout;
    let matrix = fleet.world.write("matrix.json", matrix, 0o600);
    let found = look(&modules, &fleet.world.path("access.html"), &matrix);

    assert_eq!(texts(&found["said"]), [""; 0], "errors and dialogs");
    assert_eq!(texts(&found["asked"]), [""; 0], "requests");
    let expected = texts(&found["expected"]);
    assert!(expected.len() > 8, "{expected:?}");
    assert_eq!(texts(&found["cells"]), expected);
    for scheme in ["light", "dark"] {
        let contrast = &found["contrast"][scheme];
        assert_eq!(texts(&contrast["poor"]), [""; 0], "{scheme}");
        assert!(contrast["seen"].as_u64().unwrap() > 200, "{contrast}");
    }
    for (width, most) in [("1280", 1280), ("390", 390)] {
        assert!(found["widths"][width].as_u64().unwrap() <= most, "{width}: {:?}", texts(&found["wide"]));
    }
    assert_eq!(found["landmarks"], serde_json::json!([1, 1, 1, 1]));
    assert_eq!(found["images"], true);
    let headings =
        ["In short", "Who gets in where", "Numbers", "What to do", "Ways through", "Person by person", "Host by host"];
    assert_eq!(texts(&found["headings"]), headings);
    let text = found["text"].as_str().unwrap();
    for wanted in ["Skerry lights", "<img src=x onerror=alert(1)>", "From lantern", "next: "] {
        assert!(text.contains(wanted), "{wanted}: {text}");
    }
    let tabs = texts(&found["tabs"]);
    assert_eq!(
        tabs[..8],
        [
            "To the content",
            "In short",
            "Who gets in where",
            "Numbers",
            "What to do",
            "Ways through",
            "Person by person",
            "Host by host"
        ]
    );
    assert_eq!(tabs[8], "typed");
    assert_eq!(found["inOrder"], true);
    let rows: Vec<u64> = found["rows"].as_array().unwrap().iter().map(|one| one.as_u64().unwrap()).collect();
    assert!(rows[1] < rows[0] && rows[2] == rows[0], "{rows:?}");
    assert_eq!(found["printed"], 1);
    assert!(found["withoutScript"].as_u64().unwrap() > 1_000 && found["filterWithoutScript"] == false);
}

fn fleet_line(seed: u8) -> String {
    format!("{}\n", key(seed).public().line("lamp timer"))
}
