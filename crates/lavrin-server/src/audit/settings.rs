//! Findings about settings of a server that weaken every entry on it.

use crate::abilities::Ability;
use crate::finding::{Fault, Finding};
use crate::fs::Fact;
use crate::server_config::USUAL_PATH;
use crate::system::System;

pub(super) fn check(seen: &System<'_>) -> Vec<Finding> {
    if !seen.abilities.has(Ability::Settings) {
        return Vec::new();
    }
    // Only OpenSSH has these settings; where its files could not be read, that is told as not checked.
    let Some(root) = seen.accounts.iter().find(|account| account.is_root()).filter(|_| !seen.server.is_dropbear())
    else {
        return Vec::new();
    };
    let main = seen.config_path.clone().unwrap_or_else(|| USUAL_PATH.into());
    // Where there is no configuration no server is set up: it does not start without one.
    if seen.said_by_server.is_none() && matches!(seen.bytes.get(&main), None | Some(Fact::Absent)) {
        return Vec::new();
    }
    let settings = seen.settings(root);
    if !settings.unseen.is_empty() {
        return Vec::new();
    }
    let is = |keyword: &str, wanted: &str| settings.word(keyword) == wanted;
    let passwords = is("passwordauthentication", "yes") || is("kbdinteractiveauthentication", "yes");
    let root_with_password = passwords && is("permitrootlogin", "yes");
    let mut faults = Vec::new();
    if let Some(fault) = settings.faults.first() {
        faults.push(Fault::SettingsBroken { what: fault.what.clone(), line: fault.line });
    }
    if root_with_password {
        faults.push(Fault::RootWithPassword);
    } else if is("passwordauthentication", "yes") {
        faults.push(Fault::PasswordsOn);
    }
    if passwords && is("permitemptypasswords", "yes") {
        faults.push(Fault::EmptyPasswords);
    }
    if is("strictmodes", "no") {
        faults.push(Fault::StrictModesOff);
    }
    if is("pubkeyauthentication", "no") {
        faults.push(Fault::KeysOff);
    }
    for keyword in ["authorizedkeyscommand", "trustedusercakeys", "authorizedprincipalscommand"] {
        let value = settings.word(keyword);
        if value != "none" {
            faults.push(Fault::KeysFromElsewhere { keyword, value });
        }
    }
    faults.into_iter().map(|fault| Finding { fault, account: None, path: Some(main.clone()), line: None }).collect()
}
