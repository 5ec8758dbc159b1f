//! The verdict: would this server let this key into this account, and which rule decides.

mod account_keys;
mod account_rules;
mod dropbear;
mod gone;
mod limits;
mod offered;
mod reason;
mod search;

use crate::abilities::Ability;
use crate::access_rules;
use crate::account::Account;
use crate::fs::{BytePath, Why};
use crate::server::Server;
use crate::server_config::{self, ConfigFault, Settings};
use crate::survey::glob;
use crate::survey::{KEYS_FILE_BYTES_MAX, Resolved, Want, Wanted, Who, resolve};
use crate::system::System;
pub use account_keys::{AccountKeys, HeldEntry, KeySource, Place};
pub use gone::{NotGone, Traces, not_gone};
use lavrin_keys::key::container::certificate::Certificate;
use lavrin_keys::key::{Algorithm, Fingerprint, PublicKey};
use lavrin_keys::keysfile::Content;
use lavrin_keys::services;
use lavrin_keys::version::Version;
pub use limits::Limits;
pub(crate) use offered::{lists, revoked_file};
pub use reason::{AccountStage, Reason, ReasonKind, WrongCertificate};
use search::search;
use std::collections::HashSet;
use std::sync::Arc;

/// What is asked.
#[derive(Debug, Clone)]
pub struct Question {
    /// The account.
    pub account: String,
    /// The key, by its fingerprint.
    pub fingerprint: Fingerprint,
    /// The key itself, where it is at hand; its size decides too.
    pub key: Option<PublicKey>,
    /// The certificate that is offered with the key, where one is.
    pub certificate: Option<Certificate>,
    /// The signature algorithm that the client uses; without one the best that the server accepts.
    pub signature: Option<String>,
    /// Seconds since 1970 (UTC), for `expiry-time=`.
    pub now: i64,
}

impl Question {
    /// Asks about a plain key.
    #[must_use]
    pub fn plain(account: &str, key: &PublicKey, now: i64) -> Self {
        Self {
            account: account.to_owned(),
            fingerprint: key.fingerprint(),
            key: Some(key.clone()),
            certificate: None,
            signature: None,
            now,
        }
    }
}

/// The answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verdict {
    /// Accepted, refused, or not to be decided from what was seen.
    pub outcome: Outcome,
    /// The rule that decides; none where the key is accepted.
    pub deciding: Option<Reason>,
    /// What else would refuse or could not be decided.
    pub also: Vec<Reason>,
    /// The entry that the server takes, or would take.
    pub entry: Option<Place>,
    /// With which limits the key opens the account.
    pub limits: Limits,
}

/// The three outcomes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// The key opens the account.
    Accepted,
    /// It does not.
    Refused,
    /// Something that decides could not be seen.
    Undecided,
}

/// What has to be looked at before [`judge`] can say everything about one account.
#[must_use]
pub fn wants(name: &str, seen: &System<'_>) -> Vec<Want> {
    if !seen.looked {
        return vec![Want { what: Wanted::System(Who::One(name.to_owned())), account: None }];
    }
    let Some(account) = seen.account(name) else { return Vec::new() };
    let mut wants = wants_of(account, seen);
    if !seen.abilities.has(Ability::Files) {
        return wants;
    }
    if let Resolved::Ask(path) = resolve(&account.shell, seen) {
        wants.push(Want { what: Wanted::Node(path), account: None });
    }
    wants.extend(offered::revoked_wants(account, seen));
    wants.retain(|want| !seen.answers(want));
    wants
}

/// What has to be looked at to find the key in the files of other accounts too.
#[must_use]
pub fn wants_of_others(seen: &System<'_>) -> Vec<Want> {
    let mut distinct = HashSet::new();
    let all = seen.accounts.iter().flat_map(|account| wants_of(account, seen));
    all.filter(|want| distinct.insert(want.clone())).collect()
}

/// The key of this fingerprint, where the account holds it.
#[must_use]
pub fn find_key(name: &str, fingerprint: &Fingerprint, seen: &System<'_>) -> Option<PublicKey> {
    let keys = AccountKeys::of(seen.account(name)?, seen, None);
    keys.of_key(*fingerprint).find_map(|held| held.key().map(|key| PublicKey::clone(key)))
}

/// Every key that the account holds, usable or not, with its comment, each once.
#[must_use]
pub fn keys_of(name: &str, seen: &System<'_>) -> Vec<(PublicKey, Vec<u8>)> {
    let Some(account) = seen.account(name) else { return Vec::new() };
    let mut told = HashSet::new();
    let entries = AccountKeys::of(account, seen, None).entries.into_iter();
    entries
        .filter_map(|held| Some((held.key()?.clone(), held.comment().to_vec())))
        .filter(|(key, _)| told.insert(key.fingerprint()))
        .map(|(key, comment)| (Arc::unwrap_or_clone(key), comment))
        .collect()
}

