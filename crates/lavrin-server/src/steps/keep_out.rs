//! Steps that take changes back, without the keys that are to stay away: those of somebody who left, retired or revoked ones.

use super::{Change, FileChange, ServerChange, Steps};
use crate::fs::BytePath;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::keysfile::{Content, KeysFile};
use std::collections::{BTreeSet, HashMap};

/// Takes keys that are `barred` out of what the steps would bring back; an entry that is there already is not their business.
/// Gives the keys that stay away.
pub fn keep_out(steps: &mut Steps, barred: &dyn Fn(&Fingerprint) -> bool) -> BTreeSet<Fingerprint> {
    let mut kept_out = BTreeSet::new();
    // What a file holds by now, where that is not what the step before was to leave.
    let mut held: HashMap<BytePath, Vec<u8>> = HashMap::new();
    let changes = std::mem::take(&mut steps.changes);
    for change in changes {
        match change {
            Change::File(FileChange::WriteFile { path, old, new, mode, owner, was, deed }) => {
                let old = held.remove(&path).map_or(old, Some);
                let (new, out) = without_new(old.as_deref().unwrap_or_default(), &new, barred);
                if !out.is_empty() {
                    held.insert(path.clone(), new.clone());
                    kept_out.extend(out);
                }
                if old.as_ref() != Some(&new) || was.is_some() {
                    steps.changes.push(FileChange::WriteFile { path, old, new, mode, owner, was, deed }.into());
                }
            }
            Change::File(FileChange::RemoveFile { path, old, mode, owner }) => {
                let old = held.remove(&path).unwrap_or(old);
                steps.changes.push(FileChange::RemoveFile { path, old, mode, owner }.into());
            }
            Change::Key(key) => {
                let (_, out) =
                    without_new(key.old.as_deref().unwrap_or_default(), key.new.as_deref().unwrap_or_default(), barred);
                if out.is_empty() {
                    steps.changes.push(Change::Key(key));
                }
                kept_out.extend(out);
            }
            other => steps.changes.push(other),
        }
    }
    // Nothing is read again where nothing is put back.
    if steps.changes.iter().all(|change| matches!(change, Change::Server(ServerChange::Reload))) {
        steps.changes.clear();
    }
    kept_out
}

/// The new content without lines of barred keys that the old one does not have, and those keys.
fn without_new(old: &[u8], new: &[u8], barred: &dyn Fn(&Fingerprint) -> bool) -> (Vec<u8>, BTreeSet<Fingerprint>) {
    let there: BTreeSet<Fingerprint> =
        KeysFile::parse(old).into_lines().filter_map(|line| key(&line.content)).collect();
    let file = KeysFile::parse(new);
    let comes = |content: &Content| key(content).filter(|key| barred(key) && !there.contains(key));
    let lines: Vec<(usize, Fingerprint)> =
        file.lines().iter().filter_map(|line| Some((line.number, comes(&line.content)?))).collect();
    let numbers: Vec<usize> = lines.iter().map(|(number, _)| *number).collect();
    (file.without(&numbers), lines.into_iter().map(|(_, key)| key).collect())
}

/// The key of a line, also of one that the server skips: a repair would make it active.
fn key(content: &Content) -> Option<Fingerprint> {
    match content {
        Content::Entry(entry) => Some(entry.fingerprint),
        Content::Unusable(unusable) => unusable.key.as_ref().map(|key| key.fingerprint()),
        Content::Blank | Content::Comment => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::{Deed, OwnerIds};
    use lavrin_keys::key::PrivateKey;

    fn key_line(seed: u8) -> String {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().line("of a test") + "\n"
    }

    fn print(seed: u8) -> Fingerprint {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().fingerprint()
    }

    fn write(old: &str, new: &str) -> Change {
        let owner = OwnerIds { uid: 1001, gid: 1001 };
        let (old, new) = (Some(old.as_bytes().to_vec()), new.as_bytes().to_vec());
        let path = "/home/edda/.ssh/authorized_keys".into();
        FileChange::WriteFile { path, old, new, mode: 0o600, owner, was: None, deed: Deed::PutBack }.into()
    }

    fn kept(changes: Vec<Change>, barred: u8) -> (Vec<Change>, BTreeSet<Fingerprint>) {
        let seen = crate::survey::Observation {
            accounts: crate::account::read_passwd(b"edda:x:1001:1001::/home/edda:/bin/sh\n").into(),
            ..crate::survey::Observation::default()
        };
        let system = crate::system::System::of(&seen);
        let mut steps = Steps::none(&seen.accounts[0], None, &system);
        steps.changes = changes;
        let out = keep_out(&mut steps, &|key| *key == print(barred));
        (steps.changes, out)
    }

    #[test]
    fn a_barred_key_stays_away_and_the_rest_comes_back() {
        let (one, two, three) = (key_line(1), key_line(2), key_line(3));
        let first = write("", &format!("{one}{two}"));
        let second = write(&format!("{one}{two}"), &format!("{one}{two}{three}"));
        let (changes, out) = kept(vec![first, second], 2);
        assert_eq!(out, [print(2)].into());
        assert_eq!(changes, [write("", &one), write(&one, &format!("{one}{three}"))]);
    }

    #[test]
    fn what_brings_only_a_barred_key_is_not_done_and_what_is_there_stays() {
        let (changes, out) = kept(vec![write(&key_line(1), &(key_line(1) + &key_line(2)))], 2);
        assert!(changes.is_empty() && out == [print(2)].into());
        let there = write(&key_line(2), &(key_line(2) + &key_line(1)));
        assert_eq!(kept(vec![there.clone()], 2), (vec![there], BTreeSet::new()));
    }
}
