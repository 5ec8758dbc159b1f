//! From which severity on findings decide how a command ends.

use clap::ValueEnum;
use lavrin_server::finding::Severity;

/// The severity from which a finding counts for the exit code.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum FailOn {
    /// Any finding at all
    Info,
    /// Low and above
    Low,
    /// Medium and above
    Medium,
    /// High and above
    High,
    /// Critical only
    Critical,
}

impl FailOn {
    /// The severity itself.
    pub fn severity(self) -> Severity {
        match self {
            Self::Info => Severity::Info,
            Self::Low => Severity::Low,
            Self::Medium => Severity::Medium,
            Self::High => Severity::High,
            Self::Critical => Severity::Critical,
        }
    }
}