/// The same for an account that was found. Homes on a network file system that nobody asked for are left alone.
#[must_use]
pub fn wants_of(account: &Account, seen: &System<'_>) -> Vec<Want> {
    if !seen.abilities.has(Ability::Files) {
        let want = Want { what: Wanted::Slots(account.name.clone()), account: None };
        return if seen.answers(&want) { Vec::new() } else { vec![want] };
    }
    if seen.network_homes.contains(&account.home) {
        return Vec::new();
    }
    let mut wants = match (seen.server.is_dropbear(), &seen.said_by_server) {
        (true, _) => dropbear::wants().to_vec(),
        (false, Some(_)) => Vec::new(),
        (false, None) if seen.has_whole_config() => Vec::new(),
        (false, None) => server_config::wants(seen),
    };
    let (folders, _) = folders_of_patterns(account, seen);
    let name = || Some(account.name.clone());
    wants.extend(folders.into_iter().map(|folder| Want { what: Wanted::Names(folder), account: name() }));
    if asks_for_services(account, seen) {
        wants.push(Want { what: Wanted::Bytes(services::PATH.into(), services::BYTES_MAX), account: None });
    }
    for file in key_files(account, seen) {
        wants.extend(access_rules::wants(&file, account, seen));
        if let Some(real) = access_rules::may_be_read(&file, account, seen) {
            let what = Wanted::Bytes(real, KEYS_FILE_BYTES_MAX);
            wants.push(Want { what, account: Some(account.name.clone()) });
        }
    }
    wants.retain(|want| !seen.answers(want));
    wants
}

/// Whether an entry names a port by its name.
fn asks_for_services(account: &Account, seen: &System<'_>) -> bool {
    if seen.server.is_dropbear() || seen.bytes.contains_key(&BytePath::from(services::PATH)) {
        return false;
    }
    let of_ports = |bytes: &[u8]| {
        let mut places = memchr::memmem::find_iter(bytes, b"permit");
        places.any(|at| {
            let line = bytes[at..].split(|byte| *byte == b'\n').next().unwrap_or_default();
            let value = line.splitn(3, |byte| *byte == b'"').nth(1).unwrap_or_default();
            services::may_be_named(&String::from_utf8_lossy(value))
        })
    };
    key_files(account, seen).iter().any(|file| seen.content(file).into_known().is_some_and(|bytes| of_ports(bytes)))
}

/// What root may look at for an account where that may not look itself: its own files where root alone, or the account in
/// its own folders, has put them. `None`: every account's.
#[must_use]
pub fn root_may_see(name: Option<&str>, seen: &System<'_>) -> HashSet<BytePath> {
    let accounts = seen.accounts.iter().filter(|account| name.is_none_or(|name| account.name == name));
    let files = accounts.flat_map(|account| key_files(account, seen));
    files.flat_map(|file| access_rules::root_may_see(&file, seen)).collect()
}

/// Since this version `AuthorizedKeysFile` may be a pattern.
const PATTERNS_SINCE: Version = Version(10, 0);

/// The key files of an account: dropbear knows one, OpenSSH those that its settings name.
#[must_use]
pub fn key_files(account: &Account, seen: &System<'_>) -> Vec<BytePath> {
    if seen.server.is_dropbear() {
        return seen.switches().key_file(account).into_iter().collect();
    }
    let files = seen.settings(account).key_files(account);
    if seen.server.rules() < PATTERNS_SINCE || !files.iter().any(glob::is_pattern) {
        return files;
    }
    let expanded = files
        .into_iter()
        .map(|file| if glob::is_pattern(&file) { glob::expand(&file, seen).paths } else { vec![file] });
    expanded.flatten().collect()
}

/// Folders whose names have to be seen, and those whose names could not be, before it is known which key files an account has.
fn folders_of_patterns(account: &Account, seen: &System<'_>) -> (Vec<BytePath>, Vec<BytePath>) {
    if seen.server.is_dropbear() || seen.server.rules() < PATTERNS_SINCE {
        return (Vec::new(), Vec::new());
    }
    let files = seen.settings(account).key_files(account);
    let expanded = files.iter().filter(|file| glob::is_pattern(file)).map(|file| glob::expand(file, seen));
    expanded.fold((Vec::new(), Vec::new()), |(mut ask, mut unseen), one| {
        ask.extend(one.ask);
        unseen.extend(one.unseen);
        (ask, unseen)
    })
}

