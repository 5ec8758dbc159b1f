//! Where a person may sign in by the register, as their client has to know it: one shortcut for each account.

use crate::register::{Date, Grant, Host, Person, ReachKind, Register};
use lavrin_keys::key::{Fingerprint, PublicKey};
use lavrin_server::login::Limits;
use std::collections::{BTreeMap, BTreeSet};

/// The port of SSH servers (RFC 4253, section 4).
const SSH_PORT: u16 = 22;

/// An account on a host, and how one gets there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shortcut {
    /// What is typed: the name of the host, with the account behind a plus sign where there are several.
    pub alias: String,
    /// The name of the host.
    pub host: String,
    /// Its address.
    pub address: String,
    /// The port of its server.
    pub port: u16,
    /// The account.
    pub account: String,
    /// The shortcut over which one gets there.
    pub through: Option<String>,
    /// The keys by which the host proves itself; without one nothing is pinned.
    pub host_keys: Vec<PublicKey>,
    /// Whether the host knows no algorithms but broken ones.
    pub old_algorithms: bool,
    /// The last day.
    pub until: Option<Date>,
    /// Addresses from which alone it opens.
    pub from: Option<String>,
    /// The only command.
    pub command: Option<String>,
}

/// An account that the person may use and for which there is no shortcut.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOutShortcut {
    /// The host.
    pub host: String,
    /// The account.
    pub account: String,
    /// Why.
    pub why: WhyLeftOut,
}

/// Why there is no shortcut.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WhyLeftOut {
    /// It is granted to the key with this label, which is another one.
    OtherKey(String),
    /// The host is spoken to over NETCONF, on a port of its own.
    Netconf,
    /// The way to the host over others never ends.
    Endless,
    /// One gets there over this host, on which the person has no account that may go on.
    NoWayOver(String),
    /// A client's configuration cannot hold this address or account.
    NotAWord(String),
}

/// What a person may use.
#[derive(Debug, Default)]
pub struct Shortcuts {
    /// In the order of the hosts.
    pub shortcuts: Vec<Shortcut>,
    /// In the same order.
    pub left_out: Vec<LeftOutShortcut>,
}

/// Whether a text can stand as one word in a client's configuration (`ssh_config(5)`), where nothing in it means something else.
#[must_use]
pub fn is_word(text: &str) -> bool {
    let fine = |letter: char| letter.is_ascii_alphanumeric() || "._:-@+$\\".contains(letter);
    !text.is_empty() && !text.starts_with('-') && text.chars().all(fine)
}

impl Shortcuts {
    /// Those of a person on a day. With a key, only what is granted to that one.
    #[must_use]
    pub fn of(register: &Register, person: &Person, key: Option<Fingerprint>, today: Date) -> Self {
        let mut found = Self::default();
        let mut allowed: BTreeMap<(&str, &str), (&Host, &Grant)> = BTreeMap::new();
        let mut other: BTreeMap<(&str, &str), String> = BTreeMap::new();
        for grant in register.grants.iter().filter(|grant| !grant.has_ended(today)) {
            if !register.people_of(grant).iter().any(|one| one.id == person.id) {
                continue;
            }
            let is_meant = |print| {
                let mut keys = person.keys.iter().filter(|key| key.is_active(today) && key.fingerprint == print);
                keys.any(|key| grant.is_for(key, &person.keys))
            };
            let is_other = key.is_some_and(|print| !is_meant(print));
            for host in register.hosts_of(grant) {
                let place = (host.id.as_str(), grant.account.as_str());
                if is_other {
                    let label = grant.key.as_ref().map(|label| label.value.clone()).unwrap_or_default();
                    other.entry(place).or_insert(label);
                } else if allowed.get(&place).is_none_or(|(_, known)| narrowness(grant) < narrowness(known)) {
                    allowed.insert(place, (host, grant));
                }
            }
        }
        other.retain(|place, _| !allowed.contains_key(place));
        found.left_out.extend(other.into_iter().map(|((host, account), label)| LeftOutShortcut {
            host: host.to_owned(),
            account: account.to_owned(),
            why: WhyLeftOut::OtherKey(label),
        }));
        let accounts = |host: &str| allowed.keys().filter(|(other, _)| *other == host).count();
        let aliases: BTreeMap<(&str, &str), String> = allowed
            .keys()
            .map(|place| {
                let (host, account) = *place;
                (*place, if accounts(host) > 1 { format!("{host}+{account}") } else { host.to_owned() })
            })
            .collect();
        for (place, (host, grant)) in &allowed {
            match shortcut(register, host, grant, &aliases, &allowed) {
                Ok(shortcut) => found.shortcuts.push(shortcut),
                Err(why) => {
                    found.left_out.push(LeftOutShortcut { host: place.0.to_owned(), account: place.1.to_owned(), why });
                }
            }
        }
        found.leave_out_those_behind();
        found.left_out.sort_by(|one, other| (&one.host, &one.account).cmp(&(&other.host, &other.account)));
        found
    }

