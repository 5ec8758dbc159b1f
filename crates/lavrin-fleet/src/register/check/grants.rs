//! Findings about grants: names that nobody has, ends that are past, people who have left.

use super::{CheckFindings, about, unknown};
use crate::register::{Date, Grant, Person, Placed, Register, RegisterFault, RegisterFinding, Whom};
use foldhash::quality::RandomState;
use lavrin_server::steps::gives_root;
use rayon::prelude::*;
use std::collections::{BTreeSet, HashMap};
use std::hash::{Hash, Hasher};

/// So many grants are judged in one go.
const AT_ONCE: usize = 1024;

pub(super) fn check(register: &Register, today: Date, found: &mut CheckFindings) {
    let tags: BTreeSet<&str> = register.all_hosts().flat_map(|host| &host.tags).map(String::as_str).collect();
    let mut teams: HashMap<&str, Vec<&Person>> = HashMap::new();
    for person in register.people.values() {
        teams.entry(person.team.as_deref().unwrap_or_default()).or_default().push(person);
    }
    let some = |grants: &[Grant]| {
        let mut found = CheckFindings::default();
        for grant in grants {
            one(register, grant, (&teams, &tags), today, &mut found);
        }
        found.findings
    };
    let (all, twice) =
        rayon::join(|| register.grants.par_chunks(AT_ONCE).map(some).collect::<Vec<_>>(), || twice(&register.grants));
    found.findings.extend(all.into_iter().flatten());
    found.findings.extend(twice);
}

/// Grants that say what one before them says.
fn twice(grants: &[Grant]) -> Vec<RegisterFinding> {
    let mut found = CheckFindings::default();
    let mut seen = HashMap::with_capacity_and_hasher(grants.len(), RandomState::default());
    for grant in grants {
        if let Some(first) = seen.insert(Meaning(grant), grant.place) {
            found.say_beside(RegisterFault::GrantTwice, &grant.place, vec![first], &about(&grant.whom.value));
        }
    }
    found.findings
}

/// What a grant says, but for how long and under which limits.
struct Meaning<'a>(&'a Grant);

impl Meaning<'_> {
    fn parts(&self) -> (&Whom, &str, Option<&str>) {
        (&self.0.whom.value, &self.0.account, self.0.key.as_ref().map(|label| label.value.as_str()))
    }

    fn hosts(&self) -> impl Iterator<Item = &str> {
        self.0.hosts.iter().map(|host| host.value.as_str())
    }

    fn tags(&self) -> impl Iterator<Item = &str> {
        self.0.tags.iter().map(|tag| tag.value.as_str())
    }
}

impl PartialEq for Meaning<'_> {
    fn eq(&self, other: &Self) -> bool {
        self.parts() == other.parts() && self.hosts().eq(other.hosts()) && self.tags().eq(other.tags())
    }
}

impl Eq for Meaning<'_> {}

impl Hash for Meaning<'_> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.parts().hash(state);
        self.hosts().for_each(|host| host.hash(state));
        self.tags().for_each(|tag| tag.hash(state));
    }
}

/// Teams by name, and the tags that hosts have.
type TeamsAndTags<'a> = (&'a HashMap<&'a str, Vec<&'a Person>>, &'a BTreeSet<&'a str>);

fn one(register: &Register, grant: &Grant, (teams, tags): TeamsAndTags<'_>, today: Date, found: &mut CheckFindings) {
    whom(register, grant, teams, today, found);
    places(register, grant, tags, found);
    groups(register, grant, found);
    if let Some(until) = grant.until.as_ref().filter(|_| grant.has_ended(today)) {
        let fault = RegisterFault::GrantEnded { account: grant.account.clone(), on: until.value };
        found.say(fault, &until.place, &about(&grant.whom.value));
    }
    let days = register.rules.ends_soon_days;
    let is_near = |until: &Date| (0..days).contains(&(until.number() - today.number()));
    if let Some(until) = grant.until.as_ref().filter(|until| is_near(&until.value)) {
        let names = |list: &[Placed<String>]| list.iter().map(|name| name.value.clone()).collect();
        let fault = RegisterFault::GrantEndsSoon {
            team: matches!(grant.whom.value, Whom::Team(_)),
            account: grant.account.clone(),
            hosts: names(&grant.hosts),
            tags: names(&grant.tags),
            on: until.value,
        };
        found.say(fault, &until.place, &about(&grant.whom.value));
    }
}

