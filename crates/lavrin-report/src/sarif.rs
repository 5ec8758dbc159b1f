//! Findings in SARIF 2.1.0 (OASIS Standard, 27 March 2020), the form in which code hosts take them.

use serde::Serialize;
use std::collections::BTreeMap;

/// How much a finding matters, as SARIF has it (section 3.27.10).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Level {
    /// Has to be mended.
    Error,
    /// Should be looked at.
    Warning,
    /// Is worth knowing.
    Note,
}

/// A finding.
#[derive(Debug, Clone)]
pub struct SarifFinding {
    /// Stable rule name.
    pub rule: &'static str,
    /// How much it matters to SARIF.
    pub level: Level,
    /// How much it matters in Lavrin's own words.
    pub severity: &'static str,
    /// What is wrong, and what to do.
    pub message: String,
    /// The file, as a path below the folder that is looked at; line and column counted from 1.
    pub place: Option<(String, Option<usize>, Option<usize>)>,
    /// Whom or what it is about, such as `ACCOUNT@HOST`.
    pub about: Option<String>,
    /// What stays the same when a line moves.
    pub identity: String,
}

/// A run as a document.
#[must_use]
pub fn document(version: &str, findings: &[SarifFinding]) -> String {
    let mut rules: BTreeMap<&str, Rule> = BTreeMap::new();
    for finding in findings {
        rules.entry(finding.rule).or_insert_with(|| Rule::of(finding));
    }
    let rules: Vec<Rule> = rules.into_values().collect();
    let results = findings.iter().map(|finding| SarifResult::of(finding, &rules)).collect();
    let document = SarifDocument {
        schema: "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        version: "2.1.0",
        runs: [SarifRun {
            tool: Tool { driver: Driver { name: "lavrin", version: version.to_owned(), rules } },
            results,
            column_kind: "unicodeCodePoints",
        }],
    };
    serde_json::to_string_pretty(&document).expect("these types have only text keys")
}

#[derive(Serialize)]
struct SarifDocument {
    #[serde(rename = "$schema")]
    schema: &'static str,
    version: &'static str,
    runs: [SarifRun; 1],
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct SarifRun {
    tool: Tool,
    results: Vec<SarifResult>,
    column_kind: &'static str,
}

#[derive(Serialize)]
struct Tool {
    driver: Driver,
}

#[derive(Serialize)]
struct Driver {
    name: &'static str,
    version: String,
    rules: Vec<Rule>,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Rule {
    id: &'static str,
    short_description: Text,
    default_configuration: Configuration,
}

impl Rule {
    fn of(finding: &SarifFinding) -> Self {
        Self {
            id: finding.rule,
            short_description: Text { text: finding.rule.replace('-', " ") },
            default_configuration: Configuration { level: finding.level },
        }
    }
}

#[derive(Serialize)]
struct Configuration {
    level: Level,
}

#[derive(Serialize)]
struct Text {
    text: String,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct SarifResult {
    rule_id: &'static str,
    rule_index: usize,
    level: Level,
    message: Text,
    locations: Vec<Location>,
    partial_fingerprints: BTreeMap<&'static str, String>,
    properties: Properties,
}

#[derive(Serialize)]
struct Properties {
    severity: &'static str,
}

impl SarifResult {
    fn of(finding: &SarifFinding, rules: &[Rule]) -> Self {
        let rule_index = rules.binary_search_by(|rule| rule.id.cmp(finding.rule)).unwrap_or_default();
        Self {
            rule_id: finding.rule,
            rule_index,
            level: finding.level,
            message: Text { text: finding.message.clone() },
            locations: Location::of(finding).into_iter().collect(),
            partial_fingerprints: BTreeMap::from([("lavrin/1", finding.identity.clone())]),
            properties: Properties { severity: finding.severity },
        }
    }
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Location {
    #[serde(skip_serializing_if = "Option::is_none")]
    physical_location: Option<Physical>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    logical_locations: Vec<Logical>,
}

impl Location {
    fn of(finding: &SarifFinding) -> Option<Self> {
        let physical_location = finding.place.as_ref().map(|(path, line, column)| Physical {
            artifact_location: Artifact { uri: uri(path) },
            region: line.map(|start_line| Region { start_line, start_column: *column }),
        });
        let logical_locations: Vec<Logical> =
            finding.about.iter().map(|name| Logical { fully_qualified_name: name.clone(), kind: "resource" }).collect();
        (physical_location.is_some() || !logical_locations.is_empty())
            .then_some(Self { physical_location, logical_locations })
    }
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Physical {
    artifact_location: Artifact,
    #[serde(skip_serializing_if = "Option::is_none")]
    region: Option<Region>,
}

#[derive(Serialize)]
struct Artifact {
    uri: String,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Region {
    start_line: usize,
    #[serde(skip_serializing_if = "Option::is_none")]
    start_column: Option<usize>,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Logical {
    fully_qualified_name: String,
    kind: &'static str,
}

/// A path as a URI (RFC 3986, section 3.3): what has a meaning there is written as its bytes.
fn uri(path: &str) -> String {
    let mut uri = String::with_capacity(path.len());
    for byte in path.bytes() {
        if byte.is_ascii_alphanumeric() || b"/._-~".contains(&byte) {
            uri.push(char::from(byte));
        } else {
            uri += &format!("%{byte:02X}");
        }
    }
    uri
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::Value;

    fn finding(rule: &'static str, place: Option<(String, Option<usize>, Option<usize>)>) -> SarifFinding {
        SarifFinding {
            rule,
            level: Level::Error,
            severity: "high",
            message: "the lamp is out".to_owned(),
            place,
            about: Some("keeper@pier".to_owned()),
            identity: "pier/lamp".to_owned(),
        }
    }

    #[test]
    fn results_point_at_their_rule_and_place() {
        let place = Some(("hosts/pier 1.toml".to_owned(), Some(3), Some(7)));
        let text = document("0.1.0", &[finding("unknown-key", place), finding("lamp-out", None)]);
        let value: Value = serde_json::from_str(&text).unwrap();
        let run = &value["runs"][0];
        let results = run["results"].as_array().unwrap();
        for result in results {
            let index = usize::try_from(result["ruleIndex"].as_u64().unwrap()).unwrap();
            assert_eq!(run["tool"]["driver"]["rules"][index]["id"], result["ruleId"]);
        }
        let physical = &results[0]["locations"][0]["physicalLocation"];
        assert_eq!(physical["artifactLocation"]["uri"], "hosts/pier%201.toml");
        assert_eq!(
            (physical["region"]["startLine"].as_u64(), physical["region"]["startColumn"].as_u64()),
            (Some(3), Some(7))
        );
        assert!(results[1]["locations"][0].get("physicalLocation").is_none());
        assert_eq!(value["version"], "2.1.0");
    }
}
