//! The keywords of `sshd_config(5)`, a row each: what a keyword takes, where it may stand, what holds where it is not set, and
//! which versions of OpenSSH know it. Measured with `sshd -t` of 8.4, 9.2 and 10.0 (docs/server-rules.md); a version in between
//! is named where its release notes name it.

use super::values::Takes;
use crate::server::Version;
use Takes::{
    AbsoluteCommand, Addresses, Algorithms, Channels, Ciphers, EnvNames, Flag, Flags, GssKex, IpQos, Kex, Listen, Macs,
    Methods, Never, Nothing, Number, OneOf, Paths, Penalties, PermitListen, PermitOpen, PlainAlgorithms, Port,
    PubkeyOptions, Rekey, Rest, Startups, Subsystem, Time, TimeOrNone, Umask, Users, Variables, Verbose, Word, Words,
};
use foldhash::quality::RandomState;
use std::collections::HashMap;
use std::sync::LazyLock;

/// One keyword under one name.
#[derive(Debug)]
pub struct Keyword {
    /// The name, in lower case.
    pub name: &'static str,
    /// The keyword that it sets, where this is another name of it.
    pub means: &'static str,
    /// What it takes.
    pub takes: Takes,
    /// Since which version a Match block may hold it.
    in_match: Option<Version>,
    /// Whether its lines add up instead of the first one winning.
    pub merges: bool,
    /// What holds where nothing is set, where that decides about logins.
    default: Option<&'static str>,
    /// The first version that knows it, and the first that does not any more.
    known: (Version, Option<Version>),
}

const ALWAYS: Version = Version(0, 0);

const fn row(name: &'static str, takes: Takes) -> Keyword {
    Keyword { name, means: name, takes, in_match: None, merges: false, default: None, known: (ALWAYS, None) }
}

impl Keyword {
    const fn means(self, means: &'static str) -> Self {
        Self { means, ..self }
    }

    const fn in_match(self) -> Self {
        self.in_match_since(ALWAYS)
    }

    const fn in_match_since(self, version: Version) -> Self {
        Self { in_match: Some(version), ..self }
    }

    const fn merges(self) -> Self {
        Self { merges: true, ..self }
    }

    const fn default(self, value: &'static str) -> Self {
        Self { default: Some(value), ..self }
    }

    const fn since(self, major: u16, minor: u16) -> Self {
        Self { known: (Version(major, minor), self.known.1), ..self }
    }

    const fn until(self, major: u16, minor: u16) -> Self {
        Self { known: (self.known.0, Some(Version(major, minor))), ..self }
    }

    /// Whether a Match block may hold it.
    #[must_use]
    pub fn may_stand_in_match(&self, version: Version) -> bool {
        self.in_match.is_some_and(|since| version >= since)
    }

    fn is_known(&self, version: Version) -> bool {
        version >= self.known.0 && self.known.1.is_none_or(|end| version < end)
    }
}

const ROOT_LOGIN: Takes = OneOf(&["yes", "no", "without-password", "prohibit-password", "forced-commands-only"]);
const FORWARDING: Takes = OneOf(&["yes", "no", "all", "local", "remote"]);
const LEVELS: Takes = OneOf(&["quiet", "fatal", "error", "info", "verbose", "debug", "debug1", "debug2", "debug3"]);
const FACILITIES: Takes = OneOf(&[
    "daemon", "user", "auth", "authpriv", "local0", "local1", "local2", "local3", "local4", "local5", "local6",
    "local7",
]);

