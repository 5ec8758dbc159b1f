//! The hosts of the demo's register: lighthouses with a shell, a router, a buoy. They run until the demo ends.

use crate::error::CommandError;
use crate::exit::Exit;
use lavrin_server::device::KeyPlaces;
use lavrin_standin::{
    Behaviour, Console, ConsoleKnobs, DeviceUser, FileHost, FileHostKnobs, KeyDevice, KeyDeviceKnobs, Router,
    RouterKnobs, StandIn, StoredFile, TreeAccount, fresh_line,
};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;

/// How long the host that waits for a proof may take to put its settings back: it waits for ten seconds.
const HEALED: Duration = Duration::from_secs(30);

/// The keys with which they begin, each as a line.
pub struct FirstKeys {
    pub edda: String,
    pub sten: String,
}

/// Those that run.
pub struct DemoHosts<'a> {
    runtime: &'a Runtime,
    running: Vec<(&'static str, StandIn)>,
}

impl<'a> DemoHosts<'a> {
    pub fn new(runtime: &'a Runtime) -> Self {
        Self { runtime, running: Vec::new() }
    }

    /// Their names.
    pub fn names(&self) -> impl Iterator<Item = &'static str> {
        self.running.iter().map(|(name, _)| *name)
    }

    fn of(&self, name: &str) -> Option<&StandIn> {
        self.running.iter().find(|(own, _)| *own == name).map(|(_, host)| host)
    }

    /// Where one is reached, as it is typed.
    pub fn address(&self, name: &str) -> String {
        let port = self.of(name).map_or(0, |host| host.address().port());
        format!("--address 127.0.0.1 --port {port}")
    }

    /// The port of one.
    pub fn port(&self, name: &str) -> u16 {
        self.of(name).map_or(0, |host| host.address().port())
    }

    /// The fingerprint of its host key.
    pub fn print(&self, name: &str) -> String {
        self.of(name).map(|host| host.host_key().to_string()).unwrap_or_default()
    }

    fn add(&mut self, name: &'static str, started: lavrin_standin::Starting<'_>) -> Result<(), CommandError> {
        let host = self.runtime.block_on(started).map_err(|error| CommandError::usage(error.to_string()))?;
        self.running.push((name, host));
        Ok(())
    }

    /// Two lighthouses: root has Edda's key there, the keeper's account the keys of years.
    pub fn light_the_lamps(&mut self, keys: &FirstKeys) -> Result<(), CommandError> {
        let runas = format!("{} runa@kvarnholm\n", fresh_line());
        let keeper = [format!("{}{runas}{}\n", keys.sten, fresh_line()), format!("{runas}{}", keys.sten)];
        for (name, own) in ["kvarnholm", "skerry"].into_iter().zip(&keeper) {
            let accounts = [
                TreeAccount { name: "root", shell: "/bin/sh", keys: Some(&keys.edda) },
                TreeAccount { name: "keeper", shell: "/bin/sh", keys: Some(own) },
            ];
            self.add(name, StandIn::with(name, &accounts, Behaviour::default()))?;
        }
        Ok(())
    }

    /// A lighthouse that takes passwords, and loses its line once they end.
    pub fn light_ytterskar(&mut self, keys: &FirstKeys) -> Result<(), CommandError> {
        let accounts = [TreeAccount { name: "root", shell: "/bin/sh", keys: Some(&keys.edda) }];
        let behaviour = Behaviour { is_roots: true, is_lost_once: true, ..Behaviour::default() };
        self.add("ytterskar", StandIn::with("ytterskar", &accounts, behaviour))
    }

    /// A router at a lighthouse and a small device on a buoy: both know Edda, and an old key that nobody knows. The
    /// readings of one are fetched with a key that was left elsewhere.
    pub fn start_the_devices(&mut self, keys: &FirstKeys, stray: &str) -> Result<(), CommandError> {
        let old = format!("{} the old radio", fresh_line());
        let users = vec![
            DeviceUser::with("root", &[&keys.edda]),
            DeviceUser::with("keeper", &[keys.sten.as_str(), old.as_str()]),
        ];
        let knobs = RouterKnobs { candidate: true, confirmed_commit: Some("1.1"), ..RouterKnobs::default() };
        let router = Arc::new(Router::new(users, knobs));
        self.add("grindholm", StandIn::router("grindholm", router, Behaviour::default()))?;
        let buoy = Arc::new(KeyDevice::new("keeper", &[&keys.edda, &old], KeyDeviceKnobs::default()));
        self.add("buoy-4", StandIn::key_device("buoy-4", buoy, Behaviour::default()))?;
        self.start_the_archive(keys, &old)?;
        let keeper = format!("{}{old}\n", keys.edda);
        let root = format!("{}{stray}", keys.edda);
        let accounts = [
            TreeAccount { name: "root", shell: "/bin/sh", keys: Some(&root) },
            TreeAccount { name: "keeper", shell: "/bin/sh", keys: Some(&keeper) },
        ];
        let forgets = Behaviour { forgets: true, ..Behaviour::default() };
        self.add("buoy-7", StandIn::with("buoy-7", &accounts, forgets))?;
        let keys: [&str; 2] = [&keys.edda, &old];
        let console = Console::new(&[("keeper", None, &keys)], ConsoleKnobs::default());
        self.add("horn-2", StandIn::console("horn-2", Arc::new(console), Behaviour::default()))
    }

    /// The archive of tide readings gives nothing but files.
    fn start_the_archive(&mut self, keys: &FirstKeys, old: &str) -> Result<(), CommandError> {
        let text = format!("# keepers of the readings\n{}{old}\n", keys.edda);
        let files = vec![
            ("/home/keeper", StoredFile::folder(1000, 0o755)),
            ("/home/keeper/.ssh", StoredFile::folder(1000, 0o700)),
            ("/home/keeper/.ssh/authorized_keys", StoredFile::file(1000, 0o644, &text)),
        ];
        let archive = FileHost::new(files, KeyPlaces::default(), FileHostKnobs::default());
        self.add("tide-archive", StandIn::file_host("tide-archive", Arc::new(archive), Behaviour::default()))
    }

    /// What a helpful stranger does on Skerry.
    pub fn add_by_hand(&self) -> std::io::Result<()> {
        use std::io::Write as _;
        let Some(host) = self.of("skerry") else { return Ok(()) };
        let mut file = std::fs::OpenOptions::new().append(true).open(host.file("/home/keeper/.ssh/authorized_keys"))?;
        writeln!(file, "{} lamp oil delivery", fresh_line())
    }

    /// Waits for the time after which Ytterskar puts its settings back.
    pub fn wait_until_healed(&self) -> Result<(), CommandError> {
        let Some(host) = self.of("ytterskar") else { return Ok(()) };
        let begun = Instant::now();
        while host.file("/etc/ssh/.put-back").exists() {
            if begun.elapsed() > HEALED {
                return Err(CommandError::with(Exit::Midway, "the stand-in did not put its settings back".to_owned()));
            }
            std::thread::sleep(Duration::from_millis(200));
        }
        Ok(())
    }
}
