//! Findings about settings of a server that weaken every entry on it.

use super::What;
use crate::host_fault::HostFault;
use lavrin_server::abilities::Ability;
use lavrin_server::finding::Finding;
use lavrin_server::system::System;

pub(super) fn check(seen: &System<'_>) -> Vec<Finding<What>> {
    if !seen.abilities.has(Ability::Settings) {
        return Vec::new();
    }
    // Only OpenSSH has these settings; where its files could not be read, that is told as not checked.
    let Some(root) = seen.accounts.iter().find(|account| account.is_root()).filter(|_| !seen.server.is_dropbear())
    else {
        return Vec::new();
    };
    let settings = seen.settings(root);
    if !settings.unseen.is_empty() {
        return Vec::new();
    }
    let is = |keyword: &str, wanted: &str| settings.word(keyword) == wanted;
    let passwords = is("passwordauthentication", "yes") || is("kbdinteractiveauthentication", "yes");
    let root_with_password = passwords && is("permitrootlogin", "yes");
    let mut faults = Vec::new();
    if let Some(fault) = settings.faults.first() {
        faults.push(HostFault::SettingsBroken { what: fault.what.clone(), line: fault.line });
    }
    if root_with_password {
        faults.push(HostFault::RootWithPassword);
    } else if is("passwordauthentication", "yes") {
        faults.push(HostFault::PasswordsOn);
    }
    if passwords && is("permitemptypasswords", "yes") {
        faults.push(HostFault::EmptyPasswords);
    }
    if is("strictmodes", "no") {
        faults.push(HostFault::StrictModesOff);
    }
    if is("pubkeyauthentication", "no") {
        faults.push(HostFault::KeysOff);
    }
    for keyword in ["authorizedkeyscommand", "trustedusercakeys", "authorizedprincipalscommand"] {
        let value = settings.word(keyword);
        if value != "none" {
            faults.push(HostFault::KeysFromElsewhere { keyword, value });
        }
    }
    let main = seen.config_path.clone().unwrap_or_else(|| lavrin_server::server_config::USUAL_PATH.into());
    faults
        .into_iter()
        .map(|fault| Finding { fault: What::Host(fault), account: None, path: Some(main.clone()), line: None })
        .collect()
}
