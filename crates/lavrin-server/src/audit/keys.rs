//! Findings about what the keys of an account say.

use super::{AuditEntry, Auditor, NotChecked, Report};
use crate::account::Account;
use crate::finding::{Fault, Finding};
use crate::fs::BytePath;
use crate::login::{AccountKeys, Limits, Place};
use crate::system::System;
use foldhash::quality::RandomState;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::keysfile::{Content, Entry};
use std::collections::HashMap;
use std::sync::Arc;

pub(super) fn audit(auditor: &Auditor, account: &Account, files: &[BytePath], seen: &System<'_>, report: &mut Report) {
    let keys = AccountKeys::in_files(account, files, seen, Some(&auditor.known));
    let unread = |(source, why)| NotChecked { account: Some(account.name.clone()), source, why };
    report.not_checked.extend(keys.unread.into_iter().map(unread));
    let name: Arc<str> = account.name.as_str().into();
    let mut first = FirstLines::default();
    for held in keys.entries {
        match held.content {
            Content::Entry(entry) => one(auditor, &name, held.place, *entry, &mut first, report),
            Content::Unusable(unusable) => report.findings.push(at(&name, &held.place, unusable.fault.into())),
            Content::Blank | Content::Comment => {}
        }
    }
}

/// The entries of an account, whatever is wrong with them.
pub(super) fn entries(auditor: &Auditor, account: &Account, seen: &System<'_>) -> Vec<AuditEntry> {
    let name: Arc<str> = account.name.as_str().into();
    let held = AccountKeys::of(account, seen, Some(&auditor.known)).entries.into_iter();
    held.filter_map(|held| match held.content {
        Content::Entry(entry) => Some(audit_entry(&name, held.place, *entry)),
        _ => None,
    })
    .collect()
}

fn audit_entry(account: &Arc<str>, place: Place, entry: Entry) -> AuditEntry {
    AuditEntry {
        account: account.clone(),
        place,
        fingerprint: entry.fingerprint,
        limits: Limits::of(&entry.options),
        options: entry.options.text,
        key: entry.key,
        comment: entry.comment,
    }
}

fn at(account: &Arc<str>, place: &Place, fault: Fault) -> Finding {
    Finding { fault, account: Some(account.to_string()), path: place.path().cloned(), line: place.line() }
}

/// On which line of a file a key stands first.
#[derive(Default)]
struct FirstLines {
    path: Option<Arc<BytePath>>,
    lines: HashMap<Fingerprint, usize, RandomState>,
}

impl FirstLines {
    /// The line on which the key stood before, in the same file.
    fn before(&mut self, place: &Place, fingerprint: Fingerprint) -> Option<usize> {
        let (path, line) = (place.path()?, place.line()?);
        if self.path.as_ref().is_none_or(|own| **own != *path) {
            *self = Self { path: Some(Arc::new(path.clone())), ..Self::default() };
        }
        let first = *self.lines.entry(fingerprint).or_insert(line);
        (first != line).then_some(first)
    }
}

fn one(auditor: &Auditor, account: &Arc<str>, place: Place, entry: Entry, first: &mut FirstLines, report: &mut Report) {
    let fingerprint = entry.fingerprint;
    let weak = auditor.weaknesses(&entry.key, fingerprint);
    let faults = weak
        .iter()
        .flat_map(|weak| weak.iter())
        .map(|weakness| Fault::WeakKey { weakness: weakness.clone(), fingerprint });
    report.findings.extend(faults.map(|fault| at(account, &place, fault)));
    if let Some(first_line) = first.before(&place, fingerprint) {
        report.findings.push(at(account, &place, Fault::DuplicateEntry { first_line, fingerprint }));
    }
    report.entries.push(audit_entry(account, place, entry));
}
