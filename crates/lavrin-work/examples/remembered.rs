//! Writes a register and a store in which many hosts were seen, for measuring: `remembered HOSTS ENTRIES DIR [agreed|hopping]`. Each
//! host has so many entries in several accounts; a tenth of the people have left, a twentieth of the keys is unknown. With
//! `agreed` there are 5,000 people, all of them there, a grant for each entry, and a twentieth of the hosts differs. With
//! `hopping` each host has a private key of its own, and its entries are of the keys of other hosts.
#![allow(clippy::print_stdout, reason = "this is a program of its own")]

use lavrin_keys::key::PrivateKey;
use lavrin_server::account::read_passwd;
use lavrin_server::audit::Auditor;
use lavrin_server::fs::{BytePath, Fact, Node, NodeKind};
use lavrin_server::survey::key_use::KeyUses;
use lavrin_server::survey::snapshot::Snapshot;
use lavrin_server::survey::{Observation, PublicHalf, StrayKey};
use lavrin_server::system::System;
use lavrin_store::database::{Database, HostRecord, SeenKeys, Sighted};
use std::error::Error;
use std::fmt::Write as _;

const PEOPLE: usize = 2_000;
const PEOPLE_AGREED: usize = 5_000;
const ACCOUNTS: usize = 4;
/// 2026-11-23
const NOW: i64 = 1_795_392_000;

fn main() -> Result<(), Box<dyn Error>> {
    let words: Vec<String> = std::env::args().collect();
    let [_, hosts, entries, folder, more @ ..] = &words[..] else {
        return Err("remembered HOSTS ENTRIES DIR [agreed]".into());
    };
    let (hosts, entries) = (hosts.parse::<usize>()?, entries.parse::<usize>()?);
    let (agreed, hopping) = (more == ["agreed"], more == ["hopping"]);
    let people = if agreed { PEOPLE_AGREED } else { PEOPLE };
    let keys = if hopping { hosts } else { people + if agreed { 0 } else { PEOPLE / 20 } };
    let lines: Vec<String> = (0..keys).map(line).collect();
    register(folder, hosts, &lines[..if hopping { 1 } else { people }], agreed.then_some(entries))?;
    let store = Database::open(folder.as_ref())?;
    let auditor = Auditor::default();
    store.together(|store| {
        for host in 0..hosts {
            // One entry less than granted makes a host differ.
            let less = usize::from(agreed && host % 20 == 0);
            let mut seen = observation(host, entries - less, &lines);
            if hopping {
                leave_key(&mut seen, &lines[host]);
            }
            let sighted: Vec<Sighted> = auditor
                .entries(&System::of(&seen))
                .into_iter()
                .map(|entry| Sighted {
                    account: entry.account.to_string(),
                    key: entry.fingerprint,
                    comment: String::from_utf8_lossy(&entry.comment).into_owned(),
                })
                .collect();
            let keys = SeenKeys { entries: sighted, ..SeenKeys::default() };
            let (host, snapshot) = (format!("buoy{host}"), Snapshot::of(&seen));
            let uses = KeyUses::default();
            store.record(HostRecord { host, time: NOW, snapshot, keys, uses, register: None })?;
        }
        Ok(())
    })?;
    println!("{hosts} hosts, {} entries", hosts * entries);
    Ok(())
}

fn line(number: usize) -> String {
    let mut seed = [7; 32];
    seed[..8].copy_from_slice(&number.to_le_bytes());
    PrivateKey::ed25519(&seed).map(|key| key.public().line(&format!("keeper{number}@lantern"))).unwrap_or_default()
}

/// Whose entry it is.
fn keeper(host: usize, entry: usize, lines: usize) -> usize {
    (host * 7 + entry * 31) % lines
}

