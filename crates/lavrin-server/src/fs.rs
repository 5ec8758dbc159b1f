//! Paths, nodes and facts about a file system that was looked at, here or on a host.

use lavrin_keys::text::{as_text, printable};
use serde::{Deserialize, Serialize};
use std::fmt;

/// A path as bytes, as Linux knows it: no encoding is assumed. Absolute within the tree it belongs to.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct BytePath(#[serde(with = "as_text")] Vec<u8>);

impl BytePath {
    /// A path from its bytes; doubled and trailing slashes are dropped.
    #[must_use]
    pub fn new(bytes: &[u8]) -> Self {
        if is_plain(bytes) {
            return Self(bytes.to_vec());
        }
        let mut path = Vec::with_capacity(bytes.len() + 1);
        for part in bytes.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".") {
            path.push(b'/');
            path.extend_from_slice(part);
        }
        if path.is_empty() {
            path.push(b'/');
        }
        Self(path)
    }

    /// The bytes.
    #[must_use]
    pub fn as_bytes(&self) -> &[u8] {
        &self.0
    }

    /// This path with a name, or several, below it.
    #[must_use]
    pub fn join(&self, name: &[u8]) -> Self {
        let mut path = Vec::with_capacity(self.0.len() + name.len() + 1);
        path.extend_from_slice(if self.0.len() == 1 { b"" } else { &self.0 });
        path.push(b'/');
        path.extend_from_slice(name);
        if is_plain(&path[path.len() - name.len() - 1..]) { Self(path) } else { Self::new(&path) }
    }

    /// The folder that holds it; `None` for `/`.
    #[must_use]
    pub fn parent(&self) -> Option<Self> {
        let at = self.0.iter().rposition(|byte| *byte == b'/')?;
        if self.0.len() == 1 { None } else { Some(Self(self.0[..at.max(1)].to_vec())) }
    }

    /// The last part; empty for `/`.
    #[must_use]
    pub fn name(&self) -> &[u8] {
        self.0.rsplit(|byte| *byte == b'/').next().unwrap_or_default()
    }

    /// Whether it is `folder` or lies below it.
    #[must_use]
    pub fn is_within(&self, folder: &Self) -> bool {
        folder.0 == b"/"
            || self.0.strip_prefix(folder.0.as_slice()).is_some_and(|rest| matches!(rest.first(), None | Some(b'/')))
    }
}

/// Whether a path is written as it is kept: each part behind one slash, and none of them empty or a dot.
fn is_plain(path: &[u8]) -> bool {
    let mut last_slash = 0;
    let mut ends = memchr::memchr_iter(b'/', path).skip(1).chain([path.len()]);
    path.first() == Some(&b'/')
        && ends.all(|end| {
            let part = &path[last_slash + 1..end];
            last_slash = end;
            !part.is_empty() && part != b"."
        })
}

/// So that a part of a path can be looked up without being copied.
impl std::borrow::Borrow<[u8]> for BytePath {
    fn borrow(&self) -> &[u8] {
        &self.0
    }
}

impl fmt::Display for BytePath {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&printable(&self.0))
    }
}

impl fmt::Debug for BytePath {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, out)
    }
}

impl From<&str> for BytePath {
    fn from(path: &str) -> Self {
        Self::new(path.as_bytes())
    }
}

/// What kind of thing a path names. Links are not followed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NodeKind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link and where it points.
    Link(#[serde(with = "as_text")] Vec<u8>),
    /// A pipe, socket or device.
    Special,
}

/// What a look at one path tells.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Node {
    /// The kind.
    pub kind: NodeKind,
    /// Permission bits, up to `0o7777`.
    pub mode: u32,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Whether an access list goes beyond the permission bits.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub access_list: bool,
}

/// Something looked for. "Not checked" is part of the type.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fact<T> {
    /// It is there.
    Known(T),
    /// It was looked for and is not there.
    Absent,
    /// It could not be looked at.
    Unseen(Why),
}

/// Why something could not be looked at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Why {
    /// The one who looked has no right to.
    Permission,
    /// It lies on a network file system and nobody asked for that.
    NetworkHome,
    /// It is larger than what is fetched, in bytes.
    TooLarge(u64),
    /// It is no regular file or no folder, so reading it was not tried.
    WrongKind,
    /// The look ended before it came to this.
    NotReached,
    /// Its mode is known, and what an access list lets in beyond that is not.
    AccessList,
    /// What runs as the account did not answer in time, or said too much.
    NoAnswer,
    /// The system's own words.
    Other(String),
}

impl<T> Fact<T> {
    /// Whether it could not be looked at.
    pub fn is_unseen(&self) -> bool {
        matches!(self, Self::Unseen(_))
    }

    /// The value, where it is known.
    pub fn known(&self) -> Option<&T> {
        match self {
            Self::Known(value) => Some(value),
            Self::Absent | Self::Unseen(_) => None,
        }
    }

    /// The value itself, where it is known.
    pub fn into_known(self) -> Option<T> {
        match self {
            Self::Known(value) => Some(value),
            Self::Absent | Self::Unseen(_) => None,
        }
    }

    /// The same with the value changed.
    pub fn map<U>(self, change: impl FnOnce(T) -> U) -> Fact<U> {
        match self {
            Self::Known(value) => Fact::Known(change(value)),
            Self::Absent => Fact::Absent,
            Self::Unseen(why) => Fact::Unseen(why),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The same part by part, whatever is written there.
    fn by_parts(bytes: &[u8]) -> Vec<u8> {
        let parts = bytes.split(|byte| *byte == b'/').filter(|part| !part.is_empty() && *part != b".");
        let path = parts.flat_map(|part| [b"/", part].concat()).collect::<Vec<u8>>();
        if path.is_empty() { b"/".to_vec() } else { path }
    }

    proptest! {
        #[test]
        fn a_path_is_the_same_however_it_is_written(one in "[/.a]{0,12}", other in "[/.a]{0,12}") {
            let (path, below) = (BytePath::new(one.as_bytes()), other.as_bytes());
            prop_assert_eq!(path.as_bytes(), by_parts(one.as_bytes()));
            let joined = path.join(below);
            prop_assert_eq!(joined.as_bytes(), by_parts(&[one.as_bytes(), b"/", below].concat()));
            let parent = path.as_bytes().iter().rposition(|byte| *byte == b'/').filter(|_| path.as_bytes() != b"/");
            let parent = parent.map(|at| by_parts(&path.as_bytes()[..at]));
            prop_assert_eq!(path.parent().map(|parent| parent.as_bytes().to_vec()), parent);
        }
    }

    #[test]
    fn paths_are_kept_in_one_form() {
        let path = BytePath::new(b"//home/./edda//.ssh/");
        assert_eq!(path.to_string(), "/home/edda/.ssh");
        assert_eq!(path.parent().unwrap().to_string(), "/home/edda");
        assert_eq!(path.name(), b".ssh");
        assert_eq!(BytePath::from("/").parent(), None);
        let root = BytePath::from("/");
        let joined = [root.join(b"etc"), root.join(b"./etc/"), root.join(b""), root.join(b"."), path.join(b"id")];
        let shown: Vec<String> = joined.iter().map(ToString::to_string).collect();
        assert_eq!(shown, ["/etc", "/etc", "/", "/", "/home/edda/.ssh/id"]);
        assert!(path.is_within(&"/home/edda".into()) && !path.is_within(&"/home/ed".into()));
    }
}
