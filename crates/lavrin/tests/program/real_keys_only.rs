//! `keys-only` on real servers: the proof, the host that heals itself, and what stops it.

use crate::common::Run;
use crate::common::relay::Relay;
use crate::common::releases::Release;
use crate::common::servers::Sudo;
use crate::common::site::{Site, wait_for};
use std::time::{Duration, Instant};

const OPEN: &str = "UsePAM no\nPasswordAuthentication yes\nKbdInteractiveAuthentication yes\nPermitRootLogin yes\n";

fn keys_only(site: &Site, more: &str) -> Run {
    accepting(site, &format!("keys-only 127.0.0.1 --login root --identity home/keys/root --yes {more}"))
}

/// Whoever has nothing but a password may lose it: other tests make such accounts at any moment.
fn accepting(site: &Site, line: &str) -> Run {
    accepting_with(site, line, &[])
}

fn accepting_with(site: &Site, line: &str, variables: &[(&str, &str)]) -> Run {
    until_no_more_come(|names| site.run_with(variables, &format!("{line} --accept-lockout {names}")))
}

/// Runs it with the names of all who may lose their password, once more where further ones came meanwhile.
fn until_no_more_come(run: impl Fn(&str) -> Run) -> Run {
    for _ in 0..20 {
        let run = run(&with_passwords());
        if !run.stdout.contains("would lose the only way in") {
            return run;
        }
    }
    panic!("further accounts come all the time");
}

/// Accounts of this machine that other tests have made meanwhile, and the site's own: none has a key.
fn with_passwords() -> String {
    let shadow = std::fs::read_to_string("/etc/shadow").unwrap();
    let has_one = |line: &&str| line.split(':').nth(1).is_some_and(|field| field.starts_with('$'));
    let names: Vec<&str> = shadow.lines().filter(has_one).filter_map(|line| line.split(':').next()).collect();
    names.join(",")
}

/// What the server offers to an account, by the stock client.
fn offered(site: &Site) -> String {
    let mut ssh = std::process::Command::new("/usr/bin/ssh");
    ssh.args("-F none -v -o BatchMode=yes -o PreferredAuthentications=none -o StrictHostKeyChecking=no".split(' '));
    ssh.args(["-o", "UserKnownHostsFile=/dev/null", "-p", &site.server.port.to_string(), &site.target(), "true"]);
    let said = String::from_utf8_lossy(&ssh.env_remove("SSH_AUTH_SOCK").output().unwrap().stderr).into_owned();
    said.split("Authentications that can continue: ")
        .nth(1)
        .unwrap_or_default()
        .lines()
        .next()
        .unwrap_or_default()
        .into()
}

fn config(site: &Site) -> String {
    std::fs::read_to_string(&site.server.config).unwrap()
}

