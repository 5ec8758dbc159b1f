//! Findings about hosts as a whole: how long ago they were seen, and what is still owed to them.

use super::What;
use super::{HostState, Moment};
use crate::host_fault::HostFault;
use crate::register::{Host, Register};
use lavrin_server::finding::Finding;

/// A look older than this many days says little.
const OLD_DAYS: i64 = 30;

/// Seconds of a day.
const DAY: i64 = 86_400;

pub(super) fn check(_: &Host, state: &HostState, now: Moment) -> Vec<Finding<What>> {
    let fault = match state.seen {
        None => Some(HostFault::NeverSurveyed { fault: state.fault.clone() }),
        Some(seen) if now.time - seen > OLD_DAYS * DAY => {
            Some(HostFault::SurveyOld { days: (now.time - seen) / DAY, fault: state.fault.clone() })
        }
        Some(_) => state.fault.clone().map(|fault| HostFault::NotReached { fault }),
    };
    let other = state.other_register.clone().map(|(on, commit)| HostFault::OtherRegister { on, commit });
    fault.into_iter().chain(other).map(|fault| Finding::of(What::Host(fault))).collect()
}

/// Removals that the register still owes to hosts.
pub(super) fn owed(register: &Register) -> Vec<(String, Finding<What>)> {
    let finding = |owed: &crate::register::Owed| {
        let fault = HostFault::RemovalOwed {
            fingerprint: owed.fingerprint.clone(),
            who: owed.person.clone(),
            since: owed.since,
        };
        (owed.host.clone(), Finding { account: Some(owed.account.clone()), ..Finding::of(What::Host(fault)) })
    };
    register.owed.iter().map(finding).collect()
}
