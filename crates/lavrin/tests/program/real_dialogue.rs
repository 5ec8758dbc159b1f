//! The dialogue with a real program behind a real terminal: a small menu that an sshd starts for each login.

use crate::common::site::Site;

/// Works on the keys of the account that it runs as; its terminal echoes what is typed, and pages by `more`'s habit of a prompt of its
/// own.
const MENU: &str = r#"#!/bin/sh
keys=$HOME/.ssh/authorized_keys
echo "tide gauge"
while printf 'gauge: ' && IFS= read -r line; do
  set -- $line
  case $1 in
    '') ;;
    keys) awk '{ printf "%d) %s\n", NR, $0 }' "$keys"; echo "end of list" ;;
    put) shift; printf '%s\n' "$*" >>"$keys.new" && cat "$keys" "$keys.new" >"$keys.all" && cat "$keys.all" >"$keys" && rm -f "$keys.new" "$keys.all" && echo "it is put" ;;
    drop) awk -v n="$2" 'NR != n' "$keys" >"$keys.all" && cat "$keys.all" >"$keys" && rm -f "$keys.all" && echo "it is dropped" ;;
    quit) exit 0 ;;
    *) echo "no such thing: $1" ;;
  esac
done
"#;

const PROFILE: &str = r#"
prompts = ["gauge:"]
errors = ["no such thing"]
leave = "quit"
list = { send = ["keys"], key = "%n) %k", says = ["end of list"] }
add = { send = ["put %k"], says = ["it is put"] }
remove = { send = ["drop %n"], says = ["it is dropped"] }
"#;

#[test]
#[ignore = "needs real servers and root: scripts/test.sh"]
fn a_menu_behind_a_terminal_is_enforced_and_taken_back() {
    let site = Site::on_roots_own_by(|folder| {
        let menu = folder.join("menu");
        crate::common::write_program(&menu, MENU.as_bytes());
        crate::common::servers::system("chmod", &["755", folder.to_str().unwrap(), menu.to_str().unwrap()]);
        format!("UsePAM no\nPasswordAuthentication no\nForceCommand {}\n", menu.display())
    });
    for name in ["sten", "runa"] {
        let line = format!("key generate --passphrase none --folder home/keys --name {name} --comment {name}@lantern");
        drop(site.world.typed(&line).expect(0));
    }
    let keys = ["edda", "runa"].map(|name| site.world.read(&format!("home/keys/{name}.pub")));
    site.account.put(".ssh/authorized_keys", &keys.concat(), "600", &site.account.name);
    site.write_register(&["edda", "sten"], &[("gauge", &site.server)]);
    let more =
        format!("reach = \"dialogue\"\nprofile = \"gauge\"\nlogin = \"{}\"\ncomplete = true\n", site.account.name);
    site.world.write("hosts.toml", site.world.read("hosts.toml") + &more, 0o644);
    site.world.write("profiles/gauge.toml", PROFILE, 0o644);
    drop(site.world.typed("register check --fail-on high").expect(0));
    let tried = site.world.typed("host profile try gauge gauge --identity home/keys/edda").expect(0);
    assert!(tried.stdout.contains("tide gauge") && tried.stdout.contains("runa@lantern"), "{tried}");
    drop(site.world.typed("enforce --identity home/keys/edda --yes").expect(0));
    let wanted = ["edda", "sten"].map(|name| site.world.read(&format!("home/keys/{name}.pub"))).concat();
    assert_eq!(site.keys(), wanted);
    drop(site.world.typed("probe sten gauge --until accepted").expect(0));
    drop(site.world.typed("undo --last --accept-lockout --identity home/keys/edda --yes").expect(0));
    assert_eq!(site.keys(), keys.concat());
    // What a profile does not expect is taken back.
    site.world.write("hosts.toml", site.world.read("hosts.toml").replace("complete = true", ""), 0o644);
    site.world.write("profiles/gauge.toml", PROFILE.replace("it is put", "it was put"), 0o644);
    let run = site.world.typed("enforce --identity home/keys/edda --yes").expect(4);
    assert!(run.stdout.contains("'put %k': 'it is put'"), "{run}");
    assert_eq!(site.keys(), keys.concat());
}