    /// What is reached over a shortcut that is left out is not reached either.
    fn leave_out_those_behind(&mut self) {
        loop {
            let known: BTreeSet<String> = self.shortcuts.iter().map(|shortcut| shortcut.alias.clone()).collect();
            let is_open = |shortcut: &Shortcut| shortcut.through.as_ref().is_none_or(|alias| known.contains(alias));
            let (open, closed): (Vec<_>, Vec<_>) = std::mem::take(&mut self.shortcuts).into_iter().partition(is_open);
            self.shortcuts = open;
            if closed.is_empty() {
                return;
            }
            self.left_out.extend(closed.into_iter().map(|shortcut| LeftOutShortcut {
                host: shortcut.host,
                account: shortcut.account,
                why: WhyLeftOut::NoWayOver(host_of(&shortcut.through.unwrap_or_default())),
            }));
        }
    }
}

/// The host of an alias; no name of a host holds a plus sign.
fn host_of(alias: &str) -> String {
    alias.split('+').next().unwrap_or_default().to_owned()
}

/// Of several grants for one account the widest counts: the server lets in whoever any entry lets in.
fn narrowness(grant: &Grant) -> (bool, bool, bool) {
    (grant.command().is_some(), grant.from().is_some(), grant.until.is_some())
}

/// Whether a session by this grant may go on to another host.
fn may_go_on(grant: &Grant, to: &Host) -> bool {
    let Ok(limits) = grant.entry_options().map(|options| Limits::of(&options)) else { return false };
    let mut opens = limits.permit.iter().filter_map(|permit| permit.strip_prefix("permitopen=")).peekable();
    let is_open = opens.peek().is_none() || opens.any(|open| open == format!("{}:{}", to.address, to.port));
    is_open && !limits.denied.contains(&"port forwarding")
}

type Allowed<'a> = BTreeMap<(&'a str, &'a str), (&'a Host, &'a Grant)>;

