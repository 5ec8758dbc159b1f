//! Whole machines with systemd, booted by the test out of trees that scripts/machine-trees.sh makes; what they change lies in a
//! folder of the test's own. They share the network of this machine, each on an address of its own below 127.0.0.0/8.

use super::World;
use super::servers::{free_port, system};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// How long a machine may take to answer: some seconds, and more beside other tests.
const BOOT_TIMEOUT: Duration = Duration::from_mins(4);

static NUMBER: AtomicU8 = AtomicU8::new(10);

/// A machine that runs.
pub struct Machine {
    process: Child,
    tree: TreeCopy,
    pub address: String,
    pub port: u16,
}

impl Machine {
    /// Boots one. Root gets in with the key `root` of the world; `change` may change its tree before.
    pub fn boot(suite: &str, world: &World, change: impl FnOnce(&Path, &str, u16)) -> Self {
        let tree = TreeCopy::of(suite);
        let root = tree.root();
        let address = format!("127.0.0.{}", NUMBER.fetch_add(1, Ordering::Relaxed));
        let port = free_port();
        // The stock client asks by which methods it would get in, again and again; newer servers count that.
        let penalties = if suite == "trixie" { "PerSourcePenalties no\n" } else { "" };
        let config = format!("ListenAddress {address}\nPort {port}\n{penalties}");
        std::fs::write(root.join("etc/ssh/sshd_config.d/50-test.conf"), config).unwrap();
        std::fs::create_dir_all(root.join("root/.ssh")).unwrap();
        std::fs::write(root.join("root/.ssh/authorized_keys"), world.read("home/keys/root.pub")).unwrap();
        // A second server is there, for tests that want it.
        let _ = std::fs::remove_file(root.join("etc/systemd/system/multi-user.target.wants/dropbear.service"));
        change(&root, &address, port);
        let process = started(&root, &address);
        let machine = Self { process, tree, address, port };
        machine.wait_until_it_answers();
        machine
    }

    /// Starts it anew, as somebody does who types that there.
    pub fn restart(&mut self, world: &World) {
        drop(self.ssh(world, &[], "systemctl reboot"));
        let begun = Instant::now();
        // Where the file systems of this machine do not allow it to come up again by itself it is started here.
        while matches!(self.process.try_wait(), Ok(None)) {
            assert!(begun.elapsed() < BOOT_TIMEOUT, "the machine does not end");
            std::thread::sleep(Duration::from_millis(100));
        }
        self.process = started(&self.path(""), &self.address);
        self.wait_until_it_answers();
    }

    /// Its tree, as it is at this moment.
    pub fn path(&self, below: &str) -> PathBuf {
        self.tree.root().join(below)
    }

    pub fn is_up(&self) -> bool {
        TcpStream::connect((self.address.as_str(), self.port)).is_ok()
    }

    pub fn wait_until_it_answers(&self) {
        let begun = Instant::now();
        while !self.is_up() {
            assert!(begun.elapsed() < BOOT_TIMEOUT, "the machine does not answer");
            std::thread::sleep(Duration::from_millis(200));
        }
    }

    /// The stock client, as root.
    pub fn ssh(&self, world: &World, options: &[&str], command: &str) -> std::process::Output {
        let mut ssh = Command::new("/usr/bin/ssh");
        ssh.args(["-F", "none", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=no", "-o", "IdentitiesOnly=yes"]);
        ssh.args(["-o", "UserKnownHostsFile=/dev/null", "-i"]).arg(world.path("home/keys/root"));
        ssh.args(options).args(["-p", &self.port.to_string(), &format!("root@{}", self.address), command]);
        ssh.env_remove("SSH_AUTH_SOCK").stdin(Stdio::null()).output().unwrap()
    }

    /// What a command says there.
    pub fn says(&self, world: &World, command: &str) -> String {
        String::from_utf8_lossy(&self.ssh(world, &[], command).stdout).into_owned()
    }

    /// The fingerprint of its host key.
    pub fn host_key(&self, world: &World) -> String {
        let path = self.path("etc/ssh/ssh_host_ed25519_key.pub");
        let shown = world.run(&["key", "inspect", path.to_str().unwrap(), "--format", "json"]);
        let text = shown.stdout;
        text.split('"').find(|word| word.starts_with("SHA256:")).expect("a fingerprint").to_owned()
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        let _ = Command::new("kill").args(["-TERM", &self.process.id().to_string()]).status();
        let begun = Instant::now();
        while matches!(self.process.try_wait(), Ok(None)) && begun.elapsed() < Duration::from_secs(20) {
            std::thread::sleep(Duration::from_millis(100));
        }
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

/// The tree of a release with a layer above it that takes what is changed.
pub struct TreeCopy(TempDir);

impl TreeCopy {
    pub fn of(suite: &str) -> Self {
        let tree = trees().join(suite);
        assert!(tree.join("made").exists(), "{} is missing: scripts/machine-trees.sh makes it", tree.display());
        let dir = tempfile::Builder::new().prefix("lavrin-machine-").tempdir().unwrap();
        let root = dir.path().join("root");
        for folder in ["upper", "work", "root"] {
            std::fs::create_dir(dir.path().join(folder)).unwrap();
        }
        let layers = ["lowerdir", "upperdir", "workdir"].into_iter().zip([
            tree,
            dir.path().join("upper"),
            dir.path().join("work"),
        ]);
        let layers: Vec<String> = layers.map(|(name, path)| format!("{name}={}", path.display())).collect();
        system("mount", &["-t", "overlay", "overlay", "-o", &layers.join(","), root.to_str().unwrap()]);
        Self(dir)
    }

    pub fn root(&self) -> PathBuf {
        self.0.path().join("root")
    }
}

impl Drop for TreeCopy {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(self.root()).status();
    }
}

fn started(root: &Path, address: &str) -> Child {
    let mut nspawn = Command::new("systemd-nspawn");
    // One start for each process, so that a restart behaves the same wherever the tests run.
    nspawn.arg("-D").arg(root).args(["--boot", "--register=no", "--keep-unit", "--quiet"]);
    nspawn.arg(format!("--machine=lavrin-{}", address.replace('.', "-")));
    nspawn.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap()
}

fn trees() -> PathBuf {
    std::env::var_os("LAVRIN_MACHINE_TREES").map_or_else(
        || PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/machine-trees")),
        PathBuf::from,
    )
}
