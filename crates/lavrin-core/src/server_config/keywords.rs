//! The keywords of `sshd_config(5)` as OpenSSH 9.2 knows them: what they take, where they may stand, and what the server
//! does not start with.

use super::algorithms;

/// What a keyword takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// `yes` or `no`.
    Flag,
    /// One of these words.
    OneOf(&'static [&'static str]),
    /// A whole number that is not negative.
    Number,
    /// A port.
    Port,
    /// A duration: seconds, or numbers with units as in `1h30m`.
    Time,
    /// `start:rate:full` or one number.
    Startups,
    /// One word of any kind.
    Word,
    /// Any number of words.
    Words,
    /// A list of signature algorithms.
    Algorithms,
    /// `AuthenticationMethods`.
    Methods,
    /// The server passes over it.
    Nothing,
}

use Takes::{Algorithms, Flag, Methods, Nothing, Number, OneOf, Port, Startups, Time, Word, Words};

/// A keyword: its name in lower case, what it takes, whether it may stand in a Match block.
pub struct Keyword {
    /// The name that counts; some keywords have had others.
    pub name: &'static str,
    /// What it takes.
    pub takes: Takes,
    /// Whether a Match block may hold it.
    pub in_match: bool,
}

const ROOT_LOGIN: Takes = OneOf(&["yes", "no", "without-password", "prohibit-password", "forced-commands-only"]);
const FORWARDING: Takes = OneOf(&["yes", "no", "all", "local", "remote"]);

/// Keywords that may stand in a Match block.
const IN_MATCH: &[(&str, Takes)] = &[
    ("acceptenv", Words),
    ("allowagentforwarding", Flag),
    ("allowgroups", Words),
    ("allowstreamlocalforwarding", FORWARDING),
    ("allowtcpforwarding", FORWARDING),
    ("allowusers", Words),
    ("authenticationmethods", Methods),
    ("authorizedkeyscommand", Words),
    ("authorizedkeyscommanduser", Word),
    ("authorizedkeysfile", Words),
    ("authorizedprincipalscommand", Words),
    ("authorizedprincipalscommanduser", Word),
    ("authorizedprincipalsfile", Word),
    ("banner", Word),
    ("casignaturealgorithms", Word),
    ("channeltimeout", Words),
    ("chrootdirectory", Word),
    ("clientalivecountmax", Number),
    ("clientaliveinterval", Time),
    ("denygroups", Words),
    ("denyusers", Words),
    ("disableforwarding", Flag),
    ("exposeauthinfo", Flag),
    ("forcecommand", Words),
    ("gatewayports", OneOf(&["yes", "no", "clientspecified"])),
    ("gssapiauthentication", Flag),
    ("hostbasedacceptedalgorithms", Algorithms),
    ("hostbasedauthentication", Flag),
    ("hostbasedusesnamefrompacketonly", Flag),
    ("ignorerhosts", OneOf(&["yes", "no", "shosts-only"])),
    ("ipqos", Words),
    ("kbdinteractiveauthentication", Flag),
    ("kerberosauthentication", Flag),
    ("loglevel", OneOf(&["quiet", "fatal", "error", "info", "verbose", "debug", "debug1", "debug2", "debug3"])),
    ("logverbose", Words),
    ("maxauthtries", Number),
    ("maxsessions", Number),
    ("passwordauthentication", Flag),
    ("permitemptypasswords", Flag),
    ("permitlisten", Words),
    ("permitopen", Words),
    ("permitrootlogin", ROOT_LOGIN),
    ("permittty", Flag),
    ("permittunnel", OneOf(&["yes", "no", "point-to-point", "ethernet"])),
    ("permituserrc", Flag),
    ("pubkeyacceptedalgorithms", Algorithms),
    ("pubkeyauthentication", Flag),
    ("pubkeyauthoptions", Words),
    ("rdomain", Word),
    ("rekeylimit", Words),
    ("requiredrsasize", Number),
    ("revokedkeys", Word),
    ("setenv", Words),
    ("streamlocalbindmask", Word),
    ("streamlocalbindunlink", Flag),
    ("trustedusercakeys", Word),
    ("unusedconnectiontimeout", Word),
    ("x11displayoffset", Number),
    ("x11forwarding", Flag),
    ("x11uselocalhost", Flag),
];

