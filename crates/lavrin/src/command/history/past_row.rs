//! Who could log in on a day, as rows; what was not known then has rows too.

use super::{AccessAtOut, NotReadOut, PastLoginOut};
use lavrin_report::rows::TableRow;
use serde::Serialize;

/// A way in, or what was not known.
#[derive(Debug, Default, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct PastRow<'a> {
    /// `way-in`, `account-not-read` or `host-unknown`.
    record: &'static str,
    host: &'a str,
    account: Option<&'a str>,
    key: Option<&'a str>,
    owner: Option<&'a str>,
    comment: Option<&'a str>,
    from: Option<&'a str>,
    command: Option<&'a str>,
    expires: Option<&'a str>,
    denied: &'a [&'static str],
    permit: &'a [String],
    certain: Option<bool>,
    last_read: Option<&'a str>,
}

impl TableRow for PastRow<'_> {
    const COLUMNS: &'static [&'static str] = &[
        "record",
        "host",
        "account",
        "key",
        "owner",
        "comment",
        "from",
        "command",
        "expires",
        "denied",
        "permit",
        "certain",
        "last_read",
    ];
}

impl<'a> PastRow<'a> {
    /// All of them.
    pub fn all(out: &'a AccessAtOut) -> Vec<Self> {
        let unread = |one: &'a NotReadOut| {
            let row = |account: &'a String| Self {
                record: "account-not-read",
                host: &one.host,
                account: Some(account),
                ..Self::default()
            };
            one.accounts.iter().map(row)
        };
        let unknown = |host: &'a String| Self { record: "host-unknown", host, ..Self::default() };
        let ways = out.access.iter().map(Self::of);
        ways.chain(out.not_read.iter().flat_map(unread)).chain(out.unknown.iter().map(unknown)).collect()
    }

    fn of(one: &'a PastLoginOut) -> Self {
        Self {
            record: "way-in",
            host: &one.host,
            account: Some(&one.account),
            key: Some(&one.key),
            owner: one.owner.as_deref(),
            comment: Some(&one.comment),
            from: one.limits.from.as_deref(),
            command: one.limits.command.as_deref(),
            expires: one.limits.expires.as_deref(),
            denied: &one.limits.denied,
            permit: &one.limits.permit,
            certain: Some(one.certain),
            last_read: one.last_read.as_deref(),
        }
    }
}
