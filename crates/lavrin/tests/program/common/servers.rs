//! Real servers on loopback, started and ended by the test; accounts made and removed by it.

use super::World;
use super::releases::Release;
use std::net::TcpListener;
use std::os::unix::net::UnixDatagram;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::{Duration, Instant};

/// How long a server may take to listen.
const START_TIMEOUT: Duration = Duration::from_mins(1);

static ACCOUNTS: AtomicU32 = AtomicU32::new(0);

/// A port that nobody listens on at this moment.
pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// Runs a program of the system and fails the test where it fails.
#[track_caller]
pub fn system(program: &str, args: &[&str]) -> String {
    let output = Command::new(program)
        .args(args)
        .env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin")
        .output()
        .unwrap_or_else(|error| panic!("{program}: {error}"));
    assert!(output.status.success(), "{program} {args:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// An account of this machine, removed with its home when dropped.
pub struct Account {
    pub name: String,
    pub home: String,
}

pub const PASSWORD: &str = "low water at noon";

impl Account {
    pub fn new(shell: &str) -> Self {
        let number = ACCOUNTS.fetch_add(1, Ordering::Relaxed);
        let name = format!("lv{}x{number}", std::process::id() % 100_000);
        let home = format!("/home/{name}");
        // In case an earlier run was killed.
        let _ = Command::new("userdel").args(["-r", "-f", &name]).output();
        system("useradd", &["-m", "-U", "-K", "UID_MIN=20000", "-s", shell, &name]);
        let mut child = Command::new("chpasswd").stdin(Stdio::piped()).spawn().unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), format!("{name}:{PASSWORD}\n").as_bytes()).unwrap();
        assert!(child.wait().unwrap().success());
        Self { name, home }
    }

    pub fn file(&self, below: &str) -> String {
        format!("{}/{below}", self.home)
    }

    pub fn keys_file(&self) -> String {
        self.file(".ssh/authorized_keys")
    }

    /// Puts a file into the home, with mode and owner.
    pub fn put(&self, below: &str, content: &str, mode: &str, owner: &str) {
        let path = self.file(below);
        let folder = Path::new(&path).parent().unwrap();
        if !folder.exists() {
            std::fs::create_dir_all(folder).unwrap();
            system("chown", &[&format!("{0}:{0}", self.name), folder.to_str().unwrap()]);
            system("chmod", &["700", folder.to_str().unwrap()]);
        }
        std::fs::write(&path, content).unwrap();
        system("chmod", &[mode, &path]);
        system("chown", &[owner, &path]);
    }

    /// Mode and owner of something in the home, as `600 edda`.
    pub fn stat(&self, below: &str) -> String {
        system("stat", &["-c", "%a %U", &self.file(below)]).trim().replace(&self.name, "ACCOUNT")
    }
}

impl Drop for Account {
    fn drop(&mut self) {
        let _ = Command::new("pkill").args(["-KILL", "-u", &self.name]).output();
        let _ = Command::new("userdel").args(["-r", "-f", &self.name]).output();
    }
}

/// sudo without a password for one account, taken back when dropped.
pub struct Sudo(String);

impl Sudo {
    pub fn for_account(name: &str) -> Self {
        let path = format!("/etc/sudoers.d/lavrin-{name}");
        std::fs::write(&path, format!("{name} ALL=(ALL) NOPASSWD: ALL\n")).unwrap();
        system("chmod", &["440", &path]);
        Self(path)
    }
}

impl Drop for Sudo {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.0);
    }
}

/// The machine's own log, where no log service has it: read all the time, so that no program that writes into it waits, and
/// taken away when dropped.
pub struct SystemLog {
    socket: Arc<UnixDatagram>,
    ended: Arc<AtomicBool>,
    reader: Option<std::thread::JoinHandle<String>>,
}

impl SystemLog {
    const PATH: &str = "/dev/log";

    /// `None` where a log service listens there.
    pub fn take() -> Option<Self> {
        if Path::new(Self::PATH).exists() {
            if UnixDatagram::unbound().unwrap().connect(Self::PATH).is_ok() {
                return None;
            }
            // Nobody listens: it was left behind.
            std::fs::remove_file(Self::PATH).unwrap();
        }
        let socket = Arc::new(UnixDatagram::bind(Self::PATH).unwrap());
        socket.set_read_timeout(Some(Duration::from_millis(100))).unwrap();
        let ended = Arc::new(AtomicBool::new(false));
        let (own, end) = (socket.clone(), ended.clone());
        let reader = std::thread::spawn(move || {
            let (mut said, mut buffer) = (String::new(), [0; 4000]);
            loop {
                match own.recv(&mut buffer) {
                    Ok(length) => said += &(String::from_utf8_lossy(&buffer[..length]).into_owned() + "\n"),
                    // What came before the end was asked for has been read.
                    Err(_) if end.load(Ordering::SeqCst) => return said,
                    Err(_) => {}
                }
            }
        });
        Some(Self { socket, ended, reader: Some(reader) })
    }

    /// Everything that was written into it.
    pub fn end(mut self) -> String {
        self.stop()
    }

    fn stop(&mut self) -> String {
        self.ended.store(true, Ordering::SeqCst);
        let said = self.reader.take().map(|reader| reader.join().unwrap()).unwrap_or_default();
        let _ = self.socket.shutdown(std::net::Shutdown::Both);
        let _ = std::fs::remove_file(Self::PATH);
        said
    }
}

