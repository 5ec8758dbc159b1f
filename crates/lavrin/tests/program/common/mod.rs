//! What the tests of the built program share: a temporary world with a home, a fixed clock and a cleared environment,
//! and one block of text for everything a run gave.

pub mod agent;
pub mod fleet;
pub mod hopping;
pub mod machine;
pub mod netconfd;
pub mod office;
pub mod random;
pub mod relay;
pub mod releases;
pub mod servers;
pub mod site;
pub mod terminal;

use lavrin_keys::key::Secret;
use lavrin_keys::key::container::openssh;
use lavrin_keys::key::generate::{Randomness, RsaBits};
use lavrin_keys::key::{PrivateKey, PublicKey};
use std::ffi::OsStr;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use tempfile::TempDir;

/// The moment at which every test runs.
pub const NOW: &str = "2026-11-23T08:00:00Z";

/// A key pair that is the same in every run; nobody may use it for anything.
pub fn key(seed: u8) -> PrivateKey {
    PrivateKey::ed25519(&[seed; 32]).unwrap()
}

/// Randomness without any, so that files come out the same in every run.
pub struct Fixed;

impl Randomness for Fixed {
    fn fill(&self, buffer: &mut [u8]) {
        buffer.fill(7);
    }

    fn rsa_pkcs8(&self, _: RsaBits) -> Option<Secret> {
        None
    }
}

/// What a run gave.
#[must_use = "snapshot it, or look at its exit status"]
pub struct Run {
    pub stdout: String,
    pub stderr: String,
    pub status: i32,
}

impl std::fmt::Display for Run {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(out, "{}--- stderr ---\n{}[exit status: {}]", self.stdout, self.stderr, self.status)
    }
}

impl Run {
    /// The standard output as JSON.
    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.stdout).unwrap_or_else(|error| panic!("{error}\n{self}"))
    }

    /// Fails the test unless the run ended with this status.
    #[track_caller]
    pub fn expect(self, status: i32) -> Self {
        assert_eq!(self.status, status, "\n{self}");
        self
    }
}

/// A temporary world.
pub struct World {
    dir: TempDir,
}

impl World {
    pub fn new() -> Self {
        let dir = tempfile::Builder::new().prefix("lavrin-test-").tempdir().unwrap();
        std::fs::set_permissions(dir.path(), std::fs::Permissions::from_mode(0o755)).unwrap();
        std::fs::create_dir(dir.path().join("home")).unwrap();
        Self { dir }
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.dir.path().join(below)
    }

    /// A command of the built program in this world.
    pub fn command<S: AsRef<OsStr>>(&self, args: &[S]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_lavrin"));
        command
            .args(args)
            .env_clear()
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .env("HOME", self.path("home"))
            .env("USER", "edda")
            .env("LAVRIN_NOW", NOW)
            .current_dir(self.dir.path())
            .stdin(Stdio::null());
        command
    }

    pub fn run<S: AsRef<OsStr>>(&self, args: &[S]) -> Run {
        self.finish(self.command(args))
    }

    pub fn run_with<S: AsRef<OsStr>>(&self, variables: &[(&str, &str)], args: &[S]) -> Run {
        let mut command = self.command(args);
        command.envs(variables.iter().copied());
        self.finish(command)
    }

    /// Runs a line as a person types it, through a shell that finds the built program.
    pub fn typed(&self, line: &str) -> Run {
        let words: Vec<&str> = line.split_whitespace().collect();
        self.run(&words)
    }

    pub fn with_input<S: AsRef<OsStr>>(&self, input: &str, args: &[S]) -> Run {
        let mut command = self.command(args);
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        self.readable(child.wait_with_output().unwrap())
    }

    pub fn finish(&self, mut command: Command) -> Run {
        self.readable(command.output().unwrap())
    }

