//! Requests that change keys: all that belongs together in one, under a lock, held against what is there, and read back whatever the
//! answer says (RFC 6241, sections 7 and 8.3 to 8.7).

use super::carry_fault;
use super::keys::{NewSlot, User, asked_for, deleted, users};
use super::session::{Session, SessionFault};
use super::xml::{LIBRARY, Namespace, SYSTEM, escaped};
use crate::CarryFault;
use lavrin_server::steps::{Change, ChangeSubject, KeyChange};
use lavrin_server::survey::KeySlot;
use std::fmt::Write as _;
use std::time::Duration;

/// Changes that were made and not yet asked for one by one.
#[derive(Debug, Default)]
pub struct Made(Vec<Change>);

impl Made {
    /// These.
    pub fn of(changes: &[&Change]) -> Self {
        Self(changes.iter().map(|change| (*change).clone()).collect())
    }

    /// Whether this one was made; it counts once.
    pub fn take(&mut self, change: &Change) -> bool {
        let place = self.0.iter().position(|made| made == change);
        place.map(|place| self.0.remove(place)).is_some()
    }
}

/// The accounts with their keys, as they are in force; of one account only, where one is named. `None`: nobody is shown.
pub async fn read(session: &mut Session, account: Option<&str>) -> Result<Option<Vec<User>>, SessionFault> {
    let filter = asked_for(account);
    read_from(session, "running", &filter).await
}

async fn read_from(session: &mut Session, source: &str, filter: &str) -> Result<Option<Vec<User>>, SessionFault> {
    let body =
        format!("<get-config><source><{source}/></source><filter type=\"subtree\">{filter}</filter></get-config>");
    Ok(users(&session.request(&body).await?))
}

/// Whether a device that lists what it knows in a library has accounts of its own (RFC 7895, RFC 8525).
pub async fn library_knows_accounts(session: &mut Session) -> Result<bool, SessionFault> {
    if !session.capabilities.library {
        return Ok(false);
    }
    let module = "<module><name>ietf-system</name></module>";
    for list in [
        format!("<modules-state xmlns=\"{LIBRARY}\">{module}</modules-state>"),
        format!("<yang-library xmlns=\"{LIBRARY}\"><module-set>{module}</module-set></yang-library>"),
    ] {
        let answer = session.request(&format!("<get><filter type=\"subtree\">{list}</filter></get>")).await;
        let answer = match answer {
            Err(fault) if fault.refusal().is_some() => continue,
            answer => answer?,
        };
        let mut open = vec![&answer];
        while let Some(element) = open.pop() {
            if element.is(Namespace::Library, "module") && element.value("name") == Some("ietf-system") {
                let mut features = element.all("feature").map(|feature| feature.text.trim());
                return Ok(element.one("feature").is_none() || features.any(|feature| feature == "local-users"));
            }
            open.extend(&element.parts);
        }
    }
    Ok(false)
}

/// Makes changes, all of them or none. With a guard the device takes them back by itself after this time, unless they are confirmed.
pub async fn make(session: &mut Session, changes: &[&Change], guard: Option<Duration>) -> Result<(), CarryFault> {
    let Some(first) = changes.first() else { return Ok(()) };
    let keys: Vec<&KeyChange> = changes.iter().filter_map(|change| as_key(change)).collect();
    if keys.len() < changes.len() {
        let other = changes.iter().find(|change| as_key(change).is_none()).unwrap_or(first);
        return Err(CarryFault::not_there(other));
    }
    let subject = || match keys[..] {
        [one] => Change::Key(one.clone()).subject(),
        _ => ChangeSubject::Server,
    };
    let capabilities = session.capabilities;
    if !capabilities.candidate && !capabilities.writes_running {
        let why = "it lets nobody change its configuration over NETCONF".to_owned();
        return Err(CarryFault::Refused { subject: subject(), why });
    }
    let locked = lock(session, capabilities.candidate).await;
    let outcome = match locked {
        Ok(()) => write(session, &keys, guard, &subject).await,
        Err(fault) => Err(untouched(&fault, subject())),
    };
    if !session.is_broken() {
        unlock(session, capabilities.candidate).await;
    }
    outcome
}

fn as_key(change: &Change) -> Option<&KeyChange> {
    match change {
        Change::Key(key) => Some(key),
        _ => None,
    }
}

/// A fault before anything was written.
fn untouched(fault: &SessionFault, subject: ChangeSubject) -> CarryFault {
    CarryFault::Refused { subject, why: fault.to_string() }
}

/// Nobody else changes anything meanwhile.
async fn lock(session: &mut Session, candidate: bool) -> Result<(), SessionFault> {
    session.request("<lock><target><running/></target></lock>").await?;
    if candidate {
        let locked = session.request("<lock><target><candidate/></target></lock>").await;
        if let Err(fault) = locked {
            if !session.is_broken() {
                let _ = session.request("<unlock><target><running/></target></unlock>").await;
            }
            return Err(fault);
        }
    }
    Ok(())
}

async fn unlock(session: &mut Session, candidate: bool) {
    if candidate {
        let _ = session.request("<unlock><target><candidate/></target></unlock>").await;
    }
    let _ = session.request("<unlock><target><running/></target></unlock>").await;
}

