//! The guard: only what it has let through can be carried out.

use super::{Change, Steps};
use crate::key::Fingerprint;

/// The login over which the steps would be carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Login {
    /// The account it is for.
    pub account: String,
    /// The key that opened it; `None`: a password, or no login at all as in a local tree.
    pub key: Option<Fingerprint>,
}

/// The steps would take the last proven way in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockOut {
    /// The account.
    pub account: String,
    /// The key that is the way in.
    pub fingerprint: Fingerprint,
}

/// A change that the guard has let through. Nothing else can make one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Guarded(Change);

impl Guarded {
    /// What takes the change back; it needs no further leave.
    #[must_use]
    pub fn inverse(&self) -> Self {
        Self(self.0.inverse())
    }

    /// The change.
    #[must_use]
    pub fn change(&self) -> &Change {
        &self.0
    }
}

/// Lets steps through unless they take away or restrict the key that the login itself uses. `accepted` is the user's own
/// word.
///
/// # Errors
/// [`LockOut`].
pub fn guard(steps: &Steps, login: Option<&Login>, accepted: bool) -> Result<Vec<Guarded>, LockOut> {
    let own = login.filter(|login| login.account == steps.account.name).and_then(|login| login.key);
    if let Some(fingerprint) = own.filter(|_| !accepted) {
        let effect = steps.effect();
        if effect.gone.iter().chain(&effect.limited).any(|key| key.fingerprint() == fingerprint) {
            return Err(LockOut { account: steps.account.name.clone(), fingerprint });
        }
    }
    // A revoked key opens no account at all.
    if let Some(Login { account, key: Some(fingerprint) }) = login.filter(|_| !accepted)
        && steps.revoked.contains(fingerprint)
    {
        return Err(LockOut { account: account.clone(), fingerprint: *fingerprint });
    }
    Ok(steps.changes.iter().cloned().map(Guarded).collect())
}
