//! A real agent of OpenSSH, on a socket of the test's own: handed keys, listed, and relieved of them.

use crate::common::agent::{Agent, gets_in_by_agent};
use crate::common::site::{PLAIN, Site};

fn run(site: &Site, agent: &Agent, line: &str, exit: i32) -> crate::common::Run {
    let words: Vec<&str> = line.split_whitespace().collect();
    let socket = agent.socket.display().to_string();
    site.world.run_with(&[("SSH_AUTH_SOCK", &socket), ("TIDE", "low water")], &words).expect(exit)
}

#[test]
#[ignore = "needs a real sshd and agent: scripts/test.sh"]
fn keys_of_every_kind_are_held_used_and_released() {
    let site = Site::new(PLAIN);
    let agent = Agent::start(&site.world);
    assert!(run(&site, &agent, "agent list", 0).stdout.contains("0 keys"));
    for kind in ["ed25519", "ecdsa-p256", "ecdsa-p521", "rsa-3072"] {
        let line = "key generate --passphrase-env TIDE --folder home/keys --name KIND --algorithm KIND --comment KIND";
        drop(run(&site, &agent, &line.replace("KIND", kind), 0));
        let key = site.world.read(&format!("home/keys/{kind}.pub"));
        site.account.put(".ssh/authorized_keys", &key, "600", &site.account.name);
        assert!(!gets_in_by_agent(&site, &agent));
        let held = run(&site, &agent, &format!("agent hold home/keys/{kind} --for 30m --passphrase-env TIDE"), 0);
        assert!(held.stdout.contains(&format!("({kind}) until 2026-11-23 08:30:00 UTC")), "{held}");
        // What was handed over signs: the client comes in with it.
        assert!(gets_in_by_agent(&site, &agent), "{kind}");
        let list = run(&site, &agent, "agent list", 0);
        assert!(list.stdout.contains("until 2026-11-23 08:30:00") && list.stdout.contains("1 key"), "{list}");
        drop(run(&site, &agent, &format!("agent release home/keys/{kind}"), 0));
        assert!(!gets_in_by_agent(&site, &agent));
        drop(run(&site, &agent, &format!("agent release home/keys/{kind}.pub"), 1));
    }
}

#[test]
#[ignore = "needs a real sshd and agent: scripts/test.sh"]
fn an_agent_that_is_locked_full_or_gone_is_told_and_leavers_keys_go() {
    let site = Site::new(PLAIN);
    let agent = Agent::start(&site.world);
    for number in 0..40 {
        let line = format!("key generate --passphrase none --folder home/keys --name k{number} --comment k{number}");
        drop(site.world.typed(&line).expect(0));
        drop(run(&site, &agent, &format!("agent hold home/keys/k{number}"), 0));
    }
    assert!(run(&site, &agent, "agent list", 0).stdout.contains("40 keys"));
    site.write_register(&["edda", "root"], &[("lantern", &site.server)]);
    let gone = format!(
        "name = \"sten\"\nleft = 2026-10-01\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n",
        site.world.read("home/keys/k7.pub").trim()
    );
    site.world.write("people/sten.toml", gone, 0o644);
    let list = run(&site, &agent, "agent list", 1);
    assert!(list.stdout.contains("its owner left on 2026-10-01"), "{list}");
    let left = run(&site, &agent, "agent release --left", 0);
    assert_eq!(left.stdout.lines().count(), 1, "{left}");
    // A login goes through forty keys in the agent: those that the register knows for this account come first.
    drop(run(&site, &agent, "agent hold home/keys/root", 0));
    drop(run(&site, &agent, "survey lantern --login root", 0));
    agent.lock(22);
    assert!(run(&site, &agent, "agent list", 0).stdout.contains("a locked agent lists none either"));
    let refused = run(&site, &agent, "agent hold home/keys/k0", 3);
    assert!(refused.stderr.contains("one that is locked refuses everything"), "{refused}");
    agent.lock(23);
    let all = run(&site, &agent, "agent release --all", 0);
    assert!(all.stdout.contains("released: 40 entries; it holds 0 now"), "{all}");
    let socket = agent.socket.display().to_string();
    drop(agent);
    let gone = site.world.run_with(&[("SSH_AUTH_SOCK", &socket)], &["agent", "list"]).expect(3);
    assert!(gone.stderr.contains("does not answer"), "{gone}");
    let none = site.world.typed("agent list").expect(3);
    assert!(none.stderr.contains("SSH_AUTH_SOCK is not set"), "{none}");
}

#[test]
#[ignore = "needs a real agent: scripts/test.sh"]
fn every_command_of_the_guide_about_the_agent_does_what_it_says() {
    let site = Site::new(PLAIN);
    let agent = Agent::start(&site.world);
    site.write_register(&["edda"], &[("lantern", &site.server)]);
    drop(site.world.typed("key generate --passphrase none --name office").expect(0));
    let guide = include_str!("../../../../docs/guide.md");
    let (_, guide) = guide.split_once("## The agent").unwrap();
    let (guide, _) = guide.split_once("## Keys that the office keeps").unwrap();
    for line in guide.lines().filter_map(|line| line.strip_prefix("    lavrin ")) {
        let line = line.replace("~/", &format!("{}/", site.world.path("home").display()));
        drop(run(&site, &agent, &line, 0));
    }
}
