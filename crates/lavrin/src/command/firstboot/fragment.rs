//! A shell fragment for the end of any installation: it runs as root in the new system, with what small systems have, as often as
//! one likes.

use super::machine::{Machine, home_of};
use lavrin_fleet::register::USUAL_LOGIN;
use lavrin_keys::text::shell_word;
use std::fmt::Write as _;

/// What it needs.
const FUNCTIONS: &str = r#"account() { # name home shell
  grep -q "^$1:" /etc/passwd && return
  if command -v useradd >/dev/null 2>&1; then useradd -m -d "$2" ${3:+-s "$3"} -p '*' -- "$1"
  else adduser -D -h "$2" ${3:+-s "$3"} "$1" && printf '%s:*\n' "$1" | chpasswd -e >/dev/null; fi
}
member() { # name group
  grep -q "^$2:" /etc/group || groupadd "$2" 2>/dev/null || addgroup "$2"
  usermod -a -G "$2" -- "$1" 2>/dev/null || addgroup "$1" "$2"
}
keys() { # name: adds those lines of the standard input that are not there yet
  home=$(grep "^$1:" /etc/passwd | cut -d: -f6); group=$(grep "^$1:" /etc/passwd | cut -d: -f4)
  mkdir -p "$home/.ssh"; file=$home/.ssh/authorized_keys; touch "$file"
  [ -z "$(tail -c 1 "$file")" ] || echo >>"$file"
  while IFS= read -r line; do grep -qxF -- "$line" "$file" || printf '%s\n' "$line" >>"$file"; done
  chown -R "$1:$group" "$home/.ssh"; chmod 700 "$home/.ssh"; chmod 600 "$file"
}
"#;

/// Ends the lines of one account; no key line is this.
const END: &str = "END_OF_KEYS";

/// The fragment.
pub fn text(machine: &Machine<'_>) -> String {
    let mut text = format!(
        "# Accounts and keys of {}, by Lavrin. Runs as root in the new system, as often as one likes.\n(set -eu; umask 022\n{FUNCTIONS}",
        machine.host.id
    );
    for account in &machine.accounts {
        let name = shell_word(&account.name);
        if account.name != USUAL_LOGIN {
            let shell = account.shell.as_ref().map(|shell| format!(" {}", shell_word(shell))).unwrap_or_default();
            let _ = writeln!(text, "account {name} {}{shell}", shell_word(&home_of(account)));
        }
        for group in &account.groups {
            let _ = writeln!(text, "member {name} {}", shell_word(group));
        }
        let _ = writeln!(text, "keys {name} <<'{END}'");
        account.lines.iter().for_each(|line| text += &format!("{line}\n"));
        let _ = writeln!(text, "{END}");
    }
    if machine.keys_only {
        text += "mkdir -p /etc/ssh/sshd_config.d\n\
                 printf 'PasswordAuthentication no\\nKbdInteractiveAuthentication no\\n' >/etc/ssh/sshd_config.d/00-keys-only.conf\n";
    }
    text + ")\n"
}
