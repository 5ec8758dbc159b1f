//! Steps in words: what would be done, before it is done.

use super::{comment, mode};
use lavrin_keys::repair::{LineRepair, RepairKind};
use lavrin_keys::text::count;
use lavrin_server::steps::{
    AccountChange, Change, Deed, FileChange, KeyChange, Mending, NotCovered, OwnerIds, Revived, ServerChange, Steps,
    Was, Withheld, WithheldWhat, gives_root,
};

/// One line for each change, in order.
pub fn changes(steps: &Steps) -> Vec<String> {
    steps.changes.iter().map(|change| change_line(change, steps)).collect()
}

/// One line for each thing that is mended, in order.
pub fn mending(found: &Mending) -> Vec<String> {
    let mut lines = Vec::new();
    for change in &found.steps.changes {
        match change {
            Change::File(FileChange::WriteFile { path, deed: Deed::Repair { lines: repairs, line_ends }, .. }) => {
                lines.extend(repairs.iter().map(|repair| repair_line(repair, &path.to_string())));
                if *line_ends > 0 {
                    let ends = count(*line_ends, "line", "lines");
                    lines.push(format!("remove the CR from the end of {ends} of {path}"));
                }
            }
            _ => lines.push(change_line(change, &found.steps)),
        }
    }
    lines
}

/// What is withheld, one line for each thing.
pub fn withheld(held: &Withheld, found: &Mending) -> Vec<String> {
    match &held.what {
        WithheldWhat::Modes(changes) => changes.iter().map(|change| change_line(change, &found.steps)).collect(),
        WithheldWhat::Lines(repair) => vec![repair_line(repair, &held.path.to_string())],
    }
}

fn repair_line(repair: &LineRepair, path: &str) -> String {
    let line = repair.first;
    let lines = format!("lines {} to {}", repair.first, repair.last);
    match repair.kind {
        RepairKind::ByteOrderMark => format!("remove the byte order mark from line {line} of {path}"),
        RepairKind::Joined => format!("join {lines} of {path}, one key that was broken apart"),
        RepairKind::Block => format!("write the block in {lines} of {path} as the one line that a key file wants"),
        RepairKind::Split => format!("put the entries that share line {line} of {path} on lines of their own"),
        RepairKind::LoneCr => format!("end the lines that CR parts in line {line} of {path} with LF"),
    }
}

fn change_line(change: &Change, steps: &Steps) -> String {
    match change {
        Change::File(file) => file_line(file, steps),
        Change::Key(key) => key_line(key),
        Change::Server(server) => server_line(*server),
        Change::Account(account) => account_line(account),
    }
}

fn server_line(change: ServerChange) -> String {
    match change {
        ServerChange::Reload => RELOAD.to_owned(),
        ServerChange::Passwords { on: false } => {
            "end the passwords of all accounts by the device's own switch".to_owned()
        }
        ServerChange::Passwords { on: true } => "let passwords in again by the device's own switch".to_owned(),
    }
}

const RELOAD: &str = "reload the server's configuration, once its own test accepts it";

fn account_line(change: &AccountChange) -> String {
    let (account, from, to) = match change {
        AccountChange::Expire { account, from, to } => (account, from, to),
        AccountChange::EndSession { account, pid, started } => {
            let since = crate::clock::text_of(*started).replace('T', " ");
            return format!(
                "end the session of {account} that is open since {since} (process {pid}); nothing takes that back"
            );
        }
        AccountChange::Make(new) => {
            let with = |what: &str, value: &Option<String>| {
                value.as_ref().map(|value| format!(", {what} {value}")).unwrap_or_default()
            };
            let more = with("shell", &new.shell) + &with("home", &new.home);
            return format!("make the account {}, without a password{more}", new.name);
        }
        AccountChange::Join { account, group, is_member: true } => {
            let root = if gives_root(group) { " (its members can become root)" } else { "" };
            return format!("put {account} into the group {group}{root}");
        }
        AccountChange::Join { account, group, is_member: false } => {
            return format!("take {account} out of the group {group}");
        }
    };
    let day = |day: &i64| crate::clock::day_of(day * 86_400);
    let was = from.as_ref().map_or_else(|| "it had no last day".to_owned(), |from| format!("it was {}", day(from)));
    match to {
        Some(to) => format!("set the last day of the account {account} to {} ({was})", day(to)),
        None => format!("take away the last day of the account {account} ({was})"),
    }
}

fn key_line(change: &KeyChange) -> String {
    let slot = change.slot.as_ref().map_or_else(String::new, |slot| format!(" ({})", super::slot(slot)));
    let account = &change.account;
    match (&change.old, &change.new) {
        (None, _) => format!("put the key into the list of {account}"),
        (Some(_), Some(_)) => format!("change the options of the key in the list of {account}{slot}"),
        (Some(_), None) => format!("remove the key from the list of {account}{slot}"),
    }
}

