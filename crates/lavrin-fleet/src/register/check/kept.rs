//! Findings about kept keys: hosts and people that nobody knows, accounts that are not managed, and people who left and may
//! have a copy.

use super::{CheckFindings, unknown};
use crate::register::{Date, Register, RegisterFault};

pub(super) fn check(register: &Register, today: Date, found: &mut CheckFindings) {
    let people = || register.people.keys().map(String::as_str);
    for administrator in register.administrators.iter().filter(|one| !register.people.contains_key(&one.value)) {
        found.say(unknown("person", &administrator.value, people()), &administrator.place, "kept");
    }
    for kept in &register.kept {
        let name = kept.name();
        match register.hosts.get(&kept.host) {
            None => {
                let hosts = register.hosts.keys().map(String::as_str);
                found.say(unknown("host", &kept.host, hosts), &kept.place, &name);
            }
            Some(host) if !host.accounts.iter().any(|account| account.value == kept.account) => {
                found.say(RegisterFault::KeptNotManaged, &kept.place, &name);
            }
            Some(_) => {}
        }
        for (key, version) in kept.all().filter(|(key, _)| key.is_active(today)) {
            for person in kept.known_to(version.number) {
                let Some(known) = register.people.get(person) else {
                    found.say(unknown("person", person, people()), &key.place, &name);
                    continue;
                };
                if let Some(left) = known.left.as_ref().filter(|_| known.has_left(today)) {
                    let fault = RegisterFault::KeptKnownToLeaver { person: person.to_owned(), left: left.value };
                    found.say_beside(fault, &key.place, vec![left.place], &name);
                }
            }
        }
    }
}
