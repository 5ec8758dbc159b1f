//! What a place would be like after changes, by what was seen of it before.

use super::{AccountChange, Change, Deed, FileChange, KeyChange, OwnerIds};
use crate::account::{Aging, Group};
use crate::fs::{BytePath, Fact, Node, NodeKind};
use crate::survey::{KeySlot, Observation};
use std::sync::Arc;

impl Observation {
    /// What would be seen after these changes, in this order.
    #[must_use]
    pub fn after<'a>(&self, changes: impl IntoIterator<Item = &'a Change>) -> Self {
        let mut after = self.clone();
        for change in changes {
            match change {
                Change::File(file) => after.apply(file),
                Change::Key(key) => after.apply_to_slots(key),
                Change::Server(server) => after.takes_passwords = server.takes_passwords().or(after.takes_passwords),
                Change::Account(account) => after.apply_to_account(account),
            }
        }
        after
    }

    fn apply_to_account(&mut self, change: &AccountChange) {
        match change {
            AccountChange::Expire { account, to, .. } => {
                let own = Arc::make_mut(&mut self.accounts).iter_mut().find(|own| own.name == *account);
                if let Some(Aging::Line { expires, .. }) = own.and_then(|own| own.aging.as_mut()) {
                    *expires = *to;
                }
            }
            AccountChange::EndSession { .. } => {}
            AccountChange::Make(new) => {
                let account = new.expected(self);
                let group = Group { name: new.name.clone(), gid: account.gid, members: Vec::new() };
                Arc::make_mut(&mut self.accounts).push(account);
                Arc::make_mut(&mut self.groups).push(group);
            }
            AccountChange::Join { account, group, is_member } => {
                let own = Arc::make_mut(&mut self.groups).iter_mut().find(|own| own.name == *group);
                let Some(own) = own else { return };
                own.members.retain(|member| member != account);
                if *is_member {
                    own.members.push(account.clone());
                }
            }
        }
    }

    fn apply_to_slots(&mut self, change: &KeyChange) {
        let Some(Fact::Known(slots)) = self.slots.get_mut(&change.account) else { return };
        if let Some(old) = &change.old {
            slots.retain(|slot| slot.entry != *old || change.slot.as_ref().is_some_and(|name| *name != slot.name));
        }
        if let Some(new) = &change.new {
            slots.push(KeySlot { name: change.slot.clone().unwrap_or_default(), entry: new.clone() });
        }
    }

    fn apply(&mut self, change: &FileChange) {
        match change {
            FileChange::MakeFolder { path, mode, owner } => self.put(path, NodeKind::Folder, *mode, *owner),
            FileChange::WriteFile { path, new, mode, owner, deed, .. } => {
                // What the server said of its settings before says nothing any more.
                if matches!(deed, Deed::Settings { .. }) {
                    self.said_by_server = None;
                }
                self.put(path, NodeKind::File, *mode, *owner);
                self.name(path);
                self.bytes.insert(path.clone(), Fact::Known(new.clone()));
            }
            FileChange::RemoveFolder { path, .. } | FileChange::RemoveFile { path, .. } => {
                self.nodes.insert(path.clone(), Fact::Absent);
                if let Some(Fact::Known(names)) = path.parent().and_then(|folder| self.names.get_mut(&folder)) {
                    names.retain(|name| name != path.name());
                }
                self.bytes.insert(path.clone(), Fact::Absent);
            }
            FileChange::SetMode { path, to, .. } => self.change(path, |node| node.mode = *to),
            FileChange::SetOwner { path, to, .. } => self.change(path, |node| (node.uid, node.gid) = (to.uid, to.gid)),
        }
    }

    fn put(&mut self, path: &BytePath, kind: NodeKind, mode: u32, owner: OwnerIds) {
        let access_list = self.node(path).into_known().is_some_and(|node| node.access_list);
        let node = Node { kind, mode, uid: owner.uid, gid: owner.gid, access_list };
        self.nodes.insert(path.clone(), Fact::Known(node));
    }

    /// A new file has a name in its folder, by which patterns find it.
    fn name(&mut self, path: &BytePath) {
        let names = path.parent().and_then(|folder| self.names.get_mut(&folder));
        let Some(Fact::Known(names)) = names else { return };
        if !names.iter().any(|name| name == path.name()) {
            names.push(path.name().to_vec());
        }
    }

    fn change(&mut self, path: &BytePath, change: impl FnOnce(&mut Node)) {
        if let Some(Fact::Known(node)) = self.nodes.get_mut(path) {
            change(node);
        }
    }
}
