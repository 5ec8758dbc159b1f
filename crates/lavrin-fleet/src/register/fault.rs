//! What can be wrong with a register, as data. The words around it are the command's business.

use super::{Date, Place};
use lavrin_keys::key::strength::Weakness;
use lavrin_keys::key::{Fingerprint, KeyFault};
use lavrin_server::finding::Severity;

/// Something wrong, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RegisterFinding {
    /// What.
    pub fault: RegisterFault,
    /// Where.
    pub place: Place,
    /// Other places that have to do with it.
    pub beside: Vec<Place>,
    /// Whom or what it is about, so that an exception can name it.
    pub about: String,
    /// How much it matters here.
    pub severity: Severity,
}

/// The kinds of faults.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RegisterFault {
    /// The file is no TOML.
    Syntax {
        /// What the reader says.
        said: String,
    },
    /// No field of this name is known here.
    UnknownField {
        /// The name.
        name: String,
        /// A known one that is spelled almost so.
        near: Option<&'static str>,
    },
    /// A field that has to be there is not.
    MissingField {
        /// Its name.
        name: &'static str,
    },
    /// A value of another kind than this field takes.
    WrongKind {
        /// The field.
        name: String,
        /// What it takes.
        wanted: &'static str,
    },
    /// A value that the field does not take.
    BadValue {
        /// The field.
        name: String,
        /// What it takes.
        wanted: &'static str,
    },
    /// A key that cannot be used.
    BadKey {
        /// Why.
        fault: KeyFault,
    },
    /// The same name again.
    NamedTwice {
        /// The name.
        name: String,
    },
    /// A key that is weak or not allowed.
    WeakKey {
        /// In which way.
        weakness: Weakness,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// An algorithm that this register does not allow.
    AlgorithmNotAllowed {
        /// Its name.
        name: &'static str,
    },
    /// The same key belongs to somebody else too.
    SharedKey {
        /// Which key.
        fingerprint: Fingerprint,
        /// Who else has it.
        other: String,
    },
    /// The same key stands there twice.
    DuplicateKey {
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// The key is older than policy allows.
    OldKey {
        /// Its age in days.
        days: i64,
        /// The most that is allowed.
        limit: i64,
    },
    /// The comment has not the form that policy asks for.
    CommentForm {
        /// The comment.
        comment: String,
        /// The form.
        pattern: String,
    },
    /// A grant for a key of automation that no option limits.
    AutomationUnlimited {
        /// Options of which one is asked for.
        wanted: Vec<String>,
    },
    /// A person without a key that is in use.
    PersonWithoutKey,
    /// A name that nobody and nothing has.
    UnknownName {
        /// What should have it: a person, team, host, tag or key.
        what: &'static str,
        /// The name.
        name: String,
        /// One that is spelled almost so.
        near: Option<String>,
    },
    /// A grant that matches no host.
    GrantMatchesNothing,
    /// A grant whose last day is over.
    GrantEnded {
        /// The account.
        account: String,
        /// The last day.
        on: Date,
    },
    /// A grant for somebody who has left.
    GrantOfLeaver {
        /// Who.
        person: String,
        /// When.
        left: Date,
        /// The account.
        account: String,
    },
    /// A grant for somebody who has no key in use.
    GrantWithoutKey,
    /// The same grant again.
    GrantTwice,
    /// A host whose keys nobody has pinned.
    HostUnpinned,
    /// Hosts that are reached through each other in a circle.
    ThroughLoop,
    /// A managed account that nobody may enter.
    AccountWithoutWayIn {
        /// The account.
        account: String,
    },
    /// Entries are to be left alone by something else than their key.
    LeaveByComment {
        /// What stands there.
        comment: String,
        /// Keys whose entries go by it.
        meant: Vec<Fingerprint>,
    },
    /// A key is to be left alone although it is known whose it is.
    LeaveOfPerson {
        /// Whose.
        person: String,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// An exception whose last day is over.
    ExceptionEnded {
        /// The last day.
        on: Date,
    },
    /// An exception that excuses nothing any more.
    ExceptionUnused,
}

impl RegisterFault {
    /// Every rule, so that policy can name it.
    pub const RULES: [&'static str; 30] = [
        "algorithm-not-allowed",
        "register-syntax",
        "unknown-field",
        "missing-field",
        "wrong-kind",
        "bad-value",
        "bad-key",
        "named-twice",
        "weak-key",
        "shared-key",
        "duplicate-key",
        "old-key",
        "comment-form",
        "automation-unlimited",
        "person-without-key",
        "unknown-name",
        "grant-matches-nothing",
        "grant-ended",
        "grant-of-leaver",
        "grant-without-key",
        "grant-twice",
        "host-unpinned",
        "through-loop",
        "account-without-way-in",
        "leave-by-comment",
        "leave-of-person",
        "exception-ended",
        "exception-unused",
        "weak-shared-prime",
        "short-key",
    ];

    /// The stable rule name.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        match self {
            Self::Syntax { .. } => "register-syntax",
            Self::UnknownField { .. } => "unknown-field",
            Self::MissingField { .. } => "missing-field",
            Self::WrongKind { .. } => "wrong-kind",
            Self::BadValue { .. } => "bad-value",
            Self::BadKey { .. } => "bad-key",
            Self::NamedTwice { .. } => "named-twice",
            Self::WeakKey { weakness: Weakness::SharedPrime { .. } | Weakness::SameModulus { .. }, .. } => {
                "weak-shared-prime"
            }
            Self::WeakKey { weakness: Weakness::RsaShort { .. }, .. } => "short-key",
            Self::WeakKey { .. } => "weak-key",
            Self::AlgorithmNotAllowed { .. } => "algorithm-not-allowed",
            Self::SharedKey { .. } => "shared-key",
            Self::DuplicateKey { .. } => "duplicate-key",
            Self::OldKey { .. } => "old-key",
            Self::CommentForm { .. } => "comment-form",
            Self::AutomationUnlimited { .. } => "automation-unlimited",
            Self::PersonWithoutKey => "person-without-key",
            Self::UnknownName { .. } => "unknown-name",
            Self::GrantMatchesNothing => "grant-matches-nothing",
            Self::GrantEnded { .. } => "grant-ended",
            Self::GrantOfLeaver { .. } => "grant-of-leaver",
            Self::GrantWithoutKey => "grant-without-key",
            Self::GrantTwice => "grant-twice",
            Self::HostUnpinned => "host-unpinned",
            Self::ThroughLoop => "through-loop",
            Self::AccountWithoutWayIn { .. } => "account-without-way-in",
            Self::LeaveByComment { .. } => "leave-by-comment",
            Self::LeaveOfPerson { .. } => "leave-of-person",
            Self::ExceptionEnded { .. } => "exception-ended",
            Self::ExceptionUnused => "exception-unused",
        }
    }

    /// How much it matters where the register says nothing else.
    #[must_use]
    pub fn severity(&self) -> Severity {
        match self {
            Self::WeakKey { weakness: Weakness::RsaShort { bits, refused_below, .. }, .. } if bits >= refused_below => {
                Severity::Info
            }
            Self::WeakKey { weakness: Weakness::ExponentThree | Weakness::OddSize { .. }, .. }
            | Self::PersonWithoutKey => Severity::Info,
            Self::WeakKey { .. } => Severity::Critical,
            Self::Syntax { .. }
            | Self::MissingField { .. }
            | Self::WrongKind { .. }
            | Self::BadValue { .. }
            | Self::BadKey { .. }
            | Self::NamedTwice { .. }
            | Self::SharedKey { .. }
            | Self::AlgorithmNotAllowed { .. }
            | Self::UnknownName { .. }
            | Self::GrantOfLeaver { .. }
            | Self::AutomationUnlimited { .. }
            | Self::LeaveByComment { .. }
            | Self::LeaveOfPerson { .. }
            | Self::ThroughLoop => Severity::High,
            Self::UnknownField { .. }
            | Self::OldKey { .. }
            | Self::GrantMatchesNothing
            | Self::GrantEnded { .. }
            | Self::GrantWithoutKey
            | Self::HostUnpinned
            | Self::AccountWithoutWayIn { .. }
            | Self::ExceptionEnded { .. } => Severity::Medium,
            Self::DuplicateKey { .. } | Self::CommentForm { .. } | Self::GrantTwice | Self::ExceptionUnused => {
                Severity::Low
            }
        }
    }
}
