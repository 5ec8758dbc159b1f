//! What a place would be like after changes, by what was seen of it before.

use super::{Change, OwnerIds};
use crate::fs::{BytePath, Fact, Node, NodeKind};
use crate::survey::Observation;

impl Observation {
    /// What would be seen after these changes, in this order.
    #[must_use]
    pub fn after<'a>(&self, changes: impl IntoIterator<Item = &'a Change>) -> Self {
        let mut after = self.clone();
        for change in changes {
            after.apply(change);
        }
        after
    }

    fn apply(&mut self, change: &Change) {
        match change {
            Change::MakeFolder { path, mode, owner } => self.put(path, NodeKind::Folder, *mode, *owner),
            Change::WriteFile { path, new, mode, owner, .. } => {
                self.put(path, NodeKind::File, *mode, *owner);
                self.bytes.insert(path.clone(), Fact::Known(new.clone()));
            }
            Change::RemoveFolder { path, .. } | Change::RemoveFile { path, .. } => {
                self.nodes.insert(path.clone(), Fact::Absent);
                self.bytes.insert(path.clone(), Fact::Absent);
            }
            Change::SetMode { path, to, .. } => self.change(path, |node| node.mode = *to),
            Change::SetOwner { path, to, .. } => self.change(path, |node| (node.uid, node.gid) = (to.uid, to.gid)),
        }
    }

    fn put(&mut self, path: &BytePath, kind: NodeKind, mode: u32, owner: OwnerIds) {
        let access_list = self.node(path).into_known().is_some_and(|node| node.access_list);
        let node = Node { kind, mode, uid: owner.uid, gid: owner.gid, access_list };
        self.nodes.insert(path.clone(), Fact::Known(node));
    }

    fn change(&mut self, path: &BytePath, change: impl FnOnce(&mut Node)) {
        if let Some(Fact::Known(node)) = self.nodes.get_mut(path) {
            change(node);
        }
    }
}
