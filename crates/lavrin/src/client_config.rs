//! The user's client configuration (`ssh_config(5)`): where a host is and who signs in, for hosts that no register names.
//! The first value counts. Of `Match` blocks only `Match all` applies; what others say is not used, and the run says so.

use crate::paths;
use std::path::{Path, PathBuf};

/// Bytes of one file that are read.
const BYTES_MAX: u64 = 1 << 20;

/// Files within files, and files in all.
const DEPTH_MAX: usize = 8;
const FILES_MAX: usize = 64;

/// What the configuration says about a host.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ClientHost {
    /// Where it is.
    pub address: Option<String>,
    /// The port of its server.
    pub port: Option<u16>,
    /// Who signs in.
    pub user: Option<String>,
    /// The private key to sign in with.
    pub identity: Option<PathBuf>,
    /// Every key that it names, whether it is there or not.
    pub identities: Vec<PathBuf>,
    /// The hosts on the way, in order, as they are written there.
    pub jumps: Vec<String>,
    /// A `Match` block was left out.
    pub left_out: bool,
}

impl ClientHost {
    /// What is used, in words; none where it says nothing.
    pub fn words(&self) -> Option<String> {
        let mut parts: Vec<String> = Vec::new();
        parts.extend(self.address.as_ref().map(|address| format!("address {address}")));
        parts.extend(self.port.map(|port| format!("port {port}")));
        parts.extend(self.user.as_ref().map(|user| format!("user {user}")));
        parts.extend(self.identity.as_ref().map(|path| format!("key {}", paths::shown(path))));
        parts.extend((!self.jumps.is_empty()).then(|| format!("through {}", self.jumps.join(", "))));
        (!parts.is_empty()).then(|| {
            let left_out = if self.left_out { "; its Match blocks are not used" } else { "" };
            format!("from ~/.ssh/config: {}{left_out}", parts.join(", "))
        })
    }
}

/// What the user's configuration says about a host.
pub fn of(host: &str) -> ClientHost {
    let Some(folder) = paths::home().map(|home| home.join(".ssh")) else { return ClientHost::default() };
    let mut reading =
        ConfigFiles { host: host.to_ascii_lowercase(), folder: folder.clone(), files: 0, found: ClientHost::default() };
    reading.file(&folder.join("config"), 0, true);
    reading.found
}

/// Every key that a client configuration names for a host: of these all count.
pub fn identities(config: &Path, host: &str) -> Vec<PathBuf> {
    let Some(folder) = paths::home().map(|home| home.join(".ssh")) else { return Vec::new() };
    let mut reading = ConfigFiles { host: host.to_ascii_lowercase(), folder, files: 0, found: ClientHost::default() };
    reading.file(config, 0, true);
    reading.found.identities
}

struct ConfigFiles {
    host: String,
    folder: PathBuf,
    files: usize,
    found: ClientHost,
}

impl ConfigFiles {
    fn file(&mut self, path: &Path, depth: usize, applies: bool) {
        self.files += 1;
        let is_fit = std::fs::metadata(path).is_ok_and(|found| found.is_file() && found.len() <= BYTES_MAX);
        if depth > DEPTH_MAX || self.files > FILES_MAX || !is_fit {
            return;
        }
        let text = std::fs::read(path).map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default();
        let mut applies = applies;
        let outside = applies;
        for line in text.lines() {
            let Some((keyword, value)) = statement(line) else { continue };
            match keyword.as_str() {
                "host" => applies = outside && matches(&words(value), &self.host),
                "match" => {
                    let is_all = words(value) == ["all"];
                    self.found.left_out |= outside && !is_all;
                    applies = outside && is_all;
                }
                "include" if applies => {
                    for word in words(value) {
                        self.included(&word).iter().for_each(|path| self.file(path, depth + 1, true));
                    }
                }
                keyword if applies => self.take(keyword, value),
                _ => {}
            }
        }
    }

