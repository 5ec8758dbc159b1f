//! The steps that bring the key files of an account to what was asked, line by line.

use super::modes::{self, Modes};
use super::{
    Account, BytePath, Change, Deed, FileAccess, FileChange, FileTarget, NoSteps, Obstacle, Place, Policy, Revived,
    Steps, access, can_be_mended, check_home, login, owner_after, target,
};
use crate::abilities::Ability;
use crate::login::AccountKeys;
use crate::system::System;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::container::line::KnownKeys;
use lavrin_keys::keysfile::KeysFile;

/// What is asked of the key files of one account.
#[derive(Debug, Clone, Default)]
pub struct Edits {
    /// Lines that go.
    pub remove: Vec<Place>,
    /// Entries that carry these options afterwards.
    pub options: Vec<(Place, String)>,
    /// Lines that are added to the first file.
    pub add: Vec<String>,
    /// Whether modes and owners are set right. Where a line is added they are, since it would not count otherwise.
    pub modes: bool,
}

/// The changes that set modes and owners right on the way to these key files of an account.
///
/// # Errors
/// [`NoSteps`] where something is in the way.
pub fn modes(
    account: &Account,
    found: &[FileTarget],
    seen: &System<'_>,
    policy: &Policy,
) -> Result<Vec<Change>, NoSteps> {
    let (home, home_node) = check_home(account, seen)?;
    let modes = Modes { account, home: &home, policy, seen };
    let (changes, faults) = modes.all(&home_node, found.iter());
    faults.into_iter().next().map_or(Ok(changes), |(_, fault)| Err(fault))
}

/// The keys of an account and the files that hold them, where nothing is in the way of changing them.
///
/// # Errors
/// [`NoSteps`].
pub fn held(
    account: &Account,
    seen: &System<'_>,
    known: &KnownKeys,
) -> Result<(AccountKeys, Vec<FileTarget>), NoSteps> {
    let files = targets(account, seen)?;
    if !seen.abilities.has(Ability::Files) {
        return Ok((super::slots::held(account, seen)?, files));
    }
    let mut keys = AccountKeys::default();
    for file in &files {
        keys.add_file(&file.named, file.bytes.as_deref().unwrap_or_default(), seen, Some(known));
    }
    Ok((keys, files))
}

/// The files that the server reads for an account, two names of one file once.
///
/// # Errors
/// [`NoSteps`] where one of them cannot be changed safely.
pub fn targets(account: &Account, seen: &System<'_>) -> Result<Vec<FileTarget>, NoSteps> {
    if !seen.abilities.has(Ability::Files) {
        return Ok(Vec::new());
    }
    let mut found: Vec<FileTarget> = Vec::new();
    for named in login::key_files(account, seen) {
        let target = target(&named, account, seen)?;
        if !found.iter().any(|other| other.real == target.real) {
            found.push(target);
        }
    }
    Ok(found)
}

/// The steps. `granted` says which keys may come to life where modes are set right; any other is not let in that way.
///
/// # Errors
/// [`NoSteps`].
pub fn bring(
    name: &str,
    edits: &Edits,
    granted: &dyn Fn(&Fingerprint) -> bool,
    seen: &System<'_>,
    policy: &Policy,
) -> Result<Steps, NoSteps> {
    let account = seen.account(name).ok_or(NoSteps::NoSuchAccount)?;
    if !seen.abilities.has(Ability::Files) {
        return super::slots::bring(account, edits, seen);
    }
    let (home, home_node) = check_home(account, seen)?;
    let found = targets(account, seen)?;
    let first = found.first().ok_or(NoSteps::NoKeyFileNamed)?;
    let modes = Modes { account, home: &home, policy, seen };
    let mut steps = Steps::none(account, None, seen);
    if edits.modes {
        let (changes, faults) = modes.all(&home_node, found.iter());
        if let Some((_, fault)) = faults.into_iter().next() {
            return Err(fault);
        }
        steps.changes = changes;
    } else if !edits.add.is_empty() {
        (steps.changes, _) = modes.all(&home_node, std::iter::once(first));
    }
    if first.node.is_none() && !edits.add.is_empty() {
        modes.folders(&home_node, first, &mut steps)?;
    }
    for (number, file) in found.iter().enumerate() {
        let add: &[String] = if number == 0 { &edits.add } else { &[] };
        write(&modes, file, add, edits, &mut steps);
    }
    let changed: Vec<BytePath> = steps.changes.iter().filter_map(|change| change.path().cloned()).collect();
    let mut dedup = Vec::new();
    steps.changes.retain(|change| {
        !dedup.contains(change) && {
            dedup.push(change.clone());
            true
        }
    });
    for file in &found {
        steps.revived.extend(revived(account, file, &changed, &steps, seen));
    }
    let strangers: Vec<Revived> = steps.revived.iter().filter(|entry| !granted(&entry.fingerprint)).cloned().collect();
    if strangers.is_empty() { Ok(steps) } else { Err(NoSteps::WouldRevive(strangers)) }
}

