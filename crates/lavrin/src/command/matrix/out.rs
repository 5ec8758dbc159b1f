//! What a matrix tells, as data: each way in with what the host shows and what the register says.

use crate::clock;
use crate::exit::Exit;
use crate::json::LimitsOut;
use lavrin_fleet::fleet::matrix::{There, WayIn};
use lavrin_fleet::fleet::{Certainty, Owner, Standing};
use lavrin_keys::text::printable;
use lavrin_report::rows::TableRow;
use lavrin_work::walk::HostAccess;
use serde::Serialize;

/// What `--format json` prints.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct MatrixOut {
    schema: &'static str,
    /// The moment (RFC 3339).
    pub at: String,
    pub hosts: Vec<MatrixHostOut>,
    pub ways: Vec<WayOut>,
}

/// A host.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct MatrixHostOut {
    pub host: String,
    /// When it was last seen so (RFC 3339); `null`: never.
    pub seen: Option<String>,
    /// Accounts that were not read.
    pub not_read: Vec<String>,
    /// Ways in that the register asks for, beyond those that are listed: there may be very many.
    pub more_missing: usize,
}

/// How host and register stand to each other.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum WayState {
    /// It opens the account, as the register says.
    AsRegistered,
    /// The register says so; something that decides was not seen.
    Perhaps,
    /// The account was not read.
    NotRead,
    /// The host was not seen.
    NotSeen,
    /// The register says so, and it does not open the account.
    Missing,
    /// It opens the account, and the register says nothing of it.
    NotRegistered,
}

/// Whose a key is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum KeyOwnerKind {
    /// A person's.
    Person,
    /// A program's, on a host.
    Program,
    /// A kept key.
    Kept,
    /// Nobody knows.
    Nobody,
}

/// A way in.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct WayOut {
    pub host: String,
    pub account: String,
    pub state: WayState,
    pub kind: KeyOwnerKind,
    /// The person, or `ACCOUNT@HOST`.
    pub owner: Option<String>,
    /// What its owner calls the key.
    pub label: Option<String>,
    pub key: String,
    /// The comment of the entry.
    pub comment: String,
    pub path: Option<String>,
    pub line: Option<usize>,
    /// What the register says: `granted`, `left`, `retired`, `over`, `not-granted` or `unknown`.
    pub standing: &'static str,
    /// Whether everything that decides was seen: `certain`, `address` (it depends on where one comes from), `listed` (a device does
    /// not show its rules), `perhaps`; `null` where it does not open the account.
    pub certainty: Option<&'static str>,
    /// The last day, where the register says one.
    pub until: Option<String>,
    pub limits: LimitsOut,
}

impl MatrixOut {
    /// What was found; only what differs, where that is asked.
    pub fn of(found: &[HostAccess], at: i64, differing: bool) -> Self {
        let hosts = found.iter().map(|host| MatrixHostOut {
            host: host.host.clone(),
            seen: host.seen.and_then(|seen| u64::try_from(seen).ok()).map(clock::date_of),
            not_read: host.unread.clone(),
            more_missing: host.more_missing,
        });
        let ways = found.iter().flat_map(|host| host.ways.iter().map(|way| WayOut::of(&host.host, way)));
        let ways = ways.filter(|way| !differing || way.differs()).collect();
        let at = clock::date_of(u64::try_from(at).unwrap_or_default());
        Self { schema: "lavrin/matrix/1", at, hosts: hosts.collect(), ways }
    }

    /// Differences are findings; what was not seen is not checked.
    pub fn exit(&self) -> Exit {
        let is_unseen = |host: &MatrixHostOut| host.seen.is_none() || !host.not_read.is_empty();
        let differs = if self.ways.iter().any(WayOut::differs) { Exit::Findings } else { Exit::Done };
        differs.max(if self.hosts.iter().any(is_unseen) { Exit::NotChecked } else { Exit::Done })
    }

    /// As rows: each way, and each host of which nothing is known.
    pub fn rows(&self) -> Vec<WayRow<'_>> {
        let unseen = self.hosts.iter().filter(|host| host.seen.is_none());
        let unseen =
            unseen.map(|host| WayRow { host: &host.host, state: Some(WayState::NotSeen), ..WayRow::default() });
        self.ways.iter().map(WayRow::of).chain(unseen).collect()
    }
}

