//! Findings about what the key files say.

use super::{AuditEntry, NotChecked, Report};
use crate::account::Account;
use crate::finding::{Fault, Finding};
use crate::fs::{BytePath, Fact};
use crate::key::strength::{self, Depth};
use crate::keysfile::{KeysFile, LineFault};
use crate::login::{self, Limits};
use crate::policy::Policy;
use crate::survey::{Observation, Resolved, resolve};
use std::collections::HashMap;

pub(super) fn audit(account: &Account, seen: &Observation, policy: &Policy, report: &mut Report) {
    for path in login::key_files(account, seen) {
        let unseen = |path: &BytePath, why| NotChecked { account: Some(account.name.clone()), path: path.clone(), why };
        let real = match resolve(&path, seen) {
            Resolved::To(real, _) => real,
            Resolved::Unseen(at, why) => {
                report.not_checked.push(unseen(&at, why));
                continue;
            }
            _ => continue,
        };
        match seen.content(&real) {
            Fact::Known(bytes) => read(account, &path, &KeysFile::parse(bytes), policy, report),
            Fact::Unseen(why) => report.not_checked.push(unseen(&path, why)),
            Fact::Absent => {}
        }
    }
}

fn read(account: &Account, path: &BytePath, file: &KeysFile, policy: &Policy, report: &mut Report) {
    let mut first = HashMap::new();
    let at = |line: usize, fault| Finding {
        fault,
        account: Some(account.name.clone()),
        path: Some(path.clone()),
        line: Some(line),
    };
    for (line, entry) in file.entries() {
        let fingerprint = entry.fingerprint;
        report.entries.push(AuditEntry {
            account: account.name.clone(),
            path: path.clone(),
            line,
            algorithm: entry.key.algorithm().name(),
            bits: entry.key.bits(),
            fingerprint,
            comment: entry.comment.clone(),
            limits: Limits::of(&entry.options),
        });
        let weak = strength::weaknesses(&entry.key, policy, Depth::Quick).into_iter();
        report.findings.extend(weak.map(|weakness| at(line, Fault::WeakKey { weakness, fingerprint })));
        let first_line = *first.entry(fingerprint).or_insert(line);
        if first_line != line {
            report.findings.push(at(line, Fault::DuplicateEntry { first_line, fingerprint }));
        }
    }
    for (line, unusable) in file.unusable() {
        let fault = match &unusable.fault {
            LineFault::PrivateKey => Fault::PrivateKeyInKeysFile,
            fault => Fault::UnusableLine { fault: fault.clone() },
        };
        report.findings.push(at(line, fault));
    }
}
