//! Findings on hosts beside a register, in words.

use crate::clock;
use lavrin_fleet::fleet::HostFault;
use lavrin_keys::text::printable;
use lavrin_server::finding::Finding;

/// What is wrong and why it matters.
pub fn message(fault: &HostFault) -> String {
    let because = |fault: &Option<String>| fault.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
    match fault {
        HostFault::UnknownKey { fingerprint, comment } if comment.is_empty() => {
            format!("nobody in the register has the key {fingerprint}, and no comment says whose it is")
        }
        HostFault::UnknownKey { fingerprint, comment } => {
            format!("nobody in the register has the key {fingerprint} ({comment})")
        }
        HostFault::KeyOfLeaver { who, on, .. } => format!("{who} left on {on}, and this key still opens the account"),
        HostFault::RetiredKey { who, on, .. } => format!("{who} has not used this key since {on}; it is still here"),
        HostFault::GrantOver { who, on, .. } => format!("{who} was let in until {on}; the key is still here"),
        HostFault::NotGranted { who, .. } => format!("this is a key of {who}, whom no grant lets in here"),
        HostFault::CameBack { on, .. } => {
            format!("this entry was removed on {on} and is there again: something else writes the file")
        }
        HostFault::KeyLongUnused { last, .. } => format!("this key was last used on {}", clock::day_of(*last)),
        HostFault::KeyNeverSeen { since, .. } => {
            format!("this key does not show in the logs, which begin on {}", clock::day_of(*since))
        }
        HostFault::KeyInManyHands { names, .. } => {
            format!("one key goes by several names, so several people may have it: {}", names.join(", "))
        }
        HostFault::SettingsBroken { what, line } => {
            format!("the server would not start again: line {line}: {}", super::config::error(what))
        }
        HostFault::RootWithPassword => "root may sign in with a password".to_owned(),
        HostFault::PasswordsOn => "passwords open accounts, whatever is done about keys".to_owned(),
        HostFault::EmptyPasswords => "an account without a password opens to anybody".to_owned(),
        HostFault::StrictModesOff => "the server takes key files that others may write".to_owned(),
        HostFault::KeysOff => "the server takes no keys at all".to_owned(),
        HostFault::KeysFromElsewhere { keyword, value } => {
            format!("keys that stand in no key file open accounts too: {keyword} {}", printable(value.as_bytes()))
        }
        HostFault::NeverSurveyed { fault } => format!("nobody has seen this host yet{}", because(fault)),
        HostFault::SurveyOld { days, fault } => format!("this host was last seen {days} days ago{}", because(fault)),
        HostFault::NotReached { fault } => format!("this host was not reached the last time: {fault}"),
        HostFault::RemovalOwed { fingerprint, who, since } => {
            let who = who.as_ref().map(|who| format!(" of {who}")).unwrap_or_default();
            format!("the key {fingerprint}{who} has been waiting to be removed since {since}")
        }
    }
}

/// What to type or do.
pub fn remedy<F>(fault: &HostFault, finding: &Finding<F>, host: Option<&str>, path: &str) -> String {
    let account = finding.account.as_deref().unwrap_or("ACCOUNT");
    let host = host.unwrap_or("HOST");
    match fault {
        HostFault::UnknownKey { .. } | HostFault::KeyInManyHands { .. } => {
            "ask whose it is, then: lavrin adopt, or: lavrin person add NAME --key KEY.pub".to_owned()
        }
        HostFault::KeyOfLeaver { fingerprint, .. } | HostFault::RetiredKey { fingerprint, .. } => {
            format!("lavrin remove {fingerprint} {account}@{host}")
        }
        HostFault::GrantOver { who, fingerprint, .. } | HostFault::NotGranted { who, fingerprint } => {
            format!("lavrin remove {fingerprint} {account}@{host}, or: lavrin grant {who} {account} --on {host}")
        }
        HostFault::CameBack { .. } => {
            "look for what writes it: configuration management, an agent of a cloud, a colleague's script".to_owned()
        }
        HostFault::KeyLongUnused { .. } | HostFault::KeyNeverSeen { .. } => {
            "ask whether it is still needed; logs show nothing before they begin".to_owned()
        }
        HostFault::SettingsBroken { .. } => format!("sshd -t -f {path}    on the host shows it"),
        HostFault::RootWithPassword => format!("once a key opens root: PermitRootLogin prohibit-password in {path}"),
        HostFault::PasswordsOn => format!("once every key works: PasswordAuthentication no in {path}"),
        HostFault::EmptyPasswords => format!("PermitEmptyPasswords no in {path}"),
        HostFault::StrictModesOff => format!("lavrin mend --all @{host} --login root, then: StrictModes yes in {path}"),
        HostFault::KeysFromElsewhere { .. } => "ask whoever looks after that source which keys it gives".to_owned(),
        HostFault::KeysOff => format!("PubkeyAuthentication yes in {path}"),
        HostFault::NeverSurveyed { .. } | HostFault::SurveyOld { .. } | HostFault::NotReached { .. } => {
            format!("lavrin survey {host}")
        }
        HostFault::RemovalOwed { fingerprint, .. } => format!("lavrin remove {fingerprint} {account}@{host}"),
    }
}
