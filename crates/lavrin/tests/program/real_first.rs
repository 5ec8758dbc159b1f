//! `lavrin first`: one server, from a password to a proven key and a short name.

use crate::common::servers::PASSWORD;
use crate::common::site::{PLAIN, Site};
use crate::common::terminal::talk;

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn one_server_is_walked_through() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    let _ = world.put_pair(".ssh/sten", 7, "sten");
    let line = format!("first {} --port {}", site.target(), site.server.port);
    let dialogue = [
        ("Which of these?", "9"),
        ("no key with that number", "1"),
        ("How do you get in today?", "home/nowhere"),
        ("there is no file", ""),
        ("Trust and remember it?", "yes"),
        ("Password of ", PASSWORD),
        ("Carry these steps out?", "yes"),
        ("End passwords now?", "no"),
        ("Under which short name", "lamp"),
        ("client's configuration?", "yes"),
    ];
    let (said, done) = talk(world, &line, &dialogue);
    assert!(done, "{said}");
    for told in [
        "lavrin install '~/.ssh/sten.pub'",
        "the key opens",
        "lavrin probe --identity",
        "accepted",
        "later: ",
        "from now on: ",
        "Keep a copy of the key",
    ] {
        assert!(said.contains(told) || said.contains(&told.replace('\'', "")), "{told}: {said}");
    }
    assert!(!said.contains(PASSWORD), "{said}");
    assert!(site.keys().contains(&crate::common::key(7).public().line("sten")));
    let ssh = std::process::Command::new("/usr/bin/ssh")
        .arg("-F")
        .arg(world.path("home/.ssh/config"))
        .args(["-o", "BatchMode=yes", "lamp", "id", "-un"])
        .env_remove("SSH_AUTH_SOCK")
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&ssh.stdout).trim(), site.account.name);
    // Without somebody to answer it says what to type.
    let run = world.typed(&line).expect(2);
    assert!(run.stderr.contains("next: lavrin install"), "{run}");
}
