//! Devices on which the first key of an account ends its logins by password: nobody may come to depend on a key that nobody here has.

use super::running::Proof;
use super::{Task, Trouble};
use crate::site::Site;
use lavrin_keys::key::PrivateKey;
use lavrin_keys::key::generate::{Randomness as _, SystemSource};
use lavrin_keys::key::private::RsaHash;
use lavrin_reach::ssh::Credential;
use lavrin_server::fs::Fact;
use std::sync::Arc;

/// Why the first key must not go in: the login came by a password, which that key ends, and no private half of a key that comes is at
/// hand. `None`: it may.
pub(super) fn without_private_half(tasks: &[Task], site: &Site, proof: &Proof) -> Option<Trouble> {
    let signed = site.signed().filter(|signed| signed.key.is_none())?;
    if !site.first_key_ends_passwords() {
        return None;
    }
    let own = tasks.iter().filter(|task| task.steps.account.name == signed.account);
    let mut first =
        own.filter(|task| has_no_key(task)).map(|task| task.steps.effect().came).filter(|came| !came.is_empty());
    let came = first.next()?;
    let of_command = site.credentials().iter().filter_map(|credential| match credential {
        Credential::Key { key, .. } => Some(key),
        _ => None,
    });
    let mut at_hand = of_command.chain(proof.holder.as_ref().map(|holder| &holder.key));
    let is_proven = at_hand.any(|key| came.iter().any(|new| **new == *key.public()) && signs(key));
    (!is_proven).then(|| Trouble::NoPrivateHalf { account: signed.account.clone() })
}

fn has_no_key(task: &Task) -> bool {
    match task.seen.slots_of(&task.steps.account.name) {
        Fact::Known(slots) => slots.is_empty(),
        Fact::Absent => true,
        Fact::Unseen(_) => false,
    }
}

/// Whether a private half really is the other half of its public one.
fn signs(key: &Arc<PrivateKey>) -> bool {
    let mut challenge = [0; 32];
    SystemSource.fill(&mut challenge);
    key.sign(&challenge, RsaHash::Sha512).is_ok_and(|signature| key.public().verifies(&challenge, &signature))
}
