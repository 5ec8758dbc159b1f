//! The steps that end an account, and sessions: nothing is deleted.

use super::{AccountChange, Change, NoSteps, Steps};
use crate::account::Aging;
use crate::survey::traces::OpenSession;
use crate::system::System;

/// The steps after which an account lets nobody in from this day on (in days since 1970); none where it has ended already.
/// A locked password alone would not stop keys.
///
/// # Errors
/// [`NoSteps`].
pub fn end_account(name: &str, today: i64, seen: &System<'_>) -> Result<Steps, NoSteps> {
    let account = seen.account(name).ok_or(NoSteps::NoSuchAccount)?;
    let mut steps = Steps::blank(account, None);
    let from = match account.aging {
        Some(Aging::Line { expires, .. }) => expires,
        Some(Aging::NoLine) | None => return Err(NoSteps::OnlyRoot),
    };
    if !account.aging.is_some_and(|aging| aging.has_ended(today)) {
        let (account, to) = (account.name.clone(), Some(today));
        steps.changes.push(AccountChange::Expire { account, from, to }.into());
    }
    Ok(steps)
}

/// The steps that end these sessions of an account; the one that looks is left out.
///
/// # Errors
/// [`NoSteps`].
pub fn end_sessions(name: &str, sessions: &[&OpenSession], seen: &System<'_>) -> Result<Steps, NoSteps> {
    let account = seen.account(name).ok_or(NoSteps::NoSuchAccount)?;
    let mut steps = Steps::blank(account, None);
    let own = sessions.iter().filter(|session| session.account == name && !session.is_own);
    let end = |session: &&OpenSession| {
        let (account, pid, started) = (session.account.clone(), session.pid, session.started);
        Change::from(AccountChange::EndSession { account, pid, started })
    };
    steps.changes.extend(own.map(end));
    Ok(steps)
}
