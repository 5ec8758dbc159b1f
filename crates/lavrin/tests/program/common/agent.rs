//! A real agent of OpenSSH, on a socket of the test's own.

use super::World;
use super::site::{Running, Site, wait_for};
use std::io::{Read as _, Write as _};
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::process::{Command, Stdio};

/// The agent's process.
pub struct Agent {
    _process: Running,
    pub socket: PathBuf,
}

impl Agent {
    pub fn start(world: &World) -> Self {
        let socket = world.path("agent.sock");
        let mut agent = Command::new("/usr/bin/ssh-agent");
        agent.arg("-D").arg("-a").arg(&socket).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let process = Running(agent.spawn().unwrap());
        wait_for(|| UnixStream::connect(&socket).is_ok());
        Self { _process: process, socket }
    }

    /// Locks it with a passphrase, or unlocks it (draft-ietf-sshm-ssh-agent: messages 22 and 23).
    pub fn lock(&self, message: u8) {
        let mut stream = UnixStream::connect(&self.socket).unwrap();
        stream.write_all(&[0, 0, 0, 8, message, 0, 0, 0, 3, b'l', b'o', b'w']).unwrap();
        let mut answer = [0; 5];
        stream.read_exact(&mut answer).unwrap();
        assert_eq!(answer[4], 6, "the agent takes the lock");
    }
}

/// The real client, which has nothing but the agent.
pub fn gets_in_by_agent(site: &Site, agent: &Agent) -> bool {
    let mut ssh = Command::new("/usr/bin/ssh");
    let options = "-F none -o BatchMode=yes -o StrictHostKeyChecking=no -o LogLevel=ERROR -o IdentityFile=none";
    let hosts = format!("UserKnownHostsFile={}", site.world.path("client_known_hosts").display());
    ssh.args(options.split(' ')).args(["-o", &hosts, "-p", &site.server.port.to_string()]);
    ssh.args([&site.target(), "true"]).env("SSH_AUTH_SOCK", &agent.socket);
    ssh.stdin(Stdio::null()).stderr(Stdio::null()).status().unwrap().success()
}