/// The algorithms that a server takes, where its version alone says so; `None`: its settings do, or nobody knows.
#[must_use]
pub fn algorithms_of(server: &Server) -> Option<Vec<Algorithm>> {
    server.version.filter(|_| server.is_dropbear()).map(dropbear::algorithms)
}

/// Whether the server lets this account in by anything: its state, its shell, and the lists of users and groups.
#[must_use]
pub fn lets_account_in(account: &Account, seen: &System<'_>, now: i64) -> bool {
    account_rules::lets_in(account, &seen.settings(account), now, seen)
}

/// The server's list of users or groups that keeps an account out, by its keyword, and what stands in it.
#[must_use]
pub fn kept_out_by(account: &Account, seen: &System<'_>) -> Option<(&'static str, Vec<String>)> {
    account_rules::kept_out_by(account, &seen.settings(account), seen)
}

/// Whether the server refuses to read files with loose modes. Dropbear always does.
#[must_use]
pub fn strict(settings: &Settings, seen: &System<'_>) -> bool {
    seen.server.is_dropbear() || settings.word("strictmodes") != "no"
}

/// Decides.
#[must_use]
pub fn judge(question: &Question, seen: &System<'_>) -> Verdict {
    let Some(account) = seen.account(&question.account) else {
        return settle(vec![Reason::plain(ReasonKind::NoSuchAccount)], None, Limits::default());
    };
    if !seen.abilities.has(Ability::Files) {
        return judge_by_slots(question, account, seen);
    }
    if seen.network_homes.contains(&account.home) {
        let unseen = Reason::at(ReasonKind::Unseen(Why::NetworkHome), &account.home, None);
        return settle(vec![unseen], None, Limits::default());
    }
    let settings = seen.settings(account);
    let mut reasons = config_reasons(&settings);
    if seen.server.is_dropbear() {
        reasons.extend(dropbear::reasons(account, question, seen));
    }
    reasons.extend(account_rules::reasons(account, &settings, question, seen));
    reasons.extend(offered::reasons(question, account, &settings, seen));
    // What comes behind the key on the server comes behind it here.
    let (late, mut reasons): (Vec<_>, Vec<_>) = reasons.into_iter().partition(|reason| reason.kind.is_behind_the_key());
    let found = search(question, account, &settings, seen);
    let accepted = found.entry.is_some();
    if !accepted {
        reasons.extend(found.reasons.iter().cloned());
        if found.reasons.iter().all(|reason| reason.kind == ReasonKind::NoEntry || reason.kind == ReasonKind::NoKeyFile)
        {
            reasons.extend(other_accounts(question, account, seen));
        }
    }
    reasons.extend(late);
    reasons.extend(open_questions(question, account, &settings, seen, accepted));
    if accepted {
        reasons.extend(found.reasons);
    }
    settle(reasons, found.entry, found.limits)
}

/// A device that keeps keys in slots does not show by which rules it lets somebody in: more than that a key is listed is not known.
fn judge_by_slots(question: &Question, account: &Account, seen: &System<'_>) -> Verdict {
    let keys = AccountKeys::of(account, seen, None);
    let unread = keys.unread.iter().map(|(_, why)| Reason::plain(ReasonKind::Unseen(why.clone())));
    let usable = keys.of_key(question.fingerprint).find_map(|held| match &held.content {
        Content::Entry(entry) => Some((held.place.clone(), Limits::of(&entry.options))),
        _ => None,
    });
    let (kind, entry, limits) = match usable {
        Some((place, limits)) => (ReasonKind::OnlyListed, Some(place), limits),
        None => (ReasonKind::NoEntry, None, Limits::default()),
    };
    settle(std::iter::once(Reason::plain(kind)).chain(unread).collect(), entry, limits)
}

/// Sorts the reasons into a verdict. Refusals decide before open questions.
fn settle(reasons: Vec<Reason>, entry: Option<Place>, limits: Limits) -> Verdict {
    let (open, refusing): (Vec<_>, Vec<_>) = reasons.into_iter().partition(|reason| reason.kind.is_open());
    let keys_may_come_from_elsewhere = open.iter().any(|reason| {
        matches!(reason.kind, ReasonKind::Authorities(_) | ReasonKind::KeysCommand(_) | ReasonKind::Unseen(_))
    });
    let only_entry_is_missing =
        refusing.iter().all(|reason| reason.kind.class() == "no-match" || reason.kind == ReasonKind::NoKeyFile);
    let (outcome, mut all) = match (refusing.is_empty(), open.is_empty()) {
        (true, true) => (Outcome::Accepted, Vec::new()),
        (true, false) => (Outcome::Undecided, open),
        (false, _) if keys_may_come_from_elsewhere && only_entry_is_missing => {
            (Outcome::Undecided, open.into_iter().chain(refusing).collect())
        }
        (false, _) => (Outcome::Refused, refusing.into_iter().chain(open).collect()),
    };
    let deciding = if all.is_empty() { None } else { Some(all.remove(0)) };
    Verdict { outcome, deciding, also: all, entry, limits }
}

