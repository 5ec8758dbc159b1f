//! A PostgreSQL of one's own, for as long as it is needed: the real server from the system's packages, in a temporary folder, on a
//! socket that nobody else reaches.

use std::fs::{DirBuilder, Permissions};
use std::io::Error;
use std::os::unix::fs::{DirBuilderExt as _, PermissionsExt as _, chown};
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use tempfile::TempDir;

/// Where Debian's packages put each version.
const VERSIONS: &str = "/usr/lib/postgresql";

/// The oldest version that a store can be in.
const OLDEST: u32 = 15;

/// How long the server may take until it answers.
const STARTS: Duration = Duration::from_mins(1);

/// The user that the server runs as where root starts it: it refuses to be root.
const SERVER_USER: &str = "postgres";

/// The port that a socket is named after where nothing else is said.
const PORT: u16 = 5432;

/// How a server is ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stopping {
    /// What is open is taken back, and everything is written down.
    Orderly,
    /// As if the power failed.
    Immediate,
}

/// A server that is running, or can be started again. Dropping it ends it and removes what it kept.
#[derive(Debug)]
pub struct DatabaseServer {
    folder: TempDir,
    programs: PathBuf,
    user: Option<(u32, u32)>,
    options: Vec<String>,
    port: Option<u16>,
    running: Option<Child>,
}

impl DatabaseServer {
    /// The folder of the newest server that is installed; none where there is none that is new enough.
    #[must_use]
    pub fn programs() -> Option<PathBuf> {
        let list = std::fs::read_dir(VERSIONS).ok()?;
        let version =
            |path: &PathBuf| path.file_name()?.to_str()?.parse::<u32>().ok().filter(|version| *version >= OLDEST);
        let found = list.filter_map(|entry| Some(entry.ok()?.path())).filter_map(|path| Some((version(&path)?, path)));
        let newest = found.filter(|(_, path)| path.join("bin/initdb").is_file()).max()?;
        Some(newest.1.join("bin"))
    }

    /// Makes and starts one; each option is a setting of the server, as `name=value`.
    ///
    /// # Errors
    /// Of the system; [`std::io::ErrorKind::NotFound`] where no server is installed.
    pub fn start(options: &[&str]) -> Result<Self, Error> {
        let programs = Self::programs().ok_or_else(|| Error::from(std::io::ErrorKind::NotFound))?;
        let user = if rustix::process::geteuid().is_root() { Some(ids_of(SERVER_USER)?) } else { None };
        // The name of a socket has to be short.
        let folder = tempfile::Builder::new()
            .prefix("lavrin-db-")
            .permissions(Permissions::from_mode(0o700))
            .tempdir_in("/tmp")?;
        let options = options.iter().map(|option| (*option).to_owned()).collect();
        let mut server = Self { folder, programs, user, options, port: None, running: None };
        if let Some((uid, gid)) = user {
            chown(server.folder.path(), Some(uid), Some(gid))?;
        }
        let made = server
            .command("initdb")
            .args(["--username=postgres", "--auth=trust", "--encoding=UTF8", "--locale=C", "--no-sync", "-D"])
            .arg(server.data())
            .output()?;
        if !made.status.success() {
            return Err(Error::other(String::from_utf8_lossy(&made.stderr).into_owned()));
        }
        server.begin()?;
        Ok(server)
    }

