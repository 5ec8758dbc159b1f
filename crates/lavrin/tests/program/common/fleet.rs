//! A register and stand-ins for its hosts.

use super::{Run, World, key};
use lavrin_standin::{
    Behaviour, CONSOLE_PROFILE, Console, DeviceUser, FileHost, KeyDevice, KeyDeviceKnobs, Router, RouterKnobs, StandIn,
    TreeAccount,
};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::runtime::Runtime;

/// A world with a register, whose hosts are stand-ins.
pub struct Fleet {
    pub world: World,
    pub hosts: Vec<StandIn>,
    runtime: Runtime,
}

impl Fleet {
    /// A register without hosts; root's key is that of `office`.
    pub fn new() -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
        let world = World::new();
        world.put_pair("office", 1, "edda@lantern");
        world.write("lavrin.toml", "name = \"Skerry lights\"\n", 0o644);
        Self { world, hosts: Vec::new(), runtime }
    }

    /// The same, and three people: the office, edda and sten, with keys 1, 2 and 3.
    pub fn with_three_people() -> Self {
        let fleet = Self::new();
        for (id, seed) in [("office", 1), ("edda", 2), ("sten", 3)] {
            let line = key(seed).public().line(&format!("{id}@lantern"));
            let text = format!("name = \"{id}\"\n[[key]]\nlabel = \"main\"\nline = \"{line}\"\n");
            fleet.world.write(&format!("people/{id}.toml"), text, 0o644);
        }
        fleet
    }

    /// The same; the office, and sten with a grant that has these further lines, may enter this account of each host.
    pub fn with_people(account: &str, more: &str) -> Self {
        let fleet = Self::with_three_people();
        let grant = |who: &str, more: &str| {
            format!("[[grant]]\nperson = \"{who}\"\naccount = \"{account}\"\nhosts = [\"*\"]\n{more}")
        };
        fleet.world.write("access.toml", grant("office", "") + &grant("sten", more), 0o644);
        fleet
    }

    /// Adds a host on which root has the office's key, and edda what is given.
    pub fn add(&mut self, name: &str, keys_of_edda: &str, behaviour: Behaviour) -> &StandIn {
        self.add_with(name, keys_of_edda, behaviour, "")
    }

    /// The same with further lines for the register.
    pub fn add_with(&mut self, name: &str, keys_of_edda: &str, behaviour: Behaviour, lines: &str) -> &StandIn {
        let roots = format!("{}\n", key(1).public().line("office"));
        let accounts = [
            TreeAccount { name: "root", shell: "/bin/sh", keys: Some(&roots) },
            TreeAccount { name: "edda", shell: "/bin/sh", keys: Some(keys_of_edda) },
            TreeAccount { name: "lamp", shell: "/usr/sbin/nologin", keys: None },
        ];
        let host = self.runtime.block_on(StandIn::with(name, &accounts, behaviour)).unwrap();
        self.register(name, host.address().port(), &host.host_key_line(), lines);
        self.hosts.push(host);
        self.hosts.last().unwrap()
    }

    /// A host that no register knows yet, on which root has the office's key, and one account what is given.
    pub fn start(&mut self, name: &str, account: &str, keys: &str, behaviour: Behaviour) -> &StandIn {
        let roots = format!("{}\n", key(1).public().line("office"));
        let accounts = [
            TreeAccount { name: "root", shell: "/bin/sh", keys: Some(&roots) },
            TreeAccount { name: account, shell: "/bin/sh", keys: Some(keys) },
        ];
        self.hosts.push(self.runtime.block_on(StandIn::with(name, &accounts, behaviour)).unwrap());
        self.hosts.last().unwrap()
    }

    /// A router of which root's key is that of `office`, and on which edda has what is on these lines.
    pub fn add_router(&mut self, name: &str, keys_of_edda: &[&str], knobs: RouterKnobs) -> Arc<Router> {
        self.add_router_that(name, keys_of_edda, knobs, Behaviour::default())
    }

    /// The same over a line that behaves like this.
    pub fn add_router_that(
        &mut self,
        name: &str,
        keys_of_edda: &[&str],
        knobs: RouterKnobs,
        behaviour: Behaviour,
    ) -> Arc<Router> {
        let office = key(1).public().line("office");
        let users = vec![DeviceUser::with("root", &[&office]), DeviceUser::with("edda", keys_of_edda)];
        let router = Arc::new(Router::new(users, knobs));
        let host = self.runtime.block_on(StandIn::router(name, router.clone(), behaviour)).unwrap();
        self.register(name, host.address().port(), &host.host_key_line(), "reach = \"netconf\"\n");
        self.hosts.push(host);
        router
    }

    /// A device with the public key subsystem, whose one account, root, has what is on these lines.
    pub fn add_key_device(
        &mut self,
        name: &str,
        lines: &[&str],
        knobs: KeyDeviceKnobs,
        behaviour: Behaviour,
    ) -> Arc<KeyDevice> {
        let device = Arc::new(KeyDevice::new("root", lines, knobs));
        let host = self.runtime.block_on(StandIn::key_device(name, device.clone(), behaviour)).unwrap();
        self.register(name, host.address().port(), &host.host_key_line(), "reach = \"publickey-subsystem\"\n");
        let path = format!("hosts/{name}.toml");
        self.world.write(&path, self.world.read(&path).replace("\"edda\"", "\"root\""), 0o644);
        self.hosts.push(host);
        device
    }

    /// A host that gives nothing but files; `accounts` is what the register manages there, `lines` what else it says.
    pub fn add_file_host(
        &mut self,
        name: &str,
        files: FileHost,
        accounts: &str,
        lines: &str,
        behaviour: Behaviour,
    ) -> Arc<FileHost> {
        let files = Arc::new(files);
        let host = self.runtime.block_on(StandIn::file_host(name, files.clone(), behaviour)).unwrap();
        self.register(name, host.address().port(), &host.host_key_line(), &format!("reach = \"sftp\"\n{lines}"));
        self.manage(name, accounts);
        self.hosts.push(host);
        files
    }

    /// A device with a console of its own, worked on by the profile of the stand-in.
    pub fn add_console(
        &mut self,
        name: &str,
        console: Console,
        accounts: &str,
        lines: &str,
        behaviour: Behaviour,
    ) -> Arc<Console> {
        let console = Arc::new(console);
        let host = self.runtime.block_on(StandIn::console(name, console.clone(), behaviour)).unwrap();
        let lines = format!("reach = \"dialogue\"\nprofile = \"fog-signal\"\n{lines}");
        self.register(name, host.address().port(), &host.host_key_line(), &lines);
        self.manage(name, accounts);
        self.world.write("profiles/fog-signal.toml", CONSOLE_PROFILE, 0o644);
        self.hosts.push(host);
        console
    }

    fn manage(&self, name: &str, accounts: &str) {
        let path = format!("hosts/{name}.toml");
        self.world.write(&path, self.world.read(&path).replace("[\"edda\"]", accounts), 0o644);
    }

    /// A device that no register knows; gives its port and the fingerprint of its host key.
    pub fn start_key_device(&mut self, name: &str, device: KeyDevice) -> (Arc<KeyDevice>, (u16, String)) {
        let device = Arc::new(device);
        let host = self.runtime.block_on(StandIn::key_device(name, device.clone(), Behaviour::default())).unwrap();
        let reached = (host.address().port(), host.host_key().to_string());
        self.hosts.push(host);
        (device, reached)
    }

    /// A host in the register only.
    pub fn register(&self, name: &str, port: u16, host_key: &str, lines: &str) {
        let keys = if host_key.is_empty() { String::new() } else { format!("host_keys = [\"{host_key}\"]\n") };
        let text = format!("address = \"127.0.0.1\"\nport = {port}\naccounts = [\"edda\"]\n{keys}{lines}");
        self.world.write(&format!("hosts/{name}.toml"), text, 0o644);
    }

    /// Runs a line, with the office's key where it signs in.
    pub fn run(&self, line: &str) -> Run {
        self.world.typed(line)
    }

    /// Looks at hosts.
    pub fn survey(&self, rest: &str) -> Run {
        let run = self.run(&format!("survey --identity home/office {rest}"));
        Run { stdout: self.steady(&run.stdout), ..run }
    }

    /// The text without what differs from run to run.
    fn steady(&self, text: &str) -> String {
        let ports = self.hosts.iter().map(|host| (format!("port {}", host.address().port()), "port $PORT"));
        ports.fold(text.to_owned(), |text, (port, word)| text.replace(&port, word))
    }

    /// Waits until what a run that was cut off has begun on the hosts has ended there.
    pub fn wait_until_nothing_runs(&self) {
        wait_until_nothing_runs(&self.hosts.iter().collect::<Vec<_>>());
    }

    /// Writes a file into a host's tree.
    pub fn put(&self, host: usize, path: &str, content: &str) {
        let path = self.hosts[host].file(path);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, content).unwrap();
    }
}

