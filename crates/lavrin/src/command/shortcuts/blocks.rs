//! Shortcuts as a client reads them: `ssh_config(5)` and the file of known hosts beside it.

use lavrin_fleet::shortcuts::Shortcut;
use lavrin_keys::text::printable;
use std::fmt::Write as _;

/// What every file of shortcuts begins with: by that the program knows its own.
pub const MARK: &str = "# Shortcuts by Lavrin";

/// What the blocks have in common.
pub struct ClientNames<'a> {
    /// Whom or what they are for.
    pub name: &'a str,
    /// The day.
    pub today: String,
    /// The file of the key, as the client is to read it.
    pub identity: &'a str,
    /// The file with the keys of the hosts.
    pub known_hosts: &'a str,
}

/// The blocks, the first of them behind a few words.
pub fn text(shortcuts: &[Shortcut], client: &ClientNames<'_>) -> String {
    let mut text = format!(
        "{MARK} for {}, {}; each run writes this file anew.\n\
         # No agent is forwarded: root on a host could sign in elsewhere with every key in it, for as long as the session lasts.\n\
         # A way over another host needs none.\n",
        client.name, client.today
    );
    for shortcut in shortcuts {
        block(&mut text, shortcut, client);
    }
    text
}

fn block(text: &mut String, shortcut: &Shortcut, client: &ClientNames<'_>) {
    let limits = limits(shortcut);
    let _ = writeln!(text, "\nHost {}", shortcut.alias);
    if !limits.is_empty() {
        let _ = writeln!(text, "  # {}", limits.join("; "));
    }
    let mut say = |keyword: &str, value: &str| {
        let _ = writeln!(text, "  {keyword} {value}");
    };
    say("HostName", &shortcut.address);
    say("Port", &shortcut.port.to_string());
    say("User", &shortcut.account);
    if let Some(through) = &shortcut.through {
        say("ProxyJump", through);
    }
    say("IdentityFile", &quoted(client.identity));
    say("IdentitiesOnly", "yes");
    say("PreferredAuthentications", "publickey");
    say("ForwardAgent", "no");
    if !shortcut.host_keys.is_empty() {
        say("HostKeyAlias", &shortcut.host);
        say("UserKnownHostsFile", &quoted(client.known_hosts));
        say("StrictHostKeyChecking", "yes");
        say("UpdateHostKeys", "no");
    }
    if shortcut.old_algorithms {
        // Names that clients of every age know.
        say("KexAlgorithms", "+diffie-hellman-group14-sha1,diffie-hellman-group1-sha1");
        say("HostKeyAlgorithms", "+ssh-rsa");
        say("PubkeyAcceptedKeyTypes", "+ssh-rsa");
        say("MACs", "+hmac-sha1");
    }
}

fn limits(shortcut: &Shortcut) -> Vec<String> {
    let mut limits: Vec<String> = shortcut.until.iter().map(|until| format!("until {until}")).collect();
    limits.extend(shortcut.from.as_ref().map(|from| format!("only from {from}")));
    limits.extend(shortcut.command.as_ref().map(|command| format!("only the command: {command}")));
    limits.extend(shortcut.old_algorithms.then(|| "it knows no algorithms but broken ones".to_owned()));
    limits.iter().map(|limit| printable(limit.as_bytes())).collect()
}

/// The file with the keys of the hosts, each under the name of its host.
pub fn known_hosts(shortcuts: &[Shortcut], client: &ClientNames<'_>) -> String {
    let mut text = format!("{MARK} for {}, {}; each run writes this file anew.\n", client.name, client.today);
    let mut last = "";
    for shortcut in shortcuts {
        if shortcut.host == last {
            continue;
        }
        last = &shortcut.host;
        for key in &shortcut.host_keys {
            let _ = writeln!(text, "{} {}", shortcut.host, key.line("").trim_end());
        }
    }
    text
}

/// Whether a path can stand in a client's configuration.
pub fn is_path(path: &str) -> bool {
    !path.is_empty() && !path.contains(['"', '\n', '\r', '\0', '*', '?', '[', ']']) && !path.contains("${")
}

/// A path as one word: blanks are kept together, and a percent sign is meant as it stands.
pub fn quoted(path: &str) -> String {
    let path = path.replace('%', "%%");
    if path.contains([' ', '\t', '#', '\\']) { format!("\"{}\"", path.replace('\\', "\\\\")) } else { path }
}
