//! Findings about what the key files say.

use super::{AuditEntry, Auditor, NotChecked, Report};
use crate::account::Account;
use crate::finding::{Fault, Finding};
use crate::fs::{BytePath, Fact};
use crate::login::Limits;
use crate::survey::{Resolved, resolve};
use crate::system::System;
use foldhash::quality::RandomState;
use lavrin_keys::keysfile::{Content, Entry, Line, read_all};
use std::collections::HashMap;
use std::sync::Arc;

pub(super) fn audit(auditor: &Auditor, account: &Account, files: &[BytePath], seen: &System<'_>, report: &mut Report) {
    for path in files {
        let unseen = |path: &BytePath, why| NotChecked { account: Some(account.name.clone()), path: path.clone(), why };
        let real = match resolve(path, seen) {
            Resolved::To(real, _) => real,
            Resolved::Unseen(at, why) => {
                report.not_checked.push(unseen(&at, why));
                continue;
            }
            _ => continue,
        };
        match seen.content(&real) {
            Fact::Known(bytes) => {
                read(auditor, account, path, read_all(bytes, Some(&auditor.known), seen.dialect()), report);
            }
            Fact::Unseen(why) => report.not_checked.push(unseen(path, why)),
            Fact::Absent => {}
        }
    }
}

/// The entries of an account's key files, whatever is wrong with them.
pub(super) fn entries(auditor: &Auditor, account: &Account, files: &[BytePath], seen: &System<'_>) -> Vec<AuditEntry> {
    let mut entries = Vec::new();
    let name: Arc<str> = account.name.as_str().into();
    for path in files {
        let Resolved::To(real, _) = resolve(path, seen) else { continue };
        let Fact::Known(bytes) = seen.content(&real) else { continue };
        let shared_path = Arc::new(path.clone());
        for Line { number, content, .. } in read_all(bytes, Some(&auditor.known), seen.dialect()) {
            if let Content::Entry(entry) = content {
                entries.push(audit_entry(&name, &shared_path, number, *entry));
            }
        }
    }
    entries
}

fn audit_entry(account: &Arc<str>, path: &Arc<BytePath>, line: usize, entry: Entry) -> AuditEntry {
    AuditEntry {
        account: account.clone(),
        path: path.clone(),
        line,
        fingerprint: entry.fingerprint,
        limits: Limits::of(&entry.options),
        key: entry.key,
        comment: entry.comment,
    }
}

fn read(auditor: &Auditor, account: &Account, path: &BytePath, lines: Vec<Line>, report: &mut Report) {
    let mut first: HashMap<_, _, RandomState> = HashMap::default();
    let at = |line: usize, fault| Finding {
        fault,
        account: Some(account.name.clone()),
        path: Some(path.clone()),
        line: Some(line),
    };
    let (name, shared_path): (Arc<str>, _) = (account.name.as_str().into(), Arc::new(path.clone()));
    for Line { number: line, content, .. } in lines {
        let entry = match content {
            Content::Entry(entry) => entry,
            Content::Unusable(unusable) => {
                report.findings.push(at(line, unusable.fault.into()));
                continue;
            }
            Content::Blank | Content::Comment => continue,
        };
        let fingerprint = entry.fingerprint;
        let weak = auditor.weaknesses(&entry.key, fingerprint);
        report
            .findings
            .extend(weak.iter().map(|weakness| at(line, Fault::WeakKey { weakness: weakness.clone(), fingerprint })));
        let first_line = *first.entry(fingerprint).or_insert(line);
        if first_line != line {
            report.findings.push(at(line, Fault::DuplicateEntry { first_line, fingerprint }));
        }
        report.entries.push(audit_entry(&name, &shared_path, line, *entry));
    }
}
