//! Dropbear's server, as it runs on small devices.

use crate::common::World;
use crate::common::servers::{Account, PASSWORD, Server};

#[test]
#[ignore = "needs a real dropbear: scripts/test.sh"]
fn a_small_device_takes_and_loses_a_key() {
    let world = World::new();
    let account = Account::new("/bin/sh");
    let server = Server::dropbear(&world);
    for (name, algorithm) in [("edda", "ed25519"), ("appliance", "rsa-3072")] {
        let _ = world
            .typed(&format!("key generate --passphrase none --folder home/keys --name {name} --algorithm {algorithm}"))
            .expect(0);
    }
    let run = |line: &str| {
        let line = format!("{line} --port {}", server.port).replace("TARGET", &format!("{}@127.0.0.1", account.name));
        let words: Vec<&str> = line.split_whitespace().collect();
        world.run_with(&[("PW", PASSWORD)], &words)
    };
    let unknown = run("probe home/keys/edda.pub TARGET").expect(4);
    let print = unknown.stderr.split_whitespace().find(|word| word.starts_with("SHA256:")).unwrap().to_owned();
    let installed =
        run(&format!("install home/keys/edda.pub TARGET --password-env PW --expect-host-key {print} --yes")).expect(0);
    assert!(installed.stdout.contains("a new login as"), "{installed}");
    let _ = run("install home/keys/appliance.pub TARGET --identity home/keys/edda --yes").expect(0);
    assert_eq!(account.stat(".ssh/authorized_keys"), "600 ACCOUNT");
    let _ = run("probe TARGET --identity home/keys/appliance").expect(0);
    let _ = run("why TARGET --key home/keys/appliance.pub --identity home/keys/edda").expect(0);
    let removed = run("remove home/keys/edda.pub TARGET --identity home/keys/appliance --yes").expect(0);
    assert!(removed.stdout.contains("the server refuses the key"), "{removed}");
    let _ = run("probe home/keys/edda.pub TARGET").expect(1);
    let _ = run("probe home/keys/appliance.pub TARGET").expect(0);
}
