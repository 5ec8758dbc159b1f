//! The guard: only what it has let through can be carried out.

use super::{Change, Steps};
use crate::login::{Outcome, Question, judge};
use crate::survey::Observation;
use crate::system::System;
use lavrin_keys::key::Fingerprint;
use std::sync::Arc;

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
    /// Whose way in it is.
    pub of: Whose,
}

/// Whose way in would be lost.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Whose {
    /// That of the login itself.
    Login,
    /// One that the register grants.
    Granted,
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

    /// What takes these changes back, which were made in this order: the last one first, and at the end the server reads again what
    /// was put back.
    #[must_use]
    pub fn taken_back(made: &[&Self]) -> Vec<Self> {
        let (last, first): (Vec<Self>, Vec<Self>) = made
            .iter()
            .rev()
            .filter(|made| made.0.can_be_taken_back())
            .map(|made| made.inverse())
            .partition(|back| matches!(back.0, Change::Server(_)));
        first.into_iter().chain(last).collect()
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
    if let Some((login, key)) = login.filter(|_| !accepted).and_then(|login| Some((login, login.key?))) {
        let effect = steps.effect();
        let own = login.account == steps.account.name;
        // A revoked key opens no account at all.
        if own && effect.loses(&key) || effect.revoked.contains(&key) {
            return Err(LockOut { account: login.account.clone(), fingerprint: key, of: Whose::Login });
        }
    }
    Ok(steps.changes.iter().cloned().map(Guarded).collect())
}

/// A key that opens an account and has to go on doing so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Kept {
    /// The account.
    pub account: String,
    /// The key.
    pub fingerprint: Fingerprint,
}

/// What lies around the accounts that are worked on: others may read the same files.
#[derive(Debug, Clone, Default)]
pub struct Around {
    /// The accounts of the place, managed or not.
    pub seen: Arc<Observation>,
    /// Keys that the register lets in there.
    pub granted: Vec<Kept>,
}

/// Lets steps of one place through unless a key that is let in, or that of the login itself, opens its account before them and
/// not any more after all of them: by what the server would say, whichever account, file, mode or owner they are about.
/// `accepted` is the user's own word.
///
/// # Errors
/// [`LockOut`].
pub fn guard_around(
    all: &[&Steps],
    around: &Around,
    login: Option<&Login>,
    now: i64,
    accepted: bool,
) -> Result<(), LockOut> {
    let own = login.and_then(|login| Some(Kept { account: login.account.clone(), fingerprint: login.key? }));
    if accepted || own.is_none() && around.granted.is_empty() {
        return Ok(());
    }
    let after = around.seen.after(all.iter().flat_map(|steps| &steps.changes));
    let (before, after) = (System::of(&around.seen), System::of(&after));
    let opens = |kept: &Kept, seen: &System<'_>| {
        let (account, fingerprint) = (kept.account.clone(), kept.fingerprint);
        let question = Question { account, fingerprint, key: None, certificate: None, signature: None, now };
        judge(&question, seen).outcome != Outcome::Refused
    };
    let lost = |kept: &&Kept| opens(kept, &before) && !opens(kept, &after);
    let is_own = |kept: &Kept| own.as_ref() == Some(kept);
    match own.iter().chain(&around.granted).find(lost) {
        Some(kept) => Err(LockOut {
            account: kept.account.clone(),
            fingerprint: kept.fingerprint,
            of: if is_own(kept) { Whose::Login } else { Whose::Granted },
        }),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::read_passwd;
    use crate::fs::{Fact, Node, NodeKind};
    use crate::steps::{FileChange, remove, restore};
    use lavrin_keys::key::PrivateKey;

    const SHARED: &str = "/srv/shared";

    fn print(seed: u8) -> Fingerprint {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().fingerprint()
    }

    fn around(granted: &[(&str, u8)]) -> Around {
        let mut seen = Observation { looked: true, viewer: Some(0), ..Observation::default() };
        seen.accounts = read_passwd(b"root:x:0:0::/root:/bin/sh\nedda:x:1001:1001::/home/edda:/bin/sh\n").into();
        let mut put = |path: &str, kind, mode, uid| {
            seen.nodes.insert(path.into(), Fact::Known(Node { kind, mode, uid, gid: uid, access_list: false }));
        };
        for (path, uid) in [("/root", 0), ("/home", 0), ("/home/edda", 1001), ("/srv", 0), ("/bin", 0)] {
            put(path, NodeKind::Folder, 0o755, uid);
        }
        put(SHARED, NodeKind::File, 0o644, 0);
        put("/bin/sh", NodeKind::File, 0o755, 0);
        let keys: String =
            [1, 2].map(|seed| PrivateKey::ed25519(&[seed; 32]).unwrap().public().line("x") + "\n").concat();
        seen.bytes.insert(SHARED.into(), Fact::Known(keys.into_bytes()));
        let config = format!("AuthorizedKeysFile {SHARED}\n");
        seen.bytes.insert("/etc/ssh/sshd_config".into(), Fact::Known(config.into_bytes()));
        let granted =
            granted.iter().map(|(account, seed)| Kept { account: (*account).to_owned(), fingerprint: print(*seed) });
        Around { granted: granted.collect(), seen: Arc::new(seen) }
    }

    fn login(seed: u8) -> Login {
        Login { account: "root".to_owned(), key: Some(print(seed)) }
    }

    #[test]
    fn a_file_that_others_read_loses_neither_the_login_nor_a_key_that_is_let_in() {
        let world = around(&[]);
        let steps = remove("edda", &print(1), &System::of(&world.seen)).unwrap().steps;
        let ask = |world: &Around, login: &Login, accepted| guard_around(&[&steps], world, Some(login), 0, accepted);
        assert_eq!(ask(&world, &login(1), false).unwrap_err().of, Whose::Login);
        assert!(ask(&world, &login(2), false).is_ok() && ask(&world, &login(1), true).is_ok());
        let granted = around(&[("root", 1)]);
        let lock_out = ask(&granted, &login(2), false).unwrap_err();
        assert_eq!((lock_out.account.as_str(), lock_out.of), ("root", Whose::Granted));
        assert!(ask(&around(&[("root", 2), ("edda", 3)]), &login(2), false).is_ok());
    }

    #[test]
    fn a_mode_for_which_the_server_reads_no_file_is_a_lock_out_too() {
        let world = around(&[]);
        let path: crate::fs::BytePath = "/srv".into();
        let opened = FileChange::SetMode { path, from: 0o777, to: 0o755 }.into();
        let steps = restore("edda", &[opened], &System::of(&world.seen)).unwrap();
        assert!(guard_around(&[&steps], &world, Some(&login(1)), 0, false).is_err());
        assert!(guard_around(&[], &world, Some(&login(1)), 0, false).is_ok());
    }
}
