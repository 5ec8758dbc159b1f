//! The statement of a leaving: written, signed, checked; by a key, by an agent, and by code that is not ours.

use crate::common::agent::Agent;
use crate::common::fleet::Fleet;
use crate::common::key;
use lavrin_standin::Behaviour;
use std::process::{Command, Stdio};

const GO: &str = "--identity home/office --yes";

/// Sten has a key on one host, and another host is off.
fn fleet() -> Fleet {
    let mut fleet = Fleet::new();
    fleet.world.put_pair("sten", 3, "sten");
    fleet.world.put_pair("stranger", 9, "stranger");
    for (name, seed) in [("office", 1), ("sten", 3)] {
        let line = key(seed).public().line(name);
        let text = format!("name = \"{name} of Halvmark\"\n\n[[key]]\nlabel = \"main\"\nline = \"{line}\"\n");
        fleet.world.write(&format!("people/{name}.toml"), text, 0o644);
    }
    let grant = |person: &str, account: &str| {
        format!("[[grant]]\nperson = \"{person}\"\naccount = \"{account}\"\nhosts = [\"*\"]\n\n")
    };
    fleet.world.write("access.toml", grant("office", "root") + &grant("sten", "edda"), 0o644);
    let line = format!("{}\n", key(3).public().line("sten"));
    fleet.add("lantern", &line, Behaviour::default());
    let host_key = fleet.hosts[0].host_key_line();
    fleet.register("skerry", 1, &host_key, "");
    fleet
}

fn snapshot(name: &str, text: &str) {
    insta::with_settings!({filters => vec![(r"\d{8}-\d{6}-[0-9a-f]{6}", "RUN"), (r"\b[0-9a-f]{64}\b", "HASH")]}, {
        insta::assert_snapshot!(name, text);
    });
}

#[test]
fn a_leaving_is_stated_signed_and_checked() {
    let fleet = fleet();
    let world = &fleet.world;
    let left = fleet.run(&format!("offboard sten --statement leaving.txt {GO}"));
    assert!(left.stderr.contains("statement: leaving.txt, signed by office"), "{left}");
    snapshot("statement_text", &world.read("leaving.txt"));
    snapshot("statement_json", &world.read("leaving.txt.json"));
    let valid = fleet.run("history --verify leaving.txt").expect(0);
    snapshot("statement_valid", &valid.to_string());
    let line = |namespaces: &str, seed: u8| format!("office@halvmark {namespaces} {}\n", key(seed).public().line("x"));
    let mut told = String::new();
    let cases = [
        ("it counts", line("namespaces=\"statement@*\"", 1), 0),
        ("for something else", line("namespaces=\"file\"", 1), 1),
        ("it is over", line("valid-before=\"20260101\"", 1), 1),
        ("another key", line("", 9), 1),
        ("an option that is not known", line("sometimes", 1), 1),
    ];
    for (name, list, exit) in cases {
        world.write("signers", list, 0o644);
        told += &format!("== {name}\n{}\n", fleet.run("history --verify leaving.txt --signers signers").expect(exit));
    }
    // Altered: a letter of the text, the part for programs, the signature; then it is another one's.
    let (text, json, signature) =
        (world.read("leaving.txt"), world.read("leaving.txt.json"), world.read("leaving.txt.sig"));
    let spoiled = [
        ("leaving.txt", text.replacen("lantern", "lantren", 1)),
        ("leaving.txt.json", json.replacen("removed", "refused", 1)),
        ("leaving.txt.sig", signature.replacen('A', "B", 4)),
        ("leaving.txt.sig", "nothing".to_owned()),
        ("leaving.txt.sig", lavrin_keys::key::signature::sign(&key(9), "statement@lavrin", text.as_bytes()).unwrap()),
        ("leaving.txt.sig", lavrin_keys::key::signature::sign(&key(1), "file", text.as_bytes()).unwrap()),
    ];
    for (file, content) in spoiled {
        let good = world.read(file);
        world.write(file, content, 0o644);
        told += &format!("== {file} is altered\n{}\n", fleet.run("history --verify leaving.txt").expect(1));
        world.write(file, good, 0o644);
    }
    snapshot("statement_checked", &told);
    drop(fleet.run("history --verify leaving.txt").expect(0));
}