fn file_line(change: &FileChange, steps: &Steps) -> String {
    let account = &steps.account;
    let owner =
        |owner: &OwnerIds| if owner.uid == account.uid { account.name.clone() } else { format!("uid {}", owner.uid) };
    match change {
        FileChange::MakeFolder { path, mode: bits, owner: own } => {
            format!("make {path}, mode {}, owner {}", mode(*bits), owner(own))
        }
        FileChange::SetMode { path, from, to } => {
            format!("set the mode of {path} from {} to {}", mode(*from), mode(*to))
        }
        FileChange::SetOwner { path, from, to } => format!("give {path} to {} (was {})", owner(to), owner(from)),
        FileChange::WriteFile { path, old: None, mode: bits, owner: own, .. } => {
            format!("make {path} with the key, mode {}, owner {}", mode(*bits), owner(own))
        }
        FileChange::WriteFile { path, mode: bits, owner: own, was, deed, .. } => {
            let attributes = format!("mode {}{}", mode(*bits), new_owner(*own, *was, &owner));
            written(&path.to_string(), deed, &attributes)
        }
        FileChange::RemoveFolder { path, .. } | FileChange::RemoveFile { path, .. } => format!("remove {path}"),
    }
}

/// A file that is there and is written.
fn written(path: &str, deed: &Deed, attributes: &str) -> String {
    match deed {
        Deed::Entries { come, go, limit } if go.is_empty() && limit.is_empty() => {
            let (keys, lines) = (if come.len() == 1 { "the key" } else { "the keys" }, lines(come));
            format!("add {keys} to {path} as {lines}, {attributes}; everything else stays as it is")
        }
        Deed::Entries { come, go, limit } if come.is_empty() && limit.is_empty() => {
            format!("remove {} from {path}; everything else stays as it is", lines(go))
        }
        Deed::Entries { come, go, limit } => {
            let parts = [("add", come), ("remove", go), ("change the options of", limit)];
            let parts = parts.iter().filter(|(_, numbers)| !numbers.is_empty());
            let parts: Vec<String> = parts.map(|(what, numbers)| format!("{what} {}", lines(numbers))).collect();
            format!("{path}: {}; everything else stays as it is", parts.join(", "))
        }
        Deed::Repair { .. } => format!("repair lines of {path}; everything else stays as it is"),
        Deed::Copy => {
            format!("replace {path} by a copy that belongs to its owner, {attributes}; its content stays as it is")
        }
        Deed::Revoke(keys) => {
            format!("add {} to the list of revoked keys {path}", count(keys.len(), "key", "keys"))
        }
        Deed::Settings { come, go } => {
            let parts = [("add", come), ("remove", go)];
            let parts = parts.iter().filter(|(_, numbers)| !numbers.is_empty());
            let parts: Vec<String> = parts.map(|(what, numbers)| format!("{what} {}", lines(numbers))).collect();
            format!("settings of the server in {path}: {}, {attributes}", parts.join(", "))
        }
        Deed::PutBack | Deed::Unsaid => format!("write {path} as it was before"),
    }
}

fn lines(numbers: &[usize]) -> String {
    let mut sorted = numbers.to_vec();
    sorted.sort_unstable();
    let noun = if sorted.len() == 1 { "line" } else { "lines" };
    let numbers: Vec<String> = sorted.iter().map(usize::to_string).collect();
    format!("{noun} {}", numbers.join(", "))
}

/// Whose a file becomes, where it was somebody else's.
fn new_owner(now: OwnerIds, was: Option<Was>, name: &dyn Fn(&OwnerIds) -> String) -> String {
    let was = was.filter(|was| was.owner.uid != now.uid);
    was.map(|was| format!(", owner {} (was {})", name(&now), name(&was.owner))).unwrap_or_default()
}

/// What is brought to life.
pub fn revived(entry: &Revived) -> String {
    format!("{} becomes active: {} {}", super::place(&entry.place), entry.fingerprint, comment(&entry.comment))
}

/// What is not covered.
pub fn not_covered(what: &NotCovered) -> String {
    match what {
        NotCovered::KeysCommand(command) => {
            format!("not covered: a command gives the server further keys (AuthorizedKeysCommand {command})")
        }
        NotCovered::Authorities(path) => {
            format!("not covered: certificates open accounts too (TrustedUserCAKeys {path})")
        }
        NotCovered::SettingsUnseen(path) => {
            format!("not checked: {path} could not be read; the usual key files were taken")
        }
    }
}

/// A change that takes another one back.
pub fn taken_back(change: &Change) -> String {
    let file = match change {
        Change::File(file) => file,
        Change::Key(key) => return key_line(key),
        Change::Server(server) => return server_line(*server),
        Change::Account(account) => return account_line(account),
    };
    match file {
        FileChange::MakeFolder { path, mode: bits, .. } => format!("make {path} again, mode {}", mode(*bits)),
        FileChange::SetMode { path, from, to } => {
            format!("set the mode of {path} back from {} to {}", mode(*from), mode(*to))
        }
        FileChange::SetOwner { path, to, .. } => format!("give {path} back to uid {}", to.uid),
        FileChange::WriteFile { path, .. } => format!("write {path} as it was before"),
        FileChange::RemoveFolder { path, .. } | FileChange::RemoveFile { path, .. } => format!("remove {path}"),
    }
}
