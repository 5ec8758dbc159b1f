//! The steps that make an account without a password, and put it into groups.

use super::{AccountChange, Change, NoSteps, Steps};
use crate::abilities::Ability;
use crate::account::Account;
use crate::login;
use crate::server_config;
use crate::survey::{Observation, Resolved, Want, Wanted, Who, resolve};
use crate::system::System;
use serde::{Deserialize, Serialize};

/// Longest name that systems take (`useradd(8)`).
const NAME_CHARACTERS_MAX: usize = 32;

/// Groups whose members can become root, or read everything.
const LIKE_ROOT: [&str; 9] = ["sudo", "wheel", "root", "admin", "docker", "lxd", "libvirt", "disk", "shadow"];

/// Whether the members of a group can become root, or as good as that.
#[must_use]
pub fn gives_root(group: &str) -> bool {
    LIKE_ROOT.contains(&group)
}

/// An account as it is to be made.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct NewAccount {
    /// Its name.
    pub name: String,
    /// Its shell; none: the usual one of the system.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shell: Option<String>,
    /// Its home; none: below the usual folder of the system.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home: Option<String>,
}

impl NewAccount {
    /// As it will be, as far as that is known before.
    #[must_use]
    pub(super) fn expected(&self, seen: &Observation) -> Account {
        let last = seen.accounts.iter().map(|account| account.uid).filter(|uid| (1000..60_000).contains(uid)).max();
        let uid = last.unwrap_or(999) + 1;
        let home = self.home.clone().unwrap_or_else(|| format!("/home/{}", self.name));
        Account {
            uid,
            gid: uid,
            home: home.as_str().into(),
            shell: self.shell.as_deref().unwrap_or("/bin/sh").into(),
            password: Some(crate::account::Password::Impossible),
            aging: Some(crate::account::Aging::Line {
                last_change: None,
                max_days: None,
                inactive_days: None,
                expires: None,
            }),
            ..Account::unknown(&self.name)
        }
    }
}

/// What has to be looked at before [`make_account`] can say everything.
#[must_use]
pub fn make_account_wants(new: &NewAccount, seen: &System<'_>) -> Vec<Want> {
    if !seen.looked {
        return vec![Want { what: Wanted::System(Who::All), account: None }];
    }
    let mut wants = server_config::wants(seen);
    let shell = new.shell.as_deref().unwrap_or("/bin/sh").into();
    if let Resolved::Ask(path) = resolve(&shell, seen) {
        wants.push(Want { what: Wanted::Node(path), account: None });
    }
    wants.retain(|want| !seen.answers(want));
    wants
}

/// The steps; none where the account is there. Its groups have to be there: no group is made.
///
/// # Errors
/// [`NoSteps`].
pub fn make_account(new: &NewAccount, groups: &[String], seen: &System<'_>, now: i64) -> Result<Steps, NoSteps> {
    if let Some(odd) = std::iter::once(&new.name).chain(groups).find(|name| !is_name(name)) {
        return Err(NoSteps::OddName(odd.clone()));
    }
    if let Some(odd) = [&new.shell, &new.home].into_iter().flatten().find(|path| !is_path(path)) {
        return Err(NoSteps::OddName(odd.clone()));
    }
    if let Some(account) = seen.account(&new.name) {
        return Ok(Steps::blank(account, None));
    }
    if !seen.abilities.has(Ability::Files) {
        return Err(NoSteps::NotApplicable(Ability::NewAccounts));
    }
    if seen.viewer != Some(0) {
        return Err(NoSteps::OnlyRoot);
    }
    if let Some(group) = groups.iter().find(|group| !seen.groups.iter().any(|own| own.name == **group)) {
        return Err(NoSteps::NoSuchGroup(group.clone()));
    }
    let mut steps = Steps::blank(&new.expected(seen), None);
    steps.changes.push(AccountChange::Make(new.clone()).into());
    let join =
        |group: &String| AccountChange::Join { account: new.name.clone(), group: group.clone(), is_member: true };
    steps.changes.extend(groups.iter().map(join).map(Change::from));
    let after = seen.observation().after(&steps.changes);
    let (system, account) = (System::of(&after), new.expected(seen));
    if let Some((keyword, list)) = login::kept_out_by(&account, &system) {
        return Err(NoSteps::KeptOut { account: new.name.clone(), keyword, list });
    }
    let shell = login::lets_account_in(&account, &system, now);
    if shell { Ok(steps) } else { Err(NoSteps::OddName(account.shell.to_string())) }
}