#[test]
fn what_is_open_of_those_who_left_is_listed_until_it_is_done() {
    let mut fleet = fleet();
    drop(fleet.run("offboard --status").expect(0));
    drop(fleet.run(&format!("offboard sten {GO}")));
    let open = fleet.run("offboard --status").expect(1);
    snapshot("offboard_status", &open.to_string());
    // The host is back; and another one that nobody has looked at since.
    let (port, host_key) = (fleet.hosts[0].address().port(), fleet.hosts[0].host_key_line());
    fleet.register("skerry", port, &host_key, "");
    drop(fleet.run(&format!("offboard sten {GO}")).expect(0));
    fleet.add("late", "", Behaviour::default());
    let unseen = fleet.run("offboard sten --status").expect(3);
    assert!(unseen.stdout.contains("not looked at since: late"), "{unseen}");
    drop(fleet.survey("late").expect(0));
    let done = fleet.run("offboard --status").expect(0);
    assert!(done.stdout.contains("nothing is open"), "{done}");
    // An entry that comes back is seen.
    fleet.put(1, "/home/edda/.ssh/authorized_keys", &format!("{}\n", key(3).public().line("sten")));
    drop(fleet.survey("late").expect(0));
    let back = fleet.run("offboard --status --format json").expect(1).json();
    assert_eq!(back["people"][0]["seen"][0]["host"], "late", "{back}");
}

#[test]
fn what_cannot_be_stated_stops_before_anything_is_changed() {
    let fleet = fleet();
    let before = std::fs::read_to_string(fleet.hosts[0].file("/home/edda/.ssh/authorized_keys")).unwrap();
    let mut told = String::new();
    fleet.world.write("there.txt.sig", "mine", 0o644);
    for (line, exit) in [
        ("offboard sten --statement leaving.txt --sign-with home/sten", 4),
        ("offboard sten --statement leaving.txt --sign-with home/stranger", 4),
        ("offboard sten --statement there.txt --sign-with home/office", 2),
    ] {
        told += &format!("== {line}\n{}\n", fleet.run(&format!("{line} {GO}")).expect(exit));
    }
    let none = fleet.run("offboard sten --statement leaving.txt --yes").expect(2);
    told += &format!("== no key at hand\n{none}\n");
    snapshot("statement_refused", &told);
    assert_eq!(fleet.world.read("there.txt.sig"), "mine");
    assert!(!fleet.world.path("leaving.txt").exists() && !fleet.world.read("people/sten.toml").contains("left"));
    assert_eq!(std::fs::read_to_string(fleet.hosts[0].file("/home/edda/.ssh/authorized_keys")).unwrap(), before);
}

#[test]
fn every_command_of_the_guide_about_statements_does_what_it_says() {
    let fleet = fleet();
    fleet.world.put_pair(".ssh/office", 1, "office");
    std::fs::remove_file(fleet.world.path("hosts/skerry.toml")).unwrap();
    fleet.world.write("signers", format!("office@halvmark {}\n", key(1).public().line("office")), 0o644);
    let guide = include_str!("../../../../docs/guide.md");
    let (_, guide) = guide.split_once("## A leaving is handed on").unwrap();
    let (guide, _) = guide.split_once("# Every night").unwrap();
    let lines: Vec<&str> = guide.lines().filter_map(|line| line.strip_prefix("    lavrin ")).collect();
    assert_eq!(lines.len(), 3);
    for line in lines {
        drop(fleet.run(&line.replace("~/", &format!("{}/", fleet.world.path("home").display()))).expect(0));
    }
}

/// A check of a signature, and one that is made, by code that is not ours.
const PYTHON: &str = r#"
import base64, hashlib, struct, sys
import sshsig
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa

def word(data): return struct.pack(">I", len(data)) + data

