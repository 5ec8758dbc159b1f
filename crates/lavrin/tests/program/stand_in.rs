//! The commands over SSH, against the stand-in: what needs no real server and no root.

use crate::common::{Run, World, key};
use lavrin_standin::StandIn;
use tokio::runtime::Runtime;

/// A world with the demo's host in it.
struct Site {
    world: World,
    stand_in: StandIn,
    // Keeps the stand-in's connections alive; dropped last.
    _runtime: Runtime,
}

impl Site {
    fn new() -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let stand_in = runtime.block_on(StandIn::harbour_office()).unwrap();
        let world = World::new();
        world.put_pair("edda", 1, "edda@lantern");
        Self { world, stand_in, _runtime: runtime }
    }

    fn run(&self, line: &str) -> Run {
        let line =
            format!("{line} --port {} --expect-host-key {}", self.stand_in.address().port(), self.stand_in.host_key());
        let words: Vec<&str> = line.split_whitespace().collect();
        self.world.run_with(&[("PW", self.stand_in.password("edda").unwrap())], &words)
    }

    fn keys(&self, account: &str) -> String {
        std::fs::read_to_string(self.stand_in.file(&format!("/home/{account}/.ssh/authorized_keys")))
            .unwrap_or_default()
    }
}

#[test]
fn an_installation_tells_programs_what_it_did_and_proved() {
    let site = Site::new();
    let preview =
        site.run("install home/edda.pub edda@127.0.0.1 --password-env PW --preview --format json").expect(0).json();
    assert_eq!((&preview["state"], preview["steps"].as_array().unwrap().len()), (&"preview".into(), 2));
    assert_eq!(site.keys("edda"), "");
    let done = site.run("install home/edda.pub edda@127.0.0.1 --password-env PW --yes --format json").expect(0).json();
    assert_eq!((&done["schema"], &done["state"]), (&"lavrin/install/1".into(), &"done".into()));
    assert_eq!(done["proof"]["kind"], "logged-in");
    assert_eq!(
        (&done["entry"]["path"], &done["entry"]["line"]),
        (&"/home/edda/.ssh/authorized_keys".into(), &1.into())
    );
    assert_eq!(site.keys("edda"), site.world.read("home/edda.pub"));
    let again =
        site.run("install home/edda.pub edda@127.0.0.1 --identity home/edda --yes --format json").expect(0).json();
    assert_eq!(again["state"], "nothing-to-do");
    let probe = site.run("probe home/edda.pub edda@127.0.0.1 --format json").expect(0).json();
    assert_eq!((&probe["answer"], &probe["proof"]["kind"]), (&"accepted".into(), &"would-accept".into()));
    let removed =
        site.run("remove home/edda.pub edda@127.0.0.1 --password-env PW --yes --format json").expect(0).json();
    assert_eq!((&removed["state"], &removed["proof"]["kind"]), (&"done".into(), &"refused".into()));
    assert!(removed["open_sessions"].is_null());
    assert_eq!(site.keys("edda"), "");
    assert_eq!(site.run("probe home/edda.pub edda@127.0.0.1 --format json").expect(1).json()["answer"], "refused");
}

#[test]
fn a_change_that_the_server_does_not_honour_is_taken_back() {
    let site = Site::new();
    site.world.write("home/short.pub", key(1).public().line("edda"), 0o644);
    let config = site.stand_in.file("/etc/ssh/sshd_config");
    let text = std::fs::read_to_string(&config).unwrap();
    std::fs::write(&config, format!("{text}PubkeyAuthentication no\n")).unwrap();
    let run = site.run("install home/short.pub edda@127.0.0.1 --password-env PW --yes").expect(4);
    assert!(run.stderr.contains("did not prove itself") && run.stderr.contains("everything is as it was"), "{run}");
    assert!(run.stderr.contains("PubkeyAuthentication is off"), "{run}");
    assert!(!site.stand_in.file("/home/edda/.ssh").exists());
}

#[test]
fn other_entries_and_odd_bytes_survive_the_way_over_a_shell() {
    let site = Site::new();
    let folder = site.stand_in.file("/home/edda/.ssh");
    std::fs::create_dir(&folder).unwrap();
    let odd: Vec<u8> = (0..=255u8).chain(*b"\nL0 E 0\n'\"$(id)`id`\\").collect();
    std::fs::write(folder.join("authorized_keys"), &odd).unwrap();
    let _ = site.run("install home/edda.pub edda@127.0.0.1 --password-env PW --yes").expect(0);
    let now = std::fs::read(folder.join("authorized_keys")).unwrap();
    let line = site.world.read("home/edda.pub");
    assert_eq!(now, [&odd[..], b"\n", line.as_bytes()].concat());
    let run = site.run("remove home/edda.pub edda@127.0.0.1 --password-env PW --yes").expect(3);
    assert!(run.stdout.contains("is not understood"), "{run}");
    assert_eq!(std::fs::read(folder.join("authorized_keys")).unwrap(), [&odd[..], b"\n"].concat());
    assert_eq!(crate::common::names(&folder), ["authorized_keys"]);
}

