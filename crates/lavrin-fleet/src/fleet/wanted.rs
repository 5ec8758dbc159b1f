//! The entries that grants ask for, and what a host can bear of them.

use super::difference::{Difference, WhyGone};
use crate::register::{Date, OwnedKey};
use lavrin_keys::key::PublicKey;
use lavrin_keys::keysfile::Content;
use lavrin_keys::keysfile::options::Options;
use lavrin_keys::text::printable;
use lavrin_server::device::{KeyLimits, LimitBroken};
use lavrin_server::login::AccountKeys;

/// An entry that should be there.
pub(super) struct WantedEntry<'a> {
    pub(super) who: String,
    pub(super) key: &'a OwnedKey,
    pub(super) options: Options,
    /// The last day, where every grant for it has one.
    pub(super) until: Option<Date>,
    /// Another key takes its place, or the host does not take it: it may be there, and is not missed.
    pub(super) is_spared: bool,
    /// Longest comment that the host takes, in bytes.
    comment_bytes_max: usize,
}

impl<'a> WantedEntry<'a> {
    pub(super) fn new(who: String, key: &'a OwnedKey, options: Options, until: Option<Date>, is_spared: bool) -> Self {
        Self { who, key, options, until, is_spared, comment_bytes_max: usize::MAX }
    }

    /// Of several entries of one key the first that says the right thing counts, and none may say another.
    pub(super) fn differences(&self, keys: &AccountKeys, found: &mut Vec<Difference>) {
        let own = keys.entries.iter().filter_map(|held| match &held.content {
            Content::Entry(entry) if entry.fingerprint == self.key.fingerprint => Some((&held.place, entry)),
            _ => None,
        });
        let own: Vec<_> = own.collect();
        let right = own.iter().position(|(_, entry)| entry.options.says_the_same(&self.options));
        let (who, fingerprint) = (self.who.clone(), self.key.fingerprint);
        let options = String::from_utf8_lossy(&self.options.text).into_owned();
        if own.is_empty() && self.is_spared {
            return;
        }
        if own.is_empty() {
            let line = self.line(&options);
            found.push(Difference::Add { who, fingerprint, line, options });
            return;
        }
        for (number, (place, entry)) in own.iter().enumerate() {
            let place = (*place).clone();
            let says_the_same = entry.options.says_the_same(&self.options);
            if right.is_none() && number == 0 {
                let from = printable(&entry.options.text);
                let to = self.options_instead(&entry.options).unwrap_or_else(|| options.clone());
                found.push(Difference::Options { who: who.clone(), fingerprint, place, from, to });
            } else if !says_the_same {
                found.push(Difference::Remove {
                    who: Some(who.clone()),
                    fingerprint,
                    place,
                    comment: printable(entry.comment.trim_ascii()),
                    why: WhyGone::Second,
                    back: None,
                });
            }
        }
    }

    /// Where only the end differs, that is all that changes; none where more does.
    fn options_instead(&self, there: &Options) -> Option<String> {
        let read = |text: Vec<u8>| Options::parse(&text).ok();
        let without = |options: &Options| read(options.with_expiry(None));
        let is_same = without(there)?.says_the_same(&without(&self.options)?);
        let end = self.options.value("expiry-time").map(String::from_utf8_lossy);
        is_same.then(|| String::from_utf8(there.with_expiry(end.as_deref())).ok())?
    }

    /// The server itself refuses the key after its last day, where it knows how to.
    pub(super) fn end(&mut self) {
        let Some(until) = self.until.filter(|_| !self.options.has("expiry-time")) else { return };
        let day = Date::of_number(until.number() + 1);
        let text = self.options.with_expiry(Some(&format!("{:04}{:02}{:02}", day.year, day.month, day.day)));
        if let Ok(options) = Options::parse(&text) {
            self.options = options;
        }
    }

    fn line_without_comment(&self, options: &str) -> String {
        let line = self.key.key.line("").trim_end().to_owned();
        if options.is_empty() { line } else { format!("{options} {line}") }
    }

    fn line(&self, options: &str) -> String {
        let key: &PublicKey = &self.key.key;
        let comment = printable(self.key.comment.trim().as_bytes());
        let comment = if comment.is_empty() { &self.who } else { &comment };
        let line = key.line(&comment[..comment.floor_char_boundary(self.comment_bytes_max)]);
        let line = line.trim_end().to_owned();
        if options.is_empty() { line } else { format!("{options} {line}") }
    }
}

/// Leaves away what a host does not take: of somebody's keys the others are enough, and what it has it has taken. Gives for whom none
/// is left, and why.
pub(super) fn fit(wanted: &mut [WantedEntry<'_>], limits: &KeyLimits, held: &AccountKeys) -> Vec<Difference> {
    let mut broken: Vec<(String, LimitBroken)> = Vec::new();
    for entry in wanted.iter_mut() {
        entry.comment_bytes_max = limits.comment_bytes_max.unwrap_or(usize::MAX);
        let options = String::from_utf8_lossy(&entry.options.text).into_owned();
        if let Some(max) = limits.line_bytes_max {
            // The comment gives way first.
            let over = entry.line(&options).len().saturating_sub(max);
            let comment = entry.line(&options).len() - entry.line_without_comment(&options).len();
            entry.comment_bytes_max = entry.comment_bytes_max.min(comment.saturating_sub(over + 1));
        }
        let line = entry.line(&options);
        if let Some(limit) = limits.against_entry(&entry.key.key, "", &line) {
            entry.is_spared = true;
            broken.push((entry.who.clone(), limit));
        }
    }
    broken.dedup_by(|one, other| one.0 == other.0);
    let is_held = |entry: &WantedEntry<'_>| held.of_key(entry.key.fingerprint).next().is_some();
    let has_another =
        |who: &String| wanted.iter().any(|entry| entry.who == *who && (!entry.is_spared || is_held(entry)));
    let none = broken.into_iter().filter(|(who, _)| !has_another(who));
    none.map(|(who, limit)| Difference::NoKeyTaken { who, limit }).collect()
}

/// Keys for which the host has no more room are not added: of those that are missing the last ones.
pub(super) fn leave_room(found: &mut [Difference], held: usize, max: usize) {
    let go = found.iter().filter(|difference| matches!(difference, Difference::Remove { .. })).count();
    let mut room = max.saturating_sub(held.saturating_sub(go));
    for difference in found.iter_mut() {
        if let Difference::Add { who, .. } = difference {
            if room == 0 {
                *difference = Difference::NoKeyTaken { who: who.clone(), limit: LimitBroken::Keys(max) };
            } else {
                room -= 1;
            }
        }
    }
}
