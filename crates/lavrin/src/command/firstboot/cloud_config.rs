//! Cloud-config: the accounts-and-keys part of what cloud images read at their first boot. Every text stands in double quotes as
//! JSON has them, which YAML reads the same (YAML 1.2, section 1.3).

use super::machine::Machine;
use lavrin_fleet::register::USUAL_LOGIN;
use std::fmt::Write as _;

/// The document.
pub fn text(machine: &Machine<'_>) -> String {
    let mut text = format!("#cloud-config\n# Accounts and keys of {}, by Lavrin.\n", machine.host.id);
    let mut groups: Vec<&String> = machine.accounts.iter().flat_map(|account| &account.groups).collect();
    groups.sort();
    groups.dedup();
    if !groups.is_empty() {
        text += "groups:\n";
        for group in groups {
            let _ = writeln!(text, "  - {}", quoted(group));
        }
    }
    text += "users:\n";
    for account in &machine.accounts {
        let _ = writeln!(text, "  - name: {}", quoted(&account.name));
        if account.name == USUAL_LOGIN {
            // Whoever stands before the machine may have root's password.
            text += "    lock_passwd: false\n";
        } else {
            // No password opens it, and no server takes it for locked.
            text += "    passwd: \"*\"\n    lock_passwd: false\n";
        }
        if !account.groups.is_empty() {
            let _ = writeln!(text, "    groups: {}", quoted(&account.groups.join(", ")));
        }
        account.shell.iter().for_each(|shell| text += &format!("    shell: {}\n", quoted(shell)));
        account.home.iter().for_each(|home| text += &format!("    homedir: {}\n", quoted(home)));
        text += "    ssh_authorized_keys:\n";
        account.lines.iter().for_each(|line| text += &format!("      - {}\n", quoted(line)));
    }
    let has_root = machine.accounts.iter().any(|account| account.name == USUAL_LOGIN);
    let _ = writeln!(text, "disable_root: {}", !has_root);
    if machine.keys_only {
        text += "ssh_pwauth: false\n";
    }
    if let Some(key) = &machine.host_key {
        text += "ssh_deletekeys: true\nssh_keys:\n";
        let _ = writeln!(text, "  ed25519_private: {}", quoted(&key.private));
        let _ = writeln!(text, "  ed25519_public: {}", quoted(&key.line(&machine.host.id)));
    }
    text
}

fn quoted(text: &str) -> String {
    serde_json::to_string(text).unwrap_or_default()
}
