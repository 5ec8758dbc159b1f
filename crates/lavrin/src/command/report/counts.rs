//! What a report counts, and what the next one compares itself with.

use lavrin_server::finding::Severity;
use serde::{Deserialize, Serialize};

/// Findings by severity.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(default)]
pub struct SeverityCounts {
    critical: usize,
    high: usize,
    medium: usize,
    low: usize,
    info: usize,
}

impl SeverityCounts {
    /// Adds one.
    pub fn add(&mut self, severity: Severity) {
        *match severity {
            Severity::Critical => &mut self.critical,
            Severity::High => &mut self.high,
            Severity::Medium => &mut self.medium,
            Severity::Low => &mut self.low,
            Severity::Info => &mut self.info,
        } += 1;
    }

    /// How many there are of one severity.
    pub fn of(&self, severity: Severity) -> usize {
        match severity {
            Severity::Critical => self.critical,
            Severity::High => self.high,
            Severity::Medium => self.medium,
            Severity::Low => self.low,
            Severity::Info => self.info,
        }
    }

    /// Each that there is, in words.
    pub fn words(&self) -> String {
        let some = Severity::URGENT_FIRST.into_iter().filter(|severity| self.of(*severity) > 0);
        let told: Vec<String> = some.map(|severity| format!("{} {}", self.of(severity), severity.name())).collect();
        if told.is_empty() { "nothing found".to_owned() } else { told.join(", ") }
    }
}

/// What is kept of a report.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct ReportNumbers {
    /// Findings by severity.
    pub findings: SeverityCounts,
    /// Entries.
    pub entries: usize,
}
