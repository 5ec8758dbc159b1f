use super::*;
use crate::account::{add_shadow, read_passwd};
use crate::fs::Node;
use crate::server::Server;
use crate::server_config::USUAL_PATH;
use crate::server_config::switches::START_PATH;
use crate::steps::ChangeSubject;

const FOLDER: &str = "/etc/ssh/sshd_config.d";

/// A host whose root looked, with these files of settings. edda has a key, sten nothing but a password.
fn host(version: Version, files: &[(&str, &str)]) -> Observation {
    let passwd = b"root:x:0:0::/root:/bin/sh\nedda:x:1:1::/home/edda:/bin/sh\nsten:x:2:2::/home/sten:/bin/sh\nlamp:x:3:3::/srv:/usr/sbin/nologin\n";
    let mut accounts = read_passwd(passwd);
    add_shadow(&mut accounts, b"root:*:::::::\nedda:$y$:19000::::::\nsten:$y$:19000::::::\nlamp:$y$:19000::::::\n");
    let mut seen = Observation {
        looked: true,
        viewer: Some(0),
        server: Server::debian(version),
        accounts: accounts.into(),
        ..Observation::default()
    };
    let mut put = |path: &str, kind, mode, uid| {
        let node = Node { kind, mode, uid, gid: uid, access_list: false };
        seen.nodes.insert(path.into(), Fact::Known(node));
    };
    let folders = ["/etc", "/etc/ssh", FOLDER, "/home", "/root", "/bin", "/usr", "/usr/sbin", "/srv"];
    for path in folders {
        put(path, NodeKind::Folder, 0o755, 0);
    }
    for path in ["/bin/sh", "/usr/sbin/nologin"] {
        put(path, NodeKind::File, 0o755, 0);
    }
    for (path, uid) in [("/home/edda", 1), ("/home/sten", 2), ("/home/edda/.ssh", 1)] {
        put(path, NodeKind::Folder, 0o755, uid);
    }
    put("/home/edda/.ssh/authorized_keys", NodeKind::File, 0o600, 1);
    for (path, _) in files {
        put(path, NodeKind::File, 0o644, 0);
    }
    for absent in ["/home/sten/.ssh", "/root/.ssh", "/home/edda/.ssh/authorized_keys2", "/srv/.ssh"] {
        seen.nodes.insert(absent.into(), Fact::Absent);
    }
    let drop_in: BytePath = format!("{FOLDER}/{DROP_IN}").as_str().into();
    if !files.iter().any(|(path, _)| BytePath::from(*path) == drop_in) {
        seen.nodes.insert(drop_in, Fact::Absent);
    }
    let names = files.iter().filter_map(|(path, _)| path.strip_prefix(FOLDER)?.strip_prefix('/'));
    let names = names.map(|name| name.as_bytes().to_vec()).collect();
    seen.names.insert(FOLDER.into(), Fact::Known(names));
    for (path, text) in files {
        seen.bytes.insert((*path).into(), Fact::Known(text.as_bytes().to_vec()));
    }
    let key = lavrin_keys::key::PrivateKey::ed25519(&[1; 32]).unwrap().public().line("edda") + "\n";
    seen.bytes.insert("/home/edda/.ssh/authorized_keys".into(), Fact::Known(key.into_bytes()));
    seen
}

fn ask(seen: &Observation) -> Result<KeysOnly, NoSteps> {
    keys_only(RootLogin::Keys, &System::of(seen), 1_795_000_000)
}

/// Which files are written, and with which lines.
fn told(seen: &Observation) -> Vec<String> {
    let found = ask(seen).unwrap();
    let mut told = Vec::new();
    for change in &found.steps.changes {
        told.push(match change {
            Change::File(FileChange::WriteFile { path, new, deed: Deed::Settings { come, go }, .. }) => {
                format!("{path} +{come:?} -{go:?}\n{}", String::from_utf8_lossy(new))
            }
            other => other.subject().to_string(),
        });
    }
    let after = seen.after(&found.steps.changes);
    assert_eq!(open_to_passwords(RootLogin::Keys, &System::of(&after)), Ok(Vec::new()));
    told
}

#[test]
fn a_file_of_its_own_where_it_is_read_first() {
    let main = "Include /etc/ssh/sshd_config.d/*.conf\nUsePAM no\nPasswordAuthentication yes\n";
    let told = told(&host(Version(9, 2), &[(USUAL_PATH, main)]));
    let written = "# Written by lavrin keys-only\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nPermitEmptyPasswords no\nPermitRootLogin prohibit-password\n";
    assert_eq!(told, [format!("{FOLDER}/{DROP_IN} +[1, 2, 3, 4, 5] -[]\n{written}"), "server".to_owned()]);
}