fn shortcut(
    register: &Register,
    host: &Host,
    grant: &Grant,
    aliases: &BTreeMap<(&str, &str), String>,
    allowed: &Allowed<'_>,
) -> Result<Shortcut, WhyLeftOut> {
    if register.goes_round(host) {
        return Err(WhyLeftOut::Endless);
    }
    if host.reach == ReachKind::Netconf && host.port != SSH_PORT {
        return Err(WhyLeftOut::Netconf);
    }
    let alias = aliases.get(&(host.id.as_str(), grant.account.as_str())).cloned().unwrap_or_default();
    if let Some(odd) = [&host.address, &grant.account].into_iter().find(|text| !is_word(text)) {
        return Err(WhyLeftOut::NotAWord(odd.clone()));
    }
    let through = host.through.as_ref().map(|through| {
        let on_it = allowed.iter().filter(|((host, _), _)| *host == through.value);
        let goes_on =
            on_it.filter(|(_, (_, grant))| may_go_on(grant, host)).min_by_key(|(_, (_, grant))| narrowness(grant));
        let alias = goes_on.and_then(|(place, _)| aliases.get(place)).cloned();
        alias.ok_or_else(|| WhyLeftOut::NoWayOver(through.value.clone()))
    });
    Ok(Shortcut {
        alias,
        host: host.id.clone(),
        address: host.address.clone(),
        port: host.port,
        account: grant.account.clone(),
        through: through.transpose()?,
        host_keys: host.host_keys.iter().map(|key| key.value.clone()).collect(),
        old_algorithms: host.old_algorithms,
        until: grant.until.as_ref().map(|until| until.value),
        from: grant.from().map(str::to_owned),
        command: grant.command().map(str::to_owned),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::register::{SourceFile, read};
    use lavrin_keys::key::PrivateKey;

    const TODAY: Date = Date { year: 2026, month: 11, day: 23 };

    fn key(seed: u8) -> PublicKey {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
    }

    fn register(hosts: &str, access: &str) -> Register {
        let person = format!(
            "name = \"Edda\"\nteam = \"office\"\n[[key]]\nlabel = \"main\"\nline = \"{}\"\n[[key]]\nlabel = \"tablet\"\nline = \"{}\"\n",
            key(1).line(""),
            key(2).line("")
        );
        let files = [
            ("lavrin.toml", "name = \"x\"\n"),
            ("people/edda.toml", &person),
            ("hosts.toml", hosts),
            ("access.toml", access),
        ];
        let files: Vec<SourceFile> = files
            .iter()
            .map(|(path, text)| SourceFile { path: (*path).to_owned(), text: (*text).to_owned() })
            .collect();
        let reading = read(&files);
        assert!(reading.findings.is_empty(), "{:?}", reading.findings);
        reading.register
    }

    fn of(register: &Register, print: Option<Fingerprint>) -> Shortcuts {
        Shortcuts::of(register, &register.people["edda"], print, TODAY)
    }

    const HOSTS: &str = "[office]\naddress = \"192.0.2.2\"\n[lantern]\naddress = \"192.0.2.7\"\nport = 2222\nthrough = \"office\"\n\
        [buoy]\naddress = \"192.0.2.8\"\nthrough = \"lantern\"\n[ring]\naddress = \"192.0.2.9\"\nthrough = \"ring\"\n";

    fn grant(account: &str, hosts: &str, more: &str) -> String {
        format!("[[grant]]\nperson = \"edda\"\naccount = \"{account}\"\nhosts = [{hosts}]\n{more}")
    }

    fn aliases(found: &Shortcuts) -> Vec<(&str, Option<&str>)> {
        found.shortcuts.iter().map(|one| (one.alias.as_str(), one.through.as_deref())).collect()
    }

    #[test]
    fn an_account_is_named_where_there_are_several_and_the_way_goes_over_one_that_may_go_on() {
        let access = grant("edda", "\"office\"", "options = [\"restrict\"]\n")
            + &grant("keeper", "\"office\", \"lantern\"", "")
            + "[[grant]]\nteam = \"office\"\naccount = \"keeper\"\nhosts = [\"lantern\"]\nfrom = \"192.0.2.0/24\"\n";
        let register = register(HOSTS.split("[ring]").next().unwrap(), &access);
        let found = of(&register, None);
        let office = Some("office+keeper");
        assert_eq!(aliases(&found), [("lantern", office), ("office+edda", None), ("office+keeper", None)]);
        // The widest grant counts.
        assert_eq!((found.shortcuts[0].port, &found.shortcuts[0].from), (2222, &None));
        assert!(found.left_out.is_empty());
    }

    #[test]
    fn what_is_left_out_is_said_once_each() {
        let access = grant("keeper", "\"lantern\", \"buoy\"", "")
            + &grant("edda", "\"office\"", "options = [\"no-port-forwarding\"]\n")
            + &grant("old", "\"office\"", "until = 2026-11-22\n")
            + &grant("root", "\"office\"", "key = \"tablet\"\n");
        let register = register(HOSTS.split("[ring]").next().unwrap(), &access);
        let found = of(&register, Some(key(1).fingerprint()));
        assert_eq!(aliases(&found), [("office", None)]);
        let left: Vec<(&str, &WhyLeftOut)> = found.left_out.iter().map(|one| (one.host.as_str(), &one.why)).collect();
        let over = |name: &str| WhyLeftOut::NoWayOver(name.to_owned());
        assert_eq!(
            left,
            [
                ("buoy", &over("lantern")),
                ("lantern", &over("office")),
                ("office", &WhyLeftOut::OtherKey("tablet".to_owned()))
            ]
        );
    }

    #[test]
    fn no_value_of_a_register_becomes_a_keyword() {
        for odd in ["lantern\nProxyCommand touch", "", "-oProxyCommand", "a b", "%h", "a\"b", "a#b", "a,b", "*"] {
            assert!(!is_word(odd), "{odd}");
        }
        for fine in ["192.0.2.7", "2001:db8::7", "lantern.example", "edda@office", "svc_tide$"] {
            assert!(is_word(fine), "{fine}");
        }
    }
}
