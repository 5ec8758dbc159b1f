//! The steps that take changes back which were made some time ago.

use super::{AccountChange, Change, FileChange, NoSteps, ServerChange, Steps};
use crate::fs::{BytePath, Fact};
use crate::system::System;

/// The steps that put back what these changes, in the order in which they were made, have changed. What is as it was
/// before them is passed over.
///
/// # Errors
/// [`NoSteps::ChangedSince`] where something is neither as the changes left it nor as it was before them.
pub fn restore(name: &str, changes: &[Change], seen: &System<'_>) -> Result<Steps, NoSteps> {
    let account = seen.account(name).ok_or(NoSteps::NoSuchAccount)?;
    let mut steps = Steps::none(account, None, seen);
    for (number, change) in changes.iter().enumerate().rev() {
        let is_back = match change {
            Change::Account(AccountChange::EndSession { .. }) => continue,
            // What is put back is read again at the end.
            Change::Server(ServerChange::Reload) => continue,
            Change::File(file) => is_back(file.path(), changes, seen),
            Change::Key(_) | Change::Server(ServerChange::Passwords { .. }) | Change::Account(_) => {
                change.is_undone(seen)
            }
        };
        if is_back {
            continue;
        }
        let is_last = changes[number + 1..].iter().all(|later| !later.is_about_what(change));
        if is_last && !change.holds(seen) {
            return Err(NoSteps::ChangedSince(change.subject()));
        }
        steps.changes.push(change.inverse());
    }
    let reload = changes.iter().find(|change| matches!(change, Change::Server(ServerChange::Reload)));
    steps.changes.extend(reload.filter(|_| !steps.changes.is_empty()).cloned());
    Ok(steps)
}

/// Whether everything at a path is as it was before the first of the changes.
fn is_back(path: &BytePath, changes: &[Change], seen: &System<'_>) -> bool {
    let node = seen.node(path).into_known();
    let own = || changes.iter().filter_map(Change::as_file).filter(|change| change.path() == path);
    let mode = own().find_map(|change| match change {
        FileChange::SetMode { from, .. } => Some(node.is_some_and(|node| node.mode == *from)),
        _ => None,
    });
    let owner = own().find_map(|change| match change {
        FileChange::SetOwner { from, .. } => {
            Some(node.is_some_and(|node| node.uid == from.uid && node.gid == from.gid))
        }
        _ => None,
    });
    let content = own().find_map(|change| match change {
        FileChange::WriteFile { old: Some(old), .. } | FileChange::RemoveFile { old, .. } => {
            Some(seen.content(path).into_known() == Some(old))
        }
        FileChange::WriteFile { old: None, .. } | FileChange::MakeFolder { .. } => {
            Some(seen.node(path) == Fact::Absent)
        }
        FileChange::RemoveFolder { .. } => Some(node.is_some()),
        _ => None,
    });
    [mode, owner, content].into_iter().flatten().all(|back| back)
}
