//! The steps that set modes and owners right and repair what is certain in the key files of an account.
//!
//! What would bring a key to life that the server has ignored is withheld unless that key was named by its fingerprint.

use super::modes::{self, Modes};
use super::{
    Account, BytePath, Change, Deed, FileAccess, FileChange, FileTarget, NoSteps, Node, ObstacleKind, Place, Policy,
    Revived, Steps, access, check_home, login, target,
};
use crate::abilities::Ability;
use crate::system::System;
use lavrin_keys::key::Fingerprint;
use lavrin_keys::keysfile::{Entry, LineFault};
use lavrin_keys::repair::{LineRepair, Repairs};
use std::collections::BTreeSet;

/// What would be mended for one account, what is withheld, and what is left for a person to decide.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mending {
    /// The changes. [`Steps::revived`] holds the entries that come to life with consent.
    pub steps: Steps,
    /// What waits for consent.
    pub withheld: Vec<Withheld>,
    /// What is wrong and needs a decision.
    pub left: Vec<Left>,
}

/// Something that is not done because it would bring keys to life that nobody named.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Withheld {
    /// The file.
    pub path: BytePath,
    /// What would be done.
    pub what: WithheldWhat,
    /// The entries that would come to life.
    pub revives: Vec<Revived>,
}

/// The kinds of what is withheld.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WithheldWhat {
    /// Modes and owners on the way to the file.
    Modes(Vec<Change>),
    /// A repair of lines.
    Lines(LineRepair),
}

/// Something that needs a decision.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Left {
    /// Where.
    pub path: BytePath,
    /// The line, counted from 1.
    pub line: Option<usize>,
    /// Why it is left alone.
    pub why: LeftWhy,
}

/// Why something is left alone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LeftWhy {
    /// The server skips the line, and what it should be is not certain.
    Line(LineFault),
    /// Several entries on a line, and options that may belong to either.
    Glued,
    /// Nothing can be done about the file.
    File(NoSteps),
    /// A mode or owner outside of the account's own files.
    Outside(ObstacleKind),
}

/// What was found out about one key file.
struct Sick {
    target: FileTarget,
    repairs: Repairs,
    access: FileAccess,
}

/// The steps that mend an account; `consent` names the keys that may come to life.
///
/// # Errors
/// [`NoSteps`] where nothing at all can be done for the account.
pub fn mend(name: &str, consent: &[Fingerprint], seen: &System<'_>, policy: &Policy) -> Result<Mending, NoSteps> {
    let account = seen.account(name).ok_or(NoSteps::NoSuchAccount)?;
    if !seen.abilities.has(Ability::Files) {
        return Err(NoSteps::NotApplicable(Ability::Files));
    }
    let (home, home_node) = check_home(account, seen)?;
    let mut mending = Mending { steps: Steps::none(account, None, seen), withheld: Vec::new(), left: Vec::new() };
    let files = sick_files(account, seen, &mut mending.left);
    let modes = Modes { account, home: &home, policy, seen };
    let opened = set_right(&modes, &home_node, &files, consent, &mut mending);
    let withheld = !mending.withheld.is_empty();
    for file in &files {
        let barred = matches!(file.access, FileAccess::Barred(..));
        leave(file, &mut mending);
        if barred && withheld {
            continue;
        }
        let revived_already = opened.contains(&file.target.named);
        rewrite(file, matches!(file.access, FileAccess::Open(_)), revived_already, &modes, consent, &mut mending);
    }
    Ok(mending)
}

fn sick_files(account: &Account, seen: &System<'_>, left: &mut Vec<Left>) -> Vec<Sick> {
    let strict = login::strict(&seen.settings(account), seen);
    let mut files: Vec<Sick> = Vec::new();
    for named in login::key_files(account, seen) {
        match target(&named, account, seen) {
            // Two names of one file are one file.
            Ok(target) if files.iter().any(|other| other.target.real == target.real) => {}
            Ok(target) => {
                let repairs = target.document().repairs();
                files.push(Sick { repairs, access: access(&named, account, strict, seen), target });
            }
            Err(fault) => left.push(Left { path: named, line: None, why: LeftWhy::File(fault) }),
        }
    }
    files
}