/// With `agreed` entries on each host every one of them is granted.
fn register(folder: &str, hosts: usize, lines: &[String], agreed: Option<usize>) -> Result<(), Box<dyn Error>> {
    std::fs::create_dir_all(format!("{folder}/people"))?;
    std::fs::write(format!("{folder}/lavrin.toml"), "name = \"remembered\"\n")?;
    for (number, line) in lines.iter().enumerate() {
        let left = if number % 10 == 9 && agreed.is_none() { "left = 2026-01-01\n" } else { "" };
        let text = format!(
            "name = \"Keeper {number}\"\nteam = \"keepers\"\n{left}\n[[key]]\nlabel = \"main\"\nline = \"{line}\"\n"
        );
        std::fs::write(format!("{folder}/people/keeper{number}.toml"), text)?;
    }
    let mut text = String::new();
    for host in 0..hosts {
        let accounts = "accounts = [\"lamp0\", \"lamp1\", \"lamp2\", \"lamp3\"]";
        writeln!(text, "[buoy{host}]\naddress = \"192.0.2.1\"\ntags = [\"lights\"]\n{accounts}\n")?;
    }
    std::fs::write(format!("{folder}/hosts.toml"), text)?;
    let mut access = String::new();
    for (host, entry) in (0..hosts).flat_map(|host| (0..agreed.unwrap_or(0)).map(move |entry| (host, entry))) {
        let (who, account) = (keeper(host, entry, lines.len()), entry % ACCOUNTS);
        writeln!(
            access,
            "[[grant]]\nperson = \"keeper{who}\"\naccount = \"lamp{account}\"\nhosts = [\"buoy{host}\"]\n"
        )?;
    }
    for account in (0..ACCOUNTS).filter(|_| agreed.is_none()) {
        writeln!(access, "[[grant]]\nteam = \"keepers\"\naccount = \"lamp{account}\"\ntags = [\"lights\"]\n")?;
    }
    Ok(std::fs::write(format!("{folder}/access.toml"), access)?)
}

/// The private key of a host lies with each of its accounts.
fn leave_key(seen: &mut Observation, line: &str) {
    let public = PublicHalf::beside(line.as_bytes());
    for account in 0..ACCOUNTS {
        let folder = BytePath::from(format!("/home/lamp{account}/.ssh").as_str());
        let key = StrayKey { path: folder.join(b"own"), protected: Some(false), public };
        seen.private_keys.insert(folder, Fact::Known(vec![key]));
    }
}

/// A host as Debian sets it up, with some accounts of its own.
fn observation(host: usize, entries: usize, lines: &[String]) -> Observation {
    let mut passwd = String::from("root:x:0:0:root:/root:/bin/bash\n");
    for system in 1..20 {
        let _ = writeln!(passwd, "system{system}:x:{system}:{system}::/usr/sbin:/usr/sbin/nologin");
    }
    for account in 0..ACCOUNTS {
        let uid = 1000 + account;
        let _ = writeln!(passwd, "lamp{account}:x:{uid}:{uid}::/home/lamp{account}:/bin/bash");
    }
    let mut seen = Observation {
        looked: true,
        viewer: Some(0),
        accounts: read_passwd(passwd.as_bytes()).into(),
        ..Observation::default()
    };
    let node = |kind, mode, uid| Fact::Known(Node { kind, mode, uid, gid: uid, access_list: false });
    for folder in ["/home", "/usr", "/usr/sbin"] {
        seen.nodes.insert(folder.into(), node(NodeKind::Folder, 0o755, 0));
    }
    seen.nodes.insert("/root".into(), node(NodeKind::Folder, 0o700, 0));
    for absent in ["/root/.ssh", "/usr/sbin/.ssh"] {
        seen.nodes.insert(absent.into(), Fact::Absent);
    }
    let config = "# The usual settings\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nUsePAM yes\nX11Forwarding no\nSubsystem sftp /usr/lib/openssh/sftp-server\n";
    seen.bytes.insert("/etc/ssh/sshd_config".into(), Fact::Known(config.as_bytes().to_vec()));
    for account in 0..ACCOUNTS {
        let (home, uid) =
            (BytePath::from(format!("/home/lamp{account}").as_str()), 1000 + u32::try_from(account).unwrap_or(0));
        let keys = home.join(b".ssh/authorized_keys");
        seen.nodes.insert(home.clone(), node(NodeKind::Folder, 0o755, uid));
        seen.nodes.insert(home.join(b".ssh"), node(NodeKind::Folder, 0o700, uid));
        seen.nodes.insert(keys.clone(), node(NodeKind::File, 0o600, uid));
        seen.nodes.insert(home.join(b".ssh/authorized_keys2"), Fact::Absent);
        let own = (account..entries).step_by(ACCOUNTS);
        let text: String = own.map(|entry| format!("{}\n", lines[keeper(host, entry, lines.len())])).collect();
        seen.bytes.insert(keys, Fact::Known(text.into_bytes()));
    }
    seen
}
