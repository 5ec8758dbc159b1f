//! What can be wrong with a host beside a register or over time, as data.

use lavrin_keys::date::Date;
use lavrin_keys::key::Fingerprint;
use lavrin_server::finding::Severity;

/// The kinds of faults.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HostFault {
    /// Nobody in the register has this key.
    UnknownKey {
        /// Which key.
        fingerprint: Fingerprint,
        /// The comment behind it.
        comment: String,
    },
    /// The key of somebody who has left.
    KeyOfLeaver {
        /// Who.
        who: String,
        /// When they left.
        on: Date,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// A key that its owner does not use any more.
    RetiredKey {
        /// Who.
        who: String,
        /// Since when.
        on: Date,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// The grant for it is over.
    GrantOver {
        /// Who.
        who: String,
        /// Its last day.
        on: Date,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// The register lets its owner not in here.
    NotGranted {
        /// Who.
        who: String,
        /// Which key.
        fingerprint: Fingerprint,
    },
    /// The entry was removed, and something has put it back.
    CameBack {
        /// Which key.
        fingerprint: Fingerprint,
        /// When it was removed.
        on: Date,
    },
    /// The key is older than policy allows.
    OldKey {
        /// Whose it is.
        who: String,
        /// Which key.
        fingerprint: Fingerprint,
        /// Its age in days.
        days: i64,
        /// The most that is allowed.
        limit: i64,
    },
    /// The server refuses the key from a moment on that is near.
    EntryEndsSoon {
        /// Whose it is, where the register knows.
        who: Option<String>,
        /// Which key.
        fingerprint: Fingerprint,
        /// The moment, as the entry says it.
        at: String,
    },
    /// A key for the day on which nothing else works was used.
    BreakGlassUsed {
        /// Whose it is.
        who: String,
        /// Which key.
        fingerprint: Fingerprint,
        /// When, in seconds since 1970.
        last: i64,
    },
    /// No key for the day on which nothing else works opens an account here.
    BreakGlassMissing,
    /// The key was last used long ago.
    KeyLongUnused {
        /// Which key.
        fingerprint: Fingerprint,
        /// When, in seconds since 1970.
        last: i64,
    },
    /// The key does not show in the logs at all.
    KeyNeverSeen {
        /// Which key.
        fingerprint: Fingerprint,
        /// When the logs begin, in seconds since 1970.
        since: i64,
    },
    /// One unknown key goes by several names.
    KeyInManyHands {
        /// Which key.
        fingerprint: Fingerprint,
        /// The names.
        names: Vec<String>,
    },
    /// Nobody has looked at this host yet.
    NeverSurveyed {
        /// Why the last try failed.
        fault: Option<String>,
    },
    /// The last look was long ago.
    SurveyOld {
        /// Days since then.
        days: i64,
        /// Why the last try failed.
        fault: Option<String>,
    },
    /// It was last changed by a version of the register that is not here.
    OtherRegister {
        /// When.
        on: Date,
        /// The commit of that version.
        commit: String,
    },
    /// The last try to look failed; what is told is older.
    NotReached {
        /// Why.
        fault: String,
    },
    /// A private key that nothing protects lies here and opens root elsewhere.
    KeyOpensRoot {
        /// Which key.
        fingerprint: Fingerprint,
        /// An account that it opens: `ACCOUNT@HOST`.
        opens: String,
        /// How many hosts are reached from it, step by step.
        hosts: usize,
    },
    /// A way leads from here to hosts that policy keeps apart from it.
    ForbiddenWay {
        /// The tag of this host.
        from: String,
        /// The tag of the hosts that are reached.
        to: String,
        /// Where the shortest way ends: `ACCOUNT@HOST`.
        end: String,
        /// Accounts that are entered on it.
        hops: u32,
    },
    /// A removal is still owed to this host.
    RemovalOwed {
        /// Which key.
        fingerprint: String,
        /// Whose it is.
        who: Option<String>,
        /// Since when.
        since: Date,
    },
}

lavrin_keys::rules!(HostFault {
    HostFault::UnknownKey { .. } => "unknown-key", Medium;
    HostFault::KeyOfLeaver { .. } => "key-of-leaver", Critical;
    HostFault::RetiredKey { .. } => "retired-key", High;
    HostFault::GrantOver { .. } => "grant-over", High;
    HostFault::NotGranted { .. } => "not-granted", High;
    HostFault::CameBack { .. } => "removed-entry-back", High;
    HostFault::OldKey { .. } => "old-entry", Medium;
    HostFault::EntryEndsSoon { .. } => "entry-ends-soon", Low;
    HostFault::BreakGlassUsed { .. } => "break-glass-used", High;
    HostFault::BreakGlassMissing => "break-glass-missing", High;
    HostFault::KeyLongUnused { .. } => "key-long-unused", Low;
    HostFault::KeyNeverSeen { .. } => "key-never-seen", Info;
    HostFault::KeyInManyHands { .. } => "key-in-many-hands", High;
    HostFault::NeverSurveyed { .. } => "never-surveyed", Medium;
    HostFault::SurveyOld { .. } => "survey-old", Low;
    HostFault::OtherRegister { .. } => "other-register", Medium;
    HostFault::NotReached { .. } => "not-reached", Medium;
    HostFault::KeyOpensRoot { .. } => "key-opens-root", Critical;
    HostFault::ForbiddenWay { .. } => "forbidden-way", Critical;
    HostFault::RemovalOwed { .. } => "removal-owed", High;
});

impl HostFault {
    /// The stable rule name.
    #[must_use]
    pub fn rule(&self) -> &'static str {
        self.in_table().0
    }

    /// How much it usually matters.
    #[must_use]
    pub fn severity(&self) -> Severity {
        self.in_table().1
    }
}