async fn write(
    session: &mut Session,
    keys: &[&KeyChange],
    guard: Option<Duration>,
    subject: &(dyn Fn() -> ChangeSubject + Sync),
) -> Result<(), CarryFault> {
    let one = keys.iter().all(|key| key.account == keys[0].account).then(|| keys[0].account.as_str());
    let before = read(session, one).await.map_err(|fault| untouched(&fault, subject()))?.unwrap_or_default();
    let parts = request(keys, &before)?;
    let candidate = session.capabilities.candidate;
    if candidate {
        // A commit takes over whatever is in it. The lock should have been refused then.
        let there = read_from(session, "candidate", &asked_for(one)).await;
        if there.map_err(|fault| untouched(&fault, subject()))?.unwrap_or_default() != before {
            let why = "its candidate holds changes that nobody has taken over (RFC 6241, section 8.3)".to_owned();
            return Err(CarryFault::Refused { subject: subject(), why });
        }
    }
    let target = if candidate { "candidate" } else { "running" };
    // A check of its own, between this and the commit, loses the change on some devices: it is asked for here.
    let test = if session.capabilities.tests_first { "<test-option>test-then-set</test-option>" } else { "" };
    let error = if session.capabilities.rolls_back { "<error-option>rollback-on-error</error-option>" } else { "" };
    let edit = format!(
        "<edit-config xmlns:nc=\"urn:ietf:params:xml:ns:netconf:base:1.0\"><target><{target}/></target><default-operation>none</default-operation>{test}{error}<config><system xmlns=\"{SYSTEM}\"><authentication>{parts}</authentication></system></config></edit-config>"
    );
    let mut told = session.request(&edit).await.map(drop);
    if candidate && told.is_ok() {
        told = session.request(&commit(guard)).await.map(drop);
    }
    if candidate && told.is_err() && !session.is_broken() {
        let _ = session.request("<discard-changes/>").await;
    }
    if let Err(fault) = &told
        && session.is_broken()
    {
        return Err(carry_fault(fault, subject()));
    }
    // Whatever was said: what is there counts.
    let after = read(session, one).await.map_err(|fault| carry_fault(&fault, subject()))?.unwrap_or_default();
    if keys.iter().all(|key| holds(key, &after)) {
        return Ok(());
    }
    let is_as_before = before == after;
    match told {
        Err(fault) if is_as_before => Err(untouched(&fault, subject())),
        Ok(()) if is_as_before => {
            let why = "it answered that the change was made, and did not make it".to_owned();
            Err(CarryFault::Refused { subject: subject(), why })
        }
        _ => Err(CarryFault::Unknown { subject: subject() }),
    }
}

fn commit(guard: Option<Duration>) -> String {
    guard.map_or_else(
        || "<commit/>".to_owned(),
        |after| format!("<commit><confirmed/><confirm-timeout>{}</confirm-timeout></commit>", after.as_secs()),
    )
}

/// The changes as parts of one request, by account. What has to be there still is held against what is there.
fn request(keys: &[&KeyChange], before: &[User]) -> Result<String, CarryFault> {
    let mut by_account: Vec<(&str, String)> = Vec::new();
    for key in keys {
        let subject = || Change::Key((*key).clone()).subject();
        let Some(user) = before.iter().find(|user| user.name == key.account) else {
            // Otherwise a device makes an account by the way.
            return Err(CarryFault::Refused { subject: subject(), why: "there is no such account".to_owned() });
        };
        let changed = || CarryFault::Changed { subject: subject() };
        let mut parts = String::new();
        if let Some(old) = &key.old {
            let slot = find(user, key.slot.as_deref(), old).ok_or_else(changed)?;
            parts += &deleted(&slot.name);
        }
        if let Some(new) = &key.new {
            // A place keeps its name unless the comment, which is part of it, is another.
            let name = key.slot.as_deref().filter(|_| key.old.is_none());
            let put = NewSlot::of(new, name).ok_or_else(|| {
                let why = "an entry with options has no place there".to_owned();
                CarryFault::Refused { subject: subject(), why }
            })?;
            if user.keys.iter().any(|slot| slot.name == put.name) {
                return Err(changed());
            }
            parts += &put.created();
        }
        match by_account.iter_mut().find(|(name, _)| *name == key.account) {
            Some((_, all)) => all.push_str(&parts),
            None => by_account.push((&key.account, parts)),
        }
    }
    let mut text = String::new();
    for (name, parts) in by_account {
        let _ = write!(text, "<user><name>{}</name>{parts}</user>", escaped(name));
    }
    Ok(text)
}

fn find<'a>(user: &'a User, slot: Option<&str>, entry: &[u8]) -> Option<&'a KeySlot> {
    user.keys.iter().find(|own| own.entry == entry && slot.is_none_or(|name| name == own.name))
}

/// Whether a change is there, by what was read back.
fn holds(key: &KeyChange, after: &[User]) -> bool {
    let Some(user) = after.iter().find(|user| user.name == key.account) else { return false };
    let is_there = |entry: &Vec<u8>| find(user, None, entry).is_some();
    let is_left = |entry: &Vec<u8>| find(user, key.slot.as_deref(), entry).is_some();
    key.new.as_ref().is_none_or(is_there) && !key.old.as_ref().is_some_and(is_left)
}

/// What was made under a guard stays.
pub async fn confirm(session: &mut Session) -> Result<(), CarryFault> {
    let subject = ChangeSubject::Server;
    session.request("<commit/>").await.map(drop).map_err(|fault| carry_fault(&fault, subject))
}

/// What was made under a guard goes, at once.
pub async fn call_off(session: &mut Session) -> Result<(), CarryFault> {
    let subject = ChangeSubject::Server;
    session.request("<cancel-commit/>").await.map(drop).map_err(|fault| carry_fault(&fault, subject))
}

/// What is in force is what it starts with the next time.
pub async fn keep(session: &mut Session) -> Result<(), CarryFault> {
    if !session.capabilities.startup {
        return Ok(());
    }
    let body = "<copy-config><target><startup/></target><source><running/></source></copy-config>";
    session.request(body).await.map(drop).map_err(|fault| carry_fault(&fault, ChangeSubject::Server))
}
