//! Findings that differ in nothing but the host, told once.

use crate::json::AuditFinding;
use std::collections::HashMap;

/// A finding and the hosts that it is the same on.
pub struct Folded<'a> {
    /// The first of them.
    pub first: &'a AuditFinding,
    /// Its hosts; none where a finding has none.
    pub hosts: Vec<&'a str>,
}

impl<'a> Folded<'a> {
    /// A finding that is told by itself.
    pub fn alone(first: &'a AuditFinding) -> Self {
        Self { first, hosts: first.host.as_deref().into_iter().collect() }
    }
}

/// What makes two findings the same: everything but the host, wherever that is named.
#[derive(PartialEq, Eq, Hash)]
struct Shape<'a> {
    rule: &'static str,
    severity: u8,
    account: Option<&'a str>,
    path: Option<&'a str>,
    line: Option<usize>,
    message: String,
    remedy: String,
    values: (Option<&'a str>, Option<&'a str>),
}

impl<'a> Shape<'a> {
    fn of(finding: &'a AuditFinding) -> Self {
        let host = finding.host.as_deref().unwrap_or_default();
        Self {
            rule: finding.rule,
            severity: finding.severity as u8,
            account: finding.account.as_deref(),
            path: finding.path.as_deref(),
            line: finding.line,
            message: without(&finding.message, host),
            remedy: without(&finding.remedy, host),
            values: (finding.found.as_deref(), finding.expected.as_deref()),
        }
    }
}

/// A text with its host left open, where that stands as a word of its own.
fn without(text: &str, host: &str) -> String {
    if host.is_empty() || !text.contains(host) {
        return text.to_owned();
    }
    let is_part = |character: char| character.is_ascii_alphanumeric() || "._-".contains(character);
    let (mut out, mut rest) = (String::with_capacity(text.len()), text);
    while let Some(at) = rest.find(host) {
        let (before, behind) = (&rest[..at], &rest[at + host.len()..]);
        let is_whole = !before.ends_with(is_part) && !behind.starts_with(is_part);
        out += before;
        out += if is_whole { "\0" } else { host };
        rest = behind;
    }
    out + rest
}

/// The findings in their order, those that are the same on several hosts as one.
pub fn folded(findings: &[AuditFinding]) -> Vec<Folded<'_>> {
    let mut places: HashMap<Shape<'_>, usize> = HashMap::new();
    let mut all: Vec<Folded<'_>> = Vec::new();
    for finding in findings {
        let at = *places.entry(Shape::of(finding)).or_insert_with(|| {
            all.push(Folded { first: finding, hosts: Vec::new() });
            all.len() - 1
        });
        all[at].hosts.extend(finding.host.as_deref());
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_server::finding::Severity;

    fn finding(host: &str, account: &str) -> AuditFinding {
        AuditFinding {
            rule: "x",
            severity: Severity::High,
            host: Some(host.to_owned()),
            account: Some(account.to_owned()),
            path: None,
            line: Some(3),
            message: format!("{host} takes it, the lamp of {host}-2 does not"),
            expected: None,
            found: None,
            remedy: format!("lavrin mend {account}@{host}"),
        }
    }

    #[test]
    fn only_what_differs_in_the_host_alone_is_told_once() {
        let all = [finding("a", "root"), finding("b", "root"), finding("a", "sten"), finding("c", "root")];
        let folded = folded(&all);
        assert_eq!(folded.len(), 4, "the other host that is named differs");
        let plain: Vec<AuditFinding> =
            all.into_iter().map(|finding| AuditFinding { message: "it is open".to_owned(), ..finding }).collect();
        let folded = super::folded(&plain);
        assert_eq!(folded.iter().map(|one| one.hosts.join(" ")).collect::<Vec<_>>(), ["a b c", "a"]);
    }

    #[test]
    fn a_host_within_another_name_is_left_alone() {
        assert_eq!(without("sten@buoy-4: buoy-40, buoy-4.", "buoy-4"), "sten@\0: buoy-40, buoy-4.");
        assert_eq!(without("lavrin mend buoy-4", "buoy-4"), "lavrin mend \0");
    }
}