if sys.argv[1] == "check":
    key = sshsig.PublicKey.from_openssh_str(open(sys.argv[2]).read())
    sshsig.sshsig.verify(open(sys.argv[3], "rb"), open(sys.argv[3] + ".sig").read(), [key], "statement@lavrin")
else:
    private = serialization.load_ssh_private_key(open(sys.argv[2], "rb").read(), None)
    message = hashlib.sha256(open(sys.argv[3], "rb").read()).digest()
    data = b"SSHSIG" + word(b"statement@lavrin") + word(b"") + word(b"sha256") + word(message)
    if isinstance(private, rsa.RSAPrivateKey):
        signed = word(b"rsa-sha2-256") + word(private.sign(data, padding.PKCS1v15(), hashes.SHA256()))
    else:
        signed = word(b"ssh-ed25519") + word(private.sign(data))
    public = private.public_key().public_bytes(serialization.Encoding.OpenSSH, serialization.PublicFormat.OpenSSH)
    blob = base64.b64decode(public.split()[1])
    whole = b"SSHSIG" + struct.pack(">I", 1) + word(blob) + word(b"statement@lavrin") + word(b"") + word(b"sha256") + word(signed)
    text = base64.b64encode(whole).decode()
    lines = [text[at : at + 76] for at in range(0, len(text), 76)]
    print("-----BEGIN SSH SIGNATURE-----", *lines, "-----END SSH SIGNATURE-----", sep="\n")
"#;

fn python(fleet: &Fleet, words: &[&str]) -> (bool, String) {
    let script = fleet.world.write("signature.py", PYTHON, 0o644);
    let program = std::env::var_os("LAVRIN_AGE_PYTHON").map_or_else(
        || std::path::PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/age-python/bin/python")),
        std::path::PathBuf::from,
    );
    let mut command = Command::new(program);
    command.arg(script).args(words).current_dir(fleet.world.path("")).stdin(Stdio::null());
    let output = command.output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    (output.status.success(), text + &String::from_utf8_lossy(&output.stderr))
}

#[test]
#[ignore = "needs an agent and PyPI's package sshsig: scripts/test.sh"]
fn other_code_takes_our_signatures_and_we_take_others() {
    for (kind, algorithm) in [("ed25519", "ed25519"), ("rsa", "rsa-3072"), ("ecdsa", "ecdsa-p256")] {
        let fleet = fleet();
        let make = format!("key generate --passphrase none --folder home --name {kind} --algorithm {algorithm}");
        drop(fleet.run(&make).expect(0));
        let line = fleet.world.read(&format!("home/{kind}.pub"));
        let person = format!("name = \"Vala\"\n\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", line.trim());
        fleet.world.write("people/vala.toml", person, 0o644);
        // Signed by the agent, which has this key only.
        let agent = Agent::start(&fleet.world);
        let socket = agent.socket.display().to_string();
        let typed = |line: &str| {
            let words: Vec<&str> = line.split(' ').collect();
            fleet.world.run_with(&[("SSH_AUTH_SOCK", &socket)], &words)
        };
        drop(typed(&format!("agent hold home/{kind}")).expect(0));
        let left = typed("offboard sten --statement leaving.txt --yes");
        assert!(left.stderr.contains("signed by vala"), "{kind}: {left}");
        drop(fleet.run("history --verify leaving.txt").expect(0));
        // That package knows no ECDSA keys.
        if kind == "ecdsa" {
            continue;
        }
        let (is_right, said) = python(&fleet, &["check", &format!("home/{kind}.pub"), "leaving.txt"]);
        assert!(is_right, "{kind}: {said}");
        fleet.world.write("leaving.txt", fleet.world.read("leaving.txt") + " ", 0o644);
        assert!(!python(&fleet, &["check", &format!("home/{kind}.pub"), "leaving.txt"]).0);
        let (_, made) = python(&fleet, &["make", &format!("home/{kind}"), "leaving.txt"]);
        fleet.world.write("leaving.txt.sig", made, 0o644);
        drop(fleet.run("history --verify leaving.txt").expect(0));
    }
}
