//! Keys that surveys found and nobody in the register has, with whom they may belong to.

use super::Moment;
use super::compare::Comparer;
use super::index::Index;
use crate::register::{Register, is_id};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::keysfile::options::Options;
use lavrin_keys::text::printable;
use lavrin_server::audit::AuditEntry;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::hash::BuildHasher;
use std::sync::Arc;

/// A key that nobody in the register has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnknownKey {
    /// The key.
    pub key: Arc<PublicKey>,
    /// The comments behind it.
    pub comments: BTreeSet<String>,
    /// The accounts that it opens, each with its host.
    pub places: BTreeSet<(String, String)>,
    /// Whose it may be.
    pub proposal: Option<String>,
}

/// Every such key among entries of hosts, the one that opens most first. What a host is told to leave alone is left out.
#[must_use]
pub fn unknown_keys(register: &Register, entries: &[(String, AuditEntry)]) -> Vec<UnknownKey> {
    let index = Index::of(register);
    let mut keys: BTreeMap<Fingerprint, UnknownKey> = BTreeMap::new();
    for (host, entry) in entries.iter().filter(|(_, entry)| index.owner(entry.fingerprint).is_none()) {
        if register.hosts.get(host).is_some_and(|host| index.is_left_alone(entry.fingerprint, host)) {
            continue;
        }
        let comment = printable(entry.comment.trim_ascii());
        let found = keys.entry(entry.fingerprint).or_insert_with(|| UnknownKey {
            key: entry.key.clone(),
            comments: BTreeSet::new(),
            places: BTreeSet::new(),
            proposal: None,
        });
        found.places.insert((entry.account.to_string(), host.clone()));
        if !comment.is_empty() {
            found.comments.insert(comment);
        }
    }
    let mut keys: Vec<UnknownKey> = keys.into_values().collect();
    for found in &mut keys {
        found.proposal = proposal(register, &found.comments);
    }
    keys.sort_by_key(|found| std::cmp::Reverse(found.places.len()));
    keys
}

/// Entries of one person for one account, alike in their options, that no grant asks for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Ungranted {
    /// Whose.
    pub person: String,
    /// The account.
    pub account: String,
    /// The addresses it is limited to.
    pub from: Option<String>,
    /// The command it is limited to.
    pub command: Option<String>,
    /// Its other options.
    pub options: Vec<String>,
    /// Tags whose hosts all have such an entry.
    pub tags: Vec<String>,
    /// The other hosts that have one.
    pub hosts: Vec<String>,
    /// Whether one of the keys is adopted only now.
    pub is_adopted: bool,
}

#[derive(Default)]
struct Alike {
    hosts: BTreeSet<String>,
    is_adopted: bool,
}

/// Every such group among entries of hosts; `adopted` says whose keys are from now on.
#[must_use]
pub fn ungranted<S: BuildHasher>(
    register: &Register,
    entries: &[(String, AuditEntry)],
    adopted: &HashMap<Fingerprint, String, S>,
    now: Moment,
) -> Vec<Ungranted> {
    let comparer = Comparer::new(register, now);
    let mut active: HashMap<Fingerprint, &str> = HashMap::new();
    for person in register.people.values().filter(|person| !person.has_left(now.today)) {
        active.extend(
            person.keys.iter().filter(|key| key.is_active(now.today)).map(|key| (key.fingerprint, person.id.as_str())),
        );
    }
    let mut granted: HashMap<&str, HashSet<(String, Fingerprint)>> = HashMap::new();
    // By person, account and options.
    let mut groups: BTreeMap<(String, String, Vec<u8>), Alike> = BTreeMap::new();
    for (host, entry) in entries {
        let new = adopted.get(&entry.fingerprint).map(String::as_str);
        let Some(person) = new.or_else(|| active.get(&entry.fingerprint).copied()) else { continue };
        let Some(known) = register.hosts.get(host) else { continue };
        let kept = granted.entry(host).or_insert_with(|| {
            comparer.granted(known).into_iter().map(|kept| (kept.account, kept.fingerprint)).collect()
        });
        if kept.contains(&(entry.account.to_string(), entry.fingerprint)) {
            continue;
        }
        let group = groups.entry((person.to_owned(), entry.account.to_string(), entry.options.clone())).or_default();
        group.hosts.insert(host.clone());
        group.is_adopted |= new.is_some();
    }
    groups
        .into_iter()
        .map(|((person, account, options), Alike { hosts, is_adopted })| {
            let (tags, hosts) = by_tag(register, hosts);
            let (from, command, options) = parted(&options);
            Ungranted { person, account, from, command, options, tags, hosts, is_adopted }
        })
        .collect()
}

