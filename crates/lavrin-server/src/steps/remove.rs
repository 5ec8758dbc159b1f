//! The steps that take a key out of an account.

use super::install::present;
use super::slots;
use super::{Deed, FileChange, NoSteps, Steps, Was, check_home, login, owner_after, target};
use crate::abilities::Ability;
use crate::account::Account;
use crate::login::{Limits, Place};
use crate::system::System;
use lavrin_keys::key::Fingerprint;

/// The steps that take a key out of an account, and where it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Removal {
    /// The steps.
    pub steps: Steps,
    /// Where the key stands, with what limits it.
    pub present: Vec<(Place, Limits)>,
    /// Lines that stand for the key and are skipped by the server.
    pub dead: Vec<Place>,
}

/// The steps that remove every line of the key from every file that the server reads for the account.
///
/// # Errors
/// [`NoSteps`] where one of the files could not be read: removing from the others would look complete and not be.
pub fn remove(name: &str, fingerprint: &Fingerprint, seen: &System<'_>) -> Result<Removal, NoSteps> {
    let account = seen.account(name).ok_or(NoSteps::NoSuchAccount)?;
    if !seen.abilities.has(Ability::Files) {
        return out_of_slots(account, *fingerprint, seen);
    }
    check_home(account, seen)?;
    let steps = Steps::none(account, Some(*fingerprint), seen);
    let mut there = Removal { steps, present: Vec::new(), dead: Vec::new() };
    for file in login::key_files(account, seen) {
        let found = target(&file, account, seen)?;
        let (Some(bytes), Some(node)) = (&found.bytes, &found.node) else { continue };
        let document = found.document();
        let lines = document.lines_of(fingerprint);
        if lines.is_empty() {
            continue;
        }
        for (line, entry) in document.entries().filter(|(line, _)| lines.contains(line)) {
            there.present.push((Place::Line { path: file.clone(), line }, Limits::of(&entry.options)));
        }
        let usable: Vec<usize> = document.entries().map(|(line, _)| line).collect();
        let dead = lines.iter().filter(|line| !usable.contains(line));
        there.dead.extend(dead.map(|line| Place::Line { path: file.clone(), line: *line }));
        let owner = owner_after(&found.real, node, node.mode, account, seen);
        let change = FileChange::WriteFile {
            path: found.real.clone(),
            old: Some(bytes.clone()),
            new: document.without(&lines),
            mode: node.mode,
            owner,
            was: Was::of(Some(node), node.mode, owner),
            deed: Deed::Entries { come: Vec::new(), go: lines, limit: Vec::new() },
        };
        there.steps.changes.push(change.into());
    }
    Ok(there)
}

fn out_of_slots(account: &Account, fingerprint: Fingerprint, seen: &System<'_>) -> Result<Removal, NoSteps> {
    let keys = slots::held(account, seen)?;
    let mut steps = Steps::none(account, Some(fingerprint), seen);
    for held in keys.of_key(fingerprint) {
        steps.changes.push(slots::remove(account, &held.place, seen)?.into());
    }
    Ok(Removal { steps, present: present(&keys, fingerprint), dead: Vec::new() })
}
