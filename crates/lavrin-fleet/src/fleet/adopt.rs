//! Keys that surveys found and nobody in the register has, with whom they may belong to.

use super::index::Index;
use crate::register::{Register, is_id};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::text::printable;
use lavrin_server::audit::AuditEntry;
use std::collections::{BTreeMap, BTreeSet};
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
    use super::name_in;

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
