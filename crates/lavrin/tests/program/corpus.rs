//! The built program against a corpus made by independent implementations: key files in every container, weak keys among
//! healthy ones, and texts that people mailed.

use crate::common::World;
use serde_json::Value;
use std::path::PathBuf;
use std::time::{Duration, Instant};

fn corpus(below: &str) -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/unsafe-corpus").join(below)
}

fn manifest(below: &str) -> Vec<Value> {
    let text = std::fs::read_to_string(corpus(below)).unwrap();
    let whole: Value = serde_json::from_str(&text).unwrap();
    whole["cases"].as_array().unwrap().clone()
}

/// Writes out what a manifest only describes: text, and text over and over.
fn expand(parts: &Value) -> String {
    let part = |part: &Value| match part["text"].as_str() {
        Some(text) => text.to_owned(),
        None => {
            part["repeat"]["text"].as_str().unwrap().repeat(usize::try_from(part["count"].as_u64().unwrap()).unwrap())
        }
    };
    parts.as_array().unwrap().iter().map(part).collect()
}

/// What a case says against the answer, or nothing.
fn disagreement(case: &Value, answer: &Value, exit: i32) -> Option<String> {
    let expect = &case["expect"];
    let wants_reading = expect["outcome"] == "reads";
    let also: Vec<&str> =
        expect["also_acceptable"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
    let first = if wants_reading { reads(case, answer, exit) } else { refuses(case, answer, exit) };
    let other = || if wants_reading { refuses(case, answer, exit) } else { reads(case, answer, exit) };
    let other_is_fine = also.contains(&if wants_reading { "rejected" } else { "reads" });
    first.filter(|_| !(other_is_fine && other().is_none()))
}

fn list<'a>(answer: &'a Value, field: &str) -> &'a Vec<Value> {
    answer[field].as_array().unwrap()
}

fn reads(case: &Value, answer: &Value, exit: i32) -> Option<String> {
    let prints: Vec<&str> = list(answer, "keys").iter().filter_map(|key| key["fingerprint"].as_str()).collect();
    let several = case["keys"].as_array();
    let wanted: Vec<&str> = match several {
        Some(keys) => keys.iter().filter_map(|key| key["fingerprint_sha256"].as_str()).collect(),
        None => vec![case["fingerprint_sha256"].as_str()?],
    };
    if wanted.iter().any(|wanted| !prints.contains(wanted)) {
        return Some(format!("found {prints:?}, wanted {wanted:?}"));
    }
    let broken = !case["broken_lines"].is_null() && case["broken_lines"] != Value::Array(Vec::new());
    if !broken && !list(answer, "rejected").is_empty() {
        return Some(format!("rejected {}", answer["rejected"][0]));
    }
    if (exit == 2) != broken {
        return Some(format!("exit {exit}"));
    }
    if several.is_some() {
        return None;
    }
    let key = list(answer, "keys").iter().find(|key| key["fingerprint"] == wanted[0])?;
    let facts: &[&str] = if case["kind"] == "certificate" { &[] } else { &["algorithm", "bits", "fingerprint_md5"] };
    for fact in facts {
        if !case[*fact].is_null() && case[*fact] != key[*fact] {
            return Some(format!("{fact} {}, wanted {}", key[*fact], case[*fact]));
        }
    }
    if !case["encrypted"].is_null() && case["encrypted"] != key["encrypted"] {
        return Some(format!("encrypted {}", key["encrypted"]));
    }
    let told = case["comment"].as_str().is_some_and(|comment| !comment.is_empty()) && !case["public_line"].is_null();
    if told && case["comment"] != key["comment"] {
        return Some(format!("comment {}, wanted {}", key["comment"], case["comment"]));
    }
    (case["kind"] == "private" && key["unlocked"] == false).then(|| "not unlocked".to_owned())
}

fn refuses(case: &Value, answer: &Value, exit: i32) -> Option<String> {
    if case["expect"]["reason"] == "passphrase-needed"
        && list(answer, "keys").iter().any(|key| key["unlocked"] == false)
    {
        return None;
    }
    if list(answer, "rejected").is_empty() {
        return Some("not rejected".to_owned());
    }
    (exit != 2).then(|| format!("exit {exit}"))
}

