//! Random worlds: a real OpenSSH server is asked by a real login, and Lavrin is asked; they have to agree.
//!
//! `LAVRIN_RANDOM_CASES` says how many (scripts/random.sh runs thousands), `LAVRIN_RANDOM_SEED` from which seed on.

#![allow(clippy::print_stdout, reason = "the seeds that were asked are told")]

use crate::common::random::{Keys, Kind, Node, Random, Who, settings, tree};
use crate::common::releases::Release;
use crate::common::servers::{Account, system};
use crate::common::{Run, World};
use std::collections::BTreeMap;
use std::net::TcpListener;
use std::os::fd::OwnedFd;
use std::os::unix::fs::{PermissionsExt as _, chown, symlink};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

const CASES: u64 = 100;

/// Dropbear waits after each refusal, so fewer are asked.
const SMALL_CASES: u64 = 25;

/// What the server said.
#[derive(Debug, PartialEq, Eq)]
enum Answer {
    Accepted(Option<String>),
    Refused,
}

struct Ground {
    world: World,
    accounts: Vec<Account>,
    other: (u32, u32),
    outside: PathBuf,
}

impl Drop for Ground {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir_all(&self.outside);
    }
}

struct Case {
    account: usize,
    nodes: Vec<Node>,
    config: String,
    key: &'static str,
    from: &'static str,
}

impl Ground {
    fn new() -> Self {
        let world = World::new();
        let accounts: Vec<Account> =
            ["/bin/sh", "/bin/sh", "/usr/sbin/nologin", "/bin/sh", "/bin/sh"].map(Account::new).into();
        system("usermod", &["-L", &accounts[1].name]);
        system("usermod", &["-s", "/no/such/shell", &accounts[3].name]);
        system("usermod", &["-e", "2001-01-01", &accounts[4].name]);
        let other = Account::new("/bin/sh");
        let id = |flag: &str| system("id", &[flag, &other.name]).trim().parse().unwrap();
        let ids = (id("-u"), id("-g"));
        // Its own: worlds are made side by side.
        let outside = PathBuf::from(format!("/run/lavrin-out-{}", other.name));
        for (name, algorithm) in
            [("ed", "ed25519"), ("ed2", "ed25519"), ("rsa", "rsa-2048"), ("ec", "ecdsa-p256"), ("host", "ed25519")]
        {
            let _ = world
                .typed(&format!(
                    "key generate --passphrase none --folder home/keys --name {name} --algorithm {algorithm}"
                ))
                .expect(0);
        }
        for name in ["passwd", "group", "shadow", "os-release", "services", "shells"] {
            world.write(&format!("tree/etc/{name}"), std::fs::read(format!("/etc/{name}")).unwrap(), 0o644);
        }
        for path in ["tree/bin", "tree/usr/sbin", "tree/run", "tree/home", "tree/no/such"] {
            std::fs::create_dir_all(world.path(path)).unwrap();
        }
        for shell in ["tree/bin/sh", "tree/usr/sbin/nologin"] {
            world.write(shell, "", 0o755);
        }
        Self { world, accounts, other: ids, outside }
    }

    fn case(&self, random: &mut Random, small: bool) -> Case {
        let account = if random.once_in(8) { random.below(self.accounts.len()) } else { 0 };
        let key = random.pick(&["ed", "ed", "ed", "rsa", "ec"]);
        let line = |name: &str| {
            let text = self.world.read(&format!("home/keys/{name}.pub"));
            text.split_whitespace().take(2).collect::<Vec<_>>().join(" ")
        };
        let others = ["ed", "ed2", "rsa", "ec"].into_iter().filter(|name| *name != key).map(line).collect();
        let keys = Keys { offered: line(key), others, small };
        let name = &self.accounts[account].name;
        let outside = self.outside.to_str().unwrap();
        let nodes = tree(random, &keys, &self.accounts[account].home, outside);
        let config = settings(random, name, outside);
        Case { account, nodes, config, key, from: random.pick(&["127.0.0.1", "127.0.0.1", "127.0.0.9"]) }
    }