impl Drop for SystemLog {
    fn drop(&mut self) {
        if self.reader.is_some() {
            let _ = self.stop();
        }
    }
}

/// A server that was started and is ended by its process id.
pub struct Server {
    child: Child,
    pub port: u16,
    pub host_key: String,
    /// The name of its host key's file, where Lavrin made it.
    pub key_name: String,
    /// What it says.
    log: PathBuf,
    /// Its configuration, where it has a file.
    pub config: PathBuf,
}

impl Server {
    /// OpenSSH's server with this configuration; its host key is made by Lavrin.
    pub fn sshd(world: &World, config: &str) -> Self {
        Self::start(world, &world.path(""), config, Command::new("/usr/sbin/sshd"))
    }

    /// The same with its configuration in another folder.
    pub fn sshd_in(folder: &Path, world: &World, config: &str, server: Command) -> Self {
        Self::start(world, folder, config, server)
    }

    /// The same of another release.
    pub fn sshd_of(release: &Release, world: &World, config: &str) -> Self {
        Self::start(world, &world.path(""), config, release.command("/usr/sbin/sshd"))
    }

    fn start(world: &World, folder: &Path, config: &str, mut server: Command) -> Self {
        let number = ACCOUNTS.fetch_add(1, Ordering::Relaxed);
        let key_name = format!("hostkey-{number}");
        let host_key = host_key(world, &key_name);
        let pid = world.path(&format!("sshd-{number}.pid"));
        let path = folder.join(format!("sshd-{number}.conf"));
        let log = world.path(&format!("sshd-{number}.log"));
        server.args(["-D", "-f", path.to_str().unwrap(), "-E", log.to_str().unwrap()]).stdin(Stdio::null());
        std::fs::create_dir_all("/run/sshd").unwrap();
        Self::on_a_free_port(|port| {
            let text = format!(
                "Port {port}\nListenAddress 127.0.0.1\nHostKey {}\nPidFile {}\nMaxStartups 100:30:200\n{}",
                world.path(&format!("home/keys/hostkey-{number}")).display(),
                pid.display(),
                config.replace("$PORT", &port.to_string())
            );
            std::fs::write(&path, text).unwrap();
            let child = server.spawn().unwrap();
            Self {
                child,
                port,
                host_key: host_key.clone(),
                key_name: key_name.clone(),
                log: log.clone(),
                config: path.clone(),
            }
        })
    }

    /// Between the moment in which a port is free and the one in which the server takes it, another test may take it.
    fn on_a_free_port(mut start: impl FnMut(u16) -> Self) -> Self {
        (0..5).find_map(|_| start(free_port()).listening()).expect("a server that starts on one of five free ports")
    }

    /// Dropbear as on small devices; the host key is its own.
    pub fn dropbear(world: &World) -> Self {
        // With -R it makes its host keys itself, and only here.
        std::fs::create_dir_all("/etc/dropbear").unwrap();
        let log = world.path("dropbear.log");
        let pid = world.path("dropbear.pid");
        Self::on_a_free_port(|port| {
            let child = Command::new("/usr/sbin/dropbear")
                .args(["-F", "-E", "-R", "-p", &format!("127.0.0.1:{port}"), "-P", pid.to_str().unwrap()])
                .stdin(Stdio::null())
                .stderr(std::fs::File::create(&log).unwrap())
                .spawn()
                .unwrap();
            let (host_key, key_name, config) = (String::new(), String::new(), PathBuf::new());
            Self { child, port, host_key, key_name, log: log.clone(), config }
        })
    }

    /// Its host key as one line without a comment.
    pub fn public_line(&self, world: &World) -> String {
        let text = world.read(&format!("home/keys/{}.pub", self.key_name));
        text.split_whitespace().take(2).collect::<Vec<_>>().join(" ")
    }

    /// Has it read its configuration again.
    pub fn reload(&self) {
        let listens = || std::fs::read_to_string(&self.log).unwrap_or_default().matches("Server listening on").count();
        let before = listens();
        system("kill", &["-HUP", &self.child.id().to_string()]);
        let begun = Instant::now();
        while listens() == before {
            assert!(begun.elapsed() < START_TIMEOUT, "the server did not come back");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Once it listens; `None` where its port was taken meanwhile: whoever answers there then is not this server.
    fn listening(mut self) -> Option<Self> {
        let begun = Instant::now();
        loop {
            let ended = self.child.try_wait().unwrap().is_some();
            let said = std::fs::read_to_string(&self.log).unwrap_or_default();
            if ended && said.contains("Address already in use") {
                return None;
            }
            assert!(!ended && begun.elapsed() < START_TIMEOUT, "the server did not start: {said}");
            // A connection that ends without a login costs something on servers that count: they are not tried, they tell.
            let connects = || std::net::TcpStream::connect(("127.0.0.1", self.port)).is_ok();
            let answers = if self.key_name.is_empty() { connects() } else { said.contains("Server listening on") };
            if answers {
                return Some(self);
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Makes a host key with Lavrin and gives its fingerprint.
fn host_key(world: &World, name: &str) -> String {
    let made = world
        .typed(&format!("key generate --passphrase none --folder home/keys --name {name} --format json"))
        .expect(0);
    made.json()["fingerprint"].as_str().unwrap().to_owned()
}
