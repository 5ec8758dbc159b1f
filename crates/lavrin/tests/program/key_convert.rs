//! `lavrin key convert`

use crate::common::servers::system;
use crate::common::{World, key, names};

fn world() -> World {
    let world = World::new();
    world.put_pair("edda", 1, "edda@lantern");
    world
}

fn facts(world: &World, file: &str, passphrase: &str) -> (bool, bool, String, Option<String>) {
    let answer = world
        .run_with(&[("P", passphrase)], &["key", "inspect", file, "--passphrase-env", "P", "--format", "json"])
        .json();
    let key = &answer["keys"][0];
    (
        key["encrypted"] == true,
        key["unlocked"] == true,
        key["fingerprint"].as_str().unwrap_or_default().to_owned(),
        key["comment"].as_str().map(str::to_owned),
    )
}

#[test]
fn the_public_half_is_recovered_from_the_private_one() {
    let world = world();
    std::fs::remove_file(world.path("home/edda.pub")).unwrap();
    let line = format!("{}\n", key(1).public().line("edda@lantern"));
    assert_eq!(world.typed("key convert home/edda --to line").expect(0).stdout, line);
    let _ = world.typed("key convert home/edda --to line --out home/edda.pub").expect(0);
    assert_eq!((world.read("home/edda.pub"), world.mode("home/edda.pub")), (line, "0644".to_owned()));
}

#[test]
fn a_key_without_protection_gets_one_and_the_old_file_moves_aside() {
    let world = world();
    let words = ["key", "convert", "home/edda", "--to", "openssh", "--out", "home/edda", "--new-passphrase-env", "P"];
    let refused = world.run_with(&[("P", "tide")], &words).expect(2);
    assert!(refused.stderr.contains("is there already"), "{refused}");
    let mut words = words.to_vec();
    words.extend(["--replace", "--comment", "edda, lamp room"]);
    insta::assert_snapshot!(world.run_with(&[("P", "tide")], &words).expect(0).to_string());
    let print = key(1).public().fingerprint().to_string();
    assert_eq!(facts(&world, "home/edda", "tide"), (true, true, print, Some("edda, lamp room".to_owned())));
    assert_eq!(world.mode("home/edda"), "0600");
    assert_eq!(names(&world.path("home")), ["edda", "edda.pub", "edda.until-20261123-080000"]);
}

#[test]
fn a_passphrase_stays_unless_another_is_chosen() {
    let world = world();
    let tide = [("P", "tide"), ("Q", "ebb")];
    let _ = world
        .run_with(
            &tide,
            &["key", "convert", "home/edda", "--to", "pkcs8", "--out", "home/a", "--new-passphrase-env", "P"],
        )
        .expect(0);
    let _ = world
        .run_with(&tide, &["key", "convert", "home/a", "--to", "openssh", "--out", "home/b", "--passphrase-env", "P"])
        .expect(0);
    assert!(facts(&world, "home/b", "tide").1 && !facts(&world, "home/b", "ebb").1);
    let _ = world
        .run_with(
            &tide,
            &[
                "key",
                "convert",
                "home/b",
                "--to",
                "openssh",
                "--out",
                "home/c",
                "--passphrase-env",
                "P",
                "--new-passphrase-env",
                "Q",
            ],
        )
        .expect(0);
    assert!(facts(&world, "home/c", "ebb").1);
    let wrong = world
        .run_with(&tide, &["key", "convert", "home/b", "--to", "openssh", "--out", "home/d", "--passphrase-env", "Q"])
        .expect(2);
    assert!(wrong.stderr.contains("the passphrase does not open it"), "{wrong}");
    let weak = world
        .run_with(&tide, &["key", "convert", "home/b", "--to", "pkcs1", "--out", "home/d", "--passphrase-env", "P"])
        .expect(2);
    assert!(weak.stderr.contains("no protection worth the name"), "{weak}");
    assert!(!world.path("home/d").exists());
}

#[test]
fn halves_of_different_keys_and_private_keys_on_the_screen_are_refused() {
    let world = world();
    let pair = format!("{}{}\n", world.read("home/edda"), key(2).public().line("sten"));
    let run = world.with_input(&pair, &["key", "convert", "-", "--to", "openssh", "--out", "home/x"]).expect(4);
    assert!(run.stderr.contains("belong to different keys"), "{run}");
    let _ = world.typed("key convert home/edda --to openssh").expect(2);
    let _ = world.typed("key convert home/edda.pub --to openssh --out home/x").expect(2);
    let _ = world.typed("key convert home/edda --to pkcs1 --out home/x").expect(2);
    assert!(!world.path("home/x").exists());
    let pair = format!("{}{}", world.read("home/edda"), world.read("home/edda.pub"));
    let _ = world.with_input(&pair, &["key", "convert", "-", "--to", "openssh", "--out", "home/x"]).expect(0);
    assert_eq!(world.mode("home/x"), "0600");
}

