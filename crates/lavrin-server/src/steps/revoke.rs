//! The steps that put keys into the server's own list of revoked keys: no file of any account opens anything to them then.

use super::{Deed, FileChange, NoSteps, OwnerIds, Steps};
use crate::abilities::Ability;
use crate::fs::Fact;
use crate::login;
use crate::survey::{Resolved, resolve};
use crate::system::System;
use lavrin_keys::key::{Fingerprint, PublicKey, revocation};
use lavrin_keys::keysfile::KeysFile;

/// The steps; `None` where the server uses no such list. A list that it keeps in its own binary form is left alone.
///
/// # Errors
/// [`NoSteps`].
#[must_use]
pub fn revoke(keys: &[PublicKey], seen: &System<'_>) -> Option<Result<Steps, NoSteps>> {
    if !seen.abilities.has(Ability::Files) {
        return None;
    }
    let root = seen.accounts.iter().find(|account| account.is_root())?;
    let file = login::revoked_file(root, seen)?;
    let (real, node) = match resolve(&file, seen) {
        Resolved::To(real, node) => (real, node),
        // The server takes every key for revoked where its list is missing; that is not for this step to change.
        Resolved::Missing(_) => return None,
        Resolved::Unseen(path, why) => return Some(Err(NoSteps::Unread(path.into(), why))),
        Resolved::Loop => return Some(Err(NoSteps::LinkLoop(file))),
        Resolved::Ask(path) => return Some(Err(NoSteps::Unread(path.into(), crate::fs::Why::NotReached))),
    };
    let old = match seen.content(&real) {
        Fact::Known(bytes) => bytes.clone(),
        Fact::Absent => return None,
        Fact::Unseen(why) => return Some(Err(NoSteps::Unread(real.into(), why))),
    };
    if revocation::is_binary(&old) {
        return Some(Err(NoSteps::BinaryList(real)));
    }
    let mut steps = Steps::none(root, None, seen);
    let (mut new, mut revoked) = (old.clone(), Vec::new());
    for key in keys.iter().filter(|key| !login::lists(&old, &key.fingerprint())) {
        new = KeysFile::parse(&new).with_appended(&key.line("revoked"));
        revoked.push(key.fingerprint());
    }
    if !revoked.is_empty() {
        let owner = OwnerIds { uid: node.uid, gid: node.gid };
        let (old, mode, deed) = (Some(old), node.mode, Deed::Revoke(revoked));
        steps.changes.push(FileChange::WriteFile { path: real, old, new, mode, owner, was: None, deed }.into());
    }
    Some(Ok(steps))
}

/// Whether the server's own list of revoked keys holds this key, as far as that was seen.
#[must_use]
pub fn is_revoked(key: &Fingerprint, seen: &System<'_>) -> bool {
    let root = seen.accounts.iter().find(|account| account.is_root());
    let Some(file) = root.and_then(|root| login::revoked_file(root, seen)) else { return false };
    let Resolved::To(real, _) = resolve(&file, seen) else { return false };
    match seen.content(&real) {
        Fact::Known(bytes) if revocation::is_binary(bytes) => revocation::revokes(bytes, key, None, None) == Some(true),
        Fact::Known(bytes) => login::lists(bytes, key),
        Fact::Absent | Fact::Unseen(_) => false,
    }
}