/// Modes and owners. They hang together, since folders are shared: all are set or none is. Gives the files that the
/// server reads afterwards and did not read before.
fn set_right(
    modes: &Modes<'_>,
    home_node: &Node,
    files: &[Sick],
    consent: &[Fingerprint],
    mending: &mut Mending,
) -> BTreeSet<BytePath> {
    let (changes, faults) = modes.all(home_node, files.iter().map(|file| &file.target));
    let left = |(path, fault)| Left { path, line: None, why: LeftWhy::File(fault) };
    mending.left.extend(faults.into_iter().map(left));
    let mut opened = BTreeSet::new();
    let mut revives = Vec::new();
    for file in files {
        let FileAccess::Barred(_, obstacles) = &file.access else { continue };
        let out_of_hand: Vec<_> = obstacles
            .iter()
            .filter(|obstacle| !changes.iter().any(|change| change.path() == Some(&obstacle.path)))
            .map(|obstacle| Left {
                path: obstacle.path.clone(),
                line: None,
                why: LeftWhy::Outside(obstacle.kind.clone()),
            })
            .collect();
        if out_of_hand.is_empty() {
            let document = file.target.document();
            let named = &file.target.named;
            revives.extend(document.entries().map(|(line, entry)| revived(named, line, entry)));
            // What its repairs bring to life is named at once, so that consent is asked for once.
            let repaired =
                file.repairs.lines.iter().flat_map(|repair| repair.revived.iter().map(|entry| (repair.first, entry)));
            revives.extend(repaired.map(|(line, entry)| revived(named, line, entry)));
            opened.insert(file.target.named.clone());
        }
        mending.left.extend(out_of_hand);
    }
    if revives.iter().all(|entry| consent.contains(&entry.fingerprint)) {
        mending.steps.revived.extend(revives);
        mending.steps.changes = changes;
        return opened;
    }
    let path = opened.first().cloned().unwrap_or_else(|| modes.home.clone());
    mending.withheld.push(Withheld { path, what: WithheldWhat::Modes(changes), revives });
    BTreeSet::new()
}

/// Lines. What comes to life in a file that the server reads waits for consent; in one that it begins to read (`told`)
/// that was given for the whole file.
fn rewrite(file: &Sick, reads: bool, told: bool, modes: &Modes<'_>, consent: &[Fingerprint], mending: &mut Mending) {
    let named = &file.target.named;
    let mut chosen: Vec<&LineRepair> = Vec::new();
    for repair in &file.repairs.lines {
        let revives: Vec<Revived> =
            repair.revived.iter().filter(|_| reads).map(|entry| revived(named, repair.first, entry)).collect();
        if told || revives.iter().all(|entry| consent.contains(&entry.fingerprint)) {
            mending.steps.revived.extend(revives);
            chosen.push(repair);
        } else {
            let what = WithheldWhat::Lines(repair.clone());
            mending.withheld.push(Withheld { path: named.clone(), what, revives });
        }
    }
    let Some(bytes) = &file.target.bytes else { return };
    let new = file.target.document().with_repairs(&chosen, true);
    if new == *bytes {
        return;
    }
    let (mode, owner) = modes.file_should_be(&file.target);
    let was = modes::was(&file.target, mode, owner);
    // Where the owner changes by replacing the file, one writing is enough.
    let real = &file.target.real;
    mending.steps.changes.retain(|change| !change.writes(real));
    let (path, old) = (real.clone(), Some(bytes.clone()));
    let lines = chosen.into_iter().cloned().collect();
    let deed = Deed::Repair { lines, line_ends: file.repairs.line_ends };
    mending.steps.changes.push(FileChange::WriteFile { path, old, new, mode, owner, was, deed }.into());
}

/// Lines that the server skips and that no repair is about.
fn leave(file: &Sick, mending: &mut Mending) {
    let path = &file.target.named;
    let repaired = |line: usize| file.repairs.lines.iter().any(|repair| (repair.first..=repair.last).contains(&line));
    for (line, unusable) in file.target.document().unusable().filter(|(line, _)| !repaired(*line)) {
        if !file.repairs.glued.contains(&line) {
            let why = LeftWhy::Line(unusable.fault.clone());
            mending.left.push(Left { path: path.clone(), line: Some(line), why });
        }
    }
    mending.left.extend(file.repairs.glued.iter().map(|line| Left {
        path: path.clone(),
        line: Some(*line),
        why: LeftWhy::Glued,
    }));
}

fn revived(path: &BytePath, line: usize, entry: &Entry) -> Revived {
    Revived {
        place: Place::Line { path: path.clone(), line },
        fingerprint: entry.fingerprint,
        comment: entry.comment.clone(),
    }
}
