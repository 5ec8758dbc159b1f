//! What a stand-in stands for, and whom it lets in by that.

use crate::Behaviour;
use crate::console::Console;
use crate::file_host::FileHost;
use crate::inside;
use crate::key_device::KeyDevice;
use crate::lost_line::LostLine;
use crate::netconf::Router;
use lavrin_keys::key::PublicKey;
use lavrin_server::account::{read_groups, read_passwd};
use lavrin_server::fs::{BytePath, Fact, Node, NodeKind, Why};
use lavrin_server::login::{self, Outcome, Question};
use lavrin_server::survey::LoginAttempt;
use lavrin_server::survey::{Observation, Want, Wanted};
use lavrin_server::system::System;
use russh::keys::ssh_key;
use std::collections::HashMap;
use std::os::unix::ffi::{OsStrExt as _, OsStringExt as _};
use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};
use tokio::process::Command;

/// Rounds of looking before a verdict.
const ROUNDS_MAX: usize = 20;

/// A device that is spoken to in another way than by a shell.
#[derive(Clone)]
pub(crate) enum Device {
    /// Over NETCONF.
    Router(Arc<Router>),
    /// Over the public key subsystem.
    Keys(Arc<KeyDevice>),
    /// Over the transfer of files.
    Files(Arc<FileHost>),
    /// Over a console of its own.
    Console(Arc<Console>),
}

/// What the stand-in stands for.
pub(crate) struct World {
    pub(crate) root: PathBuf,
    pub(crate) passwords: HashMap<String, String>,
    pub(crate) behaviour: Behaviour,
    pub(crate) lost_line: LostLine,
    /// What it is instead of a host with a shell.
    pub(crate) device: Option<Device>,
}

impl World {
    /// Whether the tree lets this key into the account, by the same verdict that `lavrin why` gives.
    pub(crate) fn lets_in(&self, account: &str, key: &ssh_key::PublicKey, from: std::net::IpAddr) -> bool {
        let Ok(blob) = key.to_bytes() else { return false };
        match &self.device {
            Some(Device::Router(router)) => return router.lets_in(account, &blob),
            Some(Device::Keys(device)) => return device.lets_in(account, &blob),
            Some(Device::Files(host)) => return host.lets_in(account, &blob),
            Some(Device::Console(console)) => return console.lets_in(account, &blob),
            None => {}
        }
        let Ok(key) = PublicKey::from_blob(&blob) else { return false };
        let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
        let question = Question::plain(account, &key, i64::try_from(now).unwrap_or(i64::MAX));
        let connection = LoginAttempt { from: Some(from), ..LoginAttempt::default() };
        let mut seen = Observation { connection, ..Observation::default() };
        for _ in 0..ROUNDS_MAX {
            let wants = login::wants(account, &System::of(&seen));
            if wants.is_empty() {
                break;
            }
            self.look(&wants, &mut seen);
        }
        login::judge(&question, &System::of(&seen)).outcome == Outcome::Accepted
    }

    /// Runs a script in the tree and gives what it printed.
    pub(crate) async fn run(&self, script: &str) -> String {
        let script = String::from_utf8_lossy(&inside::script(script.as_bytes(), self.tree())).into_owned();
        let output = Command::new("/bin/sh")
            .args(["-c", &script])
            .env_clear()
            .env("LAVRIN_STANDIN_ROOT", &self.root)
            .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
            .stdin(Stdio::null())
            .output()
            .await;
        output.map(|output| String::from_utf8_lossy(&output.stdout).into_owned()).unwrap_or_default()
    }

    pub(crate) fn look(&self, wants: &[Want], seen: &mut Observation) {
        for want in wants {
            match &want.what {
                Wanted::System(_) => {
                    let read = |path: &str| std::fs::read(self.root.join(path)).unwrap_or_default();
                    seen.accounts = Arc::new(read_passwd(&read("etc/passwd")));
                    seen.groups = Arc::new(read_groups(&read("etc/group")));
                    seen.looked = true;
                }
                Wanted::Node(path) => drop(seen.nodes.insert(path.clone(), self.node(path))),
                Wanted::Bytes(path, _) => {
                    let bytes = std::fs::read(self.inside(path)).map_or(Fact::Absent, Fact::Known);
                    seen.bytes.insert(path.clone(), bytes);
                }
                Wanted::Names(path) => {
                    let names = std::fs::read_dir(self.inside(path)).map_or(Fact::Absent, |entries| {
                        Fact::Known(entries.flatten().map(|entry| entry.file_name().into_vec()).collect())
                    });
                    seen.names.insert(path.clone(), names);
                }
                Wanted::PrivateKeys(_) | Wanted::Slots(_) | Wanted::Traces(_) => {
                    seen.give_up(want, &Why::NotReached);
                }
            }
        }
    }

    /// What is there. To whoever is root in the tree its owner is root.
    fn node(&self, path: &BytePath) -> Fact<Node> {
        let mut found = node(&self.inside(path));
        if let Fact::Known(node) = &mut found
            && self.behaviour.is_roots
            && std::fs::metadata(&self.root).is_ok_and(|root| root.uid() == node.uid)
        {
            (node.uid, node.gid) = (0, 0);
        }
        found
    }

    fn inside(&self, path: &BytePath) -> PathBuf {
        let inner = path.as_bytes().strip_prefix(b"/").unwrap_or(path.as_bytes());
        self.root.join(Path::new(std::ffi::OsStr::from_bytes(inner)))
    }
}

fn node(path: &Path) -> Fact<Node> {
    let Ok(meta) = path.symlink_metadata() else { return Fact::Absent };
    let kind = if meta.is_symlink() {
        NodeKind::Link(std::fs::read_link(path).map(|target| target.into_os_string().into_vec()).unwrap_or_default())
    } else if meta.is_file() {
        NodeKind::File
    } else if meta.is_dir() {
        NodeKind::Folder
    } else {
        NodeKind::Special
    };
    let mode = meta.permissions().mode() & 0o7777;
    Fact::Known(Node { kind, mode, uid: meta.uid(), gid: meta.gid(), access_list: false })
}
