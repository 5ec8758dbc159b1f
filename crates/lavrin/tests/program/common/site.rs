//! A world with a real OpenSSH server, an account and a key pair, for tests that work on it from outside.

use super::releases::Release;
use super::servers::{Account, PASSWORD, Server, system};
use super::{Run, World};
use std::io::Read;
use std::net::TcpStream;
use std::path::Path;
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

pub const PLAIN: &str = "UsePAM no\nPasswordAuthentication yes\nStrictModes yes\n";

/// A world with a server, an account and a key pair that Lavrin made.
pub struct Site {
    pub world: World,
    pub account: Account,
    pub server: Server,
    pub root_keys: RootKeys,
}

/// A key file for root that only the test's own servers read.
pub struct RootKeys(pub std::path::PathBuf);

impl RootKeys {
    pub fn new() -> Self {
        let folder = system("mktemp", &["-d", "/run/lavrin-test-XXXXXX"]);
        Self(std::path::Path::new(folder.trim()).join("root_keys"))
    }
}

impl Drop for RootKeys {
    fn drop(&mut self) {
        let folder = self.0.parent().unwrap();
        // It may be a disk of its own.
        let _ = Command::new("umount").args(["-l", folder.to_str().unwrap()]).stderr(Stdio::null()).status();
        let _ = std::fs::remove_dir_all(folder);
    }
}

