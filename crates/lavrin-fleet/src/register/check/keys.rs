//! Findings about keys: weak ones, the same key in several hands, what policy asks of them.

use super::{CheckFindings, about, unknown};
use crate::register::{Date, OwnedKey, Purpose, Register, RegisterFault, Whom};
use lavrin_keys::key::strength::cross_check::{self, Shown};
use lavrin_keys::key::strength::{self, Depth, Weakness};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_keys::patterns::matches;
use rayon::prelude::*;
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};

/// A key and who has it.
struct HeldKey<'a> {
    owner: Cow<'a, str>,
    key: &'a OwnedKey,
}

pub(super) fn check(register: &Register, today: Date, found: &mut CheckFindings) {
    let held: Vec<HeldKey<'_>> = register
        .people
        .values()
        .flat_map(|person| person.keys.iter().map(|key| HeldKey { owner: Cow::from(&person.id), key }))
        .chain(
            register
                .hosts
                .values()
                .flat_map(|host| host.keys.iter().map(|key| HeldKey { owner: Cow::from(&host.id), key })),
        )
        .chain(
            register
                .kept
                .iter()
                .flat_map(|kept| kept.keys.iter().map(|key| HeldKey { owner: Cow::from(kept.name()), key })),
        )
        .collect();
    weak(register, &held, found);
    for person in register.people.values() {
        replaced(&person.keys, &person.id, found);
    }
    for host in register.all_hosts() {
        replaced(&host.keys, &host.id, found);
    }
    in_several_hands(&held, found);
    for person in register.people.values().filter(|person| !person.has_left(today)) {
        if !person.keys.iter().any(|key| key.is_active(today)) {
            found.say(RegisterFault::PersonWithoutKey, &person.place, &person.id);
        }
    }
    for one in held.iter().filter(|one| one.key.is_active(today)) {
        by_policy(register, one, today, found);
    }
    automation(register, today, found);
}

/// A key is replaced by one other at most, and no chain of them ends where it began.
fn replaced(keys: &[OwnedKey], owner: &str, found: &mut CheckFindings) {
    for key in keys {
        let Some(old) = &key.replaces else { continue };
        let label = old.value.clone();
        match keys.iter().find(|other| other.label == label) {
            None => {
                let labels = keys.iter().map(|key| key.label.as_str());
                found.say(unknown("key", &label, labels), &old.place, owner);
            }
            Some(other) if other.goes_by(&key.label, keys) => {
                found.say(RegisterFault::ReplacesItself { label: key.label.clone() }, &old.place, owner);
            }
            Some(other) => {
                let first = other.successor(keys).filter(|first| first.fingerprint != key.fingerprint);
                if let Some(first) = first {
                    let beside = first.replaces.iter().map(|old| old.place).collect();
                    found.say_beside(RegisterFault::ReplacedTwice { label }, &old.place, beside, owner);
                }
            }
        }
    }
}