/// Tags of at least two hosts that are all among these, the largest first, and the hosts that none of them covers.
fn by_tag(register: &Register, mut hosts: BTreeSet<String>) -> (Vec<String>, Vec<String>) {
    let mut tagged: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for host in register.all_hosts() {
        for tag in &host.tags {
            tagged.entry(tag).or_default().insert(&host.id);
        }
    }
    let mut whole: Vec<(&str, BTreeSet<&str>)> =
        tagged.into_iter().filter(|(_, of)| of.len() > 1 && of.iter().all(|host| hosts.contains(*host))).collect();
    whole.sort_by_key(|(tag, of)| (std::cmp::Reverse(of.len()), *tag));
    let mut tags = Vec::new();
    for (tag, of) in whole {
        if of.iter().any(|host| hosts.contains(*host)) {
            hosts.retain(|host| !of.contains(host.as_str()));
            tags.push(tag.to_owned());
        }
    }
    (tags, hosts.into_iter().collect())
}

/// The options of an entry as a grant has them: addresses, command, and the others.
fn parted(text: &[u8]) -> (Option<String>, Option<String>, Vec<String>) {
    let options = Options::parse(text).unwrap_or_default();
    let word = |value: &[u8]| String::from_utf8_lossy(value).into_owned();
    let (mut from, mut command, mut others) = (None, None, Vec::new());
    for option in options.list() {
        match (option.name, &option.value) {
            ("from", Some(value)) if from.is_none() => from = Some(word(value)),
            ("command", Some(value)) if command.is_none() => command = Some(word(value)),
            (name, Some(value)) => others.push(format!("{name}=\"{}\"", word(value).replace('"', "\\\""))),
            (name, None) => others.push(name.to_owned()),
        }
    }
    (from, command, others)
}

/// Whom comments name: a person of the register before anybody else, and nobody where they name several.
fn proposal(register: &Register, comments: &BTreeSet<String>) -> Option<String> {
    let names: BTreeSet<String> = comments.iter().filter_map(|comment| name_in(comment)).collect();
    let known: Vec<&String> = names.iter().filter(|name| register.people.contains_key(*name)).collect();
    match (&known[..], names.len()) {
        ([person], _) => Some((*person).clone()),
        ([], 1) => names.into_iter().next(),
        _ => None,
    }
}

/// `edda@lantern` and `Edda Lund <edda@lantern>` both name edda. Root, a machine's name alone or a date name nobody.
fn name_in(comment: &str) -> Option<String> {
    let words = comment.split(|letter: char| letter.is_whitespace() || "<>(),;".contains(letter));
    let with_host = words.clone().find_map(|word| word.split_once('@').map(|(name, _)| name));
    let alone = (words.clone().filter(|word| !word.is_empty()).count() == 1).then(|| comment.trim());
    let name = with_host.or(alone)?.to_ascii_lowercase();
    let names_nobody = ["root", "admin", "administrator", "user", "ubuntu", "debian", "test", "key"];
    let fine = is_id(&name) && name.chars().any(char::is_alphabetic) && !names_nobody.contains(&name.as_str());
    fine.then_some(name)
}

#[cfg(test)]
mod tests {
    use super::{name_in, parted};

    #[test]
    fn options_are_parted_as_a_grant_has_them() {
        let (from, command, others) =
            parted(br#"restrict,from="192.0.2.0/24",command="/bin/report \"a\"",environment="A=b""#);
        assert_eq!((from.as_deref(), command.as_deref()), (Some("192.0.2.0/24"), Some("/bin/report \"a\"")));
        assert_eq!(others, ["restrict", "environment=\"A=b\""]);
        assert_eq!(parted(b""), (None, None, Vec::new()));
    }

    #[test]
    fn comments_name_people() {
        let named = |comment: &str| name_in(comment).unwrap_or_default();
        assert_eq!(named("edda@lantern"), "edda");
        assert_eq!(named("Edda Lund <Edda@lantern.example>"), "edda");
        assert_eq!(named("sten"), "sten");
        assert_eq!(named("sten.kvarn"), "sten.kvarn");
        for nobody in ["", "root@skerry", "2026-11-23", "key of the old laptop", "../../etc@x"] {
            assert_eq!(named(nobody), "", "{nobody}");
        }
    }
}