#[rustfmt::skip]
const KEYWORDS: &[Keyword] = &[
    row("acceptenv", EnvNames).in_match().merges(),
    row("addressfamily", OneOf(&["any", "inet", "inet6"])),
    row("allowagentforwarding", Flag).in_match(),
    row("allowgroups", Words).in_match().merges(),
    row("allowstreamlocalforwarding", FORWARDING).in_match(),
    row("allowtcpforwarding", FORWARDING).in_match(),
    row("allowusers", Users).in_match().merges(),
    row("authenticationmethods", Methods).in_match().default("any"),
    row("authorizedkeyscommand", AbsoluteCommand).in_match().default("none"),
    row("authorizedkeyscommanduser", Word).in_match(),
    row("authorizedkeysfile", Paths).in_match().default(".ssh/authorized_keys .ssh/authorized_keys2"),
    row("authorizedkeysfile2", Nothing).in_match(),
    row("authorizedprincipalscommand", AbsoluteCommand).in_match().default("none"),
    row("authorizedprincipalscommanduser", Word).in_match(),
    row("authorizedprincipalsfile", Word).in_match(),
    row("banner", Word).in_match(),
    row("casignaturealgorithms", PlainAlgorithms).in_match(),
    row("challengeresponseauthentication", Flag).default("yes").until(8, 7),
    row("challengeresponseauthentication", Flag).means("kbdinteractiveauthentication").in_match().since(8, 7),
    row("channeltimeout", Channels).in_match().since(9, 2),
    row("checkmail", Nothing),
    row("chrootdirectory", Word).in_match(),
    row("ciphers", Ciphers),
    row("clientalivecountmax", Number).in_match(),
    row("clientaliveinterval", Time).in_match(),
    row("compression", OneOf(&["yes", "no", "delayed"])),
    row("debianbanner", Flag),
    row("denygroups", Words).in_match().merges(),
    row("denyusers", Users).in_match().merges(),
    row("disableforwarding", Flag).in_match(),
    row("dsaauthentication", Flag).means("pubkeyauthentication"),
    row("exposeauthinfo", Flag).in_match(),
    row("fingerprinthash", OneOf(&["md5", "sha1", "sha256", "sha384", "sha512"])),
    row("forcecommand", Rest).in_match(),
    row("gatewayports", OneOf(&["yes", "no", "clientspecified"])).in_match(),
    row("gssapiauthentication", Flag).in_match().default("no"),
    row("gssapicleanupcredentials", Flag),
    row("gssapikexalgorithms", GssKex),
    row("gssapikeyexchange", Flag),
    row("gssapistorecredentialsonrekey", Flag),
    row("gssapistrictacceptorcheck", Flag),
    row("hostbasedacceptedalgorithms", Algorithms).in_match().since(8, 5),
    row("hostbasedacceptedkeytypes", Algorithms).means("hostbasedacceptedalgorithms").in_match(),
    row("hostbasedauthentication", Flag).in_match().default("no"),
    row("hostbasedusesnamefrompacketonly", Flag).in_match(),
    row("hostcertificate", Word),
    row("hostdsakey", Word).means("hostkey"),
    row("hostkey", Word).merges(),
    row("hostkeyagent", Word),
    row("hostkeyalgorithms", Algorithms),
    row("ignorerhosts", OneOf(&["yes", "no", "shosts-only"])).in_match(),
    row("ignoreuserknownhosts", Flag),
    row("include", Takes::Includes).in_match(),
    row("ipqos", IpQos).in_match(),
    row("kbdinteractiveauthentication", Flag).in_match().default("no").until(8, 7),
    row("kbdinteractiveauthentication", Flag).in_match().default("yes").since(8, 7),
    row("keepalive", Flag).means("tcpkeepalive"),
    row("kerberosauthentication", Flag).in_match(),
    row("kerberosgetafstoken", Nothing),
    row("kerberosorlocalpasswd", Flag),
    row("kerberosticketcleanup", Flag),
    row("kexalgorithms", Kex),
    row("keyregenerationinterval", Nothing),
    row("listenaddress", Listen).merges(),
    row("logingracetime", Time),
    row("loglevel", LEVELS).in_match(),
    row("logverbose", Verbose).in_match().since(8, 5),
    row("macs", Macs),
    row("maxauthtries", Number).in_match().default("6"),
    row("maxsessions", Number).in_match(),
    row("maxstartups", Startups),
    row("modulifile", Word).since(8, 5),
    row("pamauthenticationviakbdint", Nothing),
    row("pamservicename", Word).in_match().since(9, 8),
    row("passwordauthentication", Flag).in_match().default("yes"),
    row("permitemptypasswords", Flag).in_match().default("no"),
    row("permitlisten", PermitListen).in_match(),
    row("permitopen", PermitOpen).in_match(),
    row("permitrootlogin", ROOT_LOGIN).in_match().default("without-password"),
    row("permittty", Flag).in_match(),
    row("permittunnel", Flags(&["yes", "no", "point-to-point", "ethernet"])).in_match(),
    row("permituserenvironment", Word),
    row("permituserrc", Flag).in_match(),
    row("persourcemaxstartups", Takes::NumberOrNone).since(8, 5),
    row("persourcenetblocksize", Takes::NetblockSize).since(8, 5),
    row("persourcepenalties", Penalties).since(9, 8),
    row("persourcepenaltyexemptlist", Addresses).since(9, 8),
    row("pidfile", Word),
    row("port", Port).merges(),
    row("printlastlog", Flag),
    row("printmotd", Flag),
    row("protocol", Nothing),
    row("pubkeyacceptedalgorithms", Algorithms).in_match().since(8, 5),
    row("pubkeyacceptedkeytypes", Algorithms).means("pubkeyacceptedalgorithms").in_match(),
    row("pubkeyauthentication", Flag).in_match().default("yes"),
    row("pubkeyauthoptions", PubkeyOptions).in_match().default("none"),
    row("rdomain", Never).in_match(),
    row("refuseconnection", Flag).in_match().since(9, 9),
    row("rekeylimit", Rekey).in_match(),
    row("requiredrsasize", Number).in_match().default("1024").since(9, 1),
    row("reversemappingcheck", Nothing),
    row("revokedkeys", Word).in_match(),
    row("rhostsauthentication", Nothing),
    row("rhostsrsaauthentication", Nothing).in_match(),
    row("rsaauthentication", Nothing).in_match(),
    row("securitykeyprovider", Word),
    row("serverkeybits", Nothing),
    row("setenv", Variables).in_match(),
    row("skeyauthentication", Nothing).until(8, 7),
    row("skeyauthentication", Flag).means("kbdinteractiveauthentication").in_match().since(8, 7),
    row("sshdauthpath", Word).since(10, 0),
    row("sshdsessionpath", Word).since(9, 8),
    row("streamlocalbindmask", Umask).in_match(),
    row("streamlocalbindunlink", Flag).in_match(),
    row("strictmodes", Flag).default("yes"),
    row("subsystem", Subsystem).in_match_since(Version(9, 5)),
    row("syslogfacility", FACILITIES),
    row("tcpkeepalive", Flag),
    row("trustedusercakeys", Word).in_match().default("none"),
    row("unusedconnectiontimeout", TimeOrNone).in_match().since(9, 2),
    row("usedns", Flag).default("no"),
    row("uselogin", Nothing),
    row("usepam", Flag).default("no"),
    row("useprivilegeseparation", Nothing),
    row("verifyreversemapping", Nothing),
    row("versionaddendum", Rest),
    row("x11displayoffset", Number).in_match(),
    row("x11forwarding", Flag).in_match(),
    row("x11uselocalhost", Flag).in_match(),
    row("xauthlocation", Word),
];