    /// Starts it again after it was stopped.
    ///
    /// # Errors
    /// Of the system, and where it does not answer in time.
    pub fn begin(&mut self) -> Result<(), Error> {
        let mut command = self.command("postgres");
        command.arg("-D").arg(self.data()).arg("-k").arg(self.folder.path());
        let own = if self.port.is_none() { vec!["listen_addresses=", "fsync=off"] } else { vec!["fsync=off"] };
        for option in own.into_iter().chain(self.options.iter().map(String::as_str)) {
            command.args(["-c", option]);
        }
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn()?;
        let until = Instant::now() + STARTS;
        while !self.answers()? {
            if let Some(status) = child.try_wait()? {
                return Err(Error::other(format!("the server ended at once: {status}")));
            }
            if Instant::now() > until {
                let _ = child.kill();
                let _ = child.wait();
                return Err(Error::other("the server does not answer"));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        self.running = Some(child);
        Ok(())
    }

    /// Restarts it with more lines in its settings, on this port.
    ///
    /// # Errors
    /// Of the system, and where it does not answer in time.
    pub fn restart_with(&mut self, settings: &str, port: u16) -> Result<(), Error> {
        self.stop(Stopping::Orderly)?;
        let path = self.data().join("postgresql.conf");
        let before = std::fs::read_to_string(&path)?;
        std::fs::write(&path, before + settings)?;
        self.port = Some(port);
        self.begin()
    }

    fn answers(&self) -> Result<bool, Error> {
        let port = self.port.unwrap_or(PORT).to_string();
        let status = self.command("pg_isready").args(["-q", "-p", &port, "-h"]).arg(self.folder.path()).status()?;
        Ok(status.success())
    }

    /// Ends it, and waits until it is gone.
    ///
    /// # Errors
    /// Of the system.
    pub fn stop(&mut self, how: Stopping) -> Result<(), Error> {
        let Some(mut child) = self.running.take() else { return Ok(()) };
        let signal = match how {
            Stopping::Orderly => rustix::process::Signal::INT,
            Stopping::Immediate => rustix::process::Signal::QUIT,
        };
        let id = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw);
        if let Some(id) = id {
            rustix::process::kill_process(id, signal)?;
        }
        child.wait().map(drop)
    }

    /// Runs statements as the server's administrator in a database, and gives what they print.
    ///
    /// # Errors
    /// Of the system, and what the server says.
    pub fn run(&self, database: &str, sql: &str) -> Result<String, Error> {
        self.run_as("postgres", database, sql)
    }

    /// The same as another login.
    ///
    /// # Errors
    /// Of the system, and what the server says.
    pub fn run_as(&self, login: &str, database: &str, sql: &str) -> Result<String, Error> {
        let done = self
            .command("psql")
            .args(["-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-U", login, "-d", database, "-c", sql])
            .args(["-p", &self.port.unwrap_or(PORT).to_string(), "-h"])
            .arg(self.folder.path())
            .output()?;
        if !done.status.success() {
            return Err(Error::other(String::from_utf8_lossy(&done.stderr).into_owned()));
        }
        Ok(String::from_utf8_lossy(&done.stdout).trim_end().to_owned())
    }

    /// The address of a database for a login.
    #[must_use]
    pub fn url(&self, login: &str, database: &str) -> String {
        let folder = self.folder.path().display().to_string().replace('/', "%2F");
        format!("postgresql://{login}@{folder}/{database}")
    }

    /// The folder of its files and of its socket.
    #[must_use]
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// Where it keeps its data and settings.
    #[must_use]
    pub fn data(&self) -> PathBuf {
        self.folder.path().join("data")
    }

    /// A file of its own beside the data, which only the server and root read.
    ///
    /// # Errors
    /// Of the system.
    pub fn put(&self, name: &str, bytes: &[u8]) -> Result<PathBuf, Error> {
        let path = self.folder.path().join(name);
        if let Some(parent) = path.parent().filter(|parent| !parent.is_dir()) {
            DirBuilder::new().mode(0o700).create(parent)?;
        }
        std::fs::write(&path, bytes)?;
        std::fs::set_permissions(&path, Permissions::from_mode(0o600))?;
        if let Some((uid, gid)) = self.user {
            chown(&path, Some(uid), Some(gid))?;
        }
        Ok(path)
    }

    /// One of its programs, as its user, with nothing of this environment.
    fn command(&self, name: &str) -> Command {
        let mut command = Command::new(self.programs.join(name));
        command.env_clear().env("LC_ALL", "C").env("PATH", "/usr/bin:/bin").current_dir("/").stdin(Stdio::null());
        if let Some((uid, gid)) = self.user {
            command.uid(uid).gid(gid);
        }
        command
    }
}

impl Drop for DatabaseServer {
    fn drop(&mut self) {
        let _ = self.stop(Stopping::Immediate);
    }
}

/// User and group of a name.
fn ids_of(name: &str) -> Result<(u32, u32), Error> {
    let passwd = std::fs::read_to_string("/etc/passwd")?;
    let line = passwd.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(':'));
    let ids = line.and_then(|line| {
        let mut fields = line.split(':').skip(1);
        Some((fields.next()?.parse().ok()?, fields.next()?.parse().ok()?))
    });
    ids.ok_or_else(|| Error::other(format!("there is no user '{name}' here, and the server refuses to run as root")))
}
