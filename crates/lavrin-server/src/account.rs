//! Accounts and groups as the files of a system describe them (`passwd(5)`, `shadow(5)`, `group(5)`).

use crate::fs::BytePath;
use serde::{Deserialize, Serialize};

/// Longest account list that is read: more lines are not looked at. A large university has some ten thousands.
pub const ACCOUNTS_MAX: usize = 1 << 20;

/// An account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Account {
    /// Its name.
    pub name: String,
    /// Its numeric id.
    pub uid: u32,
    /// Its primary group.
    pub gid: u32,
    /// Its home.
    pub home: BytePath,
    /// Its shell; empty stands for `/bin/sh`.
    pub shell: BytePath,
    /// What the shadow file says about its password, where it was seen.
    pub password: Option<Password>,
    /// What the shadow file says about its age; `None` where that was not seen.
    pub aging: Option<Aging>,
}

/// The dates of an account in `shadow(5)`, in days since 1970 and numbers of days.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Aging {
    /// The shadow file has no line for the account.
    NoLine,
    /// What the line says.
    Line {
        /// When the password was last changed; 0 asks for a new one.
        last_change: Option<i64>,
        /// Days after which it has to be changed.
        max_days: Option<i64>,
        /// Days after that at which the account is closed.
        inactive_days: Option<i64>,
        /// Day on which the account ends.
        expires: Option<i64>,
    },
}

impl Aging {
    fn from_fields(fields: &[&[u8]]) -> Self {
        let days = |place: usize| std::str::from_utf8(fields.get(place)?).ok()?.trim().parse().ok();
        Self::Line { last_change: days(2), max_days: days(4), inactive_days: days(6), expires: days(7) }
    }

    /// Whether the account itself has ended on this day.
    #[must_use]
    pub fn has_ended(&self, today: i64) -> bool {
        matches!(self, Self::Line { expires: Some(day), .. } if *day >= 0 && *day <= today)
    }

    /// Whether its password was not changed for so long that the account is closed. One that is merely due lets in.
    #[must_use]
    pub fn is_closed_by_age(&self, today: i64) -> bool {
        match self {
            Self::Line { last_change: Some(changed), max_days: Some(max), inactive_days: Some(inactive), .. }
                if *max >= 0 && *inactive >= 0 && *changed > 0 =>
            {
                today > changed.saturating_add(*max).saturating_add(*inactive)
            }
            _ => false,
        }
    }
}

/// What the password field says. The hash itself is never kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Password {
    /// Begins with `!`: locked.
    Locked,
    /// `*` or another text no password hashes to: no password login.
    Impossible,
    /// Empty: none is asked for.
    Empty,
    /// There is one.
    Set,
}

impl Password {
    /// Reads a password field.
    #[must_use]
    pub fn from_field(field: &[u8]) -> Self {
        match field {
            [] => Self::Empty,
            [b'!', ..] => Self::Locked,
            [b'$' | b'_', ..] => Self::Set,
            field if field.len() == 13 => Self::Set,
            _ => Self::Impossible,
        }
    }
}

impl Account {
    /// An account of which only the name is known; it is in no group.
    #[must_use]
    pub fn unknown(name: &str) -> Self {
        Self {
            name: name.to_owned(),
            uid: u32::MAX,
            gid: u32::MAX,
            home: "/".into(),
            shell: "/bin/sh".into(),
            password: None,
            aging: None,
        }
    }

    /// Whether this is the superuser, by number as the server sees it.
    #[must_use]
    pub fn is_root(&self) -> bool {
        self.uid == 0
    }

    /// Whether its shell lets nobody work. Such accounts can still be logged in to.
    #[must_use]
    pub fn shell_is_closed(&self) -> bool {
        matches!(self.shell.name(), b"nologin" | b"false")
    }
}

fn fields(line: &[u8]) -> Vec<&[u8]> {
    line.split(|byte| *byte == b':').collect()
}

fn number(field: &[u8]) -> Option<u32> {
    std::str::from_utf8(field).ok()?.parse().ok()
}

/// Reads `passwd(5)`; lines that are none are passed over, and of two accounts of one name the first counts.
#[must_use]
pub fn read_passwd(bytes: &[u8]) -> Vec<Account> {
    let mut seen = std::collections::HashSet::new();
    bytes
        .split(|byte| *byte == b'\n')
        .take(ACCOUNTS_MAX)
        .filter_map(|line| {
            let [name, _, uid, gid, _, home, shell] = fields(line)[..] else { return None };
            let name = String::from_utf8(name.to_vec()).ok().filter(|name| !name.is_empty())?;
            let (uid, gid) = (number(uid)?, number(gid)?);
            let shell = if shell.is_empty() { &b"/bin/sh"[..] } else { shell };
            Some(Account {
                name,
                uid,
                gid,
                home: BytePath::new(home),
                shell: BytePath::new(shell),
                password: None,
                aging: None,
            })
        })
        .filter(|account| seen.insert(account.name.clone()))
        .collect()
}

