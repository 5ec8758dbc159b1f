//! Findings on hosts beside a register, in words.

use crate::clock;
use lavrin_fleet::fleet::HostFault;
use lavrin_server::finding::Finding;

/// What is wrong and why it matters.
pub fn message(fault: &HostFault) -> String {
    let because = |fault: &Option<String>| fault.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
    match fault {
        HostFault::UnknownKey { fingerprint, comment } if comment.is_empty() => {
            format!("the key {fingerprint} is not in the register, and it has no comment")
        }
        HostFault::UnknownKey { fingerprint, comment } => {
            format!("the key {fingerprint} ({comment}) is not in the register")
        }
        HostFault::KeyOfLeaver { who, on, .. } => format!("{who} left on {on}, and this key still opens the account"),
        HostFault::RetiredKey { who, on, .. } => format!("{who} has not used this key since {on}; it is still here"),
        HostFault::GrantOver { who, on, .. } => format!("the grant of {who} ended on {on}; the key is still here"),
        HostFault::NotGranted { who, .. } => format!("this is a key of {who}, who has no grant here"),
        HostFault::CameBack { on, .. } => {
            format!("this entry was removed on {on} and is there again: something else writes the file")
        }
        HostFault::KeyLongUnused { last, .. } => format!("this key was last used on {}", clock::day_of(*last)),
        HostFault::KeyNeverSeen { since, .. } => {
            format!("the logs, which begin on {}, show no use of this key", clock::day_of(*since))
        }
        HostFault::KeyInManyHands { names, .. } => {
            format!("one key has several comments, so several people may have it: {}", names.join(", "))
        }
        HostFault::NeverSurveyed { fault } => format!("this host was never surveyed{}", because(fault)),
        HostFault::SurveyOld { days, fault } => {
            format!("this host was last surveyed {days} days ago{}", because(fault))
        }
        HostFault::NotReached { fault } => format!("this host was not reached the last time: {fault}"),
        HostFault::RemovalOwed { fingerprint, who, since } => {
            let who = who.as_ref().map(|who| format!(" of {who}")).unwrap_or_default();
            format!("the key {fingerprint}{who} has been waiting to be removed since {since}")
        }
    }
}

/// What to type or do.
pub fn remedy<F>(fault: &HostFault, finding: &Finding<F>, host: Option<&str>) -> String {
    let account = finding.account.as_deref().unwrap_or("ACCOUNT");
    let host = host.unwrap_or("HOST");
    match fault {
        HostFault::UnknownKey { .. } | HostFault::KeyInManyHands { .. } => {
            "ask whose it is, then: lavrin register adopt, or: lavrin person add NAME --key KEY.pub".to_owned()
        }
        HostFault::KeyOfLeaver { fingerprint, .. } | HostFault::RetiredKey { fingerprint, .. } => {
            format!("lavrin remove {fingerprint} {account}@{host}")
        }
        HostFault::GrantOver { who, fingerprint, .. } | HostFault::NotGranted { who, fingerprint } => {
            format!("lavrin remove {fingerprint} {account}@{host}, or: lavrin grant {who} {account} --host {host}")
        }
        HostFault::CameBack { .. } => {
            "look for what writes it: configuration management, an agent of a cloud, a colleague's script".to_owned()
        }
        HostFault::KeyLongUnused { .. } | HostFault::KeyNeverSeen { .. } => {
            "ask whether it is still needed; logs show nothing before they begin".to_owned()
        }
        HostFault::NeverSurveyed { .. } | HostFault::SurveyOld { .. } | HostFault::NotReached { .. } => {
            format!("lavrin survey {host}")
        }
        HostFault::RemovalOwed { fingerprint, .. } => format!("lavrin remove {fingerprint} {account}@{host}"),
    }
}