/// Writes one file, where lines of it change.
fn write(modes: &Modes<'_>, file: &FileTarget, add: &[String], edits: &Edits, steps: &mut Steps) {
    let here = |place: &Place| place.path() == Some(&file.named);
    let remove: Vec<usize> = edits.remove.iter().filter(|place| here(place)).filter_map(Place::line).collect();
    let options: Vec<(usize, String)> = edits
        .options
        .iter()
        .filter(|(place, _)| here(place))
        .filter_map(|(place, options)| Some((place.line()?, options.clone())))
        .collect();
    if remove.is_empty() && options.is_empty() && add.is_empty() {
        return;
    }
    // Lines keep their numbers while options change.
    let mut new = KeysFile::parse(&file.document().with_options(&options)).without(&remove);
    let mut come = Vec::new();
    for line in add {
        new = KeysFile::parse(&new).with_appended(line);
        come.extend(KeysFile::parse(&new).lines().last().map(|line| line.number));
    }
    let sets_modes = edits.modes || !add.is_empty();
    let (mode, owner) = match &file.node {
        Some(node) if !sets_modes => (node.mode, owner_after(&file.real, node, node.mode, modes.account, modes.seen)),
        _ => modes.file_should_be(file),
    };
    let was = modes::was(file, mode, owner);
    // Where the owner changes by replacing the file, one writing is enough.
    steps.changes.retain(|change| !change.writes(&file.real));
    let (path, old) = (file.real.clone(), file.bytes.clone());
    let deed = Deed::Entries { come, go: remove, limit: options.into_iter().map(|(line, _)| line).collect() };
    steps.changes.push(FileChange::WriteFile { path, old, new, mode, owner, was, deed }.into());
}

/// Entries of a file that the server did not read until now and that stay in it, where the changes open it.
fn revived(
    account: &Account,
    file: &FileTarget,
    changed: &[BytePath],
    steps: &Steps,
    seen: &System<'_>,
) -> Vec<Revived> {
    let strict = login::strict(&seen.settings(account), seen);
    let FileAccess::Barred(_, obstacles) = access(&file.named, account, strict, seen) else { return Vec::new() };
    let opened = |obstacle: &Obstacle| can_be_mended(obstacle) && changed.contains(&obstacle.path);
    if !obstacles.iter().all(opened) {
        return Vec::new();
    }
    let written = steps.changes.iter().find_map(|change| match change.as_file() {
        Some(FileChange::WriteFile { path, new, .. }) if *path == file.real => Some(KeysFile::parse(new)),
        _ => None,
    });
    let before = file.document();
    let known: Vec<Fingerprint> = before.entries().map(|(_, entry)| entry.fingerprint).collect();
    let after = written.unwrap_or(before);
    after
        .entries()
        .filter(|(_, entry)| known.contains(&entry.fingerprint))
        .map(|(line, entry)| Revived {
            place: Place::Line { path: file.named.clone(), line },
            fingerprint: entry.fingerprint,
            comment: entry.comment.clone(),
        })
        .collect()
}
