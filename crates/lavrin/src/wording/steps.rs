//! Steps in words: what would be done, before it is done.

use super::{comment, mode};
use lavrin_core::steps::{Change, NotCovered, Owner, Revived, Steps};

/// One line for each change, in order.
pub fn changes(steps: &Steps) -> Vec<String> {
    steps.changes.iter().map(|change| change_line(change, steps)).collect()
}

fn change_line(change: &Change, steps: &Steps) -> String {
    let account = &steps.account;
    let owner =
        |owner: &Owner| if owner.uid == account.uid { account.name.clone() } else { format!("uid {}", owner.uid) };
    match change {
        Change::MakeFolder { path, mode: bits, owner: own } => {
            format!("make {path}, mode {}, owner {}", mode(*bits), owner(own))
        }
        Change::SetMode { path, from, to } => format!("set the mode of {path} from {} to {}", mode(*from), mode(*to)),
        Change::SetOwner { path, from, to } => format!("give {path} to {} (was {})", owner(to), owner(from)),
        Change::WriteFile { path, old: None, mode: bits, owner: own, .. } => {
            format!("make {path} with the key, mode {}, owner {}", mode(*bits), owner(own))
        }
        Change::WriteFile { path, old: Some(old), new, mode: bits, .. } if new.len() >= old.len() => {
            match &steps.target {
                Some(place) => format!(
                    "add the key to {path} as line {}, mode {}; everything else stays as it is",
                    place.line,
                    mode(*bits)
                ),
                None => format!("write {path} anew for its owner, mode {}; its content stays as it is", mode(*bits)),
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