/// A server whose configuration it refuses lets nobody in.
fn config_reasons(settings: &Settings) -> Vec<Reason> {
    let refused = |fault: &ConfigFault| {
        Reason::at(
            ReasonKind::ConfigRejected(fault.what.clone()),
            &fault.path,
            Some(fault.line).filter(|line| *line > 0),
        )
    };
    let fatal = settings.bad_pattern().map(|pattern| {
        let setting = settings.get("authorizedkeysfile");
        Reason {
            kind: ReasonKind::PatternUnknown(pattern),
            path: setting.and_then(|setting| setting.path.clone()),
            line: setting.and_then(|setting| setting.line),
        }
    });
    let ends = settings
        .ends
        .as_ref()
        .map(|fault| Reason::at(ReasonKind::SessionEnds(fault.what.clone()), &fault.path, Some(fault.line)));
    settings.faults.iter().map(refused).chain(fatal).chain(ends).collect()
}

/// What the server's settings leave open.
fn open_questions(
    question: &Question,
    account: &Account,
    settings: &Settings,
    seen: &System<'_>,
    accepted: bool,
) -> Vec<Reason> {
    let mut reasons = Vec::new();
    let place = |keyword: &str, kind: ReasonKind| {
        let setting = settings.get(keyword)?;
        Some(Reason { kind, path: setting.path.clone(), line: setting.line })
    };
    let said = |keyword: &str| settings.get(keyword).map(|setting| setting.words.join(" ")).unwrap_or_default();
    if !accepted && question.certificate.is_some() {
        reasons.extend(place("trustedusercakeys", ReasonKind::Authorities(said("trustedusercakeys"))));
    }
    if !accepted {
        reasons.extend(place("authorizedkeyscommand", ReasonKind::KeysCommand(said("authorizedkeyscommand"))));
    }
    if accepted
        && settings
            .get("authenticationmethods")
            .is_some_and(|setting| !setting.words.iter().any(|list| is_key_alone(list)))
    {
        reasons.extend(place("authenticationmethods", ReasonKind::FurtherMethod(said("authenticationmethods"))));
    }
    let (ask, unseen) = folders_of_patterns(account, seen);
    for folder in ask.iter().chain(&unseen) {
        reasons.push(Reason::at(ReasonKind::Unseen(Why::NotReached), folder, None));
    }
    if !settings.unseen.is_empty() && !seen.server.is_dropbear() {
        reasons.push(Reason::at(ReasonKind::SettingsUnseen, &settings.unseen[0], None));
    }
    for (keyword, path, line) in &settings.unknown {
        reasons.push(Reason::at(ReasonKind::SettingUnknown(keyword.clone()), path, Some(*line)));
    }
    for (keyword, path, line) in &settings.conditional {
        let concerns = keyword != "permitrootlogin" || account.is_root();
        if concerns && DECIDING_KEYWORDS.contains(&keyword.as_str()) {
            reasons.push(Reason::at(ReasonKind::SettingConditional(keyword.clone()), path, Some(*line)));
        }
    }
    reasons
}

/// Keywords that change whether a key opens an account.
const DECIDING_KEYWORDS: [&str; 12] = [
    "allowgroups",
    "allowusers",
    "authenticationmethods",
    "authorizedkeyscommand",
    "authorizedkeysfile",
    "denygroups",
    "denyusers",
    "permitrootlogin",
    "pubkeyacceptedalgorithms",
    "pubkeyauthentication",
    "requiredrsasize",
    "revokedkeys",
];

fn is_key_alone(list: &str) -> bool {
    list.eq_ignore_ascii_case("publickey") || list.eq_ignore_ascii_case("any")
}

/// Whether the key stands in another account's file: the right key for the wrong account.
fn other_accounts(question: &Question, account: &Account, seen: &System<'_>) -> Vec<Reason> {
    let mut found = Vec::new();
    for other in seen.accounts.iter().filter(|other| other.name != account.name) {
        for path in key_files(other, seen) {
            let Some(bytes) = seen.content(&path).into_known() else { continue };
            if let Some(line) = seen.keys_file(bytes).lines_of(&question.fingerprint).first() {
                found.push(Reason::at(ReasonKind::OtherAccount(other.name.clone()), &path, Some(*line)));
            }
        }
    }
    found
}

#[cfg(test)]
mod tests;
