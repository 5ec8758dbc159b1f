//! Findings about modes and owners of key files and the folders they lie in.

use super::{NotChecked, Report};
use crate::abilities::Ability;
use crate::access_rules::{FileAccess, Obstacle, ObstacleKind, access};
use crate::account::Account;
use crate::finding::{Fault, Finding};
use crate::fs::{BytePath, Node, NodeKind, Why};
use crate::login;
use crate::system::System;
use lavrin_keys::key::policy::Policy;
use std::collections::HashSet;

pub(super) fn audit(account: &Account, files: &[BytePath], seen: &System<'_>, policy: &Policy, report: &mut Report) {
    let strict = login::strict(&seen.settings(account), seen);
    let mut told: HashSet<BytePath> = HashSet::new();
    for path in files {
        let mut say = |path: &BytePath, fault| {
            if told.insert(path.clone()) {
                report.findings.push(Finding {
                    fault,
                    account: Some(account.name.clone()),
                    path: Some(path.clone()),
                    line: None,
                });
            }
        };
        let real = match access(path, account, strict, seen) {
            FileAccess::Open(real) => real,
            FileAccess::Barred(real, obstacles) => {
                for Obstacle { path, kind } in obstacles {
                    say(&path, kind.into());
                }
                real
            }
            FileAccess::NotRegular(real) => {
                say(&real, Fault::WrongKind);
                continue;
            }
            FileAccess::LinkLoop => {
                say(path, Fault::WrongKind);
                continue;
            }
            FileAccess::Missing(_) | FileAccess::Unseen(..) => continue,
        };
        if !real.is_within(&account.home) {
            continue;
        }
        for (path, wanted) in [(Some(real.clone()), policy.file_mode), (real.parent(), policy.folder_mode)] {
            let Some(path) = path.filter(|path| *path != account.home) else { continue };
            if let Some(fault) = seen.node(&path).into_known().and_then(|node| beyond_policy(node, account, wanted)) {
                say(&path, fault);
            }
        }
    }
}

/// Modes of files and folders of keys, as far as a host shows them that has nothing but files. Whose they are is not known.
pub(super) fn audit_shown(seen: &System<'_>, policy: &Policy, report: &mut Report) {
    for (path, node) in seen.nodes.iter().filter_map(|(path, node)| Some((path, node.known()?))) {
        let wanted = if node.kind == NodeKind::Folder { policy.folder_mode } else { policy.file_mode };
        let (found, wanted) = (node.mode, node.mode & wanted);
        let fault = match found & !wanted & 0o777 {
            0 => continue,
            wider if wider & 0o022 != 0 => ObstacleKind::TooOpen { found, wanted }.into(),
            _ => Fault::ModeWiderThanPolicy { found, wanted },
        };
        report.findings.push(Finding { fault, account: None, path: Some(path.clone()), line: None });
    }
}

/// The key files of a host that has nothing but files: modes are all that it shows.
pub(super) fn access_lists_unseen<'a>(seen: &'a System<'_>) -> impl Iterator<Item = NotChecked> + 'a {
    let shown = seen.nodes.iter().filter(|_| !seen.abilities.has(Ability::Files));
    let files = shown.filter(|(_, node)| node.known().is_some_and(|node| node.kind == NodeKind::File));
    files.map(|(path, _)| NotChecked { account: None, source: path.clone().into(), why: Why::AccessList })
}

fn beyond_policy(node: &Node, account: &Account, wanted: u32) -> Option<Fault> {
    if node.uid == 0 && !account.is_root() {
        return Some(Fault::OwnedByRoot { wanted: account.uid });
    }
    (node.mode & !wanted & 0o777 != 0)
        .then_some(Fault::ModeWiderThanPolicy { found: node.mode, wanted: node.mode & wanted })
}
