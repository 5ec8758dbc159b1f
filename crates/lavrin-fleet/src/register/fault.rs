//! What can be wrong with a register, as data. The words around it are the command's business.

use super::{Date, RegisterPlace};
use lavrin_keys::key::strength::Weakness;
use lavrin_keys::key::{Fingerprint, KeyFault};
use lavrin_server::finding::Severity;

/// Something wrong, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RegisterFinding {
    /// What.
    pub fault: RegisterFault,
    /// Where.
    pub place: RegisterPlace,
    /// Other places that have to do with it.
    pub beside: Vec<RegisterPlace>,
    /// Whom or what it is about, so that an exception can name it.
    pub about: String,
    /// How much it matters here.
    pub severity: Severity,
}

/// What a field takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FieldKind {
    /// A text in quotes.
    Text,
    /// A text on one line.
    OneLine,
    /// A whole number within its bounds.
    Number,
    /// A date.
    Date,
    /// `true` or `false`.
    Flag,
    /// A table.
    Table,
    /// Tables in double brackets.
    Tables,
    /// The name of an algorithm.
    Algorithm,
    /// A severity, or `off`.
    Severity,
    /// A name of small letters, digits, dots and dashes.
    Id,
    /// A purpose of keys.
    Purpose,
    /// A way of speaking to a host.
    Reach,
    /// A way to root's rights.
    RootBy,
    /// `desk` or `register`.
    JournalPlace,
    /// The address of a database, without a password.
    StoreUrl,
    /// The path of a key file.
    KeysPath,
    /// How keys are written into a file.
    KeyForm,
    /// How lines end.
    LineEnds,
    /// What ends logins by password.
    PasswordsEnd,
    /// What a device shows, which is something.
    Shown,
    /// A text with marks.
    Template,
    /// A text with the marks of a key.
    KeyTemplate,
    /// Options of a key file.
    Options,
    /// An account and its host.
    Machine,
    /// Only one of person, team and machine.
    OneGrantee,
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
        wanted: FieldKind,
    },
    /// A value that the field does not take.
    BadValue {
        /// The field.
        name: String,
        /// What it takes.
        wanted: FieldKind,
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
    /// Two keys replace the same one.
    ReplacedTwice {
        /// The label of the key that is replaced.
        label: String,
    },
    /// A key replaces itself, perhaps over others.
    ReplacesItself {
        /// Its label.
        label: String,
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
    /// A grant whose last day is near.
    GrantEndsSoon {
        /// Whether it is for a team.
        team: bool,
        /// The account.
        account: String,
        /// The hosts that it names.
        hosts: Vec<String>,
        /// The tags that it names.
        tags: Vec<String>,
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
    /// A grant puts an account into a group that policy forbids.
    GroupForbidden {
        /// The group.
        group: String,
    },
    /// A grant puts an account into a group whose members can become root.
    GroupLikeRoot {
        /// The group.
        group: String,
    },
    /// The same grant again.
    GrantTwice,
    /// A kept key of an account that the register does not manage: no command puts it there.
    KeptNotManaged,
    /// Somebody who left may have a copy of a kept key in use.
    KeptKnownToLeaver {
        /// Who.
        person: String,
        /// When.
        left: Date,
    },
    /// A host whose keys nobody has pinned.
    HostUnpinned,
    /// Nobody has written down how to get in where no key opens the host any more.
    WayBackMissing,
    /// The way back was not tried for longer than policy allows.
    WayBackUntried {
        /// How many days ago it was last tried; none: never.
        days: Option<i64>,
        /// The most that is allowed.
        limit: i64,
    },
    /// Another host has the same host key: one of them was cloned, and can answer for the other.
    SharedHostKey {
        /// The other host.
        other: String,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// Hosts that are reached through each other in a circle.
    ThroughLoop,
    /// A host is spoken to with algorithms that are broken, where it knows no others.
    OldAlgorithms,
    /// What has to run on a host after changes is no program by its whole path.
    AfterChangeNoPath {
        /// What stands there.
        word: String,
    },
    /// Something runs on a host after changes, with root's rights where the login has them.
    RunsAfterChange {
        /// The program and its arguments.
        words: String,
    },
    /// A managed account of a host that takes keys for the account that signs in only.
    AccountNotOfLogin {
        /// The account.
        account: String,
        /// Who signs in.
        login: String,
    },
    /// A managed account that nobody may enter.
    AccountWithoutWayIn {
        /// The account.
        account: String,
    },
    /// A managed account that the last survey of the host did not see.
    AccountNeverSeen {
        /// The account.
        account: String,
        /// What it may have been meant for.
        near: Option<String>,
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

lavrin_keys::rules!(RegisterFault {
    RegisterFault::Syntax { .. } => "register-syntax", High;
    RegisterFault::UnknownField { .. } => "unknown-field", Medium;
    RegisterFault::MissingField { .. } => "missing-field", High;
    RegisterFault::WrongKind { .. } => "wrong-kind", High;
    RegisterFault::BadValue { .. } => "bad-value", High;
    RegisterFault::BadKey { .. } => "bad-key", High;
    RegisterFault::NamedTwice { .. } => "named-twice", High;
    RegisterFault::WeakKey { .. } => "weak-key", Critical;
    RegisterFault::AlgorithmNotAllowed { .. } => "algorithm-not-allowed", High;
    RegisterFault::SharedKey { .. } => "shared-key", High;
    RegisterFault::DuplicateKey { .. } => "duplicate-key", Low;
    RegisterFault::OldKey { .. } => "old-key", Medium;
    RegisterFault::CommentForm { .. } => "comment-form", Low;
    RegisterFault::AutomationUnlimited { .. } => "automation-unlimited", High;
    RegisterFault::ReplacedTwice { .. } => "replaced-twice", High;
    RegisterFault::ReplacesItself { .. } => "replaces-itself", High;
    RegisterFault::PersonWithoutKey => "person-without-key", Info;
    RegisterFault::UnknownName { .. } => "unknown-name", High;
    RegisterFault::GrantMatchesNothing => "grant-matches-nothing", Medium;
    RegisterFault::GrantEnded { .. } => "grant-ended", Medium;
    RegisterFault::GrantEndsSoon { .. } => "grant-ends-soon", Low;
    RegisterFault::GrantOfLeaver { .. } => "grant-of-leaver", High;
    RegisterFault::GrantWithoutKey => "grant-without-key", Medium;
    RegisterFault::GroupForbidden { .. } => "group-forbidden", High;
    RegisterFault::GroupLikeRoot { .. } => "group-like-root", Info;
    RegisterFault::GrantTwice => "grant-twice", Low;
    RegisterFault::KeptNotManaged => "kept-not-managed", Medium;
    RegisterFault::KeptKnownToLeaver { .. } => "kept-known-to-leaver", High;
    RegisterFault::HostUnpinned => "host-unpinned", Medium;
    RegisterFault::WayBackMissing => "way-back-missing", Medium;
    RegisterFault::WayBackUntried { .. } => "way-back-untried", Medium;
    RegisterFault::SharedHostKey { .. } => "shared-host-key", Medium;
    RegisterFault::ThroughLoop => "through-loop", High;
    RegisterFault::OldAlgorithms => "old-algorithms", Medium;
    RegisterFault::AfterChangeNoPath { .. } => "after-change-no-path", High;
    RegisterFault::RunsAfterChange { .. } => "runs-after-change", Info;
    RegisterFault::AccountNotOfLogin { .. } => "account-not-of-login", High;
    RegisterFault::AccountWithoutWayIn { .. } => "account-without-way-in", Medium;
    RegisterFault::AccountNeverSeen { .. } => "account-never-seen", Medium;
    RegisterFault::LeaveByComment { .. } => "leave-by-comment", High;
    RegisterFault::LeaveOfPerson { .. } => "leave-of-person", High;
    RegisterFault::ExceptionEnded { .. } => "exception-ended", Medium;
    RegisterFault::ExceptionUnused => "exception-unused", Low;
});

impl RegisterFault {
    /// The stable rule name; a weak key goes by that of its weakness.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        match self {
            Self::WeakKey { weakness, .. } => weakness.rule(),
            other => other.in_table().0,
        }
    }

    /// How much it matters where the register says nothing else.
    #[must_use]
    pub fn severity(&self) -> Severity {
        match self {
            Self::WeakKey { weakness, .. } => weakness.severity(),
            other => other.in_table().1,
        }
    }
}
