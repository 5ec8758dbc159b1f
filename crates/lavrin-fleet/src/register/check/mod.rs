//! What is wrong with a register, without a look at any host. One file for each family of findings.

mod exceptions;
mod grants;
mod hosts;
mod kept;
mod keys;
mod policy;

use super::fields::is_near;
use super::{Date, Reading, Register, RegisterFault, RegisterFinding, RegisterPlace, Whom};
use lavrin_server::finding::Severity;

/// The accounts that the last survey of a host saw; nothing where there was none.
pub type AccountsSeen<'a> = dyn Fn(&str) -> Option<Vec<String>> + Sync + 'a;

/// Everything that is wrong, file by file and from top to bottom; `seen` tells which accounts there really are.
#[must_use]
pub fn check(reading: &Reading, today: Date, seen: &AccountsSeen<'_>) -> Vec<RegisterFinding> {
    let register = &reading.register;
    let by = |check: &(dyn Fn(&mut CheckFindings) + Sync)| {
        let mut found = CheckFindings::default();
        check(&mut found);
        found.findings
    };
    let (of_keys, others) = rayon::join(
        || by(&|found| keys::check(register, today, found)),
        || {
            by(&|found| {
                grants::check(register, today, found);
                hosts::check(register, today, seen, found);
                kept::check(register, today, found);
                policy::check(register, found);
            })
        },
    );
    let mut findings = exceptions::apply(register, today, [reading.findings.clone(), of_keys, others].concat());
    weigh(register, &mut findings);
    findings.sort_by_key(|finding| (finding.place.file(), finding.place.bytes().start, finding.fault.rule()));
    findings
}

/// The most urgent severity among findings.
#[must_use]
pub fn worst(findings: &[RegisterFinding]) -> Option<Severity> {
    findings.iter().map(|finding| finding.severity).max()
}

/// Findings as they come.
#[derive(Default)]
struct CheckFindings {
    findings: Vec<RegisterFinding>,
}

impl CheckFindings {
    fn say(&mut self, fault: RegisterFault, place: &RegisterPlace, about: &str) {
        self.say_beside(fault, place, Vec::new(), about);
    }

    fn say_beside(&mut self, fault: RegisterFault, place: &RegisterPlace, beside: Vec<RegisterPlace>, about: &str) {
        let severity = fault.severity();
        self.findings.push(RegisterFinding { fault, place: *place, beside, about: about.to_owned(), severity });
    }
}

/// Severities as the register wants them.
fn weigh(register: &Register, findings: &mut Vec<RegisterFinding>) {
    let wanted = &register.rules.severities;
    findings.retain(|finding| wanted.get(finding.fault.rule()) != Some(&None));
    for finding in findings {
        if let Some(Some(severity)) = wanted.get(finding.fault.rule()) {
            finding.severity = *severity;
        }
    }
}

/// A name that nobody and nothing has, with the nearest of those that are there.
fn unknown<'a>(what: &'static str, name: &str, among: impl Iterator<Item = &'a str>) -> RegisterFault {
    let near = among.filter(|other| is_near(other, name)).min().map(str::to_owned);
    RegisterFault::UnknownName { what, name: name.to_owned(), near }
}

/// Whom a grant is about.
fn about(whom: &Whom) -> String {
    match whom {
        Whom::Person(id) => id.clone(),
        Whom::Team(team) => team.clone(),
        Whom::Machine { account, host } | Whom::Kept { account, host } => format!("{account}@{host}"),
    }
}