    fn readable(&self, output: std::process::Output) -> Run {
        let here = self.dir.path().to_string_lossy().into_owned();
        let uid = rustix::process::getuid().as_raw();
        let text = |bytes: Vec<u8>| {
            String::from_utf8(bytes)
                .unwrap()
                .replace(&here, "$WORK")
                .replace(&format!("owner uid {uid}\n"), "owner uid $UID\n")
        };
        Run { stdout: text(output.stdout), stderr: text(output.stderr), status: output.status.code().unwrap_or(-1) }
    }

    pub fn write(&self, below: &str, content: impl AsRef<[u8]>, mode: u32) -> PathBuf {
        let path = self.path(below);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        if mode & 0o111 == 0 {
            std::fs::write(&path, content).unwrap();
        } else {
            write_program(&path, content.as_ref());
        }
        std::fs::set_permissions(&path, std::fs::Permissions::from_mode(mode)).unwrap();
        path
    }

    pub fn mode(&self, below: &str) -> String {
        format!("{:04o}", std::fs::symlink_metadata(self.path(below)).unwrap().mode() & 0o7777)
    }

    pub fn read(&self, below: &str) -> String {
        std::fs::read_to_string(self.path(below)).unwrap_or_else(|error| panic!("{below}: {error}"))
    }

    pub fn set_mode(&self, below: &str, mode: u32) {
        std::fs::set_permissions(self.path(below), std::fs::Permissions::from_mode(mode)).unwrap();
    }

    /// A pair of files in the home: `NAME` and `NAME.pub`.
    pub fn put_pair(&self, name: &str, seed: u8, comment: &str) -> PublicKey {
        let key = key(seed);
        let text = openssh::write(&key, comment, None, &Fixed).unwrap();
        self.write(&format!("home/{name}"), text.as_bytes(), 0o600);
        self.write(&format!("home/{name}.pub"), format!("{}\n", key.public().line(comment)), 0o644);
        key.public().clone()
    }

    /// A tree with two accounts that belong to whoever runs the test: edda has a home, sten a key file too.
    pub fn put_tree(&self) {
        let (uid, gid) = (rustix::process::getuid().as_raw(), rustix::process::getgid().as_raw());
        let account = |name: &str| format!("{name}:x:{uid}:{gid}::/home/{name}:/bin/sh\n");
        self.write("tree/etc/passwd", format!("{}{}", account("edda"), account("sten")), 0o644);
        self.write("tree/etc/group", "keepers:x:4711:\n", 0o644);
        self.write(
            "tree/home/sten/.ssh/authorized_keys",
            format!("# lamp room\n{}\n", key(2).public().line("sten@kvarnholm")),
            0o600,
        );
        std::fs::create_dir_all(self.path("tree/home/edda")).unwrap();
        for folder in ["tree/home/edda", "tree/home/sten"] {
            self.set_mode(folder, 0o755);
        }
        self.set_mode("tree/home/sten/.ssh", 0o700);
    }
}

/// Writes a file that is going to be run, by another process. This one never has it open: a program that another test starts at this
/// moment would hold it open for writing too for a short while, and until then the system refuses to run it ("text file busy").
pub fn write_program(path: &Path, content: &[u8]) {
    let mut writer =
        Command::new("/bin/sh").args(["-c", "exec cat >\"$1\"", "sh"]).arg(path).stdin(Stdio::piped()).spawn().unwrap();
    writer.stdin.take().unwrap().write_all(content).unwrap();
    assert!(writer.wait().unwrap().success(), "{}", path.display());
}

/// Names of a folder, sorted.
pub fn names(folder: &Path) -> Vec<String> {
    let mut names: Vec<String> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

/// Splits a line as a shell would, as far as the guide needs it.
pub fn words(line: &str) -> Vec<String> {
    let mut words = vec![String::new()];
    let mut quoted = false;
    for character in line.chars() {
        match character {
            '\'' => quoted = !quoted,
            ' ' if !quoted => words.push(String::new()),
            other => words.last_mut().unwrap().push(other),
        }
    }
    words.retain(|word| !word.is_empty());
    words
}