/// What is hidden beside the configuration: nothing of a timer may stay there.
fn left_behind(site: &Site) -> Vec<String> {
    let names = crate::common::names(site.server.config.parent().unwrap());
    names.into_iter().filter(|name| name.contains("put-back")).collect()
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn passwords_end_once_a_key_is_proven_and_come_back() {
    let site = Site::on_roots_own(OPEN);
    let before = config(&site);
    assert_eq!(offered(&site), "publickey,password,keyboard-interactive");
    let preview = keys_only(&site, "--preview").expect(0);
    assert!(preview.stderr.contains("PasswordAuthentication yes") && config(&site) == before, "{preview}");
    let done = keys_only(&site, "").expect(0);
    assert!(done.stdout.contains("no password is asked for") && done.stdout.contains("disarmed"), "{done}");
    assert_eq!(offered(&site), "publickey");
    assert_eq!(left_behind(&site), [""; 0]);
    // Only the lines concerned, and the rest byte for byte.
    let wanted = before
        .replace("PasswordAuthentication yes", "PasswordAuthentication no")
        .replace("KbdInteractiveAuthentication yes", "KbdInteractiveAuthentication no")
        .replace("PermitRootLogin yes", "PermitRootLogin prohibit-password");
    assert_eq!(config(&site), wanted);
    let again = keys_only(&site, "").expect(0);
    assert!(again.stdout.contains("nothing to do"), "{again}");
    let back = site.run("keys-only 127.0.0.1 --undo --login root --identity home/keys/root --yes").expect(0);
    assert!(back.stdout.contains("Taken back"), "{back}");
    assert_eq!(config(&site), before);
    wait_for(|| offered(&site) == "publickey,password,keyboard-interactive");
    let none = site.run("keys-only 127.0.0.1 --undo --login root --identity home/keys/root --yes").expect(2);
    assert!(none.stderr.contains("no keys-only of these hosts"), "{none}");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_file_of_its_own_is_made_where_the_main_file_includes_a_folder_first() {
    let site = Site::on_roots_own("UsePAM no\nPasswordAuthentication yes\n");
    let folder = site.server.config.parent().unwrap().to_owned();
    std::fs::create_dir(folder.join("conf.d")).unwrap();
    let text = config(&site);
    let with = format!("Include {}/conf.d/*.conf\n{text}", folder.display());
    let with =
        with + &format!("Match User {}\n  PasswordAuthentication yes # the lamp's own panel\n", site.account.name);
    std::fs::write(&site.server.config, &with).unwrap();
    site.server.reload();
    let done = keys_only(&site, "").expect(0);
    assert!(done.stderr.contains("for some connections (Match)"), "{done}");
    // What a Match says goes before everything outside of it; everything else is left as it is.
    assert_eq!(config(&site), with.replace("yes # the lamp's", "no # the lamp's"));
    let drop_in = std::fs::read_to_string(folder.join("conf.d/00-lavrin-keys-only.conf")).unwrap();
    assert_eq!(drop_in.lines().count(), 5, "{drop_in}");
    assert_eq!(offered(&site), "publickey");
    let back = site.run("keys-only 127.0.0.1 --undo --login root --identity home/keys/root --yes").expect(0);
    assert!(back.stdout.contains("Taken back"), "{back}");
    assert!(config(&site) == with && crate::common::names(&folder.join("conf.d")).is_empty());
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn the_host_heals_itself_when_nobody_comes_back() {
    let site = Site::on_roots_own(OPEN);
    let before = config(&site);
    // Before the first step, between writing the settings and having them read, and before the proof.
    for (stage, is_changed, is_read) in [("change", false, false), ("step-1", true, false), ("prove", true, true)] {
        let begun = Instant::now();
        let told = format!("{stage}:127.0.0.1");
        let cut = accepting_with(
            &site,
            "keys-only 127.0.0.1 --login root --identity home/keys/root --yes --heal-after 10",
            &[("LAVRIN_TEST_CRASH", &told)],
        )
        .expect(5);
        assert_eq!(config(&site) != before, is_changed, "{cut}");
        if is_read {
            wait_for(|| offered(&site) == "publickey");
        }
        let limit = Duration::from_secs(40);
        while !left_behind(&site).is_empty() {
            assert!(begun.elapsed() < limit, "the host did not heal itself: {cut}");
            std::thread::sleep(Duration::from_millis(200));
        }
        assert!(begun.elapsed() >= Duration::from_secs(10), "too early: {:?}", begun.elapsed());
        assert_eq!(config(&site), before);
        wait_for(|| offered(&site) == "publickey,password,keyboard-interactive");
    }
}

/// One line that breaks at one place, on a host of its own. Nothing stays between: the settings are proven and stay, or the host
/// puts them back.
fn the_line_breaks(at: u64, stays_broken: bool) -> (u64, i32) {
    let site = Site::on_roots_own(OPEN);
    let before = config(&site);
    // The first connection looks; what follows changes and proves.
    let relay = Relay::to(site.server.port, (2, at), stays_broken);
    let run = accepting_over(&site, relay.port);
    if run.stdout.contains("would lose the only way in") {
        return the_line_breaks(at, stays_broken);
    }
    let begun = Instant::now();
    while !left_behind(&site).is_empty() {
        assert!(begun.elapsed() < Duration::from_mins(2), "the host did not heal itself: {run}");
        std::thread::sleep(Duration::from_millis(200));
    }
    let is_open = config(&site) == before;
    wait_for(|| (offered(&site) == "publickey") != is_open);
    let is_honest = match run.status {
        0 => !is_open,
        3 | 4 => is_open,
        // Nobody heard how it ended.
        5 => run.stdout.contains("not known"),
        _ => false,
    };
    assert!(is_honest, "cut at {at}: {run}");
    assert!(relay.is_broken() || run.status == 0, "cut at {at}: {run}");
    // A later look tells how it ended, and `keys-only` works again.
    let later = accepting_with(
        &site,
        "keys-only 127.0.0.1 --login root --identity home/keys/root --yes",
        &[("LAVRIN_NOW", "2026-11-23T09:00:00Z")],
    );
    drop(later.expect(0));
    assert_eq!((offered(&site), left_behind(&site)), ("publickey".to_owned(), Vec::new()));
    (relay.sent(), run.status)
}

/// Over another port, once: how many connections there are is counted.
fn accepting_over(site: &Site, port: u16) -> Run {
    let line = format!(
        "keys-only 127.0.0.1 --login root --identity home/keys/root --yes --heal-after 10 --accept-lockout {} --port {port} --expect-host-key {}",
        with_passwords(),
        site.server.host_key
    );
    let words: Vec<&str> = line.split_whitespace().collect();
    site.world.run(&words)
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_line_that_breaks_at_any_place_leaves_what_is_proven_or_what_was() {
    let (whole, status) = the_line_breaks(u64::MAX, false);
    assert_eq!(status, 0);
    let cuts: Vec<(u64, bool)> = (1..16).map(|part| (whole * part / 16, part % 2 == 0)).collect();
    // Some at a time: most of it is waiting for hosts that put their settings back.
    let some_at_once = |cuts: &[(u64, bool)]| {
        std::thread::scope(|scope| {
            let cuts: Vec<_> = cuts.iter().map(|(at, stays)| scope.spawn(|| the_line_breaks(*at, *stays).1)).collect();
            cuts.into_iter().map(|cut| cut.join().unwrap()).collect::<Vec<_>>()
        })
    };
    let ends: Vec<i32> = cuts.chunks(5).flat_map(some_at_once).collect();
    // Some were cut before anything was changed, some afterwards.
    assert!(ends.contains(&3) || ends.contains(&4), "{ends:?}");
    assert!(ends.contains(&5), "{ends:?}");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn what_is_not_proven_is_put_back_over_the_open_session_also_by_a_server_that_died() {
    let site = Site::on_roots_own(OPEN);
    let before = config(&site);
    let once_changed = |act: &(dyn Fn() + Sync)| {
        std::thread::scope(|scope| {
            scope.spawn(|| {
                wait_for(|| config(&site) != before);
                act();
            });
            keys_only(&site, "")
        })
    };
    // The key that opened the login is gone by the time of the proof.
    let keys = site.root_keys.0.clone();
    let aside = keys.with_extension("aside");
    let gone = once_changed(&|| std::fs::rename(&keys, &aside).unwrap());
    assert_eq!(gone.status, 4, "{gone}");
    assert!(gone.stdout.contains("a new login failed"), "{gone}");
    assert_eq!((config(&site), left_behind(&site)), (before.clone(), Vec::new()));
    std::fs::rename(&aside, &keys).unwrap();
    wait_for(|| offered(&site) == "publickey,password,keyboard-interactive");
    // The server does not come back: the host starts it again with what it had.
    let pid = before.lines().find_map(|line| line.strip_prefix("PidFile ")).unwrap().to_owned();
    let process = || std::fs::read_to_string(&pid).unwrap_or_default().trim().to_owned();
    let first = process();
    let dead = once_changed(&|| {
        std::process::Command::new("kill").args(["-KILL", &first]).status().unwrap();
    });
    assert_eq!(dead.status, 4, "{dead}");
    assert_eq!((config(&site), left_behind(&site)), (before.clone(), Vec::new()));
    wait_for(|| process() != first && !process().is_empty());
    wait_for(|| offered(&site) == "publickey,password,keyboard-interactive");
    crate::common::servers::system("kill", &[&process()]);
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn what_stops_it_is_told_and_nothing_is_changed() {
    let refused = |site: &Site, run: Run, why: &str| {
        assert!(run.status == 4 && (run.stdout.contains(why) || run.stderr.contains(why)), "{why}: {run}");
        assert_eq!(left_behind(site), [""; 0]);
    };
    // Anybody may write in the folder above the configuration.
    let loose = Site::new(OPEN);
    refused(&loose, keys_only(&loose, ""), "others than root may change");
    // The command line goes before the files.
    let mut program = std::process::Command::new("/usr/sbin/sshd");
    program.args(["-o", "PasswordAuthentication=yes"]);
    let told = Site::on_roots_own_with(OPEN, program);
    refused(&told, keys_only(&told, ""), "started with -o PasswordAuthentication=yes");
    let site = Site::on_roots_own(OPEN);
    let before = config(&site);
    // Nobody has said that this account may lose its only way in.
    let line = "keys-only 127.0.0.1 --login root --identity home/keys/root --yes";
    let alone = site.run(line);
    // Other tests have accounts on this machine too, which may stand behind it in the list.
    assert!(alone.stderr.contains("careful: ACCOUNT on 127.0.0.1 has a password, and no key opens it"), "{alone}");
    refused(&site, alone, "would lose the only way in");
    // A password is no proven key.
    let by_password = line.replace("--login root --identity home/keys/root", "--login ACCOUNT --password-env PW");
    refused(&site, site.run(&format!("{by_password} --root-by none")), "could not be read");
    let sudo = Sudo::for_account(&site.account.name);
    refused(&site, accepting(&site, &format!("{by_password} --root-by sudo")), "opened by a password");
    // With a key of its own, and root's rights by sudo.
    let key = site.world.read("home/keys/edda.pub");
    site.account.put(".ssh/authorized_keys", &key, "600", &site.account.name);
    let by_key = line.replace("--login root --identity home/keys/root", "--login ACCOUNT --identity home/keys/edda");
    let done = accepting(&site, &by_key).expect(0);
    assert!(!done.stderr.contains("ACCOUNT on 127.0.0.1 has a password"), "{done}");
    drop(sudo);
    std::fs::write(&site.server.config, format!("{before}Lighthouse yes\n")).unwrap();
    refused(&site, keys_only(&site, ""), "would not start with its settings");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn two_administrators_at_once_leave_one_whole_change() {
    let site = Site::on_roots_own(OPEN);
    let runs = std::thread::scope(|scope| {
        [0, 1].map(|_| scope.spawn(|| keys_only(&site, ""))).map(|thread| thread.join().unwrap())
    });
    assert!(runs.iter().any(|run| run.status == 0), "{}{}", runs[0], runs[1]);
    assert!(runs.iter().all(|run| run.status == 0 || run.status == 4), "{}{}", runs[0], runs[1]);
    assert_eq!((offered(&site), left_behind(&site)), ("publickey".to_owned(), Vec::new()));
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn the_guide_leads_to_keys_only_and_policy_asks_for_it() {
    let site = Site::on_roots_own("UsePAM no\nPasswordAuthentication yes\nKbdInteractiveAuthentication yes\n");
    site.write_register(&["edda", "root"], &[("lantern", &site.server)]);
    let hosts = site.world.read("hosts.toml").replace("accounts =", "tags = [\"lights\"]\naccounts =");
    site.world.write("hosts.toml", hosts, 0o644);
    let guide = include_str!("../../../../docs/guide.md");
    let (_, guide) = guide.split_once("\n# Passwords end").unwrap();
    let (guide, _) = guide.split_once("# Somebody leaves").unwrap();
    let in_register = |line: &str| {
        let changes = !line.contains("--undo") && !line.contains("--status");
        let sign_in = if line.contains("--status") { "" } else { "--login root --identity home/keys/root" };
        until_no_more_come(|names| {
            let more = if changes { format!("--accept-lockout {names}") } else { String::new() };
            let line = format!("{line} {sign_in} {more}");
            let words: Vec<&str> = line.split_whitespace().collect();
            site.world.run(&words)
        })
    };
    let mut said = String::new();
    for line in guide.lines().filter_map(|line| line.strip_prefix("    lavrin ")) {
        said += &in_register(line).expect(0).stdout;
    }
    assert!(said.contains("1 take keys only") && said.contains("lantern  done"), "{said}");
    wait_for(|| offered(&site) == "publickey,password,keyboard-interactive");
    site.world.write("lavrin.toml", "name = \"real\"\n[policy]\nkeys_only = [\"lights\"]\n", 0o644);
    let words = |line: &str| -> Vec<String> { line.split_whitespace().map(str::to_owned).collect() };
    drop(site.world.run(&words("survey --login root --identity home/keys/root")).expect(0));
    let compared = site.world.run(&words("compare"));
    assert!(compared.stdout.contains("takes passwords, and policy asks for keys only"), "{compared}");
    let status = site.world.run(&words("keys-only --status")).expect(1);
    assert!(status.stdout.contains("takes passwords"), "{status}");
    // Accounts of this machine have nothing but a password, and nobody has said that they may lose it.
    let stopped =
        site.world.run(&words("enforce --only settings --yes --login root --identity home/keys/root")).expect(4);
    assert!(stopped.stdout.contains("would lose the only way in"), "{stopped}");
    assert_eq!(offered(&site), "publickey,password,keyboard-interactive");
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_full_disk_and_a_read_only_one_change_nothing() {
    let site = Site::on_a_small_disk(OPEN);
    let (before, folder) = (config(&site), site.server.config.parent().unwrap().to_owned());
    let as_before = |run: Run| {
        assert_eq!(run.status, 4, "{run}");
        assert_eq!((config(&site), left_behind(&site)), (before.clone(), Vec::new()), "{run}");
        assert_eq!(offered(&site), "publickey,password,keyboard-interactive");
    };
    std::fs::write(folder.join("full"), vec![0; 1 << 20]).unwrap_err();
    as_before(keys_only(&site, ""));
    std::fs::remove_file(folder.join("full")).unwrap();
    crate::common::servers::system("mount", &["-o", "remount,ro", folder.to_str().unwrap()]);
    as_before(keys_only(&site, ""));
    crate::common::servers::system("mount", &["-o", "remount,rw", folder.to_str().unwrap()]);
    assert!(keys_only(&site, "--root off").status == 4, "root off would shut this very login out");
    drop(keys_only(&site, "").expect(0));
    assert_eq!(offered(&site), "publickey");
}

#[test]
#[ignore = "needs real servers: scripts/test.sh"]
fn it_holds_for_older_and_newer_servers() {
    for release in [Release::BULLSEYE, Release::TRIXIE] {
        // The stock client asks by which methods it would get in, again and again; newer servers count that.
        let penalties = if release.suite() == "trixie" { "PerSourcePenalties no\n" } else { "" };
        let site = Site::on_roots_own_with(&format!("UsePAM no\n{penalties}"), release.command("/usr/sbin/sshd"));
        let before = config(&site);
        let done = keys_only(&site, "").expect(0);
        assert!(done.stdout.contains("disarmed"), "{done}");
        assert_eq!((offered(&site), left_behind(&site)), ("publickey".to_owned(), Vec::new()));
        // Before 8.7 another keyword decides about questions at the keyboard.
        assert_eq!(config(&site).contains("ChallengeResponseAuthentication no"), release.openssh.contains("8.4"));
        drop(site.run("keys-only 127.0.0.1 --undo --login root --identity home/keys/root --yes").expect(0));
        assert_eq!(config(&site), before);
        wait_for(|| offered(&site).contains("password"));
    }
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn what_an_earlier_run_left_is_put_back_or_tidied_up() {
    let site = Site::on_roots_own(OPEN);
    let before = config(&site);
    let folder = site.server.config.parent().unwrap().join(".put-back");
    // It was decided, and what decided was cut off while it tidied up.
    std::fs::create_dir_all(folder.join("taken")).unwrap();
    std::fs::write(folder.join("name"), "l00\n").unwrap();
    drop(keys_only(&site, "").expect(0));
    drop(site.run("keys-only 127.0.0.1 --undo --login root --identity home/keys/root --yes").expect(0));
    assert_eq!((config(&site), left_behind(&site)), (before.clone(), Vec::new()));
    // Nobody counts the time any more, as after a restart of a host on which nothing else does.
    let line = "keys-only 127.0.0.1 --login root --identity home/keys/root --yes --heal-after 600";
    drop(accepting_with(&site, line, &[("LAVRIN_TEST_CRASH", "prove:127.0.0.1")]).expect(5));
    let process = std::fs::read_to_string(folder.join("pid")).unwrap();
    crate::common::servers::system("kill", &["-KILL", "--", &format!("-{}", process.trim())]);
    assert_ne!(config(&site), before);
    let seen = keys_only(&site, "").expect(0);
    assert!(seen.stdout.contains("nothing to do"), "it does take keys only at this moment: {seen}");
    let next = site.run("keys-only 127.0.0.1 --root off --preview --login root --identity home/keys/root");
    assert!(next.status == 0 || next.status == 4, "{next}");
    // The next change puts the old state back first, and says that something has changed.
    let text = config(&site);
    std::fs::write(&site.server.config, format!("{text}# looked after\n")).unwrap();
    std::fs::write(&site.server.config, text.replace("PermitRootLogin prohibit-password", "PermitRootLogin yes"))
        .unwrap();
    let stopped = keys_only(&site, "");
    assert_eq!(stopped.status, 4, "{stopped}");
    assert_eq!(left_behind(&site), [""; 0]);
}