#[test]
fn a_refused_login_tells_what_was_offered_and_tried() {
    let site = Site::new();
    let run = site.run("why edda@127.0.0.1 --key home/edda.pub --identity home/edda").expect(3);
    assert!(run.stderr.contains("it offers: publickey, password"), "{run}");
    assert!(run.stderr.contains("refused: publickey with home/edda SHA256:"), "{run}");
    assert!(run.stderr.contains("--ask-password"), "{run}");
    let none = site.run("why edda@127.0.0.1 --key home/edda.pub").expect(3);
    assert!(none.stderr.contains("there was nothing to try"), "{none}");
}

#[test]
fn the_audit_of_the_demo_host_finds_what_is_wrong_there() {
    let site = Site::new();
    let report = site.run("audit 127.0.0.1 --login edda --password-env PW --format json").expect(1).json();
    let mut rules: Vec<String> = report["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| format!("{} {}", one["account"].as_str().unwrap_or("server"), one["rule"].as_str().unwrap()))
        .collect();
    rules.sort();
    let expected = [
        "runa mode-wider-than-policy",
        "server passwords-on",
        "sten duplicate-entry",
        "sten mode-too-open",
        "sten weak-rsa-short",
        "tidelog private-key-on-server",
        "tidelog unusable-line",
        "tidelog unusable-line",
    ];
    assert_eq!(rules, expected);
    assert_eq!(report["summary"]["entries"], 5);
    assert!(!report.to_string().contains("PRIVATE KEY"));
}

#[test]
fn the_question_about_a_host_key_shows_it_although_the_rest_is_quiet() {
    let site = Site::new();
    let line = format!("probe home/edda.pub edda@127.0.0.1 --quiet --port {}", site.stand_in.address().port());
    let (shown, _) = crate::common::terminal::talk(&site.world, &line, &[("Trust and remember it? ", "no")]);
    assert!(shown.contains(&site.stand_in.host_key().to_string()), "{shown}");
    assert!(shown.contains("the host key was not confirmed"), "{shown}");
}

#[test]
fn a_trace_tells_how_each_connection_came_about_and_no_secret() {
    let site = Site::new();
    let line = "install home/edda.pub edda@127.0.0.1 --password-env PW --yes -vv";
    let run = site.run(line).expect(0);
    for told in [
        "rules measured with OpenSSH 8.4, 9.2, 10.0",
        "127.0.0.1: key exchange ",
        "127.0.0.1: the server offers edda publickey, ",
        "127.0.0.1: edda is let in with password",
        "127.0.0.1: a script of ",
        "127.0.0.1: the script took ",
    ] {
        assert!(run.stderr.contains(told), "{told}: {run}");
    }
    assert!(!run.stderr.contains(site.stand_in.password("edda").unwrap()), "{run}");
    let plain = site.run("probe home/edda.pub edda@127.0.0.1").expect(0);
    assert!(!plain.stderr.contains("key exchange"), "{plain}");
}

/// A small device forgets at a restart what its overlay was not told to save.
#[test]
fn a_read_only_root_keeps_what_its_overlay_is_told_to_save() {
    use crate::common::fleet::Fleet;
    let mut fleet = Fleet::with_people("edda", "");
    let forgets = || lavrin_standin::Behaviour { forgets: true, ..lavrin_standin::Behaviour::default() };
    fleet.add_with("buoy", "", forgets(), "after_change = [\"/sbin/overlay\", \"save\"]\n");
    fleet.add_with("other", "", forgets(), "");
    let run = fleet.run("enforce --identity home/office --yes").expect(0);
    let keys = |host: usize| {
        fleet.hosts[host].restart().unwrap();
        std::fs::read_to_string(fleet.hosts[host].file("/home/edda/.ssh/authorized_keys")).unwrap()
    };
    assert_eq!((keys(0).lines().count(), keys(1)), (2, String::new()), "{run}");
    // What fails leaves what is done, and says that it may be gone.
    let path = "hosts/buoy.toml";
    fleet.world.write(path, fleet.world.read(path).replace("\"save\"", "\"what\""), 0o644);
    fleet.put(0, "/home/edda/.ssh/authorized_keys", "");
    let run = fleet.run("enforce buoy --identity home/office --yes").expect(5);
    assert!(run.stdout.contains("may not keep it over a restart") && run.stdout.contains("save what?"), "{run}");
}
