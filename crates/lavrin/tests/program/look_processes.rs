//! How many processes a look at a host starts there. They are counted in a namespace of process ids of the test's own, where nothing
//! else runs; the accounts are those of a mount namespace, with an `/etc` of its own: what is mounted on a file is gone once somebody
//! replaces that file outside.

use crate::common::{World, key};
use std::fmt::Write as _;
use std::process::Command;

/// In the namespaces: `SHELL_FILE` is what `/bin/sh` is, SCRIPT the look; PASSWD and GROUP are put in place of the system's.
const IN_NAMESPACE: &str = r#"
set -e
mount -t tmpfs none /home
mkdir "$ETC"
mount -t tmpfs none "$ETC"
cp -a /etc/. "$ETC"
cp "$PASSWD" "$ETC/passwd"
cp "$GROUP" "$ETC/group"
mount --bind "$ETC" /etc
mount --bind "$SHELL_FILE" "$(readlink -f /bin/sh)"
while IFS=: read -r name p uid gid c home s; do
  if [ "$uid" = 0 ]; then continue; fi
  mkdir "$home"
  case $name in with*)
    mkdir "$home/.ssh"; printf '%s\n' "$LINE" >"$home/.ssh/authorized_keys"
    chmod 700 "$home/.ssh"; chmod 600 "$home/.ssh/authorized_keys" ;;
  esac
  chown -R "$uid:$gid" "$home"; chmod 755 "$home"
done <"$PASSWD"
sync
read -r before </proc/sys/kernel/ns_last_pid
/bin/sh <"$SCRIPT" >"$ANSWER"
read -r after </proc/sys/kernel/ns_last_pid
echo $((after - before))
"#;

/// The processes of a look at a host on which so many accounts have keys and so many have none.
fn processes(shell: &str, with: usize, without: usize) -> usize {
    let world = World::new();
    let line = key(1).public().line("edda");
    let (mut passwd, mut group) = ("root:x:0:0:root:/root:/bin/sh\n".to_owned(), "root:x:0:\n".to_owned());
    let names =
        (0..with).map(|number| format!("with{number}")).chain((0..without).map(|number| format!("none{number}")));
    for (number, name) in names.enumerate() {
        let id = 30_000 + number;
        let _ = writeln!(passwd, "{name}:x:{id}:{id}::/home/{name}:/bin/sh");
        let _ = writeln!(group, "{name}:x:{id}:");
    }
    let script = world.typed("survey --script").expect(0).stdout;
    let answer = world.path("answer");
    let done = Command::new("unshare")
        .args(["--mount", "--pid", "--fork", "--mount-proc", "/bin/bash", "-c", IN_NAMESPACE])
        .env("PASSWD", world.write("passwd", passwd, 0o644))
        .env("GROUP", world.write("group", group, 0o644))
        .env("SCRIPT", world.write("look", script, 0o644))
        .env("ETC", world.path("etc"))
        .env("SHELL_FILE", shell)
        .env("LINE", &line)
        .env("ANSWER", &answer)
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&done.stdout);
    assert!(done.status.success(), "{}", String::from_utf8_lossy(&done.stderr));
    // Each of them was read.
    assert_eq!(std::fs::read_to_string(&answer).unwrap().matches(&line).count(), with, "{shell}");
    said.trim().parse().unwrap()
}

#[test]
#[ignore = "makes namespaces, which needs root: scripts/test.sh"]
fn a_look_starts_few_processes_for_each_account_with_keys_and_none_for_the_others() {
    // bash makes one more for each account and busybox three: they start fewer programs in the place of a part of a pipe.
    for (shell, most, for_each) in [("/bin/dash", 230, 8), ("/bin/bash", 255, 9), ("/bin/busybox", 300, 11)] {
        let counted = processes(shell, 22, 0);
        assert!(counted <= most, "{shell}: {counted} for 22 accounts");
        let more = processes(shell, 32, 0) - counted;
        assert!(more <= 10 * for_each, "{shell}: {more} for ten accounts more");
        let without = processes(shell, 22, 400) - counted;
        assert!(without <= 8, "{shell}: {without} for 400 accounts without keys");
    }
}
