//! The servers of three Debian releases: that of this machine as it is, the others out of trees that scripts/server-trees.sh
//! makes.

use std::path::PathBuf;
use std::process::Command;

/// A release with the versions of its servers, as `--server` names them.
pub struct Release {
    suite: &'static str,
    pub openssh: &'static str,
    pub dropbear: &'static str,
}

impl Release {
    pub const BULLSEYE: Self = Self { suite: "bullseye", openssh: "openssh-8.4+debian", dropbear: "dropbear-2020.81" };
    pub const BOOKWORM: Self = Self { suite: "bookworm", openssh: "openssh-9.2+debian", dropbear: "dropbear-2022.83" };
    pub const TRIXIE: Self = Self { suite: "trixie", openssh: "openssh-10.0+debian", dropbear: "dropbear-2025.89" };

    /// Its name.
    pub fn suite(&self) -> &'static str {
        self.suite
    }

    /// A program of this release, which sees this machine's accounts and files but those below /usr.
    pub fn command(&self, program: &str) -> Command {
        let own = std::fs::read_to_string("/etc/os-release").unwrap();
        if own.lines().any(|line| line == format!("VERSION_CODENAME={}", self.suite)) {
            return Command::new(program);
        }
        let tree = trees().join(self.suite);
        assert!(tree.join("made").exists(), "{} is missing: scripts/server-trees.sh makes it", tree.display());
        let mut command = Command::new("unshare");
        command.args(["--mount", "--propagation", "private", "--", "/bin/sh", "-c"]);
        command.arg("mount --bind \"$0\" /usr && exec \"$@\"").arg(tree.join("usr")).arg(program);
        command
    }
}

fn trees() -> PathBuf {
    std::env::var_os("LAVRIN_SERVER_TREES")
        .map_or_else(|| PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/server-trees")), PathBuf::from)
}