/// A process of the test's own, ended when dropped.
pub struct Running(pub std::process::Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Waits until something is so, three minutes at most: the machine may have much else to do.
pub fn wait_for(mut done: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !done() {
        assert!(begun.elapsed() < Duration::from_mins(3), "it did not happen in time");
        std::thread::sleep(Duration::from_millis(50));
    }
}

impl Site {
    /// The server's configuration, by its name in the world.
    pub fn config_name(&self) -> String {
        let names = super::names(&self.world.path(""));
        names.into_iter().find(|name| name.starts_with("sshd-") && name.ends_with(".conf")).unwrap()
    }

    pub fn new(config: &str) -> Self {
        Self::with_shell(config, "/bin/sh")
    }

    pub fn with_shell(config: &str, shell: &str) -> Self {
        Self::start(config, shell, |world, _, config| Server::sshd(world, config))
    }

    /// With its configuration in a folder in which root alone decides, as on every real host.
    pub fn on_roots_own(config: &str) -> Self {
        Self::on_roots_own_with(config, std::process::Command::new("/usr/sbin/sshd"))
    }

    /// The same on a disk of its own, with room for little more than that.
    pub fn on_a_small_disk(config: &str) -> Self {
        Self::start(config, "/bin/sh", |world, folder, config| {
            let options = ["-t", "tmpfs", "-o", "size=64k,mode=755", "tmpfs", folder.to_str().unwrap()];
            super::servers::system("mount", &options);
            Server::sshd_in(folder, world, config, Command::new("/usr/sbin/sshd"))
        })
    }

    /// The same, with this server.
    pub fn on_roots_own_with(config: &str, program: Command) -> Self {
        Self::start(config, "/bin/sh", |world, folder, config| Server::sshd_in(folder, world, config, program))
    }

    /// The same with settings that depend on that folder.
    pub fn on_roots_own_by(config: impl Fn(&Path) -> String) -> Self {
        Self::start("", "/bin/sh", |world, folder, more| {
            Server::sshd_in(folder, world, &(config(folder) + more), Command::new("/usr/sbin/sshd"))
        })
    }

    /// With the server of another release.
    pub fn of(release: &Release, config: &str) -> Self {
        Self::start(config, "/bin/sh", |world, _, config| Server::sshd_of(release, world, config))
    }

    fn start(config: &str, shell: &str, server: impl FnOnce(&World, &Path, &str) -> Server) -> Self {
        let world = World::new();
        // Every folder above it has to be safe, which those below /tmp are not.
        let root_keys = RootKeys::new();
        let config = format!("{config}Match User root\nAuthorizedKeysFile {}\n", root_keys.0.display());
        let account = Account::new(shell);
        let server = server(&world, root_keys.0.parent().unwrap(), &config);
        let site = Self { world, account, server, root_keys };
        for name in ["edda", "root"] {
            let _ = site
                .world
                .typed(&format!(
                    "key generate --passphrase none --folder home/keys --name {name} --comment {name}@lantern"
                ))
                .expect(0);
        }
        std::fs::write(&site.root_keys.0, site.world.read("home/keys/root.pub")).unwrap();
        site
    }

    /// A register in which these people, each with a key by that name, may sign in to the account on these hosts.
    pub fn write_register(&self, people: &[&str], hosts: &[(&str, &Server)]) {
        let (world, account) = (&self.world, &self.account.name);
        let (mut access, mut entries) = (String::new(), String::new());
        for name in people {
            let key = world.read(&format!("home/keys/{name}.pub"));
            let text = format!("name = \"{name}\"\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n", key.trim());
            world.write(&format!("people/{name}.toml"), text, 0o644);
            access += &format!("[[grant]]\nperson = \"{name}\"\naccount = \"{account}\"\nhosts = [\"*\"]\n");
        }
        for (name, server) in hosts {
            let key = server.public_line(world);
            let address = format!("address = \"127.0.0.1\"\nport = {}\nhost_keys = [\"{key}\"]\n", server.port);
            entries += &format!("[{name}]\n{address}accounts = [\"{account}\"]\n");
        }
        world.write("lavrin.toml", "name = \"real\"\n", 0o644);
        world.write("access.toml", access, 0o644);
        world.write("hosts.toml", entries, 0o644);
    }

    pub fn target(&self) -> String {
        format!("{}@127.0.0.1", self.account.name)
    }

    pub fn run(&self, line: &str) -> Run {
        self.run_with(&[], line)
    }

    pub fn run_with(&self, variables: &[(&str, &str)], line: &str) -> Run {
        let line = line.replace("TARGET", &self.target()).replace("ACCOUNT", &self.account.name);
        let line = format!("{line} --port {} --expect-host-key {}", self.server.port, self.server.host_key);
        let words: Vec<&str> = line.split_whitespace().collect();
        let variables = [&[("PW", PASSWORD)], variables].concat();
        let run = self.world.run_with(&variables, &words);
        let clean = |text: String| text.replace(&self.account.name, "ACCOUNT");
        Run { stdout: clean(run.stdout), stderr: clean(run.stderr), status: run.status }
    }

    /// The real client with the key that Lavrin made.
    pub fn ssh(&self, key: &str, command: &str) -> Command {
        self.ssh_as(&self.account.name, key, command)
    }

    /// The same for another account.
    pub fn ssh_as(&self, account: &str, key: &str, command: &str) -> Command {
        let mut ssh = Command::new("/usr/bin/ssh");
        ssh.args([
            "-F",
            "none",
            "-o",
            "BatchMode=yes",
            "-o",
            "IdentitiesOnly=yes",
            "-o",
            "StrictHostKeyChecking=no",
            "-o",
            "LogLevel=ERROR",
        ])
        .arg("-o")
        .arg(format!("UserKnownHostsFile={}", self.world.path("client_known_hosts").display()))
        .arg("-i")
        .arg(self.world.path(&format!("home/keys/{key}")))
        .args(["-p", &self.server.port.to_string(), &format!("{account}@127.0.0.1"), command])
        .env_remove("SSH_AUTH_SOCK")
        .stdin(Stdio::null());
        ssh
    }

    pub fn client_gets_in(&self, key: &str) -> bool {
        let output = self.answered(key, "id -un");
        output.status.success() && String::from_utf8_lossy(&output.stdout).trim() == self.account.name
    }

    /// What the real client says once a server has listened to it. One that counts what is asked (`PerSourcePenalties`, since
    /// OpenSSH 9.8) cuts off new connections for 15 seconds and more, before it greets: that is no answer about the key. The
    /// client knows nothing of what Lavrin has asked before it, and does not wait by itself.
    fn answered(&self, key: &str, command: &str) -> Output {
        let begun = Instant::now();
        loop {
            let output = self.ssh(key, command).output().unwrap();
            let said = String::from_utf8_lossy(&output.stderr);
            if !said.contains("kex_exchange_identification") && !said.contains("Not allowed at this time") {
                return output;
            }
            assert!(begun.elapsed() < Duration::from_mins(2), "the server cuts the client off: {said}");
            std::thread::sleep(Duration::from_secs(1));
        }
    }

    /// Waits until the server cuts off who comes from this address. It counts a refused login when that connection has ended
    /// for the server, which is a moment after it has ended for the client.
    pub fn wait_until_held_off(&self) {
        wait_for(|| {
            let connection = TcpStream::connect(("127.0.0.1", self.server.port)).unwrap();
            connection.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
            let mut greeting = Vec::new();
            connection.take(4).read_to_end(&mut greeting).unwrap();
            greeting != b"SSH-"
        });
    }

    pub fn keys(&self) -> String {
        std::fs::read_to_string(self.account.keys_file()).unwrap_or_default()
    }
}