fn weak(register: &Register, held: &[HeldKey<'_>], found: &mut CheckFindings) {
    let policy = &register.rules.policy;
    // The thorough search for small factors is done for all of them together, below; it leaves out what is told here.
    let judged: Vec<Vec<Weakness>> =
        held.par_iter().map(|one| strength::all_weaknesses(&one.key.key, policy, Depth::Quick)).collect();
    for (one, weak) in held.iter().zip(judged) {
        for weakness in weak {
            let fault = RegisterFault::WeakKey { weakness, fingerprint: one.key.fingerprint };
            found.say(fault, &one.key.place, &one.owner);
        }
    }
    held_against_each_other(held, found);
}

/// Two RSA keys that share a prime are both worth nothing. Every distinct modulus is told once.
fn held_against_each_other(held: &[HeldKey<'_>], found: &mut CheckFindings) {
    let mut moduli: HashSet<&[u8]> = HashSet::new();
    let distinct: Vec<Option<&PublicKey>> = held
        .iter()
        .map(|one| match &one.key.key {
            key @ PublicKey::Rsa { n, .. } => moduli.insert(n).then_some(key),
            _ => None,
        })
        .collect();
    for (index, shown) in cross_check::rsa(distinct) {
        let (one, fingerprint) = (&held[index], held[index].key.fingerprint);
        match shown {
            Shown::SmallFactor(factor) => {
                if strength::small_factor(&one.key.key, Depth::Quick).is_none() {
                    let fault = RegisterFault::WeakKey { weakness: Weakness::SmallFactor { factor }, fingerprint };
                    found.say(fault, &one.key.place, &one.owner);
                }
            }
            Shown::SharedPrime(others) => {
                let with = others.iter().map(|other| held[*other].owner.to_string()).collect();
                let beside = others.iter().map(|other| held[*other].key.place).collect();
                let fault = RegisterFault::WeakKey { weakness: Weakness::SharedPrime { with }, fingerprint };
                found.say_beside(fault, &one.key.place, beside, &one.owner);
            }
            // Only distinct moduli were looked at.
            Shown::SameModulus(_) => {}
        }
    }
}

fn in_several_hands(held: &[HeldKey<'_>], found: &mut CheckFindings) {
    let mut first: HashMap<Fingerprint, &HeldKey<'_>> = HashMap::new();
    for one in held {
        let Some(earlier) = first.get(&one.key.fingerprint) else {
            first.insert(one.key.fingerprint, one);
            continue;
        };
        let fingerprint = one.key.fingerprint;
        let beside = vec![earlier.key.place];
        let fault = if earlier.owner == one.owner && earlier.key.account == one.key.account {
            RegisterFault::DuplicateKey { fingerprint }
        } else {
            RegisterFault::SharedKey { fingerprint, other: earlier.owner.to_string() }
        };
        found.say_beside(fault, &one.key.place, beside, &one.owner);
    }
}

fn by_policy(register: &Register, one: &HeldKey<'_>, today: Date, found: &mut CheckFindings) {
    let algorithm = one.key.key.algorithm();
    if !register.rules.policy.algorithms.contains(&algorithm) {
        found.say(RegisterFault::AlgorithmNotAllowed { name: algorithm.name() }, &one.key.place, &one.owner);
    }
    if let (Some(limit), Some(added)) = (register.rules.key_age_days_max, one.key.added) {
        let days = today.number() - added.number();
        if days > limit {
            found.say(RegisterFault::OldKey { days, limit }, &one.key.place, &one.owner);
        }
    }
    if let Some(pattern) = &register.rules.comment
        && !matches(pattern.as_bytes(), one.key.comment.as_bytes())
    {
        let fault = RegisterFault::CommentForm { comment: one.key.comment.clone(), pattern: pattern.clone() };
        found.say(fault, &one.key.place, &one.owner);
    }
}

/// Keys of programs must not open an account to anything from anywhere.
fn automation(register: &Register, today: Date, found: &mut CheckFindings) {
    let wanted = &register.rules.automation_options;
    if wanted.is_empty() {
        return;
    }
    for grant in register.grants.iter().filter(|grant| !grant.has_ended(today)) {
        let of_machine = matches!(grant.whom.value, Whom::Machine { .. });
        let automatic = |key: &&OwnedKey| key.purpose == Purpose::Automation && key.is_active(today);
        let named = |keys: &[OwnedKey]| keys.iter().filter(automatic).any(|key| grant.is_for(key, keys));
        let concerned = of_machine || register.people_of(grant).iter().any(|person| named(&person.keys));
        let has = |option: &str| {
            (option == "from" && grant.from().is_some())
                || (option == "command" && grant.command().is_some())
                || grant.options().iter().any(|set| set.split('=').next() == Some(option))
        };
        if concerned && !wanted.iter().any(|option| has(option)) {
            let fault = RegisterFault::AutomationUnlimited { wanted: wanted.clone() };
            found.say(fault, &grant.whom.place, &about(&grant.whom.value));
        }
    }
}
