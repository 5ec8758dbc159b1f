//! `lavrin rotate --due`: every key that is older than policy allows.

use super::out::{self, DueKeyOut};
use super::{RotateArgs, keys, one};
use crate::command::kept::KeptName;
use crate::command::register::{OpenedRegister, today};
use crate::error::CommandError;
use crate::exit::Exit;
use crate::ui::Ui;
use lavrin_fleet::fleet::rotation::{Rotation, rotations};
use lavrin_fleet::fleet::{Index, Owner};
use lavrin_fleet::register::{OwnedKey, Register};
use lavrin_keys::text::shell_word;
use std::collections::BTreeSet;

/// Goes on with every rotation whose old key is too old, one after the other, and lists the keys that have no new one yet.
pub async fn run(args: &RotateArgs, opened: &OpenedRegister, ui: &Ui) -> Result<Exit, CommandError> {
    let register = opened.register();
    let Some(limit) = register.rules.key_age_days_max else {
        return Err(CommandError::usage("the register does not say how old a key may be")
            .because("lavrin.toml has no key_age_days_max under [policy]")
            .hint("to replace one key: lavrin rotate PERSON --from-file NEW.pub"));
    };
    let begun = rotations(register, today());
    let index = Index::of(register);
    let (mut open, mut due, mut kept) = (Vec::new(), Vec::new(), BTreeSet::new());
    for (key, days) in too_old(register, limit) {
        // The office makes the next version itself.
        if let Some(Owner::Kept { account, host, .. }) = index.owner(key.fingerprint) {
            kept.insert((account.clone(), host.clone()));
            continue;
        }
        match begun.iter().find(|one| one.old_print() == key.fingerprint) {
            Some(rotation) => open.push(rotation),
            None => due.extend(without_new(register, key, days)),
        }
    }
    let mut ends = Vec::new();
    let mut now = opened.clone();
    for rotation in open {
        // Each may have written what the next one reads.
        now = if ends.is_empty() { now } else { args.fleet.register.open()? };
        ends.push(one(args, keys::of_rotation(&now, Rotation::clone(rotation)), &now, ui).await?);
    }
    for (account, host) in kept {
        now = if ends.is_empty() { now } else { args.fleet.register.open()? };
        ends.push(super::of_kept(args, &KeptName { account, host }, &now, ui).await?);
    }
    Ok(out::print(&ends, &due, ui))
}

/// Keys in use that are older than so many days, with their age.
fn too_old(register: &Register, limit: i64) -> Vec<(&OwnedKey, i64)> {
    let today = today();
    let people = register.people.values().filter(|person| !person.has_left(today)).flat_map(|person| &person.keys);
    let kept = register.kept.iter().flat_map(|kept| &kept.keys);
    let all = people.chain(register.all_hosts().flat_map(|host| &host.keys)).chain(kept);
    let age = |key: &OwnedKey| key.added.filter(|_| key.is_active(today)).map(|added| today.number() - added.number());
    all.filter_map(|key| age(key).filter(|days| *days > limit).map(|days| (key, days))).collect()
}

fn without_new(register: &Register, key: &OwnedKey, days: i64) -> Option<DueKeyOut> {
    let owner = Index::of(register).owner(key.fingerprint).cloned()?;
    let which = match &owner {
        Owner::Person { id, label } if register.people.get(id).is_some_and(|person| person.keys.len() > 1) => {
            format!("{} --label {}", shell_word(id), shell_word(label))
        }
        Owner::Person { id, .. } => shell_word(id),
        Owner::Machine { .. } => key.fingerprint.to_string(),
        Owner::Kept { .. } => return None,
    };
    Some(DueKeyOut {
        owner: owner.name(),
        label: key.label.clone(),
        key: key.fingerprint.to_string(),
        days,
        next: format!("lavrin rotate {which} --from-file NEW.pub"),
    })
}
