//! Findings about the policy: tags that no host carries.

use super::{CheckFindings, unknown};
use crate::register::Register;
use std::collections::BTreeSet;

pub(super) fn check(register: &Register, found: &mut CheckFindings) {
    let tags: BTreeSet<&str> = register.all_hosts().flat_map(|host| &host.tags).map(String::as_str).collect();
    for way in &register.rules.no_ways {
        for tag in [&way.from, &way.to].into_iter().filter(|tag| !tags.contains(tag.value.as_str())) {
            found.say(unknown("tag", &tag.value, tags.iter().copied()), &tag.place, "no_way");
        }
    }
}