/// Adds to the accounts what `shadow(5)` says of them. The first line of an account counts.
pub fn add_shadow(accounts: &mut [Account], bytes: &[u8]) {
    let mut states = std::collections::HashMap::new();
    for line in bytes.split(|byte| *byte == b'\n').take(ACCOUNTS_MAX) {
        if let [name, field, ..] = fields(line)[..]
            && !name.is_empty()
        {
            states.entry(name).or_insert_with(|| (Password::from_field(field), Aging::from_fields(&fields(line))));
        }
    }
    for account in accounts {
        let state = states.get(account.name.as_bytes());
        account.password = state.map(|(password, _)| *password);
        account.aging = Some(state.map_or(Aging::NoLine, |(_, aging)| *aging));
    }
}

/// A group: its name, its number and the accounts listed in it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Group {
    /// Its name.
    pub name: String,
    /// Its number.
    pub gid: u32,
    /// Accounts listed, beside those that have it as their primary group.
    pub members: Vec<String>,
}

/// Reads `group(5)`.
#[must_use]
pub fn read_groups(bytes: &[u8]) -> Vec<Group> {
    let text = |field: &[u8]| String::from_utf8(field.to_vec()).ok();
    let lines = bytes.split(|byte| *byte == b'\n').take(ACCOUNTS_MAX);
    lines
        .filter_map(|line| {
            let [name, _, gid, members] = fields(line)[..] else { return None };
            let members =
                members.split(|byte| *byte == b',').filter(|name| !name.is_empty()).filter_map(text).collect();
            Some(Group { name: text(name)?, gid: number(gid)?, members })
        })
        .collect()
}

/// Whether a group is private, as Debian's server understands it for something that `owner` owns and `account` logs in
/// with: the group has a name and at least one member, nobody with another number has it as primary group, and listed
/// members are exactly the owner.
#[must_use]
pub fn is_private_group(gid: u32, owner: u32, account: &Account, accounts: &[Account], groups: &[Group]) -> bool {
    let Some(group) = groups.iter().find(|group| group.gid == gid) else { return false };
    let mut primaries = accounts.iter().filter(|account| account.gid == gid).peekable();
    let has_member = primaries.peek().is_some() || !group.members.is_empty();
    let others = primaries.any(|other| other.uid != account.uid);
    let is_owner = |name: &String| accounts.iter().any(|account| account.name == *name && account.uid == owner);
    has_member && !others && group.members.iter().all(is_owner)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_of_two_lines_counts_and_nonsense_is_passed_over() {
        let list = read_passwd(b"edda:x:1001:1001:,,,:/home/edda:\nbroken\nedda:x:9:9::/:/bin/sh\n+::::::\n");
        assert_eq!(list.len(), 1);
        assert_eq!((list[0].uid, list[0].shell.to_string()), (1001, "/bin/sh".to_owned()));
    }

    #[test]
    fn shadow_fields_are_told_apart_without_keeping_a_hash() {
        let mut accounts = read_passwd(b"a:x:1:1::/:\nb:x:2:2::/:\nc:x:3:3::/:\nd:x:4:4::/:\ne:x:5:5::/:\n");
        add_shadow(&mut accounts, b"a:!$6$x:1::::::\nb:*:1::::::\nc::1::::::\nd:$6$salt$hash:20000:0:90:7:5:20700:\n");
        let states: Vec<_> = accounts.iter().map(|account| account.password).collect();
        let expected = [Password::Locked, Password::Impossible, Password::Empty, Password::Set].map(Some);
        assert_eq!(states[..4], expected);
        assert_eq!((states[4], accounts[4].aging), (None, Some(Aging::NoLine)));
        let aging = accounts[3].aging.unwrap();
        assert!(!aging.has_ended(20_699) && aging.has_ended(20_700));
        assert!(!aging.is_closed_by_age(20_095) && aging.is_closed_by_age(20_096));
    }

    #[test]
    fn a_group_is_private_only_without_others() {
        let accounts =
            read_passwd(b"root:x:0:0::/:\nedda:x:1:10::/:/bin/sh\nsten:x:2:20::/:/bin/sh\nharbour:x:0:0::/:\n");
        let private = |groups: &[u8]| is_private_group(10, 1, &accounts[1], &accounts, &read_groups(groups));
        assert!(private(b"edda:x:10:\n"));
        assert!(private(b"edda:x:10:edda\n"));
        assert!(!private(b"edda:x:10:sten\n"));
        assert!(!private(b"other:x:11:\n"));
        let team = read_groups(b"team:x:30:edda\nroot:x:0:\n");
        assert!(is_private_group(30, 1, &accounts[1], &accounts, &team));
        assert!(!is_private_group(30, 0, &accounts[1], &accounts, &team));
        assert!(is_private_group(0, 0, &accounts[3], &accounts, &team));
    }
}