/// A host whose line has this fault from the second connection on; one that is cut carries so many bytes before.
pub fn fault_of_the_line(fault: &str, bytes: u64) -> Behaviour {
    let usual = Behaviour::default;
    let cut = Behaviour { cut_after: Some(bytes), ..usual() };
    let (last, then) = match fault {
        "cut" => (2, cut),
        "cut for good" => (99, cut),
        "other host key" => (99, Behaviour { other_host_key: true, ..usual() }),
        "silent line" => (99, Behaviour { silent: true, ..usual() }),
        _ => panic!("no fault is called {fault}"),
    };
    Behaviour { episodes: vec![(2..=last, then)], ..usual() }
}

/// Enforces fifty hosts with the same fault: it ends in time, each has one result, and what the store says is what the host has.
/// `is_new` says whether the new key is on a host, by its number.
pub fn assert_fifty(fleet: &Fleet, fault: &str, is_new: impl Fn(usize) -> bool) {
    let begun = Instant::now();
    let run = fleet.run("enforce --identity home/office --yes --host-limit 5 --parallel 25 --format json");
    assert!(begun.elapsed() < Duration::from_mins(2), "{fault}: {:?}", begun.elapsed());
    let (json, compared) = (run.json(), fleet.run("compare --format json").json());
    let hosts = json["hosts"].as_array().unwrap();
    assert_eq!(hosts.len(), 50, "{fault}: each has one result");
    for (number, host) in hosts.iter().enumerate() {
        assert_agrees(fault, host, &compared, is_new(number));
    }
}

