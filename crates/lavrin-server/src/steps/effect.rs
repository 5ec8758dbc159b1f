//! What steps do to the keys of an account, read from the bytes before and after.

use super::{Change, Deed, FileChange, Steps};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::keysfile::{Content, KeysFile};
use std::collections::BTreeMap;
use std::sync::Arc;

/// What becomes of keys.
#[derive(Debug, Clone, Default)]
pub struct Effect {
    /// Keys that come: an entry for them stands there afterwards, and none did before.
    pub came: Vec<Arc<PublicKey>>,
    /// Keys that go: no line of theirs is left in a file that is written.
    pub gone: Vec<Arc<PublicKey>>,
    /// Keys whose entry carries other options afterwards.
    pub limited: Vec<Arc<PublicKey>>,
    /// Keys that come into the server's own list of revoked keys: they open no account at all any more.
    pub revoked: Vec<Fingerprint>,
}

/// The keys of some files: whether the server can use an entry of theirs, and with which options.
type Keys = BTreeMap<Fingerprint, (Arc<PublicKey>, Option<Vec<u8>>)>;

impl Steps {
    /// What they do to the keys of the account.
    #[must_use]
    pub fn effect(&self) -> Effect {
        Effect::of(&self.changes)
    }
}

impl Effect {
    /// Whether the account that the steps are about loses this key, or has it with other options afterwards.
    #[must_use]
    pub fn loses(&self, key: &Fingerprint) -> bool {
        self.gone.iter().chain(&self.limited).any(|lost| lost.fingerprint() == *key) || self.revoked.contains(key)
    }

    /// What changes do to keys.
    #[must_use]
    pub fn of(changes: &[Change]) -> Self {
        let (mut before, mut after) = (Keys::new(), Keys::new());
        let mut effect = Self::default();
        for change in changes {
            let mut replace = |old: Option<&[u8]>, new: Option<&[u8]>| {
                take(&mut before, old.unwrap_or_default());
                take(&mut after, new.unwrap_or_default());
            };
            match change {
                Change::File(FileChange::WriteFile { deed: Deed::Revoke(keys), .. }) => effect.revoked.extend(keys),
                Change::File(FileChange::WriteFile { deed: Deed::Settings { .. }, .. }) => {}
                Change::File(FileChange::WriteFile { old, new, .. }) => replace(old.as_deref(), Some(new)),
                Change::File(FileChange::RemoveFile { old, .. }) => replace(Some(old), None),
                Change::File(_) => {}
                Change::Server(_) | Change::Account(_) => {}
                Change::Key(key) => replace(key.old.as_deref(), key.new.as_deref()),
            }
        }
        for (print, (key, options)) in &after {
            match (before.get(print).and_then(|(_, options)| options.as_ref()), options) {
                (None, Some(_)) => effect.came.push(key.clone()),
                (Some(old), Some(new)) if old != new => effect.limited.push(key.clone()),
                _ => {}
            }
        }
        let gone = before.iter().filter(|(print, _)| !after.contains_key(print));
        effect.gone.extend(gone.map(|(_, (key, _))| key.clone()));
        effect
    }
}

/// The server tries entries in order, so the first one of a key says what it is limited to.
fn take(keys: &mut Keys, bytes: &[u8]) {
    for line in KeysFile::parse(bytes).into_lines() {
        let (key, options) = match line.content {
            Content::Entry(entry) => (entry.key, Some(entry.options.text)),
            Content::Unusable(unusable) => match unusable.key {
                Some(key) => (key, None),
                None => continue,
            },
            Content::Blank | Content::Comment => continue,
        };
        let kept = keys.entry(key.fingerprint()).or_insert((key, None));
        kept.1 = kept.1.take().or(options);
    }
}