#[test]
fn devices_get_the_line_ends_they_want() {
    let world = world();
    let _ = world.typed("key convert home/edda.pub --to rfc4716 --line-ends crlf --out home/device.pub").expect(0);
    let text = world.read("home/device.pub");
    assert!(text.starts_with("---- BEGIN SSH2 PUBLIC KEY ----\r\nComment: \"edda@lantern\"\r\n"), "{text:?}");
    assert!(text.split_inclusive('\n').all(|line| line.ends_with("\r\n") && line.len() <= 74));
    assert_eq!(facts(&world, "home/device.pub", "").2, key(1).public().fingerprint().to_string());
}

#[test]
#[ignore = "needs openssl and python3-cryptography: scripts/test.sh"]
fn independent_readers_read_what_is_written() {
    let world = world();
    let path = |name: &str| world.path(&format!("home/{name}")).to_string_lossy().into_owned();
    let variables = [("P", "low water")];
    for (algorithm, containers) in [
        ("ed25519", vec!["pkcs8"]),
        ("ecdsa-p256", vec!["pkcs8", "sec1"]),
        ("ecdsa-p521", vec!["pkcs8", "sec1"]),
        ("rsa-3072", vec!["pkcs8", "pkcs1"]),
    ] {
        let _ = world
            .typed(&format!("key generate --algorithm {algorithm} --passphrase none --folder home --name {algorithm}"))
            .expect(0);
        let spki = world.typed(&format!("key convert home/{algorithm} --to spki")).expect(0).stdout;
        for container in containers {
            let name = format!("{algorithm}.{container}");
            let _ = world.typed(&format!("key convert home/{algorithm} --to {container} --out home/{name}")).expect(0);
            assert_eq!(
                system("openssl", &["pkey", "-in", &path(&name), "-pubout"]).replace(['\n'], ""),
                spki.replace('\n', ""),
                "{name}"
            );
        }
        let protect = |name: &str, container: &str| {
            let (from, to) = (path(algorithm), path(name));
            let words = ["key", "convert", &from, "--to", container, "--out", &to, "--new-passphrase-env", "P"];
            let _ = world.run_with(&variables, &words).expect(0);
        };
        let (protected, closed) = (format!("{algorithm}.protected"), format!("{algorithm}.closed"));
        protect(&protected, "pkcs8");
        protect(&closed, "openssh");
        let _ = system("openssl", &["pkey", "-in", &path(&protected), "-passin", "pass:low water", "-noout", "-check"]);
        let script = "import sys\nfrom cryptography.hazmat.primitives.serialization import *\nfor name, word in ((sys.argv[1], None), (sys.argv[2], b'low water')):\n    key = load_ssh_private_key(open(name, 'rb').read(), word)\n    print(key.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).decode())\n";
        let read = system("/usr/bin/python3", &["-c", script, &path(algorithm), &path(&closed)]);
        let own = world.read(&format!("home/{algorithm}.pub"));
        let own: Vec<&str> = own.split_whitespace().take(2).collect();
        assert!(read.lines().count() == 2 && read.lines().all(|line| line == own.join(" ")), "{read}");
    }
}

#[test]
#[ignore = "needs python3-cryptography: scripts/test.sh"]
fn keys_that_another_library_has_padded_its_own_way_are_read() {
    let world = World::new();
    let script = "import sys\nfrom cryptography.hazmat.primitives.asymmetric import ec\nfrom cryptography.hazmat.primitives.serialization import *\nfor n in range(20):\n    key = ec.generate_private_key([ec.SECP256R1(), ec.SECP384R1(), ec.SECP521R1()][n % 3])\n    open(sys.argv[1] + '/ec%d' % n, 'wb').write(key.private_bytes(Encoding.PEM, PrivateFormat.OpenSSH, NoEncryption()))\n    print(key.public_key().public_bytes(Encoding.OpenSSH, PublicFormat.OpenSSH).decode())\n";
    let folder = world.path("home");
    let public = system("/usr/bin/python3", &["-c", script, folder.to_str().unwrap()]);
    for (number, line) in public.lines().enumerate() {
        world.set_mode(&format!("home/ec{number}"), 0o600);
        let run = world.typed(&format!("key convert home/ec{number} --to line")).expect(0);
        assert_eq!(run.stdout.trim(), line, "{number}");
    }
}

#[test]
fn whoever_wants_pkcs8_is_told_what_the_stock_client_does_not_read() {
    let world = World::new();
    world.put_pair("edda", 1, "edda");
    let convert = |to: &str| {
        world.typed(&format!("key convert home/edda --to {to} --out home/{to} --new-passphrase none")).expect(0).stderr
    };
    assert!(convert("pkcs8").contains("--to openssh"));
    assert!(!convert("openssh").contains("--to openssh"));
}
