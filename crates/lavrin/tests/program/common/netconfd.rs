//! Real NETCONF servers behind a real sshd, whose accounts are let in by the keys in its data. Each has a folder of its own that root
//! alone may enter: a socket there believes whoever speaks to it.

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
    site_with(|folder| {
        let socket = folder.join(SOCKET);
        format!("/usr/sbin/netconf-subsystem --ncxserver-sockname=$PORT@{}", socket.display())
    })
}

/// A site whose sshd starts the server over libnetconf2 for each session, built from the source beside these tests, with these
/// accounts.
pub fn site_of_libnetconf2(users: impl Fn(&Site) -> Vec<OwnedSeed>) -> Site {
    let site = site_with(|folder| {
        let program = folder.join("netconf2");
        let source = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/program/netconf2.c");
        let args = ["-o", program.to_str().unwrap(), source, "-I/usr/include/libnetconf2", "-lnetconf2", "-lyang"];
        system("cc", &args);
        format!("{} {} /usr/share/yuma/modules/ietf root", program.display(), folder.join(STARTUP).display())
    });
    let folder = site.server.config.parent().unwrap();
    std::fs::write(folder.join(STARTUP), system_of(&users(&site))).unwrap();
    site
}

/// What the server of a site has in its data, or starts with the next time.
pub fn startup(site: &Site) -> String {
    std::fs::read_to_string(site.server.config.parent().unwrap().join(STARTUP)).unwrap()
}

fn site_with(subsystem: impl Fn(&Path) -> String) -> Site {
    Site::on_roots_own_by(|folder| {
        let keys = folder.join("keys.py");
        std::fs::write(&keys, KEYS.replace("STARTUP", folder.join(STARTUP).to_str().unwrap())).unwrap();
        system("chmod", &["755", keys.to_str().unwrap()]);
        format!(
            "UsePAM no\nPasswordAuthentication no\nAuthorizedKeysFile none\nAuthorizedKeysCommand {} %u\nAuthorizedKeysCommandUser root\n\
             Subsystem netconf \"{}\"\n",
            keys.display(),
            subsystem(folder)
        )
    })
}

/// An account with keys by name of their place, and the two words of each.
pub type OwnedSeed = (String, Vec<(String, String)>);

/// These accounts, each with a password, as the model has them.
fn system_of(users: &[OwnedSeed]) -> String {
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
    format!(
        "<system xmlns=\"urn:ietf:params:xml:ns:yang:ietf-system\"><authentication>{text}</authentication></system>"
    )
}

impl Netconfd {
    /// Starts it with these accounts; `target` is what it lets others write: `running` or `candidate`.
    pub fn start(site: &Site, target: &str, users: &[OwnedSeed]) -> Self {
        let folder = site.server.config.parent().unwrap().to_owned();
        let text = format!("<config xmlns=\"urn:ietf:params:xml:ns:netconf:base:1.0\">{}</config>", system_of(users));
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
}
