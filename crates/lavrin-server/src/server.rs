//! What runs the logins: software and version, since rules differ by both.

use crate::fs::BytePath;
pub use lavrin_keys::version::Version;
use serde::{Deserialize, Serialize};

/// The programs whose rules are known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Software {
    /// OpenSSH.
    OpenSsh,
    /// Dropbear: one key file per account, no settings for it.
    Dropbear,
    /// Not known; OpenSSH's rules are assumed.
    #[default]
    Unknown,
}

/// What runs the logins.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(from = "ServerForm")]
pub struct Server {
    /// The program.
    pub software: Software,
    /// Its version, where it is known.
    pub version: Option<Version>,
    /// Whether it tolerates group write where the group is private to the account, as Debian's build of OpenSSH and those
    /// that descend from it do.
    pub tolerates_private_groups: bool,
}

/// The versions of OpenSSH whose answers were measured.
pub const OPENSSH_MEASURED: [Version; 3] = [Version(8, 4), Version(9, 2), Version(10, 0)];

/// The versions of dropbear whose answers were measured.
pub const DROPBEAR_MEASURED: [Version; 3] = [Version(2020, 81), Version(2022, 83), Version(2025, 89)];

impl Server {
    /// OpenSSH of this version as Debian builds it.
    #[must_use]
    pub fn debian(version: Version) -> Self {
        Self { tolerates_private_groups: true, ..Self::openssh(Some(version)) }
    }

    /// OpenSSH as it comes.
    #[must_use]
    pub fn openssh(version: Option<Version>) -> Self {
        Self { software: Software::OpenSsh, version, tolerates_private_groups: false }
    }

    /// Dropbear.
    #[must_use]
    pub fn dropbear(version: Option<Version>) -> Self {
        Self { software: Software::Dropbear, version, tolerates_private_groups: false }
    }

    /// Reads a name as `openssh-9.2+debian`, `openssh-9.9` or `dropbear-2022.83`.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        let (software, version) = name.split_once('-')?;
        let (number, build) = version.split_once('+').unwrap_or((version, ""));
        let version = Version::parse(number)?;
        match (software, build) {
            ("openssh", "debian") => Some(Self::debian(version)),
            ("openssh", "") => Some(Self::openssh(Some(version))),
            ("dropbear", "") => Some(Self::dropbear(Some(version))),
            _ => None,
        }
    }

    /// Reads the identification a server sends (RFC 4253, section 4.2), as `SSH-2.0-OpenSSH_9.2p1 Debian-2`.
    #[must_use]
    pub fn from_banner(banner: &str) -> Self {
        let named = banner.splitn(3, '-').nth(2).unwrap_or_default();
        let version = |prefix: &str| Version::parse(named.strip_prefix(prefix)?.strip_prefix('_')?);
        if named.starts_with("OpenSSH") {
            let tolerates_private_groups = named.contains("Debian") || named.contains("Ubuntu");
            Self { tolerates_private_groups, ..Self::openssh(version("OpenSSH")) }
        } else if named.starts_with("dropbear") {
            Self::dropbear(version("dropbear"))
        } else {
            Self::default()
        }
    }

    /// The same, of this version where its own is not known.
    #[must_use]
    pub fn or_version(self, version: Option<Version>) -> Self {
        Self { version: self.version.or(version), ..self }
    }

    /// Whether it is dropbear, whose rules are others.
    #[must_use]
    pub fn is_dropbear(&self) -> bool {
        self.software == Software::Dropbear
    }

    /// The version by whose rules it is judged: its own, or one in the middle where that is not known.
    #[must_use]
    pub fn rules(&self) -> Version {
        self.version.unwrap_or(if self.is_dropbear() { DROPBEAR_MEASURED[1] } else { OPENSSH_MEASURED[1] })
    }

    /// Whether it may know what is not known here: it is newer than every version that was measured, or of a version or
    /// software that is not known.
    #[must_use]
    pub fn may_know_more(&self) -> bool {
        let newest = if self.is_dropbear() { DROPBEAR_MEASURED[2] } else { OPENSSH_MEASURED[2] };
        self.version.is_none_or(|version| version > newest)
    }

    /// The version that was measured and by whose rules, but for what its release notes tell, this one is judged.
    #[must_use]
    pub fn nearest_measured(&self) -> Version {
        let measured = if self.is_dropbear() { DROPBEAR_MEASURED } else { OPENSSH_MEASURED };
        let rules = self.rules();
        measured.into_iter().rev().find(|version| *version <= rules).unwrap_or(measured[0])
    }

    /// Whether this very version was measured.
    #[must_use]
    pub fn is_measured(&self) -> bool {
        let measured = if self.is_dropbear() { DROPBEAR_MEASURED } else { OPENSSH_MEASURED };
        self.software != Software::Unknown && self.version.is_some_and(|version| measured.contains(&version))
    }
}