/// The rows of each name: some are asked for with each account.
static BY_NAME: LazyLock<HashMap<&'static str, Vec<&'static Keyword>, RandomState>> = LazyLock::new(|| {
    let mut rows = HashMap::<_, Vec<_>, _>::default();
    for row in KEYWORDS {
        rows.entry(row.name).or_default().push(row);
    }
    rows
});

/// The keyword of a name in lower case, as this version knows it.
#[must_use]
pub fn keyword(name: &str, version: Version) -> Option<&'static Keyword> {
    BY_NAME.get(name)?.iter().copied().find(|row| row.is_known(version))
}

/// The version that a name came with, where some version knows it.
#[must_use]
pub fn first_version(name: &str) -> Option<Version> {
    KEYWORDS.iter().find(|row| row.name == name).map(|row| row.known.0).filter(|first| *first > ALWAYS)
}

/// What a keyword takes, by whatever name this version knows it.
#[must_use]
pub fn takes(name: &str, version: Version) -> Option<Takes> {
    let row = keyword(name, version).or_else(|| KEYWORDS.iter().find(|row| row.means == name && row.is_known(version)));
    row.map(|row| row.takes)
}

/// Whether ports stand behind a keyword.
#[must_use]
pub fn takes_ports(name: &str) -> bool {
    let of_ports = |row: &&Keyword| matches!(row.takes, Port | Listen | PermitOpen | PermitListen);
    name == "match" || BY_NAME.get(name).is_some_and(|rows| rows.iter().any(of_ports))
}

/// What holds where a keyword (in lower case) is not set.
#[must_use]
pub fn default(name: &str, version: Version) -> Option<&'static str> {
    keyword(name, version)?.default
}

/// The keywords that decide about logins in this version, with what holds where nothing is set.
pub fn defaults(version: Version) -> impl Iterator<Item = (&'static str, &'static str)> {
    let known = KEYWORDS.iter().filter(move |row| row.is_known(version) && row.means == row.name);
    known.filter_map(|row| Some((row.name, row.default?)))
}

/// The name under which this version prints a keyword.
#[must_use]
pub fn printed_name(name: &'static str, version: Version) -> &'static str {
    let is_alias = |row: &&Keyword| row.means == name && row.is_known(version);
    match keyword(name, version) {
        Some(_) => name,
        None => KEYWORDS.iter().find(is_alias).map_or(name, |row| row.name),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::server::OPENSSH_MEASURED;

    #[test]
    fn each_version_knows_each_name_once() {
        for version in OPENSSH_MEASURED {
            let mut names: Vec<&str> =
                KEYWORDS.iter().filter(|row| row.is_known(version)).map(|row| row.name).collect();
            let count = names.len();
            names.sort_unstable();
            names.dedup();
            assert_eq!(names.len(), count, "{version}");
        }
    }

    #[test]
    fn what_a_version_knows_is_that_of_the_version() {
        let [old, usual, new] = OPENSSH_MEASURED;
        let knows = |name: &str| [old, usual, new].map(|version| keyword(name, version).is_some());
        assert_eq!(knows("pubkeyacceptedalgorithms"), [false, true, true]);
        assert_eq!(knows("pubkeyacceptedkeytypes"), [true; 3]);
        assert_eq!(knows("persourcepenalties"), [false, false, true]);
        assert_eq!(knows("passwordauthentification"), [false; 3]);
        assert_eq!(printed_name("pubkeyacceptedalgorithms", old), "pubkeyacceptedkeytypes");
        assert_eq!(printed_name("pubkeyacceptedalgorithms", new), "pubkeyacceptedalgorithms");
        assert!(!keyword("strictmodes", usual).unwrap().may_stand_in_match(usual));
        assert!(keyword("permitrootlogin", usual).unwrap().may_stand_in_match(usual));
        assert_eq!(
            [old, new].map(|version| keyword("subsystem", version).unwrap().may_stand_in_match(version)),
            [false, true]
        );
    }
}