#[test]
fn the_lines_that_win_where_something_is_read_before_it() {
    let main = "PasswordAuthentication yes # the panel\r\nInclude /etc/ssh/sshd_config.d/*.conf\nUsePAM no\n";
    let other = ("/etc/ssh/sshd_config.d/10-cloud.conf", "kbdinteractiveauthentication yes\n");
    let told = told(&host(Version(9, 2), &[(USUAL_PATH, main), other]));
    let main = main.replacen("yes", "no", 1);
    assert_eq!(
        told,
        [
            format!("{USUAL_PATH} +[1] -[1]\n{main}"),
            format!("{} +[1] -[1]\nkbdinteractiveauthentication no\n", other.0),
            "server".to_owned(),
        ]
    );
}

#[test]
fn what_nobody_sets_goes_to_the_top() {
    let told_for = |version| told(&host(version, &[(USUAL_PATH, "UsePAM no\nMatch User sten\nPermitTTY no\n")]));
    let wanted = |lines: &str, come: &str| {
        format!("{USUAL_PATH} +{come} -[]\n{lines}UsePAM no\nMatch User sten\nPermitTTY no\n")
    };
    let new = "PasswordAuthentication no\nKbdInteractiveAuthentication no\n";
    assert_eq!(told_for(Version(9, 2))[0], wanted(new, "[1, 2]"));
    // Before 8.7 another keyword decides about questions at the keyboard.
    let old = new.replace('K', "ChallengeResponseAuthentication no\nK");
    assert_eq!(told_for(Version(8, 4))[0], wanted(&old, "[1, 2, 3]"));
}

#[test]
fn a_block_that_lets_passwords_in_again_is_changed_too() {
    let main = "PasswordAuthentication no\nKbdInteractiveAuthentication no\nMatch Address 192.0.2.0/24\n\tPasswordAuthentication \"yes\"\nMatch all\nPermitRootLogin yes\n";
    let seen = host(Version(10, 0), &[(USUAL_PATH, main)]);
    let open = open_to_passwords(RootLogin::Keys, &System::of(&seen)).unwrap();
    let open: Vec<_> = open.iter().map(|one| (one.keyword, one.in_match, one.place.as_ref().unwrap().1)).collect();
    assert_eq!(open, [("PermitRootLogin", false, 6), ("PasswordAuthentication", true, 4)]);
    let wanted = main.replace("\"yes\"", "no").replace("Login yes", "Login prohibit-password");
    assert_eq!(told(&seen)[0], format!("{USUAL_PATH} +[4, 6] -[4, 6]\n{wanted}"));
    // Root may be shut out altogether; what is stricter than asked stays.
    let off = keys_only(RootLogin::Off, &System::of(&seen), 0).unwrap();
    assert_eq!(off.lines.last().unwrap().after, b"PermitRootLogin no");
    let strict = host(
        Version(9, 2),
        &[(USUAL_PATH, "PermitRootLogin no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n")],
    );
    assert!(ask(&strict).unwrap().steps.changes.is_empty());
}

#[test]
fn who_would_lose_the_only_way_in_is_named() {
    let lost = |main: &str, change: &dyn Fn(&mut Observation)| -> Vec<(String, bool)> {
        let mut seen = host(Version(9, 2), &[(USUAL_PATH, main)]);
        change(&mut seen);
        ask(&seen).unwrap().only_password.into_iter().map(|one| (one.account, one.unread)).collect()
    };
    let sten = ("sten".to_owned(), false);
    assert_eq!(lost("UsePAM no\n", &|_| {}), std::slice::from_ref(&sten));
    // Whoever is kept out anyway loses nothing.
    assert!(lost("UsePAM no\nDenyUsers sten\n", &|_| {}).is_empty());
    assert!(
        lost("UsePAM no\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nPermitRootLogin yes\n", &|_| {})
            .is_empty()
    );
    let unread = |seen: &mut Observation| {
        let file: BytePath = "/home/edda/.ssh/authorized_keys".into();
        seen.bytes.insert(file, Fact::Unseen(Why::Permission));
    };
    assert_eq!(lost("UsePAM no\n", &unread), [("edda".to_owned(), true), sten]);
}

