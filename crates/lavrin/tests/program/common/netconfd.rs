//! A real NETCONF server behind a real sshd, whose accounts are let in by the keys in its data. Each has a folder of its own that root
//! alone may enter: its socket believes whoever speaks there.

use super::servers::system;
use super::site::{Running, Site, wait_for};
use std::fmt::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// A server that runs.
pub struct Netconfd {
    _process: Running,
    folder: PathBuf,
}

const SOCKET: &str = "ncx.sock";
const STARTUP: &str = "startup.xml";

/// Says which keys an account has in the data.
const KEYS: &str = "#!/usr/bin/python3
import sys, xml.etree.ElementTree as E
s = '{urn:ietf:params:xml:ns:yang:ietf-system}'
for user in E.parse('STARTUP').getroot().iter(s + 'user'):
    if user.findtext(s + 'name') == sys.argv[1]:
        for key in user.iter(s + 'authorized-key'):
            print(key.findtext(s + 'algorithm'), ''.join((key.findtext(s + 'key-data') or '').split()))
";

/// A site whose sshd leads to it.
pub fn site() -> Site {
    Site::on_roots_own_by(|folder| {
        let keys = folder.join("keys.py");
        std::fs::write(&keys, KEYS.replace("STARTUP", folder.join(STARTUP).to_str().unwrap())).unwrap();
        system("chmod", &["755", keys.to_str().unwrap()]);
        format!(
            "UsePAM no\nPasswordAuthentication no\nAuthorizedKeysFile none\nAuthorizedKeysCommand {} %u\nAuthorizedKeysCommandUser root\n\
             Subsystem netconf \"/usr/sbin/netconf-subsystem --ncxserver-sockname=$PORT@{}\"\n",
            keys.display(),
            folder.join(SOCKET).display()
        )
    })
}

/// An account with keys by name of their place, and the two words of each.
pub type Seed<'a> = (&'a str, Vec<(String, String)>);

impl Netconfd {
    /// Starts it with these accounts; `target` is what it lets others write: `running` or `candidate`.
    pub fn start(site: &Site, target: &str, users: &[Seed<'_>]) -> Self {
        let folder = site.server.config.parent().unwrap().to_owned();
        let mut text = String::new();
        for (name, keys) in users {
            let _ = write!(text, "<user><name>{name}</name><password>$0$low water</password>");
            for (place, line) in keys {
                let (algorithm, data) = line.split_once(' ').unwrap();
                let data = data.split(' ').next().unwrap();
                let _ = write!(
                    text,
                    "<authorized-key><name>{place}</name><algorithm>{algorithm}</algorithm><key-data>{data}</key-data></authorized-key>"
                );
            }
            text += "</user>";
        }
        let text = format!(
            "<config xmlns=\"urn:ietf:params:xml:ns:netconf:base:1.0\"><system xmlns=\"urn:ietf:params:xml:ns:yang:ietf-system\"><authentication>{text}</authentication></system></config>"
        );
        std::fs::write(folder.join(STARTUP), text).unwrap();
        let port = site.server.port;
        let word = |name: &str, value: &Path| format!("--{name}={}", value.display());
        let child = Command::new("/usr/sbin/netconfd")
            .args(["--module=ietf-system", "--superuser=root", "--log-level=info", &format!("--target={target}")])
            .arg(format!("--port={port}"))
            .args([
                word("ncxserver-sockname", &folder.join(SOCKET)),
                word("startup", &folder.join(STARTUP)),
                word("log", &folder.join("netconfd.log")),
            ])
            .current_dir(&folder)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let running = Self { _process: Running(child), folder };
        wait_for(|| running.folder.join(SOCKET).exists());
        running
    }

    /// What it starts with the next time.
    pub fn startup(&self) -> String {
        std::fs::read_to_string(self.folder.join(STARTUP)).unwrap()
    }
}