    /// The files that an `Include` names: a path, or a pattern in its last part.
    fn included(&self, word: &str) -> Vec<PathBuf> {
        let Ok(path) = paths::typed(word);
        let path = if path.is_absolute() { path } else { self.folder.join(path) };
        let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let (true, Some(parent)) = (name.contains(['*', '?']), path.parent()) else { return vec![path] };
        let entries = std::fs::read_dir(parent).into_iter().flatten().flatten().map(|entry| entry.path());
        let fits = |path: &PathBuf| {
            path.file_name()
                .is_some_and(|found| lavrin_keys::patterns::matches(name.as_bytes(), found.as_encoded_bytes()))
        };
        let mut found: Vec<PathBuf> = entries.filter(fits).take(FILES_MAX).collect();
        found.sort();
        found
    }

    fn take(&mut self, keyword: &str, value: &str) {
        let Some(first) = words(value).into_iter().next() else { return };
        let found = &mut self.found;
        match keyword {
            "hostname" if found.address.is_none() => found.address = Some(first.replace("%h", &self.host)),
            "port" if found.port.is_none() => found.port = first.parse().ok(),
            "user" if found.user.is_none() => found.user = Some(first),
            "identityfile" => {
                let Ok(path) = paths::typed(&first);
                found.identity = found.identity.take().or_else(|| Some(path.clone()).filter(|path| path.is_file()));
                found.identities.push(path);
            }
            "proxyjump" if found.jumps.is_empty() && first != "none" => {
                found.jumps = first.split(',').map(str::to_owned).collect();
            }
            _ => {}
        }
    }
}

/// A line taken apart: its keyword in small letters, and the rest.
pub fn statement(line: &str) -> Option<(String, &str)> {
    let line = line.trim();
    if line.is_empty() || line.starts_with('#') {
        return None;
    }
    let end = line.find([' ', '\t', '=']).unwrap_or(line.len());
    let (keyword, value) = line.split_at(end);
    Some((keyword.to_ascii_lowercase(), value.trim_start_matches([' ', '\t', '=']).trim()))
}

/// The words of a value; double quotes keep blanks together.
fn words(value: &str) -> Vec<String> {
    let (mut words, mut word, mut quoted, mut some) = (Vec::new(), String::new(), false, false);
    for letter in value.chars() {
        match letter {
            '"' => (quoted, some) = (!quoted, true),
            ' ' | '\t' if !quoted => {
                if some {
                    words.push(std::mem::take(&mut word));
                }
                some = false;
            }
            letter => {
                word.push(letter);
                some = true;
            }
        }
    }
    if some {
        words.push(word);
    }
    words
}

/// Whether a host fits one pattern, and none that is negated.
fn matches(patterns: &[String], host: &str) -> bool {
    let patterns: Vec<String> = patterns.iter().map(|pattern| pattern.to_ascii_lowercase()).collect();
    lavrin_keys::patterns::list_matches(patterns.iter().map(String::as_str), host)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str, host: &str) -> ClientHost {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("config"), text).unwrap();
        std::fs::write(folder.path().join("more.conf"), "Host buoy-*\n  User from-more\n").unwrap();
        let mut reading = ConfigFiles {
            host: host.to_owned(),
            folder: folder.path().to_owned(),
            files: 0,
            found: ClientHost::default(),
        };
        reading.file(&folder.path().join("config"), 0, true);
        reading.found
    }

    const CONFIG: &str = "Include *.conf\nHost lantern pier-?\n  HostName 192.0.2.7\n  Port=2222\n  User keeper\n\
                          ProxyJump edda@office:22,skerry\nHost * !lantern\n  User nobody\nMatch exec true\n  Port 9\nMatch all\nPort 10\n";

    #[test]
    fn the_first_value_of_a_block_that_fits_counts() {
        let found = read(CONFIG, "lantern");
        assert_eq!(
            (found.address.as_deref(), found.port, found.user.as_deref()),
            (Some("192.0.2.7"), Some(2222), Some("keeper"))
        );
        assert_eq!((found.jumps.len(), found.left_out), (2, true));
        let other = read(CONFIG, "skerry");
        assert_eq!((other.address, other.port, other.user.as_deref()), (None, Some(10), Some("nobody")));
        assert_eq!(read(CONFIG, "buoy-7").user.as_deref(), Some("from-more"));
        assert_eq!(read("", "lantern").words(), None);
    }
}