#[test]
fn what_stops_it() {
    let plain = || host(Version(9, 2), &[(USUAL_PATH, "UsePAM no\n")]);
    let mut option = plain();
    option.start_options = vec!["Port=22".to_owned(), "passwordAuthentication yes".to_owned()];
    assert_eq!(ask(&option).unwrap_err(), NoSteps::StartOption("passwordAuthentication yes".to_owned()));
    let mut fine = plain();
    fine.start_options = vec!["PasswordAuthentication=no".to_owned()];
    assert!(ask(&fine).is_ok());
    let mut loose = plain();
    let folder = Node { kind: NodeKind::Folder, mode: 0o777, uid: 0, gid: 0, access_list: false };
    loose.nodes.insert("/etc/ssh".into(), Fact::Known(folder));
    assert_eq!(ask(&loose).unwrap_err(), NoSteps::OthersMayWrite(USUAL_PATH.into()));
    let broken = host(Version(9, 2), &[(USUAL_PATH, "Lighthouse yes\n")]);
    assert!(matches!(ask(&broken), Err(NoSteps::BrokenSettings(fault)) if fault.line == 1));
    let mut other = plain();
    other.viewer = Some(1);
    assert!(matches!(ask(&other), Err(NoSteps::Unread(_, Why::Permission))));
    let mut small = plain();
    small.server = Server::from_banner("SSH-2.0-dropbear_2022.83");
    assert_eq!(ask(&small).unwrap_err(), NoSteps::StartSwitches);
}

/// A small device with this start configuration.
fn small(text: &str) -> Observation {
    let mut seen = host(Version(9, 2), &[(START_PATH, text)]);
    seen.server = Server::from_banner("SSH-2.0-dropbear_2022.83");
    let folder = Node { kind: NodeKind::Folder, mode: 0o755, uid: 0, gid: 0, access_list: false };
    seen.nodes.insert("/etc/default".into(), Fact::Known(folder));
    seen.bytes.insert("/etc/shells".into(), Fact::Known(b"/bin/sh\n".to_vec()));
    seen
}

fn start_file(found: &KeysOnly) -> String {
    let Change::File(FileChange::WriteFile { new, deed: Deed::Settings { .. }, .. }) = &found.steps.changes[0] else {
        panic!("{:?}", found.steps.changes)
    };
    String::from_utf8(new.clone()).unwrap()
}

#[test]
fn a_small_device_gets_its_switches_where_its_system_keeps_them() {
    let found = ask(&small("# x\nDROPBEAR_EXTRA_ARGS=\"-p 2222\"\nDROPBEAR_PORT=22\n")).unwrap();
    assert_eq!(start_file(&found), "# x\nDROPBEAR_EXTRA_ARGS=\"-s -p 2222\"\nDROPBEAR_PORT=22\n");
    let lost: Vec<&str> = found.only_password.iter().map(|one| one.account.as_str()).collect();
    assert_eq!(lost, ["sten"], "edda has a key");
    let found = keys_only(RootLogin::Off, &System::of(&small("#DROPBEAR_EXTRA_ARGS=\n")), 1_795_000_000).unwrap();
    assert_eq!(start_file(&found), "#DROPBEAR_EXTRA_ARGS=\nDROPBEAR_EXTRA_ARGS=\"-s -w\"\n");
    let Change::File(file) = &found.steps.changes[0] else { panic!() };
    assert!(
        matches!(file, FileChange::WriteFile { deed: Deed::Settings { come, go }, .. } if come[..] == [2] && go.is_empty())
    );
    assert!(ask(&small("DROPBEAR_EXTRA_ARGS=\"-sg\"\n")).unwrap().steps.changes.is_empty());
    assert_eq!(ask(&small("DROPBEAR_EXTRA_ARGS=-t\n")).unwrap_err(), NoSteps::PasswordBehindKey);
    let odd = ask(&small("DROPBEAR_EXTRA_ARGS=\"$MORE\"\n")).unwrap_err();
    assert_eq!(odd, NoSteps::SettingNotUnderstood { path: START_PATH.into(), line: 1 });
    let mut loose = small("");
    let folder = Node { kind: NodeKind::Folder, mode: 0o777, uid: 0, gid: 0, access_list: false };
    loose.nodes.insert("/etc/default".into(), Fact::Known(folder));
    assert_eq!(ask(&loose).unwrap_err(), NoSteps::OthersMayWrite(START_PATH.into()));
}

#[test]
fn it_is_taken_back_as_it_was() {
    let seen = host(Version(9, 2), &[(USUAL_PATH, "Include /etc/ssh/sshd_config.d/*.conf\n")]);
    let found = ask(&seen).unwrap();
    let after = seen.after(&found.steps.changes);
    let back = crate::steps::restore("root", &found.steps.changes, &System::of(&after)).unwrap();
    let before = after.after(&back.changes);
    assert_eq!(
        (before.names.get(&BytePath::from(FOLDER)), back.changes.last().unwrap().subject()),
        (seen.names.get(&BytePath::from(FOLDER)), ChangeSubject::Server)
    );
    assert_eq!(open_to_passwords(RootLogin::Keys, &System::of(&before)).unwrap().len(), 2);
}
