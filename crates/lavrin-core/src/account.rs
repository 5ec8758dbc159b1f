//! Accounts and groups as the files of a system describe them (`passwd(5)`, `shadow(5)`, `group(5)`).

use crate::fs::BytePath;

/// Longest account list that is read: more lines are not looked at. A large university has some ten thousands.
pub const ACCOUNTS_MAX: usize = 1 << 20;

/// An account.
#[derive(Debug, Clone, PartialEq, Eq)]
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
}

/// What the password field says. The hash itself is never kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
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
            Some(Account { name, uid, gid, home: BytePath::new(home), shell: BytePath::new(shell), password: None })
        })
        .filter(|account| seen.insert(account.name.clone()))
        .collect()
}

/// The state of each password in `shadow(5)`.
#[must_use]
pub fn read_shadow(bytes: &[u8]) -> Vec<(String, Password)> {
    let lines = bytes.split(|byte| *byte == b'\n').take(ACCOUNTS_MAX);
    lines
        .filter_map(|line| match fields(line)[..] {
            [name, field, ..] if !name.is_empty() => {
                Some((String::from_utf8(name.to_vec()).ok()?, Password::from_field(field)))
            }
            _ => None,
        })
        .collect()
}

/// A group: its name, its number and the accounts listed in it.
#[derive(Debug, Clone, PartialEq, Eq)]
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

/// Whether the group is private to the account, as Debian's server understands it: it has a name and at least one
/// member, no other account has it as primary group, and listed members are exactly the owner.
#[must_use]
pub fn is_private_group(gid: u32, owner: &Account, accounts: &[Account], groups: &[Group]) -> bool {
    let Some(group) = groups.iter().find(|group| group.gid == gid) else { return false };
    let primaries: Vec<&Account> = accounts.iter().filter(|account| account.gid == gid).collect();
    let others = primaries.iter().any(|account| account.name != owner.name);
    let listed_others = group.members.iter().any(|member| *member != owner.name);
    !others && !listed_others && (!primaries.is_empty() || !group.members.is_empty())
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
    fn password_fields_are_told_apart_without_keeping_them() {
        let states = read_shadow(b"a:!$6$x:1::::::\nb:*:1::::::\nc::1::::::\nd:$6$salt$hash:1::::::\n");
        let states: Vec<_> = states.into_iter().map(|(_, state)| state).collect();
        assert_eq!(states, [Password::Locked, Password::Impossible, Password::Empty, Password::Set]);
    }

    #[test]
    fn a_group_is_private_only_without_others() {
        let accounts = read_passwd(b"edda:x:1:10::/:/bin/sh\nsten:x:2:20::/:/bin/sh\n");
        let private = |groups: &[u8]| is_private_group(10, &accounts[0], &accounts, &read_groups(groups));
        assert!(private(b"edda:x:10:\n"));
        assert!(private(b"edda:x:10:edda\n"));
        assert!(!private(b"edda:x:10:sten\n"));
        assert!(!private(b"other:x:11:\n"));
    }
}
