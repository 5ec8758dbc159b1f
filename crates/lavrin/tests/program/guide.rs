//! The parts of the guide that no other test runs: one server, somebody joins, a key is lost, every night.

use crate::common::fleet::Fleet;
use crate::common::site::{PLAIN, Site};
use crate::common::{key, words};
use lavrin_standin::Behaviour;

/// What is typed between two headings.
fn typed(from: &str, until: &str) -> Vec<String> {
    let guide = include_str!("../../../../docs/guide.md");
    let (_, part) = guide.split_once(&format!("\n{from}\n")).unwrap();
    let (part, _) = part.split_once(&format!("\n{until}")).unwrap();
    part.lines().filter_map(|line| line.strip_prefix("    lavrin ")).map(str::to_owned).collect()
}

#[test]
fn somebody_joins_and_loses_their_key() {
    let mut fleet = Fleet::new();
    fleet.add_with("lantern", "", Behaviour::default(), "tags = [\"lights\"]\n");
    std::fs::create_dir(fleet.world.path("home/.ssh")).unwrap();
    for name in ["office", "office.pub"] {
        std::fs::copy(fleet.world.path(&format!("home/{name}")), fleet.world.path(&format!("home/.ssh/{name}")))
            .unwrap();
    }
    let _ = fleet.world.put_pair(".ssh/tove", 5, "tove");
    std::fs::copy(fleet.world.path("home/.ssh/tove.pub"), fleet.world.path("tove.pub")).unwrap();
    // Who signs in is somebody of the register, so that no change takes their own way in.
    drop(fleet.run("person add office --key home/office.pub").expect(0));
    drop(fleet.run("grant office root --host *").expect(0));
    let lines = typed("# A device", "## A key is replaced");
    let mut done = 0;
    for line in lines {
        let line = line.replace("~/", &format!("{}/", fleet.world.path("home").display())).replace("keeper", "edda");
        // What asks somebody is answered here.
        let asks = line.starts_with("person add --request") || line.contains("shortcuts") && line.contains("--write");
        let line = if asks { line + " --yes" } else { line };
        let run = fleet.world.run(&words(&line));
        let expected = match line.as_str() {
            // Accounts of the new machine that nobody is granted yet are told.
            line if line.starts_with("firstboot") && !line.contains("--account") => 1,
            // Of hosts that no survey has seen nothing is known.
            line if line.starts_with("paths") => 3,
            _ => 0,
        };
        assert_eq!(run.status, expected, "{line}\n{run}");
        done += 1;
        if line.starts_with("enforce") && done < 12 {
            let keys = std::fs::read_to_string(fleet.hosts[0].file("/home/edda/.ssh/authorized_keys")).unwrap();
            assert!(keys.contains(&key(5).public().line("tove")), "{keys}");
        }
    }
    assert!(done > 15, "{done}");
    let keys = std::fs::read_to_string(fleet.hosts[0].file("/home/edda/.ssh/authorized_keys")).unwrap();
    assert!(!keys.contains(&key(5).public().line("")), "{keys}");
    for line in typed("# Every night", "What a finding means") {
        drop(fleet.run(&line));
        assert!(fleet.world.read("lavrin.prom").ends_with("# EOF\n"));
    }
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn one_server_from_a_password_to_a_short_name() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    std::fs::create_dir_all(world.path("home/.ssh")).unwrap();
    for name in ["root", "root.pub"] {
        let office = name.replace("root", "office");
        std::fs::copy(world.path(&format!("home/keys/{name}")), world.path(&format!("home/.ssh/{office}"))).unwrap();
    }
    let place = format!("{} --port {} --expect-host-key {}", site.target(), site.server.port, site.server.host_key);
    let host = format!("127.0.0.1 --port {} --expect-host-key {}", site.server.port, site.server.host_key);
    let mut done = 0;
    for line in typed("# One server", "# A handful") {
        let mut line = line.replace("~/", &format!("{}/", world.path("home").display()));
        if line.starts_with("shortcuts") {
            let place = format!("{} --port {}", site.target(), site.server.port);
            line = line.replace("edda@192.0.2.5", &place) + " --yes";
        }
        line = line.replace("edda@192.0.2.5", &place).replace("192.0.2.5", &host);
        line = line.replace("--login edda", &format!("--login {}", site.account.name));
        // What is typed at a prompt comes from variables here.
        line =
            line.replace("--passphrase made", "--passphrase none").replace("--ask-password", "--password-env PW --yes");
        let run = world.run_with(&[("PW", crate::common::servers::PASSWORD)], &words(&line));
        let expected = match line.split(' ').next().unwrap() {
            // The server is a shared one: other accounts and settings have findings, or are not for this login to see.
            "audit" => vec![1, 3],
            "keys-only" => vec![0, 4],
            _ => vec![0],
        };
        assert!(expected.contains(&run.status), "{line}\n{run}");
        done += 1;
    }
    assert_eq!(done, 7);
    assert!(world.read("home/.ssh/config").starts_with("Include "));
}
