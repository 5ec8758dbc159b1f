//! Keys that an undo does not bring back: those of people who left, retired ones, and those that a server revokes.

use super::register::today;
use super::undo::UndoArgs;
use crate::ui::{Label, Ui};
use lavrin_fleet::fleet::Index;
use lavrin_fleet::register::Register;
use lavrin_keys::key::Fingerprint;
use lavrin_server::steps::{Change, Deed, FileChange, is_revoked};
use lavrin_server::system::System;
use std::collections::HashMap;

/// Which keys stay away, and why.
pub struct Barred<'a> {
    index: Option<Index<'a>>,
    reasons: HashMap<Fingerprint, String>,
    /// Nothing is barred: the user said so.
    is_open: bool,
}

impl<'a> Barred<'a> {
    /// By what the register says of its people.
    pub fn of(args: &UndoArgs, register: Option<&'a Register>) -> Self {
        let mut reasons = HashMap::new();
        for person in register.into_iter().flat_map(|register| register.people.values()) {
            let left = person.left.as_ref().filter(|left| left.value <= today()).map(|left| left.value);
            for key in &person.keys {
                let retired = key.retired.filter(|day| *day <= today());
                let why = match (left, retired) {
                    (Some(day), _) => format!("{} left on {day}", person.id),
                    (None, Some(day)) => format!("{} has not used it since {day}", person.id),
                    (None, None) => continue,
                };
                reasons.insert(key.fingerprint, why);
            }
        }
        Self { index: register.map(Index::of), reasons, is_open: args.even_leavers }
    }

    /// Whether a key stays away.
    pub fn is_barred(&self, key: &Fingerprint, seen: &System<'_>) -> bool {
        !self.is_open && (self.reasons.contains_key(key) || is_revoked(key, seen))
    }

    /// The changes that may be taken back: what was put into a list of revoked keys for a reason that still holds is not.
    pub fn allowed(&self, changes: &[Change]) -> Vec<Change> {
        let is_kept = |change: &&Change| match change {
            Change::File(FileChange::WriteFile { deed: Deed::Revoke(keys), .. }) => {
                self.is_open || !keys.iter().any(|key| self.reasons.contains_key(key))
            }
            _ => true,
        };
        changes.iter().filter(is_kept).cloned().collect()
    }

    /// Lists what stays away.
    pub fn tell(&self, kept_out: &[(String, String, Fingerprint)], ui: &Ui) {
        for (account, place, key) in kept_out {
            let owner = self.index.as_ref().and_then(|index| index.owner(*key)).map(lavrin_fleet::fleet::Owner::name);
            let why = self.reasons.get(key).cloned();
            let why = why.unwrap_or_else(|| {
                format!("the server revokes the key of {}", owner.unwrap_or_else(|| "no known owner".to_owned()))
            });
            let what = ui.paint_status(Label::Warn, "stays away");
            ui.status(&format!("  {what}  {account}@{place}  {key}  {why}"));
        }
        if !kept_out.is_empty() {
            ui.status("  to bring even these back: --even-leavers");
        }
    }
}