    /// Lays the world out, once where the server looks and once in the tree that Lavrin is shown.
    fn lay_out(&self, case: &Case) {
        let id = |flag: &str| system("id", &[flag, &self.accounts[case.account].name]).trim().parse::<u32>().unwrap();
        let own = (id("-u"), id("-g"));
        for root in [Path::new("/").to_owned(), self.world.path("tree")] {
            let at = |path: &str| root.join(path.trim_start_matches('/'));
            for top in [&self.accounts[case.account].home, self.outside.to_str().unwrap()] {
                let _ = std::fs::remove_dir_all(at(top));
            }
            std::fs::create_dir_all(at(self.outside.to_str().unwrap())).unwrap();
            for node in &case.nodes {
                let path = at(&node.path);
                match &node.kind {
                    Kind::Folder => std::fs::create_dir(&path).unwrap(),
                    Kind::File(content) => std::fs::write(&path, content).unwrap(),
                    Kind::Link(to) => symlink(to, &path).unwrap(),
                    Kind::Pipe => drop(system("mkfifo", &[path.to_str().unwrap()])),
                }
            }
            // From the deepest up, so that nothing shuts the way to what is below.
            for node in case.nodes.iter().rev() {
                let path = at(&node.path);
                let uid = |who| match who {
                    Who::Account => own,
                    Who::Root => (0, 0),
                    Who::Other => self.other,
                };
                let (user, group) = (uid(node.owner).0, uid(node.group).1);
                if matches!(node.kind, Kind::Link(_)) {
                    std::os::unix::fs::lchown(&path, Some(user), Some(group)).unwrap();
                } else {
                    chown(&path, Some(user), Some(group)).unwrap();
                    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(node.mode)).unwrap();
                }
            }
        }
        self.world.write("tree/etc/ssh/sshd_config", &case.config, 0o644);
    }

    /// A real login: the stock client, and a server for this one connection.
    fn ask_server(&self, case: &Case, release: &Release, small: bool) -> Answer {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port().to_string();
        let log = self.world.path("sshd.log");
        let _ = std::fs::remove_file(&log);
        let key = self.world.path(&format!("home/keys/{}", case.key));
        // A server that never answers, as dropbear at a pipe, refuses for what concerns us.
        let client = Command::new("/usr/bin/timeout")
            .args(["20", "/usr/bin/ssh", "-F", "none", "-b", case.from, "-p", &port, "-i", key.to_str().unwrap()])
            .args(["-o", "BatchMode=yes", "-o", "IdentitiesOnly=yes", "-o", "LogLevel=VERBOSE"])
            .args(["-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"])
            .args(["-o", "ConnectTimeout=20", &format!("{}@127.0.0.1", self.accounts[case.account].name), "exit"])
            .env_remove("SSH_AUTH_SOCK")
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let (stream, _) = listener.accept().unwrap();
        let socket = OwnedFd::from(stream);
        // The command holds the connection too, so it has to be gone before the server's end closes it.
        let mut server = {
            let mut command = if small { Self::dropbear(release, &log) } else { self.sshd(release, &log) };
            command.stdin(socket.try_clone().unwrap()).stdout(socket).spawn().unwrap()
        };
        let said = client.wait_with_output().unwrap();
        let _ = server.kill();
        let _ = server.wait();
        if !String::from_utf8_lossy(&said.stderr).contains("Authenticated to ") {
            return Answer::Refused;
        }
        let log = std::fs::read(&log).unwrap_or_default();
        let log = String::from_utf8_lossy(&log);
        Answer::Accepted(log.lines().rev().find_map(|line| line.split_once(" found at ")).map(|(_, at)| at.to_owned()))
    }

    fn sshd(&self, release: &Release, log: &Path) -> Command {
        let mut server = release.command("/usr/sbin/sshd");
        server
            .args(["-i", "-o", "LogLevel=VERBOSE", "-E", log.to_str().unwrap()])
            .arg("-f")
            .arg(self.world.path("tree/etc/ssh/sshd_config"))
            .arg("-h")
            .arg(self.world.path("home/keys/host"))
            .stderr(Stdio::null());
        server
    }

    fn dropbear(release: &Release, log: &Path) -> Command {
        std::fs::create_dir_all("/etc/dropbear").unwrap();
        let mut server = release.command("/usr/sbin/dropbear");
        server.args(["-i", "-R"]).stderr(std::fs::File::create(log).unwrap());
        server
    }

    /// A world in words, for a disagreement.
    fn told(&self, case: &Case, run: &Run) -> String {
        let content = |node: &Node| match &node.kind {
            Kind::File(bytes) => format!("{:?}", String::from_utf8_lossy(bytes)),
            kind => format!("{kind:?}"),
        };
        let line = |node: &Node| {
            format!("{} {:04o} {:?} {:?}\n    {}", node.path, node.mode, node.owner, node.group, content(node))
        };
        let files: Vec<String> = case.nodes.iter().map(line).collect();
        let log = std::fs::read(self.world.path("sshd.log")).unwrap_or_default();
        format!(
            "key {} from {} account {}\n{}\n{}\n{run}\nserver log:\n{}",
            case.key,
            case.from,
            case.account,
            case.config,
            files.join("\n"),
            String::from_utf8_lossy(&log)
        )
    }

    fn ask_lavrin(&self, case: &Case, release: &Release, small: bool) -> Run {
        let account = &self.accounts[case.account].name;
        self.world.typed(&format!(
            "why {account} --key home/keys/{}.pub --tree tree --from-address {} --local-address 127.0.0.1 --local-port 2222 --server {} --format json",
            case.key,
            case.from,
            if small { release.dropbear } else { release.openssh }
        ))
    }
}