/// Keywords that hold for the whole server.
const GLOBAL: &[(&str, Takes)] = &[
    ("addressfamily", OneOf(&["any", "inet", "inet6"])),
    ("ciphers", Word),
    ("compression", OneOf(&["yes", "no", "delayed"])),
    ("debianbanner", Flag),
    ("fingerprinthash", OneOf(&["md5", "sha256"])),
    ("gssapicleanupcredentials", Flag),
    ("gssapikeyexchange", Flag),
    ("gssapikexalgorithms", Word),
    ("gssapistorecredentialsonrekey", Flag),
    ("gssapistrictacceptorcheck", Flag),
    ("hostcertificate", Word),
    ("hostkey", Word),
    ("hostkeyagent", Word),
    ("hostkeyalgorithms", Algorithms),
    ("ignoreuserknownhosts", Flag),
    ("kerberosorlocalpasswd", Flag),
    ("kerberosticketcleanup", Flag),
    ("kexalgorithms", Word),
    ("listenaddress", Words),
    ("logingracetime", Time),
    ("macs", Word),
    ("maxstartups", Startups),
    ("modulifile", Word),
    ("persourcemaxstartups", Word),
    ("persourcenetblocksize", Word),
    ("pidfile", Word),
    ("port", Port),
    ("printlastlog", Flag),
    ("printmotd", Flag),
    ("permituserenvironment", Word),
    ("securitykeyprovider", Word),
    ("strictmodes", Flag),
    ("subsystem", Words),
    (
        "syslogfacility",
        OneOf(&[
            "daemon", "user", "auth", "authpriv", "local0", "local1", "local2", "local3", "local4", "local5", "local6",
            "local7",
        ]),
    ),
    ("tcpkeepalive", Flag),
    ("usedns", Flag),
    ("usepam", Flag),
    ("versionaddendum", Words),
    ("xauthlocation", Word),
];

/// Keywords that the server passes over.
const RETIRED: [&str; 14] = [
    "authorizedkeysfile2",
    "keyregenerationinterval",
    "pamauthenticationviakbdint",
    "protocol",
    "reversemappingcheck",
    "rhostsauthentication",
    "rhostsrsaauthentication",
    "rsaauthentication",
    "serverkeybits",
    "kerberosgetafstoken",
    "uselogin",
    "useprivilegeseparation",
    "verifyreversemapping",
    "checkmail",
];

/// Keywords under another name.
const ALIASES: [(&str, &str); 7] = [
    ("challengeresponseauthentication", "kbdinteractiveauthentication"),
    ("dsaauthentication", "pubkeyauthentication"),
    ("hostbasedacceptedkeytypes", "hostbasedacceptedalgorithms"),
    ("hostdsakey", "hostkey"),
    ("keepalive", "tcpkeepalive"),
    ("pubkeyacceptedkeytypes", "pubkeyacceptedalgorithms"),
    ("skeyauthentication", "kbdinteractiveauthentication"),
];

/// The keyword of a name in lower case.
pub fn keyword(name: &str) -> Option<Keyword> {
    let alias = ALIASES.iter().find(|(old, _)| *old == name).map(|(_, new)| *new);
    let wanted = alias.unwrap_or(name);
    let find = |list: &'static [(&'static str, Takes)]| list.iter().find(|(known, _)| *known == wanted);
    if let Some((name, takes)) = find(IN_MATCH) {
        return Some(Keyword { name, takes: *takes, in_match: true });
    }
    if let Some((name, takes)) = find(GLOBAL) {
        return Some(Keyword { name, takes: *takes, in_match: false });
    }
    let name = RETIRED.iter().find(|retired| **retired == wanted)?;
    Some(Keyword { name, takes: Nothing, in_match: true })
}

/// Methods that `AuthenticationMethods` may name.
const METHODS: [&str; 6] = ["publickey", "password", "keyboard-interactive", "hostbased", "gssapi-with-mic", "none"];

