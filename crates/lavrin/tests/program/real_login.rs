//! Getting in at a real server: passwords, questions, keys in each container, the agent, sudo and doas, and each way to fail.

use crate::common::servers::{Account, PASSWORD, system};
use crate::common::site::{PLAIN, Running, Site, wait_for};
use std::process::{Command, Stdio};

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn each_failure_to_get_in_is_named() {
    let site = Site::new(PLAIN);
    let world = &site.world;
    let say = |line: &str| world.typed(&line.replace("TARGET", &site.target()));
    let port = site.server.port;
    let run = say(&format!("probe home/keys/edda.pub TARGET --port {}", crate::common::servers::free_port())).expect(3);
    assert!(run.stderr.contains("nothing listens on port"), "{run}");
    let run = say("probe home/keys/edda.pub edda@no-such-host.invalid").expect(3);
    assert!(run.stderr.contains("the name no-such-host.invalid is not known"), "{run}");
    let run = say(&format!("probe home/keys/edda.pub TARGET --port {port}")).expect(4);
    assert!(run.stderr.contains("is not known yet") && run.stderr.contains(&site.server.host_key), "{run}");
    let wrong = "SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU";
    let run = say(&format!("probe home/keys/edda.pub TARGET --port {port} --expect-host-key {wrong}")).expect(4);
    assert!(run.stderr.contains("has changed"), "{run}");
    let other = world.read("home/keys/edda.pub");
    world.write("home/.ssh/known_hosts", format!("[127.0.0.1]:{port} {other}"), 0o600);
    let run = say(&format!("probe home/keys/edda.pub TARGET --port {port} --expect-host-key {}", site.server.host_key))
        .expect(4);
    assert!(run.stderr.contains("has changed") && run.stderr.contains("line 1 of known_hosts"), "{run}");
    world.write("home/.ssh/known_hosts", "", 0o600);
    let run = site.run("why TARGET --key home/keys/edda.pub --identity home/keys/edda").expect(3);
    assert!(
        run.stderr.contains("it offers: publickey, password") && run.stderr.contains("refused: publickey with"),
        "{run}"
    );
    world.write("wrong", "high water", 0o600);
    let run = site.run("why TARGET --key home/keys/edda.pub --password-file wrong").expect(3);
    assert!(run.stderr.contains("refused: password with the password"), "{run}");
    // Confirmed once, the host's key is known from then on.
    assert!(world.read("home/.ssh/known_hosts").contains(&format!("[127.0.0.1]:{port} ssh-ed25519")));
    let _ = say(&format!("probe home/keys/edda.pub TARGET --port {port}")).expect(1);

    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let web = listener.local_addr().unwrap().port();
    let server = std::thread::spawn(move || {
        use std::io::Write as _;
        let (mut stream, _) = listener.accept().unwrap();
        let _ = stream.write_all(b"HTTP/1.1 400 Bad Request\r\n\r\n");
    });
    let run = say(&format!("probe home/keys/edda.pub TARGET --port {web}")).expect(3);
    assert!(run.stderr.contains("is not an SSH server: it answers 'HTTP/1.1 400"), "{run}");
    server.join().unwrap();
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_password_is_also_given_to_questions_of_the_server() {
    let site = Site::new("UsePAM yes\nPasswordAuthentication no\nKbdInteractiveAuthentication yes\n");
    let run = site.run("install home/keys/edda.pub TARGET --password-env PW --yes").expect(0);
    assert!(run.stderr.contains("with keyboard-interactive"), "{run}");
    assert!(site.client_gets_in("edda"));
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_second_method_is_said_and_the_entry_is_kept() {
    let site = Site::new("UsePAM no\nPasswordAuthentication yes\nAuthenticationMethods publickey,password\n");
    let config = "Match User root\nAuthenticationMethods publickey\n";
    let path = site.world.path(&site.config_name());
    let text = std::fs::read_to_string(&path).unwrap().replace("Match User root\n", config);
    std::fs::write(&path, text).unwrap();
    site.server.reload();
    let run = site.run("install home/keys/edda.pub TARGET --login root --identity home/keys/root --yes").expect(1);
    assert!(run.stdout.contains("the key alone is not enough: AuthenticationMethods publickey,password"), "{run}");
    assert_eq!(site.keys(), site.world.read("home/keys/edda.pub"));
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn a_person_confirms_the_host_key_and_types_the_password() {
    let site = Site::new(PLAIN);
    let line = format!("install home/keys/edda.pub {} --port {} --ask-password", site.target(), site.server.port);
    let dialogue = [("[yes/no]", "yes"), ("Password of ", PASSWORD), ("Carry these steps out?", "yes")];
    let (said, success) = crate::common::terminal::talk(&site.world, &line, &dialogue);
    assert!(success, "{said}");
    assert!(said.contains(&site.server.host_key) && said.contains("Trust and remember it?"), "{said}");
    assert!(said.contains("Carry these steps out?") && !said.contains(PASSWORD), "{said}");
    assert!(site.client_gets_in("edda"));
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn the_stock_client_signs_in_with_each_container_that_it_reads() {
    let site = Site::new(PLAIN);
    for (algorithm, container) in [
        ("ed25519", "openssh"),
        ("rsa-2048", "pkcs1"),
        ("rsa-3072", "pkcs8"),
        ("ecdsa-p256", "sec1"),
        ("ecdsa-p384", "pkcs8"),
    ] {
        let make = format!(
            "key generate --passphrase none --folder home/keys --name {container}-{algorithm}.openssh --algorithm {algorithm}"
        );
        let _ = site.world.typed(&make).expect(0);
        let name = format!("{container}-{algorithm}");
        let _ = site
            .world
            .typed(&format!("key convert home/keys/{name}.openssh --to {container} --out home/keys/{name}"))
            .expect(0);
        let _ = site
            .run(&format!("install home/keys/{name}.openssh.pub TARGET --login root --identity home/keys/root --yes"))
            .expect(0);
        assert!(site.client_gets_in(&name), "{name}");
        let _ = site.run(&format!("probe TARGET --identity home/keys/{name}")).expect(0);
    }
}

/// A rule for sudo or doas that is removed when dropped.
struct Rule(String);

impl Rule {
    fn new(path: &str, text: &str) -> Self {
        assert!(!std::path::Path::new(path).exists(), "{path} is there already");
        std::fs::write(path, text).unwrap();
        system("chmod", &["440", path]);
        Self(path.to_owned())
    }
}

impl Drop for Rule {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.0);
    }
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn rights_come_from_sudo_and_doas_with_and_without_a_password() {
    let site = Site::new(PLAIN);
    let helper = Account::new("/bin/bash");
    std::fs::write(helper.file(".bashrc"), "echo noise from a login shell; printf '\\nL B x\\n'\n").unwrap();
    helper.put(".ssh/authorized_keys", &site.world.read("home/keys/root.pub"), "600", &helper.name);
    let login = format!("--login {} --identity home/keys/root", helper.name);
    let install = format!("install home/keys/edda.pub TARGET {login} --yes");
    let remove = format!("remove home/keys/edda.pub TARGET {login} --yes");
    let run = site.run(&install).expect(3);
    assert!(run.stderr.contains("sudo refused") && run.stderr.contains("--ask-root-password"), "{run}");
    let sudoers = format!("/etc/sudoers.d/lavrin-test-{}", helper.name);
    {
        let _rule = Rule::new(&sudoers, &format!("{} ALL=(root) NOPASSWD: ALL\n", helper.name));
        let _ = site.run(&install).expect(0);
        assert_eq!(site.account.stat(".ssh/authorized_keys"), "600 ACCOUNT");
        let _ = site.run(&format!("audit 127.0.0.1 {login}"));
        let _ = site.run(&remove).expect(0);
    }
    {
        let _rule = Rule::new(&sudoers, &format!("{} ALL=(root) ALL\n", helper.name));
        let _ = site.run(&format!("{install} --root-password-env PW")).expect(0);
        let _ = site.run(&format!("{remove} --root-password-env PW")).expect(0);
        let wrong = site.run(&format!("{install} --root-by sudo --root-password-env USER")).expect(3);
        assert!(wrong.stderr.contains("the password is wrong"), "{wrong}");
    }
    {
        let _rule = Rule::new("/etc/doas.conf", &format!("permit {}\n", helper.name));
        let _ = site.run(&format!("{install} --root-by doas --root-password-env PW")).expect(0);
        assert_eq!(site.keys(), site.world.read("home/keys/edda.pub"));
        let _ = site.run(&format!("{remove} --root-by doas --root-password-env PW")).expect(0);
    }
    {
        let _rule = Rule::new("/etc/doas.conf", &format!("permit nopass {}\n", helper.name));
        let _ = site.run(&install).expect(0);
    }
    assert!(site.client_gets_in("edda"));
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn the_agent_signs_in() {
    let site = Site::new(PLAIN);
    let _ = site.run("install home/keys/edda.pub TARGET --password-env PW --yes").expect(0);
    let socket = site.world.path("agent");
    let agent = Command::new("/usr/bin/ssh-agent")
        .args(["-D", "-a", socket.to_str().unwrap()])
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let _agent = Running(agent);
    wait_for(|| socket.exists());
    let key = russh::keys::PrivateKey::from_openssh(site.world.read("home/keys/edda").as_bytes()).unwrap();
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let mut client = russh::keys::agent::client::AgentClient::connect_uds(&socket).await.unwrap();
        client.add_identity(&key, &[]).await.unwrap();
    });
    let line =
        format!("why {} --key home/keys/edda.pub --port {} --from-address 127.0.0.1", site.target(), site.server.port);
    let words: Vec<&str> = line.split_whitespace().collect();
    let run = site.world.run_with(&[("SSH_AUTH_SOCK", socket.to_str().unwrap())], &words).expect(0);
    assert!(run.stderr.contains("with publickey: agent"), "{run}");
}