/// What `enforce` says of a device on which a key of sten is wanted, and what the store says (`compare` as JSON), is what the device has.
fn assert_agrees(fault: &str, host: &serde_json::Value, compared: &serde_json::Value, is_new: bool) {
    let fits = match host["state"].as_str().unwrap() {
        "done" => is_new,
        "unknown" => true,
        "nothing-to-do" => false,
        _ => !is_new,
    };
    assert!(fits, "{fault} {host}: the new key is there: {is_new}");
    // Hosts in line are not listed.
    let listed = compared["hosts"].as_array().unwrap().iter().find(|own| own["host"] == host["host"]);
    let is_known = listed.is_none_or(|own| own["fault"].is_null() && !own["seen"].is_null());
    let misses = listed.is_some_and(|own| own["accounts"].to_string().contains("\"missing\""));
    if host["state"] != "unknown" && is_known {
        assert_eq!(misses, !is_new, "{fault} {host}\n{listed:?}");
    }
}

/// Waits until what a run that was cut off has begun on these hosts has ended there.
pub fn wait_until_nothing_runs(hosts: &[&StandIn]) {
    let begun = Instant::now();
    let tree = |host: &&StandIn| format!("LAVRIN_STANDIN_ROOT={}", host.tree().canonicalize().unwrap().display());
    let trees: Vec<String> = hosts.iter().map(tree).collect();
    let runs = || {
        let processes = std::fs::read_dir("/proc").unwrap().flatten();
        let mut all = processes.filter_map(|process| std::fs::read(process.path().join("environ")).ok());
        all.any(|words| trees.iter().any(|tree| String::from_utf8_lossy(&words).contains(tree)))
    };
    while runs() {
        assert!(begun.elapsed() < Duration::from_mins(2), "something on the hosts does not end");
        std::thread::sleep(Duration::from_millis(5));
    }
}
