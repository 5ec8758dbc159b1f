//! The steps that take changes back which were made some time ago.

use super::{Change, NoSteps, Steps};
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
        let path = change.path();
        if is_back(path, changes, seen) {
            continue;
        }
        let is_last = changes[number + 1..].iter().all(|later| later.path() != path);
        if is_last && !change.holds(seen) {
            return Err(NoSteps::ChangedSince(path.clone()));
        }
        steps.changes.push(change.inverse());
    }
    Ok(steps)
}

/// Whether everything at a path is as it was before the first of the changes.
fn is_back(path: &BytePath, changes: &[Change], seen: &System<'_>) -> bool {
    let node = seen.node(path).into_known();
    let own = || changes.iter().filter(|change| change.path() == path);
    let mode = own().find_map(|change| match change {
        Change::SetMode { from, .. } => Some(node.is_some_and(|node| node.mode == *from)),
        _ => None,
    });
    let owner = own().find_map(|change| match change {
        Change::SetOwner { from, .. } => Some(node.is_some_and(|node| node.uid == from.uid && node.gid == from.gid)),
        _ => None,
    });
    let content = own().find_map(|change| match change {
        Change::WriteFile { old: Some(old), .. } | Change::RemoveFile { old, .. } => {
            Some(seen.content(path).into_known() == Some(old))
        }
        Change::WriteFile { old: None, .. } | Change::MakeFolder { .. } => Some(seen.node(path) == Fact::Absent),
        Change::RemoveFolder { .. } => Some(node.is_some()),
        _ => None,
    });
    [mode, owner, content].into_iter().flatten().all(|back| back)
}