/// A name that every system takes (`useradd(8)`).
fn is_name(name: &str) -> bool {
    let mut letters = name.bytes();
    let first = letters.next().is_some_and(|byte| byte.is_ascii_lowercase() || byte == b'_');
    first
        && name.len() <= NAME_CHARACTERS_MAX
        && letters.all(|byte| byte.is_ascii_lowercase() || byte.is_ascii_digit() || b"_-".contains(&byte))
}

/// A whole path that stands in one field of `passwd(5)`.
fn is_path(path: &str) -> bool {
    path.starts_with('/') && path.len() < 256 && !path.contains([':', '\n', '\'']) && !path.contains("/../")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::{read_groups, read_passwd};
    use crate::fs::{Fact, Node, NodeKind};
    use crate::server_config::USUAL_PATH;

    fn host(config: &str) -> Observation {
        let mut seen = Observation { looked: true, viewer: Some(0), ..Observation::default() };
        seen.accounts = read_passwd(b"root:x:0:0::/root:/bin/sh\nsten:x:1001:1001::/home/sten:/bin/sh\n").into();
        seen.groups = read_groups(b"lamp:x:50:\nsudo:x:27:\n").into();
        for (path, kind) in [("/bin", NodeKind::Folder), ("/bin/sh", NodeKind::File)] {
            let node = Node { kind, mode: 0o755, uid: 0, gid: 0, access_list: false };
            seen.nodes.insert(path.into(), Fact::Known(node));
        }
        seen.bytes.insert(USUAL_PATH.into(), Fact::Known(config.as_bytes().to_vec()));
        seen
    }

    fn ask(config: &str, name: &str, groups: &[&str]) -> Result<Steps, NoSteps> {
        let new = NewAccount { name: name.to_owned(), ..NewAccount::default() };
        let groups: Vec<String> = groups.iter().map(|group| (*group).to_owned()).collect();
        make_account(&new, &groups, &System::of(&host(config)), 0)
    }

    #[test]
    fn an_account_is_made_and_put_into_its_groups() {
        let steps = ask("", "edda", &["lamp", "sudo"]).unwrap();
        let seen = host("").after(&steps.changes);
        assert!(steps.changes.iter().all(|change| change.holds(&seen)));
        let (edda, lamp) = (seen.account("edda").unwrap(), &seen.groups[0]);
        assert_eq!((edda.uid, lamp.members.as_slice()), (1002, ["edda".to_owned()].as_slice()));
        assert!(gives_root("sudo") && !gives_root("lamp"));
        // Nothing is deleted: what takes it back ends the account.
        let back: Vec<Change> = steps.changes.iter().rev().map(Change::inverse).collect();
        let before = seen.after(&back);
        assert!(before.account("edda").is_some() && before.groups[0].members.is_empty());
        assert!(steps.changes.iter().all(|change| change.is_undone(&before)));
        assert!(ask("", "sten", &[]).unwrap().changes.is_empty());
    }

    #[test]
    fn what_would_not_work_is_told_before() {
        for odd in ["", "Edda", "-edda", "edda ", "ed:da", "a b", "edda$(id)", &"e".repeat(33)] {
            assert_eq!(ask("", odd, &[]).unwrap_err(), NoSteps::OddName(odd.to_owned()), "{odd}");
        }
        assert_eq!(ask("", "edda", &["buoys"]).unwrap_err(), NoSteps::NoSuchGroup("buoys".to_owned()));
        let kept_out = |config: &str, groups: &[&str]| match ask(config, "edda", groups) {
            Err(NoSteps::KeptOut { keyword, .. }) => Some(keyword),
            Err(other) => panic!("{other:?}"),
            Ok(_) => None,
        };
        assert_eq!(kept_out("AllowGroups lamp\n", &[]), Some("AllowGroups"));
        assert_eq!(kept_out("AllowGroups lamp\n", &["lamp"]), None);
        assert_eq!(kept_out("AllowUsers sten\n", &[]), Some("AllowUsers"));
        let mut other = host("");
        other.viewer = Some(7);
        let new = NewAccount { name: "edda".to_owned(), ..NewAccount::default() };
        assert_eq!(make_account(&new, &[], &System::of(&other), 0).unwrap_err(), NoSteps::OnlyRoot);
        let closed = NewAccount { shell: Some("/bin/none".to_owned()), ..new };
        assert!(make_account(&closed, &[], &System::of(&host("")), 0).is_ok(), "what was not looked at is not judged");
    }
}