/// Checks the words behind a keyword.
///
/// # Errors
/// What the server does not start with.
pub fn check(spelled: &str, takes: Takes, words: &[String]) -> Result<(), String> {
    if takes == Nothing {
        return Ok(());
    }
    let Some(first) = words.first() else { return Err(format!("{spelled} has no value")) };
    if first.is_empty() && takes != Words {
        return Err(format!("{spelled} has an empty value"));
    }
    if words.len() > 1 && !matches!(takes, Words | Methods) {
        return Err(format!("{spelled} takes one value, and '{}' stands behind it", words[1]));
    }
    let refuse = || Err(format!("{spelled} does not take '{first}'"));
    match takes {
        Flag if !is_one_of(first, &["yes", "no"]) => refuse(),
        OneOf(list) if !is_one_of(first, list) => refuse(),
        Number if first.parse::<u32>().is_ok_and(|number| i32::try_from(number).is_ok()) => Ok(()),
        Number => refuse(),
        Port if first.parse::<u16>().is_ok_and(|port| port > 0) => Ok(()),
        Port => refuse(),
        Time if !is_time(first) => refuse(),
        Startups if !is_startups(first) => refuse(),
        Algorithms if !algorithms::list_is_valid(first) => {
            Err(format!("{spelled} names an algorithm nobody knows: '{first}'"))
        }
        Methods => check_methods(spelled, words),
        _ => Ok(()),
    }
}

fn is_one_of(word: &str, list: &[&str]) -> bool {
    list.iter().any(|known| known.eq_ignore_ascii_case(word))
}

/// Seconds, or numbers each with a unit.
fn is_time(text: &str) -> bool {
    let units = text.split_inclusive(|character: char| character.is_ascii_alphabetic());
    let is_part = |part: &str| {
        let number = part.trim_end_matches(|character: char| "sSmMhHdDwW".contains(character));
        !number.is_empty() && part.len() - number.len() <= 1 && number.bytes().all(|byte| byte.is_ascii_digit())
    };
    !text.is_empty() && units.into_iter().all(is_part)
}

fn is_startups(text: &str) -> bool {
    let numbers: Option<Vec<u32>> = text.split(':').map(|part| part.parse().ok()).collect();
    match numbers.as_deref() {
        Some([one]) => *one > 0,
        Some([start, rate, full]) => start <= full && (1..=100).contains(rate),
        _ => false,
    }
}

fn check_methods(spelled: &str, lists: &[String]) -> Result<(), String> {
    if lists.iter().any(|list| list == "any") {
        return if lists.len() == 1 { Ok(()) } else { Err(format!("'any' has to stand alone in {spelled}")) };
    }
    let is_method = |method: &str| METHODS.contains(&method.split(':').next().unwrap_or_default());
    match lists.iter().find(|list| !list.split(',').all(is_method)) {
        Some(list) => Err(format!("{spelled} names no method in '{list}'")),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn is_taken(line: &str) -> bool {
        let words: Vec<String> = line.split(' ').map(str::to_owned).collect();
        let known = keyword(&words[0].to_ascii_lowercase()).unwrap();
        check(&words[0], known.takes, &words[1..]).is_ok()
    }

    #[test]
    fn values_the_server_starts_with() {
        for line in [
            "UsePAM YES",
            "PermitRootLogin forced-commands-only",
            "MaxAuthTries 010",
            "Port 2222",
            "LoginGraceTime 1h30m",
            "LoginGraceTime 120",
            "MaxStartups 10:30:60",
            "MaxStartups 7",
            "AllowTcpForwarding local",
            "AuthenticationMethods publickey,password publickey",
            "Protocol anything at all",
            "ChallengeResponseAuthentication no",
            "AuthenticationMethods any",
            "Subsystem sftp /usr/lib/sftp -f AUTH",
            "PubkeyAcceptedKeyTypes +ssh-rsa",
        ] {
            assert!(is_taken(line), "{line}");
        }
    }

    #[test]
    fn values_it_does_not_start_with() {
        for line in [
            "UsePAM true",
            "UsePAM yes no",
            "PermitRootLogin sometimes",
            "MaxAuthTries 0x10",
            "MaxAuthTries -1",
            "Port 0",
            "Port 99999",
            "LoginGraceTime 1x",
            "LoginGraceTime m",
            "LoginGraceTime none",
            "MaxStartups 10:30",
            "MaxStartups 60:30:10",
            "AuthenticationMethods any publickey",
            "AuthenticationMethods smoke",
            "PubkeyAcceptedAlgorithms nosuch",
            "UsePAM",
        ] {
            assert!(!is_taken(line), "{line}");
        }
        assert!(keyword("passwordauthentification").is_none());
        assert!(!keyword("strictmodes").unwrap().in_match && keyword("permitrootlogin").unwrap().in_match);
    }
}
