//! Exceptions: what they let pass, and those that have no use any more.

use crate::register::{Date, Register, RegisterFault, RegisterFinding};
use crate::rules;

/// The findings that no exception excuses, and findings about the exceptions themselves.
pub(super) fn apply(register: &Register, today: Date, findings: Vec<RegisterFinding>) -> Vec<RegisterFinding> {
    let mut used = vec![false; register.exceptions.len()];
    let mut left: Vec<RegisterFinding> = findings
        .into_iter()
        .filter(|finding| {
            let excuses = |exception: &crate::register::Exception| {
                exception.rule.value == finding.fault.rule()
                    && exception.about == finding.about
                    && exception.until.value >= today
            };
            match register.exceptions.iter().position(excuses) {
                Some(number) => {
                    used[number] = true;
                    false
                }
                None => true,
            }
        })
        .collect();
    for (exception, used) in register.exceptions.iter().zip(used) {
        let on_hosts = rules::is_on_hosts(&exception.rule.value);
        let (fault, place) = if !on_hosts && !RegisterFault::RULES.iter().any(|(rule, _)| *rule == exception.rule.value)
        {
            let fault = RegisterFault::UnknownName { what: "rule", name: exception.rule.value.clone(), near: None };
            (fault, &exception.rule.place)
        } else if exception.until.value < today {
            (RegisterFault::ExceptionEnded { on: exception.until.value }, &exception.until.place)
        } else if !used && !on_hosts {
            (RegisterFault::ExceptionUnused, &exception.rule.place)
        } else {
            continue;
        };
        let severity = fault.severity();
        let about = exception.about.clone();
        left.push(RegisterFinding { fault, place: *place, beside: Vec::new(), about, severity });
    }
    left
}
