//! A tar of the homes and their key files, with owners and modes, to be unpacked over a new system.

use super::machine::{Machine, home_of};
use crate::error::CommandError;
use lavrin_fleet::fleet::FirstAccount;
use lavrin_fleet::register::USUAL_LOGIN;
use lavrin_keys::text::shell_word;
use std::collections::BTreeMap;
use std::io;
use std::str::FromStr;

/// The numbers of an account: `NAME=UID` or `NAME=UID:GID`.
#[derive(Debug, Clone)]
pub struct OwnerArg {
    name: String,
    ids: (u32, u32),
}

impl FromStr for OwnerArg {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let read = || {
            let (name, ids) = text.split_once('=')?;
            let (uid, gid) = ids.split_once(':').unwrap_or((ids, ids));
            Some(Self { name: name.to_owned(), ids: (uid.parse().ok()?, gid.parse().ok()?) })
        };
        read().ok_or_else(|| format!("'{text}' is not ACCOUNT=UID or ACCOUNT=UID:GID"))
    }
}

/// The numbers and homes of accounts.
#[derive(Default)]
pub struct AccountNumbers(BTreeMap<String, (u32, u32, Option<String>)>);

impl AccountNumbers {
    /// Root's are known everywhere.
    pub fn new() -> Self {
        Self(BTreeMap::from([(USUAL_LOGIN.to_owned(), (0, 0, None))]))
    }

    /// Adds what the last survey of the host saw.
    pub fn seen(&mut self, name: &str, uid: u32, gid: u32, home: String) {
        self.0.insert(name.to_owned(), (uid, gid, Some(home)));
    }

    /// Adds what was given, which counts more.
    pub fn given(&mut self, all: &[OwnerArg]) {
        for one in all {
            let home = self.0.get(&one.name).and_then(|known| known.2.clone());
            self.0.insert(one.name.clone(), (one.ids.0, one.ids.1, home));
        }
    }

    fn of(&self, account: &FirstAccount) -> Result<(u32, u32, String), CommandError> {
        let Some((uid, gid, home)) = self.0.get(&account.name) else {
            let name = shell_word(&account.name);
            return Err(CommandError::usage(format!("the number of the account {name} is not known"))
                .because("a file in an archive belongs to a number; with a wrong one the server takes no key from it")
                .again("", &format!("--owner {name}=1000")));
        };
        Ok((*uid, *gid, account.home.clone().or_else(|| home.clone()).unwrap_or_else(|| home_of(account))))
    }
}

/// The bytes of the archive (POSIX.1-1988, ustar).
pub fn archive(machine: &Machine<'_>, owners: &AccountNumbers, time: u64) -> Result<Vec<u8>, CommandError> {
    let mut tar = Packer { tar: tar::Builder::new(Vec::new()), time };
    let failed = |error: io::Error| CommandError::usage(format!("the archive was not made: {error}"));
    for account in &machine.accounts {
        let (uid, gid, home) = owners.of(account)?;
        let own = FileOwner { name: &account.name, uid, gid };
        tar.folder(&format!("{home}/.ssh"), 0o700, &own).map_err(failed)?;
        let lines: String = account.lines.iter().map(|line| format!("{line}\n")).collect();
        tar.file(&format!("{home}/.ssh/authorized_keys"), lines.as_bytes(), 0o600, &own).map_err(failed)?;
    }
    let root = FileOwner { name: USUAL_LOGIN, uid: 0, gid: 0 };
    if let Some(key) = &machine.host_key {
        let line = key.line(&machine.host.id) + "\n";
        tar.file("/etc/ssh/ssh_host_ed25519_key", key.private.as_bytes(), 0o600, &root).map_err(failed)?;
        tar.file("/etc/ssh/ssh_host_ed25519_key.pub", line.as_bytes(), 0o644, &root).map_err(failed)?;
    }
    if machine.keys_only {
        let text = b"PasswordAuthentication no\nKbdInteractiveAuthentication no\n";
        tar.file("/etc/ssh/sshd_config.d/00-keys-only.conf", text, 0o644, &root).map_err(failed)?;
    }
    tar.tar.into_inner().map_err(failed)
}

struct FileOwner<'a> {
    name: &'a str,
    uid: u32,
    gid: u32,
}

struct Packer {
    tar: tar::Builder<Vec<u8>>,
    time: u64,
}

impl Packer {
    fn folder(&mut self, path: &str, mode: u32, owner: &FileOwner<'_>) -> io::Result<()> {
        self.add(&format!("{path}/"), &[], mode, tar::EntryType::Directory, owner)
    }

    fn file(&mut self, path: &str, bytes: &[u8], mode: u32, owner: &FileOwner<'_>) -> io::Result<()> {
        self.add(path, bytes, mode, tar::EntryType::Regular, owner)
    }

    fn add(
        &mut self,
        path: &str,
        bytes: &[u8],
        mode: u32,
        kind: tar::EntryType,
        owner: &FileOwner<'_>,
    ) -> io::Result<()> {
        let mut header = tar::Header::new_ustar();
        header.set_entry_type(kind);
        header.set_mode(mode);
        header.set_uid(owner.uid.into());
        header.set_gid(owner.gid.into());
        header.set_username(owner.name)?;
        header.set_mtime(self.time);
        header.set_size(bytes.len() as u64);
        self.tar.append_data(&mut header, path.trim_start_matches('/'), bytes)
    }
}