/// Where they disagree, in words; `None`: they agree. Undecided is right only where the server wanted a further method.
fn disagreement(answer: &Answer, run: &Run) -> Option<String> {
    let said = run.json();
    let place = || format!("{}:{}", said["entry"]["path"].as_str().unwrap_or("?"), said["entry"]["line"]);
    let taken = |at: &str| at.replace("//", "/").replace("/.ssh/../", "/");
    match (answer, said["verdict"].as_str().unwrap_or("?")) {
        (Answer::Refused, "refused") => None,
        (Answer::Refused, "undecided") if said["deciding"]["class"] == "partial" => None,
        (Answer::Accepted(Some(at)), "accepted") if taken(at) != taken(&place()) => {
            Some(format!("the server took {at}, Lavrin {}", place()))
        }
        (Answer::Accepted(_), "accepted") => None,
        (_, verdict) => Some(format!("the server: {answer:?}, Lavrin: {verdict}")),
    }
}

fn from_environment(name: &str, otherwise: u64) -> u64 {
    std::env::var(name).map_or(otherwise, |text| text.parse().unwrap())
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn lavrin_and_openssh_8_4_agree_about_random_worlds() {
    compare(&Release::BULLSEYE, false);
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn lavrin_and_openssh_8_4_agree_about_random_settings() {
    compare_settings(&Release::BULLSEYE);
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn lavrin_and_openssh_9_2_agree_about_random_worlds() {
    compare(&Release::BOOKWORM, false);
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn lavrin_and_openssh_9_2_agree_about_random_settings() {
    compare_settings(&Release::BOOKWORM);
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn lavrin_and_openssh_10_0_agree_about_random_worlds() {
    compare(&Release::TRIXIE, false);
}

#[test]
#[ignore = "needs a real sshd: scripts/test.sh"]
fn lavrin_and_openssh_10_0_agree_about_random_settings() {
    compare_settings(&Release::TRIXIE);
}

#[test]
#[ignore = "needs a real dropbear: scripts/test.sh"]
fn lavrin_and_dropbear_2020_81_agree_about_random_worlds() {
    compare(&Release::BULLSEYE, true);
}

#[test]
#[ignore = "needs a real dropbear: scripts/test.sh"]
fn lavrin_and_dropbear_2022_83_agree_about_random_worlds() {
    compare(&Release::BOOKWORM, true);
}

#[test]
#[ignore = "needs a real dropbear: scripts/test.sh"]
fn lavrin_and_dropbear_2025_89_agree_about_random_worlds() {
    compare(&Release::TRIXIE, true);
}

fn compare(release: &Release, small: bool) {
    let usual = if small { SMALL_CASES } else { CASES };
    let (first, cases) = (from_environment("LAVRIN_RANDOM_SEED", 1), from_environment("LAVRIN_RANDOM_CASES", usual));
    std::fs::create_dir_all("/run/sshd").unwrap();
    let ground = Ground::new();
    let (mut accepted, mut wrong) = (0, Vec::new());
    for seed in first..first + cases {
        let case = ground.case(&mut Random::new(seed), small);
        ground.lay_out(&case);
        let answer = ground.ask_server(&case, release, small);
        accepted += usize::from(matches!(answer, Answer::Accepted(_)));
        let run = ground.ask_lavrin(&case, release, small);
        if let Some(what) = disagreement(&answer, &run) {
            wrong.push(format!("seed {seed}: {what}\n{}", ground.told(&case, &run)));
        }
    }
    println!(
        "{}: seeds {first} to {}: {cases} cases, {accepted} accepted, {} disagreements",
        if small { release.dropbear } else { release.openssh },
        first + cases - 1,
        wrong.len()
    );
    assert!(wrong.is_empty(), "{} of {cases} disagree\n\n{}", wrong.len(), wrong.join("\n\n"));
    assert!(accepted > 0, "no case was accepted: the worlds are not worth asking about");
}

/// What the server printed, the lines of a keyword that stands several times on one.
fn printed(output: &[u8]) -> BTreeMap<String, String> {
    let mut values: BTreeMap<String, String> = BTreeMap::new();
    for line in String::from_utf8_lossy(output).lines() {
        let (keyword, value) = line.split_once(' ').unwrap_or((line, ""));
        let told = values.entry(keyword.to_owned()).or_default();
        *told = if told.is_empty() { value.to_owned() } else { format!("{told} {value}") };
    }
    values
}

fn compare_settings(release: &Release) {
    let (first, cases) = (from_environment("LAVRIN_RANDOM_SEED", 1), from_environment("LAVRIN_RANDOM_CASES", CASES));
    std::fs::create_dir_all("/run/sshd").unwrap();
    let ground = Ground::new();
    let mut wrong = Vec::new();
    for seed in first..first + cases {
        let case = ground.case(&mut Random::new(seed), false);
        ground.world.write("tree/etc/ssh/sshd_config", &case.config, 0o644);
        let name = &ground.accounts[case.account].name;
        let server = release
            .command("/usr/sbin/sshd")
            .args(["-T", "-h"])
            .arg(ground.world.path("home/keys/host"))
            .arg("-f")
            .arg(ground.world.path("tree/etc/ssh/sshd_config"))
            .args(["-C", &format!("user={name},host={0},addr={0},laddr=127.0.0.1,lport=22", case.from)])
            .output()
            .unwrap();
        let run = ground.world.typed(&format!(
            "host settings --tree tree --account {name} --from-address {0} --from-host {0} --local-address 127.0.0.1 --local-port 22 --server {1} --format json",
            case.from, release.openssh
        ));
        let said = run.json();
        let valid = said["valid"].as_bool().unwrap() && said["ends"].is_null();
        if valid != server.status.success() {
            wrong.push(format!(
                "seed {seed}: valid {valid}\n{}\n{run}\n{}",
                case.config,
                String::from_utf8_lossy(&server.stderr)
            ));
        } else if valid {
            let values = said["values"].as_object().unwrap();
            for (keyword, value) in printed(&server.stdout) {
                let told = values.get(&keyword).and_then(|told| told["value"].as_str());
                if told.is_some_and(|told| told != value) {
                    wrong.push(format!("seed {seed}: {keyword} is {value}, Lavrin says {told:?}\n{}", case.config));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{} disagree\n\n{}", wrong.len(), wrong.join("\n\n"));
}
