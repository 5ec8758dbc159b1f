//! How much a finding matters.

use serde::Serialize;

/// How much a finding matters. Ordered from harmless to urgent.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing.
    Info,
    /// Worth changing when one is there anyway.
    Low,
    /// To be changed.
    Medium,
    /// To be changed soon: a door is open, or somebody is locked out.
    High,
    /// To be changed now.
    Critical,
}

impl Severity {
    /// Every severity from the most urgent down.
    pub const URGENT_FIRST: [Self; 5] = [Self::Critical, Self::High, Self::Medium, Self::Low, Self::Info];

    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Info => "info",
            Self::Low => "low",
            Self::Medium => "medium",
            Self::High => "high",
            Self::Critical => "critical",
        }
    }
}

/// A family of rules in one table: which facts it is about, the stable name of each and how much it usually matters. What is not
/// in the table does not compile.
#[macro_export]
macro_rules! rules {
    ($kind:ty { $($fact:pat $(if $guard:expr)? => $rule:literal, $severity:ident;)* }) => {
        impl $kind {
            /// Every rule of this family, with how much it usually matters.
            pub const RULES: &[(&str, $crate::severity::Severity)] =
                &[$(($rule, $crate::severity::Severity::$severity)),*];

            fn in_table(&self) -> (&'static str, $crate::severity::Severity) {
                match self {
                    $($fact $(if $guard)? => ($rule, $crate::severity::Severity::$severity),)*
                }
            }
        }
    };
}
