//! Findings about settings of a server that weaken every entry on it.

use crate::abilities::Ability;
use crate::finding::{Fault, Finding};
use crate::fs::{BytePath, Fact};
use crate::server_config::{Settings, USUAL_PATH};
use crate::system::System;
use std::sync::Arc;

/// The settings for root, where this server has them and all of them were read, and the file that they begin with.
fn settings_read(seen: &System<'_>) -> Option<(Arc<Settings>, BytePath)> {
    // Only OpenSSH has these settings; where its files could not be read, that is told as not checked.
    if !seen.abilities.has(Ability::Settings) || seen.server.is_dropbear() {
        return None;
    }
    let root = seen.accounts.iter().find(|account| account.is_root())?;
    let main = seen.config_path.clone().unwrap_or_else(|| USUAL_PATH.into());
    // Where there is no configuration no server is set up: it does not start without one.
    if seen.said_by_server.is_none() && matches!(seen.bytes.get(&main), None | Some(Fact::Absent)) {
        return None;
    }
    let settings = seen.settings(root);
    settings.unseen.is_empty().then_some((settings, main))
}

/// Whether an agent can be forwarded to it: whoever is root there can use it for as long as its owner is signed in.
#[must_use]
pub fn takes_agents(seen: &System<'_>) -> bool {
    settings_read(seen).is_some_and(|(settings, _)| {
        settings.word("allowagentforwarding") == "yes" && settings.word("disableforwarding") != "yes"
    })
}

pub(super) fn check(seen: &System<'_>) -> Vec<Finding> {
    let Some((settings, main)) = settings_read(seen) else { return Vec::new() };
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
