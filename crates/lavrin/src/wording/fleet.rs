//! Findings on hosts beside a register, in words.

use crate::clock;
use lavrin_fleet::fleet::HostFault;
use lavrin_keys::text::{count, printable, shell_word};
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
        HostFault::OldKey { who, days, limit, .. } => {
            format!("this key of {who} is {days} days old, and {limit} are allowed")
        }
        HostFault::EntryEndsSoon { at, .. } => format!("the server refuses this key from {} on", expiry(at)),
        HostFault::BreakGlassUsed { who, last, .. } => {
            format!("{who}'s break-glass key was used on {}", clock::day_of(*last))
        }
        HostFault::BreakGlassMissing => "no break-glass key opens an account on this host".to_owned(),
        HostFault::KeyLongUnused { last, .. } => format!("this key was last used on {}", clock::day_of(*last)),
        HostFault::KeyNeverSeen { since, .. } => {
            format!("the logs, which begin on {}, show no use of this key", clock::day_of(*since))
        }
        HostFault::KeyInManyHands { names, .. } => {
            format!("one key has several comments, so several people may have it: {}", names.join(", "))
        }
        HostFault::NeverSurveyed { fault } => format!("this host was never surveyed{}", because(fault)),
        HostFault::OtherRegister { on, commit } => {
            let commit = printable(commit.get(..12).unwrap_or(commit).as_bytes());
            format!("it was changed on {on} by commit {commit} of the register, which this copy does not have")
        }
        HostFault::SurveyOld { days, fault } => {
            format!("this host was last surveyed {days} days ago{}", because(fault))
        }
        HostFault::NotReached { fault } => format!("this host was not reached the last time: {fault}"),
        HostFault::KeyOpensRoot { opens, hosts, .. } => {
            let behind = count(*hosts, "host is", "hosts are");
            format!("this private key has no passphrase and opens {opens}: {behind} reached from here")
        }
        HostFault::ForbiddenWay { from, to, end, hops } => {
            let steps = count(usize::try_from(*hops).unwrap_or_default(), "step", "steps");
            format!("from hosts tagged {from} none may lead to hosts tagged {to}: {end} is reached in {steps}")
        }
        HostFault::RemovalOwed { fingerprint, who, since } => {
            let who = who.as_ref().map(|who| format!(" of {who}")).unwrap_or_default();
            format!("the key {fingerprint}{who} has been waiting to be removed since {since}")
        }
    }
}

/// `20270701` as `2027-07-01`, and a time behind it as it is.
fn expiry(at: &str) -> String {
    match (at.get(..4), at.get(4..6), at.get(6..8), at.get(8..12)) {
        (Some(year), Some(month), Some(day), Some(time)) => {
            format!("{year}-{month}-{day} {}:{}", &time[..2], &time[2..])
        }
        (Some(year), Some(month), Some(day), None) => format!("{year}-{month}-{day}"),
        _ => at.to_owned(),
    }
}

/// What to type or do.
pub fn remedy<F>(fault: &HostFault, finding: &Finding<F>, host: Option<&str>) -> String {
    // What hosts and registers say is pasted with it: each name is one word.
    let account = shell_word(finding.account.as_deref().unwrap_or("ACCOUNT"));
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
        HostFault::OldKey { who, fingerprint, .. } => {
            let which = if who.contains('@') { fingerprint.to_string() } else { who.clone() };
            format!("lavrin rotate {which} --from-file NEW.pub")
        }
        HostFault::EntryEndsSoon { who, .. } => {
            let who = who.as_deref().unwrap_or("PERSON");
            format!("lavrin grant {who} {account} --host {host} --until DATE, then: lavrin enforce {host}")
        }
        HostFault::BreakGlassUsed { .. } => "ask why it was needed; an exception in lavrin.toml ends this".to_owned(),
        HostFault::BreakGlassMissing => {
            format!(
                "lavrin person add NAME --key KEY.pub --purpose break-glass, then: lavrin grant NAME root --host {host}"
            )
        }
        HostFault::KeyLongUnused { .. } | HostFault::KeyNeverSeen { .. } => {
            "ask whether it is still needed; logs show nothing before they begin".to_owned()
        }
        HostFault::OtherRegister { .. } => "take the newest register from version control: git pull".to_owned(),
        HostFault::NeverSurveyed { .. } | HostFault::SurveyOld { .. } | HostFault::NotReached { .. } => {
            format!("lavrin survey {host}")
        }
        HostFault::KeyOpensRoot { .. } => {
            format!("lavrin paths {account}@{host}, then: lavrin paths {account}@{host} --cut")
        }
        HostFault::ForbiddenWay { to, .. } => format!("lavrin paths {host} {to} --cut"),
        HostFault::RemovalOwed { fingerprint, .. } => format!("lavrin remove {fingerprint} {account}@{host}"),
    }
}
