//! Homes on a network file system: looked at only when asked, and only once, however many hosts share them.

use lavrin_server::fs::BytePath;
use std::collections::HashSet;
use std::sync::Mutex;

/// Whether homes on a network are looked at.
#[derive(Clone, Copy)]
pub(super) enum NetworkHomes<'a> {
    /// No.
    No,
    /// Where nobody else has looked yet.
    Once(&'a Claims),
    /// Where the script that was carried by hand says so.
    ByHand,
}

/// What was looked at on some host already: file systems with the path in them.
#[derive(Debug, Default)]
pub struct Claims(Mutex<HashSet<String>>);

impl Claims {
    /// Whether nobody had it before.
    pub(super) fn take(&self, shared: &str) -> bool {
        self.0.lock().expect("nobody panics holding this").insert(shared.to_owned())
    }
}

/// Network file systems of a host: where each is mounted, and what it is.
pub(super) struct Mounts(Vec<(BytePath, String)>);

impl Mounts {
    /// Reads lines of mount point and source, as the kernel writes them.
    pub(super) fn read(text: &str) -> Self {
        let line = |line: &str| {
            let (at, source) = line.split_once(' ').unwrap_or((line, ""));
            (BytePath::new(at.replace("\\040", " ").as_bytes()), source.to_owned())
        };
        Self(text.lines().filter(|line| !line.is_empty()).map(line).collect())
    }

    /// The file system and the path in it, the same on every host; `None` for what lies on the host itself.
    pub(super) fn of(&self, path: &BytePath) -> Option<String> {
        let under = self.0.iter().filter(|(at, _)| path.is_within(at));
        let (at, source) = under.max_by_key(|(at, _)| at.as_bytes().len())?;
        let below = path.as_bytes().strip_prefix(at.as_bytes()).unwrap_or_default();
        Some(format!("{source}{}", String::from_utf8_lossy(below)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_home_that_hosts_share_is_taken_once() {
        let lantern = Mounts::read("/home nas:/export/home\n/srv/a\\040b nas:/export/b\n");
        let skerry = Mounts::read("/mnt/people nas:/export/home\n");
        let edda = lantern.of(&"/home/edda".into()).unwrap();
        assert_eq!(Some(edda.clone()), skerry.of(&"/mnt/people/edda".into()));
        assert_eq!(lantern.of(&"/srv/a b/c".into()).as_deref(), Some("nas:/export/b/c"));
        assert_eq!(lantern.of(&"/homes/edda".into()), None);
        let claims = Claims::default();
        assert!(claims.take(&edda) && !claims.take(&edda));
        assert!(claims.take(&lantern.of(&"/home/sten".into()).unwrap()));
    }
}