/// The groups into which an account is put that is made.
fn groups(register: &Register, grant: &Grant, found: &mut CheckFindings) {
    for group in grant.create.iter().flat_map(|create| &create.groups) {
        let name = group.value.clone();
        if register.rules.groups_forbidden.contains(&name) {
            found.say(RegisterFault::GroupForbidden { group: name }, &group.place, &about(&grant.whom.value));
        } else if gives_root(&name) {
            found.say(RegisterFault::GroupLikeRoot { group: name }, &group.place, &about(&grant.whom.value));
        }
    }
}

fn whom(
    register: &Register,
    grant: &Grant,
    teams: &HashMap<&str, Vec<&Person>>,
    today: Date,
    found: &mut CheckFindings,
) {
    let place = &grant.whom.place;
    match &grant.whom.value {
        Whom::Person(id) => match register.people.get(id) {
            None => found.say(unknown("person", id, register.people.keys().map(String::as_str)), place, id),
            Some(person) => one_person(grant, person, today, found),
        },
        Whom::Team(team) => {
            let members = teams.get(team.as_str()).map(Vec::as_slice).unwrap_or_default();
            if members.is_empty() {
                found.say(unknown("team", team, teams.keys().copied()), place, team);
            } else if !members.iter().any(|person| has_key(grant, person, today)) {
                found.say(RegisterFault::GrantWithoutKey, place, team);
            }
        }
        // It has no grant of its own among these.
        Whom::Kept { .. } => {}
        Whom::Machine { account, host } => {
            let about = about(&grant.whom.value);
            match register.hosts.get(host) {
                None => found.say(unknown("host", host, register.hosts.keys().map(String::as_str)), place, &about),
                Some(host) => {
                    let own = |key: &&crate::register::OwnedKey| key.account.as_ref() == Some(account);
                    if !host.keys.iter().filter(own).any(|key| key.is_active(today)) {
                        found.say(RegisterFault::GrantWithoutKey, place, &about);
                    }
                }
            }
        }
    }
}

fn has_key(grant: &Grant, person: &Person, today: Date) -> bool {
    let mut active = person.keys.iter().filter(|key| key.is_active(today));
    !person.has_left(today) && active.any(|key| grant.is_for(key, &person.keys))
}

fn one_person(grant: &Grant, person: &Person, today: Date, found: &mut CheckFindings) {
    let place = &grant.whom.place;
    if let Some(left) = person.left.as_ref().filter(|_| person.has_left(today)) {
        let (id, account) = (person.id.clone(), grant.account.clone());
        let fault = RegisterFault::GrantOfLeaver { person: id, left: left.value, account };
        found.say_beside(fault, place, vec![left.place], &person.id);
        return;
    }
    if let Some(label) = &grant.key
        && !person.keys.iter().any(|key| key.label == label.value)
    {
        let labels = person.keys.iter().map(|key| key.label.as_str());
        found.say(unknown("key", &label.value, labels), &label.place, &person.id);
    } else if !has_key(grant, person, today) {
        found.say(RegisterFault::GrantWithoutKey, place, &person.id);
    }
}

fn places(register: &Register, grant: &Grant, tags: &BTreeSet<&str>, found: &mut CheckFindings) {
    let about = about(&grant.whom.value);
    let mut matched = false;
    for host in &grant.hosts {
        if host.value == "*" || register.hosts.contains_key(&host.value) {
            matched |= !register.hosts.is_empty();
        } else {
            let fault = unknown("host", &host.value, register.hosts.keys().map(String::as_str));
            found.say(fault, &host.place, &about);
        }
    }
    for tag in &grant.tags {
        if tags.contains(tag.value.as_str()) {
            matched = true;
        } else {
            found.say(unknown("tag", &tag.value, tags.iter().copied()), &tag.place, &about);
        }
    }
    if grant.hosts.is_empty() && grant.tags.is_empty() || !matched && grant.hosts.iter().any(|host| host.value == "*") {
        found.say(RegisterFault::GrantMatchesNothing, &grant.place, &about);
    }
}