/// The forms in which a server is kept: documents of the first form have no version.
#[derive(Deserialize)]
#[serde(untagged)]
enum ServerForm {
    Whole { software: Software, version: Option<Version>, tolerates_private_groups: bool },
    First(First),
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
enum First {
    OpenSsh { tolerates_private_groups: bool },
    Dropbear,
    Unknown,
}

impl From<ServerForm> for Server {
    fn from(kept: ServerForm) -> Self {
        match kept {
            ServerForm::Whole { software, version, tolerates_private_groups } => {
                Self { software, version, tolerates_private_groups }
            }
            ServerForm::First(First::OpenSsh { tolerates_private_groups }) => {
                Self { tolerates_private_groups, ..Self::openssh(None) }
            }
            ServerForm::First(First::Dropbear) => Self::dropbear(None),
            ServerForm::First(First::Unknown) => Self::default(),
        }
    }
}

/// How it is known what runs the logins.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Known {
    /// The user said so.
    Given(String),
    /// The server itself said so.
    Banner(String),
    /// The system's list of packages says so: the file and the version.
    Packages(BytePath, String),
    /// From what kind of system it is.
    OsRelease,
    /// Nothing told; the usual server is assumed.
    #[default]
    Assumed,
}

impl Known {
    /// The whole release with its build, as `OpenSSH_10.0p2 Debian-7`, where the server told it.
    #[must_use]
    pub fn release(&self) -> Option<&str> {
        match self {
            Self::Banner(banner) => banner.strip_prefix("SSH-2.0-"),
            _ => None,
        }
    }

    /// The version that is told by how the server is known.
    #[must_use]
    pub fn version(&self) -> Option<Version> {
        match self {
            Self::Given(name) => Server::from_name(name)?.version,
            Self::Banner(banner) => Server::from_banner(banner).version,
            Self::Packages(_, version) => Version::parse(version),
            Self::OsRelease | Self::Assumed => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_banners_tell_the_server() {
        let debian = Server::debian(Version(9, 2));
        assert_eq!(Server::from_name("openssh-9.2+debian"), Some(debian));
        assert_eq!(Server::from_name("openssh-9.9"), Some(Server::openssh(Some(Version(9, 9)))));
        assert_eq!(Server::from_name("dropbear-2022.83"), Some(Server::dropbear(Some(Version(2022, 83)))));
        assert_eq!([Server::from_name("openssh"), Server::from_name("other-1")], [None, None]);
        assert_eq!(Server::from_banner("SSH-2.0-OpenSSH_9.2p1 Debian-2+deb12u10"), debian);
        assert_eq!(Server::from_banner("SSH-2.0-OpenSSH_9.9"), Server::openssh(Some(Version(9, 9))));
        assert_eq!(Server::from_banner("SSH-2.0-OpenSSH_for_Windows_9.5"), Server::openssh(None));
        assert_eq!(Server::from_banner("SSH-2.0-dropbear_2022.83"), Server::dropbear(Some(Version(2022, 83))));
        assert_eq!(Server::from_banner("nonsense"), Server::default());
    }

    #[test]
    fn versions_are_read_from_packages_and_compared() {
        assert_eq!(Version::parse("1:10.0p1-7+deb13u4"), Some(Version(10, 0)));
        assert_eq!(Version::parse("2022.83-1+deb12u3"), Some(Version(2022, 83)));
        assert_eq!((Version::parse("10"), Version::parse("x")), (Some(Version(10, 0)), None));
        assert!(Version(10, 0) > Version(9, 9));
    }

    #[test]
    fn a_version_that_was_not_measured_goes_by_an_older_one() {
        let nearest = |name: &str| Server::from_name(name).unwrap().nearest_measured();
        assert_eq!(nearest("openssh-9.6"), Version(9, 2));
        assert_eq!(nearest("openssh-7.9"), Version(8, 4));
        assert_eq!(nearest("openssh-10.2"), Version(10, 0));
        assert_eq!(nearest("dropbear-2024.85"), Version(2022, 83));
        assert!(Server::from_name("openssh-9.2+debian").unwrap().is_measured());
        assert!(!Server::from_name("openssh-9.6").unwrap().is_measured());
    }

    #[test]
    fn what_was_kept_in_the_first_form_is_read() {
        let read = |text: &str| serde_json::from_str::<Server>(text).unwrap();
        assert!(read(r#"{"open-ssh":{"tolerates_private_groups":true}}"#).tolerates_private_groups);
        assert_eq!(read(r#""dropbear""#), Server::dropbear(None));
        let now = Server::debian(Version(9, 2));
        assert_eq!(read(&serde_json::to_string(&now).unwrap()), now);
    }
}
