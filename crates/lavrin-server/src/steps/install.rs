//! The steps that put a public key into an account.

use super::modes::{self, Modes};
use super::slots;
use super::{
    Account, Deed, FileAccess, FileChange, FileTarget, KeysFile, NoSteps, Place, Policy, Revived, Steps, access,
    can_be_mended, check_home, login, target,
};
use crate::abilities::Ability;
use crate::login::{AccountKeys, HeldEntry, Limits};
use crate::system::System;
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::keysfile::Content;

/// The steps that put a key into an account, and what stands there of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Installation {
    /// The steps.
    pub steps: Steps,
    /// Where the key stands already, with what limits it.
    pub present: Vec<(Place, Limits)>,
    /// Where the key will stand.
    pub target: Option<Place>,
    /// Lines that stand for the key and are skipped by the server.
    pub dead: Vec<Place>,
}

/// The steps that add `line`, which holds `key`. The first file that the server reads takes it.
///
/// # Errors
/// [`NoSteps`] where something is in the way that is not for Lavrin to decide.
pub fn install(
    name: &str,
    key: &PublicKey,
    line: &str,
    seen: &System<'_>,
    policy: &Policy,
) -> Result<Installation, NoSteps> {
    let account = seen.account(name).ok_or(NoSteps::NoSuchAccount)?;
    if !seen.abilities.has(Ability::Files) {
        return into_slot(account, key, line, seen);
    }
    let files = login::key_files(account, seen);
    let first = files.first().ok_or(NoSteps::NoKeyFileNamed)?;
    let (home, home_node) = check_home(account, seen)?;
    let fingerprint = key.fingerprint();
    let steps = Steps::none(account, Some(fingerprint), seen);
    let mut found_there = Installation { steps, present: Vec::new(), target: None, dead: Vec::new() };
    for file in &files {
        // A file that cannot be read may hold the key too; only the one that is written has to be known.
        match target(file, account, seen) {
            Ok(found) => note_presence(&found, &mut found_there),
            Err(fault) if file == first => return Err(fault),
            Err(_) => {}
        }
    }
    let chosen = match found_there.present.first() {
        Some((place, _)) => place.path().unwrap_or(first).clone(),
        None => first.clone(),
    };
    let found = target(&chosen, account, seen)?;
    let modes = Modes { account, home: &home, policy, seen };
    modes.folders(&home_node, &found, &mut found_there.steps)?;
    if found_there.present.is_empty() {
        append(&modes, &found, line, &mut found_there);
    } else {
        modes.file(&found, &mut found_there.steps);
    }
    let steps = &mut found_there.steps;
    if !steps.changes.is_empty() {
        steps.revived = revived(account, &found, &fingerprint, seen);
    }
    Ok(found_there)
}

fn into_slot(account: &Account, key: &PublicKey, line: &str, seen: &System<'_>) -> Result<Installation, NoSteps> {
    let fingerprint = key.fingerprint();
    let keys = slots::held(account, seen)?;
    let mut there = Installation {
        steps: Steps::none(account, Some(fingerprint), seen),
        present: present(&keys, fingerprint),
        target: None,
        dead: Vec::new(),
    };
    if there.present.is_empty() {
        there.steps.changes.push(slots::add(account, line, seen)?.into());
    }
    Ok(there)
}

/// Where a key stands that the server can use, with what limits it.
pub(super) fn present(keys: &AccountKeys, fingerprint: Fingerprint) -> Vec<(Place, Limits)> {
    let usable = |held: &HeldEntry| match &held.content {
        Content::Entry(entry) => Some((held.place.clone(), Limits::of(&entry.options))),
        _ => None,
    };
    keys.of_key(fingerprint).filter_map(usable).collect()
}

fn note_presence(found: &FileTarget, there: &mut Installation) {
    let fingerprint = there.steps.fingerprint;
    let document = found.document();
    for (line, entry) in document.entries().filter(|(_, entry)| Some(entry.fingerprint) == fingerprint) {
        there.present.push((Place::Line { path: found.named.clone(), line }, Limits::of(&entry.options)));
    }
    for (line, unusable) in document.unusable() {
        if unusable.key.as_deref().map(PublicKey::fingerprint) == fingerprint {
            there.dead.push(Place::Line { path: found.named.clone(), line });
        }
    }
}

fn append(modes: &Modes<'_>, found: &FileTarget, line: &str, there: &mut Installation) {
    let new = found.document().with_appended(line);
    let number = KeysFile::parse(&new).lines().last().map_or(1, |line| line.number);
    let (mode, owner) = modes.file_should_be(found);
    // A mode that changes is a step of its own. A foreign owner goes with the writing itself.
    if found.node.as_ref().is_some_and(|node| node.uid == owner.uid) {
        modes.file(found, &mut there.steps);
    }
    let was = modes::was(found, mode, owner);
    let (path, old) = (found.real.clone(), found.bytes.clone());
    let deed = Deed::Entries { come: vec![number], go: Vec::new(), limit: Vec::new() };
    there.steps.changes.push(FileChange::WriteFile { path, old, new, mode, owner, was, deed }.into());
    there.target = Some(Place::Line { path: found.named.clone(), line: number });
}

/// The other entries of a file that the server did not read until now and will read afterwards.
fn revived(
    account: &Account,
    found: &FileTarget,
    own: &lavrin_keys::key::Fingerprint,
    seen: &System<'_>,
) -> Vec<Revived> {
    let strict = login::strict(&seen.settings(account), seen);
    let FileAccess::Barred(_, obstacles) = access(&found.named, account, strict, seen) else { return Vec::new() };
    if !obstacles.iter().all(can_be_mended) {
        return Vec::new();
    }
    let document = found.document();
    let others = document.entries().filter(|(_, entry)| entry.fingerprint != *own);
    others
        .map(|(line, entry)| Revived {
            place: Place::Line { path: found.named.clone(), line },
            fingerprint: entry.fingerprint,
            comment: entry.comment.clone(),
        })
        .collect()
}
