//! What modes and owners on the way to a key file should be, and the changes that make them so.

use crate::access_rules::refused_bits;
use crate::system::System;

use super::{
    Account, BytePath, Change, Deed, FileChange, FileTarget, NoSteps, Node, NodeKind, OwnerIds, Policy, Steps, Was,
    owner_after,
};

/// What modes and owners should be, and the changes that make them so.
pub(super) struct Modes<'a> {
    pub(super) account: &'a Account,
    pub(super) home: &'a BytePath,
    pub(super) policy: &'a Policy,
    pub(super) seen: &'a System<'a>,
}

impl Modes<'_> {
    fn own(&self) -> OwnerIds {
        OwnerIds { uid: self.account.uid, gid: self.account.gid }
    }

    /// Folders from the home down to the file: made, or set right where the server or policy objects.
    pub(super) fn folders(&self, home_node: &Node, found: &FileTarget, steps: &mut Steps) -> Result<(), NoSteps> {
        let Some(folder) = found.real.parent() else { return Ok(()) };
        if !folder.is_within(self.home) {
            return self.seen.node(&folder).into_known().map(|_| ()).ok_or(NoSteps::HomeMissing(folder));
        }
        // The account has to be able to pass its own home.
        let pass = if home_node.uid == self.account.uid { 0o100 } else { 0 };
        set_mode(
            self.home,
            home_node,
            home_node.mode & !refused_bits(home_node, self.account, self.seen) | pass,
            steps,
        );
        let mut missing = false;
        for path in below(self.home, &folder) {
            match self.seen.node(&path).into_known() {
                Some(node) if node.kind != NodeKind::Folder => return Err(NoSteps::WrongKind(path)),
                Some(node) if !missing => {
                    self.owner(&path, node, steps)?;
                    let wanted = if node.mode & !self.policy.folder_mode & 0o777 != 0 || node.mode & 0o100 == 0 {
                        self.policy.folder_mode
                    } else {
                        node.mode
                    };
                    set_mode(&path, node, wanted, steps);
                }
                _ => {
                    missing = true;
                    let (mode, owner) = (self.policy.folder_mode, self.own());
                    steps.changes.push(FileChange::MakeFolder { path, mode, owner }.into());
                }
            }
        }
        Ok(())
    }

    /// Everything on the way to these files, each once, and what is in the way of it. A home that is not the account's own
    /// serves others too, as /var/mail does, and stays as it is.
    pub(super) fn all<'t>(
        &self,
        home_node: &Node,
        found: impl Iterator<Item = &'t FileTarget>,
    ) -> (Vec<Change>, Vec<(BytePath, NoSteps)>) {
        let mut planned = Steps::blank(self.account, None);
        let mut faults = Vec::new();
        for target in found.filter(|target| target.node.is_some()) {
            if let Err(fault) = self.folders(home_node, target, &mut planned) {
                faults.push((target.named.clone(), fault));
            }
            self.file(target, &mut planned);
        }
        let mut changes: Vec<Change> = Vec::new();
        for change in planned.changes {
            let foreign = change.path() == Some(self.home) && home_node.uid != self.account.uid;
            // A folder shared by two files is set right once.
            if !foreign && !changes.contains(&change) {
                changes.push(change);
            }
        }
        (changes, faults)
    }

    fn may_give_away(&self) -> bool {
        self.seen.viewer == Some(0)
    }

    fn owner(&self, path: &BytePath, node: &Node, steps: &mut Steps) -> Result<(), NoSteps> {
        if node.uid == self.account.uid {
            return Ok(());
        }
        if !self.may_give_away() {
            return Err(NoSteps::NeedsRoot { path: path.clone(), found: node.uid, wanted: self.account.uid });
        }
        let from = OwnerIds { uid: node.uid, gid: node.gid };
        steps.changes.push(FileChange::SetOwner { path: path.clone(), from, to: self.own() }.into());
        Ok(())
    }

    /// Mode and owner that the file should have: as they are where nobody objects.
    pub(super) fn file_should_be(&self, found: &FileTarget) -> (u32, OwnerIds) {
        let Some(node) = &found.node else { return (self.policy.file_mode, self.own()) };
        if !found.real.is_within(self.home) {
            let mode = node.mode & !0o022;
            return (mode, owner_after(&found.real, node, mode, self.account, self.seen));
        }
        let unfit = node.mode & !self.policy.file_mode & 0o777 != 0 || node.mode & 0o400 == 0;
        let mode = if unfit { self.policy.file_mode } else { node.mode };
        (
            mode,
            if node.uid == self.account.uid {
                owner_after(&found.real, node, mode, self.account, self.seen)
            } else {
                self.own()
            },
        )
    }

    /// Owner and mode of a file that is there. A foreign owner goes when the account puts a file of its own in its place: in a
    /// folder of the account nothing is given away by root.
    pub(super) fn file(&self, found: &FileTarget, steps: &mut Steps) {
        let Some(node) = &found.node else { return };
        let (mode, owner) = self.file_should_be(found);
        if owner.uid != node.uid {
            let bytes = found.bytes.clone().unwrap_or_default();
            let change = FileChange::WriteFile {
                path: found.real.clone(),
                old: Some(bytes.clone()),
                new: bytes,
                mode,
                owner,
                was: Was::of(Some(node), mode, owner),
                deed: Deed::Copy,
            };
            steps.changes.push(change.into());
            return;
        }
        set_mode(&found.real, node, mode, steps);
    }
}

/// What a file has just before it is written: a mode that is wrong is set right by then, where its owner stays.
pub(super) fn was(found: &FileTarget, mode: u32, owner: OwnerIds) -> Option<Was> {
    let node = found.node.as_ref()?;
    let mode_before = if node.uid == owner.uid { mode } else { node.mode };
    Was::of(Some(&Node { mode: mode_before, ..node.clone() }), mode, owner)
}

fn set_mode(path: &BytePath, node: &Node, wanted: u32, steps: &mut Steps) {
    if node.mode != wanted {
        steps.changes.push(FileChange::SetMode { path: path.clone(), from: node.mode, to: wanted }.into());
    }
}

/// Every folder below `home` down to `folder`.
fn below(home: &BytePath, folder: &BytePath) -> Vec<BytePath> {
    let mut paths = Vec::new();
    let mut here = Some(folder.clone());
    while let Some(path) = here.filter(|path| path != home) {
        here = path.parent();
        paths.push(path);
    }
    paths.reverse();
    paths
}