#[test]
fn every_container_agrees() {
    let world = World::new();
    let mut wrong = Vec::new();
    let cases = manifest("cases.json");
    for case in &cases {
        let path = match case["file"].as_str() {
            Some(file) => corpus(file),
            None => world.write("generated", expand(&case["generate"]["parts"]), 0o600),
        };
        let path = path.to_string_lossy().into_owned();
        let mut args = vec!["key", "inspect", "--format", "json", path.as_str()];
        let passphrase = case["passphrase"].as_str();
        if passphrase.is_some() {
            args.extend(["--passphrase-env", "CASE"]);
        }
        let begun = Instant::now();
        let run = world.run_with(&[("CASE", passphrase.unwrap_or_default())], &args);
        // Hostile files state a time; ten times that still tells a bounded answer from an unbounded one.
        assert!(begun.elapsed() < Duration::from_mins(1), "{}", case["id"]);
        if let Some(why) = disagreement(case, &run.json(), run.status) {
            wrong.push(format!("{}: {why}", case["id"]));
        }
    }
    assert!(cases.len() > 300);
    assert!(wrong.is_empty(), "{} of {} disagree:\n{}", wrong.len(), cases.len(), wrong.join("\n"));
}

#[test]
fn weak_keys_are_found_and_healthy_ones_left_alone() {
    let world = World::new();
    let keys = corpus("weak/keys.txt").to_string_lossy().into_owned();
    let answer = world.run(&["key", "inspect", "--format", "json", &keys]).json();
    let mut wrong = Vec::new();
    let cases = manifest("weak/cases.json");
    for case in &cases {
        let key = list(&answer, "keys").iter().find(|key| key["line"] == case["line"]);
        let rules = |info: bool| -> Vec<&str> {
            let findings = key.map(|key| list(key, "findings")).into_iter().flatten();
            findings
                .filter(|finding| info || finding["severity"] != "info")
                .filter_map(|finding| finding["rule"].as_str())
                .collect()
        };
        let must: Vec<String> = case["flaws"]
            .as_array()
            .into_iter()
            .flatten()
            .filter(|flaw| flaw["must"] == true)
            .map(|flaw| format!("weak-{}", flaw["flaw"].as_str().unwrap()))
            .collect();
        let right = match case["expected"].as_str() {
            Some("healthy") => key.is_some() && rules(false).is_empty(),
            Some("flag") => !rules(true).is_empty(),
            // A key with a broken structure may also be refused altogether.
            _ => must.is_empty() || key.is_none() || must.iter().any(|rule| rules(false).contains(&rule.as_str())),
        };
        if !right {
            wrong.push(format!("{}: {must:?}, told {:?}", case["id"], rules(true)));
        }
    }
    assert!(cases.len() > 150);
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn pastes_give_what_can_be_recovered_with_certainty() {
    let world = World::new();
    let mut wrong = Vec::new();
    for case in manifest("paste/cases.json") {
        let path = corpus("paste").join(case["file"].as_str().unwrap()).to_string_lossy().into_owned();
        let answer = world.run(&["key", "inspect", "--format", "json", &path]).json();
        let exposed: Vec<&Value> = case["exposed_fingerprints_sha256"].as_array().into_iter().flatten().collect();
        let mut found: Vec<&Value> = list(&answer, "keys")
            .iter()
            .filter(|key| key["kind"] != "private")
            .map(|key| &key["fingerprint"])
            .filter(|print| !exposed.contains(print))
            .collect();
        let mut wanted: Vec<&Value> = case["recover"]
            .as_array()
            .unwrap()
            .iter()
            .map(|key| &key["fingerprint_sha256"])
            .filter(|print| !exposed.contains(print))
            .collect();
        found.sort_by_key(ToString::to_string);
        wanted.sort_by_key(ToString::to_string);
        found.dedup();
        let private = list(&answer, "keys").iter().any(|key| key["kind"] == "private");
        if found != wanted || (case["alarm"] == "private-key" && !private) {
            wrong.push(format!("{}: found {found:?}, wanted {wanted:?}", case["id"]));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
