//! What the server asks of the account before it looks at any key: state, shell, access lists, root, methods.

use super::{AccountStage, Question, Reason, ReasonKind};
use crate::account::{Account, Aging, Password};
use crate::fs::NodeKind;
use crate::server_config::{Settings, addresses, group_names, matches};
use crate::survey::{Resolved, resolve};
use crate::system::System;

const SECONDS_A_DAY: i64 = 86_400;

pub(super) fn reasons(account: &Account, settings: &Settings, question: &Question, seen: &System<'_>) -> Vec<Reason> {
    let mut reasons = Vec::new();
    // What the server itself prints has no place; its files tell where it is set, where they say the same.
    let of_files = seen.said_by_server.as_ref().map(|_| seen.config().of_account(account, seen));
    let mut push = |kind, keyword: &str| {
        let own = settings.get(keyword);
        let placed = || {
            of_files.as_ref()?.get(keyword).filter(|file| own.is_none_or(|own| own.words.first() == file.words.first()))
        };
        let setting = own.filter(|own| own.path.is_some()).or_else(placed);
        reasons.push(Reason {
            kind,
            path: setting.and_then(|setting| setting.path.clone()),
            line: setting.and_then(|setting| setting.line),
        });
    };
    if let Some(kind) = state(account, settings, question.now.div_euclid(SECONDS_A_DAY), seen) {
        push(kind, "usepam");
    }
    if let Some(kind) = shell(account, seen) {
        push(kind, "");
    }
    if let Some((keyword, list)) = kept_out_by(account, settings, seen) {
        push(ReasonKind::UserNotAllowed { keyword, list }, &keyword.to_ascii_lowercase());
    }
    let root = settings.word("permitrootlogin");
    if account.is_root() && root == "no" {
        push(ReasonKind::RootNotAllowed(root), "permitrootlogin");
    }
    if settings.word("pubkeyauthentication") == "no" {
        push(ReasonKind::PublicKeysOff, "pubkeyauthentication");
    }
    if settings.word("maxauthtries") == "0" {
        push(ReasonKind::NoTries, "maxauthtries");
    }
    reasons
}

/// Whether nothing keeps the account out that has to do with itself and not with a key.
pub(super) fn lets_in(account: &Account, settings: &Settings, now: i64, seen: &System<'_>) -> bool {
    state(account, settings, now.div_euclid(SECONDS_A_DAY), seen).is_none()
        && shell(account, seen).is_none()
        && kept_out(account, settings, seen).is_none()
        && !(account.is_root() && settings.word("permitrootlogin") == "no")
}

/// Locks and dates. With `UsePAM` the server leaves them to PAM, which asks after the key was accepted.
fn state(account: &Account, settings: &Settings, today: i64, seen: &System<'_>) -> Option<ReasonKind> {
    if seen.server.is_dropbear() {
        return None;
    }
    let pam = settings.word("usepam") == "yes";
    let ended = account.aging.is_some_and(|aging| aging.has_ended(today));
    let outdated = account.aging.is_some_and(|aging| aging.is_closed_by_age(today));
    match (pam, account.password, account.aging) {
        (true, _, Some(Aging::NoLine)) => Some(ReasonKind::AccountStage(AccountStage::NoShadowLine)),
        (true, ..) if ended => Some(ReasonKind::AccountStage(AccountStage::Expired)),
        (true, ..) if outdated => Some(ReasonKind::AccountStage(AccountStage::PasswordTooOld)),
        (true, ..) => None,
        (false, Some(Password::Locked), _) => Some(ReasonKind::AccountLocked),
        (false, ..) if ended => Some(ReasonKind::AccountExpired),
        (false, ..) => None,
    }
}

fn shell(account: &Account, seen: &System<'_>) -> Option<ReasonKind> {
    match resolve(&account.shell, seen) {
        // A tree without the folder of the shell is only part of a system and says nothing about it.
        Resolved::Missing(path) if path.name() == account.shell.name() => {
            Some(ReasonKind::ShellMissing(account.shell.clone()))
        }
        Resolved::To(_, node) if node.kind != NodeKind::File || node.mode & 0o111 == 0 => {
            Some(ReasonKind::ShellNotExecutable(account.shell.clone()))
        }
        _ => None,
    }
}

/// The list that keeps the account out, by its keyword, and what stands in it.
pub(super) fn kept_out_by(
    account: &Account,
    settings: &Settings,
    seen: &System<'_>,
) -> Option<(&'static str, Vec<String>)> {
    let keyword = kept_out(account, settings, seen)?;
    let list = settings.get(&keyword.to_ascii_lowercase()).map(|setting| setting.words.clone());
    Some((keyword, list.unwrap_or_default()))
}

/// The keyword of the list that keeps the account out, in the server's order.
fn kept_out(account: &Account, settings: &Settings, seen: &System<'_>) -> Option<&'static str> {
    let list = |keyword: &str| settings.get(keyword).map(|setting| &setting.words);
    let user = |words: &Vec<String>| words.iter().any(|word| user_fits(word, account, settings, seen));
    // As with users, a `!` in front is part of the name.
    let group = |words: &Vec<String>| {
        let takes = |group: &str| words.iter().any(|word| matches(word.as_bytes(), group.as_bytes()));
        group_names(account, &seen.groups).any(takes)
    };
    if list("denyusers").is_some_and(user) {
        Some("DenyUsers")
    } else if list("allowusers").is_some_and(|words| !user(words)) {
        Some("AllowUsers")
    } else if list("denygroups").is_some_and(group) {
        Some("DenyGroups")
    } else if list("allowgroups").is_some_and(|words| !group(words)) {
        Some("AllowGroups")
    } else {
        None
    }
}

/// A pattern of users, perhaps with `@` and patterns of hosts. A `!` in front is no negation here but part of the name.
fn user_fits(word: &str, account: &Account, settings: &Settings, seen: &System<'_>) -> bool {
    let (user, host) = word.split_once('@').map_or((word, None), |(user, host)| (user, Some(host)));
    if !matches(user.as_bytes(), account.name.as_bytes()) {
        return false;
    }
    let (Some(host), Some(address)) = (host, seen.connection.from) else { return true };
    let name = seen.connection.from_host.as_deref().filter(|_| settings.word("usedns") == "yes");
    addresses::list_takes_client(host, address, name, settings.version())
}
