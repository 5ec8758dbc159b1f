//! One account of a host held against the register, and the steps that end what differs.

use super::difference::{Difference, Part};
use lavrin_keys::key::Fingerprint;
use lavrin_keys::key::policy::Policy;
use lavrin_server::steps::{self, Edits, NoSteps, Steps, bring};
use lavrin_server::system::System;

/// One account.
#[derive(Debug, Clone)]
pub struct AccountComparison {
    /// The account.
    pub account: String,
    /// Whether its key files are managed; if not, everything is only told.
    pub managed: bool,
    /// The differences.
    pub differences: Vec<Difference>,
    /// Why it cannot be compared, or not be brought into line.
    pub fault: Option<NoSteps>,
    /// Keys that may enter it, by the register.
    pub(super) granted: Vec<Fingerprint>,
}

impl AccountComparison {
    /// Whether it counts as different: an account that is not managed does where somebody was let into it.
    #[must_use]
    pub fn counts(&self) -> bool {
        let asked = |difference: &Difference| self.managed || difference.is_asked_for();
        self.fault.is_some() || self.differences.iter().any(asked)
    }

    /// That somebody has no key which the host takes, for the first of them.
    #[must_use]
    pub fn no_key_taken(&self) -> Option<NoSteps> {
        self.differences.iter().find_map(|difference| match difference {
            Difference::NoKeyTaken { who, limit } => {
                Some(NoSteps::NoKeyTaken { who: who.clone(), limit: limit.clone() })
            }
            _ => None,
        })
    }

    /// Keeps only these parts.
    pub fn only(&mut self, part: Part) {
        self.differences.retain(|difference| difference.part() == Some(part));
    }

    /// Keeps only what is about these keys.
    pub fn only_keys(&mut self, keys: &[Fingerprint]) {
        self.differences.retain(|difference| difference.key().is_some_and(|key| keys.contains(&key)));
    }

    /// The steps that end what can be ended.
    ///
    /// # Errors
    /// [`NoSteps`].
    pub fn steps(&self, seen: &System<'_>, policy: &Policy) -> Result<Steps, NoSteps> {
        if let Some(fault) = &self.fault {
            return Err(fault.clone());
        }
        let made = self.differences.iter().find_map(|difference| match difference {
            Difference::MakeAccount { new, groups } => Some((new, groups)),
            _ => None,
        });
        if let Some((new, groups)) = made.filter(|_| self.managed) {
            return steps::make_account(new, groups, seen, 0);
        }
        let mut edits = Edits::default();
        for difference in self.differences.iter().filter(|_| self.managed) {
            match difference {
                Difference::Add { line, .. } => edits.add.push(line.clone()),
                Difference::Options { place, to, .. } => edits.options.push((place.clone(), to.clone())),
                Difference::Remove { place, .. } => edits.remove.push(place.clone()),
                Difference::Mode(_) => edits.modes = true,
                Difference::Unknown { .. } | Difference::NotUnderstood { .. } | Difference::NoKeyTaken { .. } => {}
                Difference::Passwords(_) | Difference::MakeAccount { .. } => {}
            }
        }
        bring(&self.account, &edits, &|key| self.granted.contains(key), seen, policy)
    }
}