impl WayOut {
    /// A way into a host.
    pub fn of(host: &str, way: &WayIn) -> Self {
        let kind = match &way.owner {
            Some(Owner::Person { .. }) => KeyOwnerKind::Person,
            Some(Owner::Machine { .. }) => KeyOwnerKind::Program,
            Some(Owner::Kept { .. }) => KeyOwnerKind::Kept,
            None => KeyOwnerKind::Nobody,
        };
        Self {
            host: host.to_owned(),
            account: printable(way.account.as_bytes()),
            state: state(way),
            kind,
            owner: way.owner.as_ref().map(Owner::name),
            label: way.owner.as_ref().map(|owner| owner.label().to_owned()),
            key: way.key.to_string(),
            comment: way.comment.clone(),
            path: way.place.as_ref().and_then(|place| place.path()).map(ToString::to_string),
            line: way.place.as_ref().and_then(lavrin_server::login::Place::line),
            standing: standing(way),
            certainty: way.certainty.map(certainty),
            until: way.until.map(|until| until.to_string()),
            limits: LimitsOut::from(&way.limits),
        }
    }

    /// Whether host and register differ.
    pub fn differs(&self) -> bool {
        matches!(self.state, WayState::Missing | WayState::NotRegistered)
    }

    /// Its owner, as a row of the matrix names it.
    pub fn who(&self) -> String {
        self.owner.clone().unwrap_or_else(|| "owner unknown".to_owned())
    }
}

/// How host and register stand to each other.
pub fn state(way: &WayIn) -> WayState {
    match way.there {
        There::NotRead => WayState::NotRead,
        There::NotSeen => WayState::NotSeen,
        There::Missing => WayState::Missing,
        There::Opens | There::Perhaps if way.standing != Standing::Granted => WayState::NotRegistered,
        There::Opens => WayState::AsRegistered,
        There::Perhaps => WayState::Perhaps,
    }
}

/// Its name.
pub fn certainty(of: Certainty) -> &'static str {
    match of {
        Certainty::Certain => "certain",
        Certainty::FromDecides => "address",
        Certainty::Listed => "listed",
        Certainty::Perhaps => "perhaps",
    }
}

fn standing(way: &WayIn) -> &'static str {
    match (&way.standing, &way.owner) {
        (_, None) => "unknown",
        (Standing::Granted, _) => "granted",
        (Standing::Left(_), _) => "left",
        (Standing::Retired(_), _) => "retired",
        (Standing::Over(_), _) => "over",
        (Standing::None, _) => "not-granted",
    }
}

/// A way in as a row.
#[derive(Debug, Default, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct WayRow<'a> {
    host: &'a str,
    account: Option<&'a str>,
    state: Option<WayState>,
    kind: Option<KeyOwnerKind>,
    owner: Option<&'a str>,
    label: Option<&'a str>,
    key: Option<&'a str>,
    comment: Option<&'a str>,
    path: Option<&'a str>,
    line: Option<usize>,
    standing: Option<&'static str>,
    certainty: Option<&'static str>,
    until: Option<&'a str>,
    from: Option<&'a str>,
    command: Option<&'a str>,
    expires: Option<&'a str>,
    denied: &'a [&'static str],
    permit: &'a [String],
}

impl TableRow for WayRow<'_> {
    const COLUMNS: &'static [&'static str] = &[
        "host",
        "account",
        "state",
        "kind",
        "owner",
        "label",
        "key",
        "comment",
        "path",
        "line",
        "standing",
        "certainty",
        "until",
        "from",
        "command",
        "expires",
        "denied",
        "permit",
    ];
}

impl<'a> WayRow<'a> {
    fn of(way: &'a WayOut) -> Self {
        Self {
            host: &way.host,
            account: Some(&way.account),
            state: Some(way.state),
            kind: Some(way.kind),
            owner: way.owner.as_deref(),
            label: way.label.as_deref(),
            key: Some(&way.key),
            comment: Some(&way.comment),
            path: way.path.as_deref(),
            line: way.line,
            standing: Some(way.standing),
            certainty: way.certainty,
            until: way.until.as_deref(),
            from: way.limits.from.as_deref(),
            command: way.limits.command.as_deref(),
            expires: way.limits.expires.as_deref(),
            denied: &way.limits.denied,
            permit: &way.limits.permit,
        }
    }
}
