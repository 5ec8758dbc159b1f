//! Steps in words: what would be done, before it is done.

use super::{comment, mode};
use lavrin_keys::repair::{LineRepair, RepairKind};
use lavrin_keys::text::count;
use lavrin_server::steps::{Change, Mending, NotCovered, OwnerIds, Revived, Steps, Was, Withheld, WithheldWhat};

/// One line for each change, in order.
pub fn changes(steps: &Steps) -> Vec<String> {
    steps.changes.iter().map(|change| change_line(change, steps)).collect()
}

/// One line for each thing that is mended, in order.
pub fn mending(found: &Mending) -> Vec<String> {
    let mut lines = Vec::new();
    for change in &found.steps.changes {
        let mended = found.mended.iter().find(|mended| mended.path == *change.path());
        match (change, mended) {
            (Change::WriteFile { path, .. }, Some(mended)) => {
                lines.extend(mended.lines.iter().map(|repair| repair_line(repair, &path.to_string())));
                if mended.line_ends > 0 {
                    let ends = count(mended.line_ends, "line", "lines");
                    lines.push(format!("take the CR off the end of {ends} of {path}"));
                }
            }
            _ => lines.push(change_line(change, &found.steps)),
        }
    }
    lines
}

/// What is withheld, one line for each thing.
pub fn withheld(held: &Withheld, found: &Mending) -> Vec<String> {
    match &held.what {
        WithheldWhat::Modes(changes) => changes.iter().map(|change| change_line(change, &found.steps)).collect(),
        WithheldWhat::Lines(repair) => vec![repair_line(repair, &held.path.to_string())],
    }
}

fn repair_line(repair: &LineRepair, path: &str) -> String {
    let line = repair.first;
    let lines = format!("lines {} to {}", repair.first, repair.last);
    match repair.kind {
        RepairKind::ByteOrderMark => format!("take the byte order mark off line {line} of {path}"),
        RepairKind::Joined => format!("join {lines} of {path}, one key that was broken apart"),
        RepairKind::Block => format!("write the block in {lines} of {path} as the one line that a key file wants"),
        RepairKind::Split => format!("put the entries that share line {line} of {path} on lines of their own"),
        RepairKind::LoneCr => format!("end the lines that CR parts in line {line} of {path} with LF"),
    }
}

fn change_line(change: &Change, steps: &Steps) -> String {
    let account = &steps.account;
    let owner =
        |owner: &OwnerIds| if owner.uid == account.uid { account.name.clone() } else { format!("uid {}", owner.uid) };
    match change {
        Change::MakeFolder { path, mode: bits, owner: own } => {
            format!("make {path}, mode {}, owner {}", mode(*bits), owner(own))
        }
        Change::SetMode { path, from, to } => format!("set the mode of {path} from {} to {}", mode(*from), mode(*to)),
        Change::SetOwner { path, from, to } => format!("give {path} to {} (was {})", owner(to), owner(from)),
        Change::WriteFile { path, old: None, mode: bits, owner: own, .. } => {
            format!("make {path} with the key, mode {}, owner {}", mode(*bits), owner(own))
        }
        Change::WriteFile { path, old: Some(old), new, mode: bits, owner: own, was } if new.len() >= old.len() => {
            match &steps.target {
                Some(place) => format!(
                    "add the key to {path} as line {}, mode {}{}; everything else stays as it is",
                    place.line,
                    mode(*bits),
                    new_owner(*own, *was, &owner)
                ),
                None => format!(
                    "replace {path} by a copy that belongs to its owner, mode {}{}; its content stays as it is",
                    mode(*bits),
                    new_owner(*own, *was, &owner)
                ),
            }
        }
        Change::WriteFile { path, .. } => {
            let mut lines: Vec<usize> = steps
                .present
                .iter()
                .map(|(place, _)| place)
                .chain(&steps.dead)
                .filter(|place| place.path == *path)
                .map(|place| place.line)
                .collect();
            lines.sort_unstable();
            let numbers: Vec<String> = lines.iter().map(usize::to_string).collect();
            let noun = if lines.len() == 1 { "line" } else { "lines" };
            format!("take {noun} {} out of {path}; everything else stays as it is", numbers.join(", "))
        }
        Change::RemoveFolder { path, .. } | Change::RemoveFile { path, .. } => format!("remove {path}"),
    }
}

/// Whose a file becomes, where it was somebody else's.
fn new_owner(now: OwnerIds, was: Option<Was>, name: &dyn Fn(&OwnerIds) -> String) -> String {
    let was = was.filter(|was| was.owner.uid != now.uid);
    was.map(|was| format!(", owner {} (was {})", name(&now), name(&was.owner))).unwrap_or_default()
}

/// What is brought to life.
pub fn revived(entry: &Revived) -> String {
    format!(
        "{} line {} comes to life: {} {}",
        entry.place.path,
        entry.place.line,
        entry.fingerprint,
        comment(&entry.comment)
    )
}

/// What is not covered.
pub fn not_covered(what: &NotCovered) -> String {
    match what {
        NotCovered::KeysCommand(command) => {
            format!("not covered: a command gives the server further keys (AuthorizedKeysCommand {command})")
        }
        NotCovered::Authorities(path) => {
            format!("not covered: certificates open accounts too (TrustedUserCAKeys {path})")
        }
        NotCovered::SettingsUnseen(path) => {
            format!("not checked: {path} could not be read; the usual key files were taken")
        }
    }
}

/// A change that takes another one back.
pub fn taken_back(change: &Change) -> String {
    match change {
        Change::MakeFolder { path, mode: bits, .. } => format!("make {path} again, mode {}", mode(*bits)),
        Change::SetMode { path, from, to } => {
            format!("set the mode of {path} back from {} to {}", mode(*from), mode(*to))
        }
        Change::SetOwner { path, to, .. } => format!("give {path} back to uid {}", to.uid),
        Change::WriteFile { path, .. } => format!("write {path} as it was before"),
        Change::RemoveFolder { path, .. } | Change::RemoveFile { path, .. } => format!("remove {path}"),
    }
}
