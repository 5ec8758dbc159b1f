//! Why steps cannot be told, in words, and what to type next.

use super::CommandError;
use crate::exit::Exit;
use lavrin_keys::text::{printable, shell_word};
use lavrin_server::abilities::Ability;
use lavrin_server::fs::Why;
use lavrin_server::login::KeySource;
use lavrin_server::steps::NoSteps;

fn stop(message: String) -> CommandError {
    CommandError::with(Exit::Stopped, message).because("nothing was changed")
}

/// How a command ends because steps cannot be told.
pub fn exit_of_no_steps(fault: &NoSteps) -> Exit {
    match fault {
        NoSteps::NoSuchAccount => Exit::Findings,
        NoSteps::HomeOnNetwork(_) => Exit::NotChecked,
        _ => Exit::Stopped,
    }
}

/// Steps that cannot be told.
pub fn no_steps(fault: &NoSteps, account: &str, place: &str) -> CommandError {
    match fault {
        NoSteps::NoSuchAccount => {
            CommandError::with(Exit::Findings, format!("there is no account {account} on {place}"))
                .hint("which accounts there are: lavrin audit")
        }
        NoSteps::NoKeyFileNamed => {
            stop(format!("the server reads no key file for {account} (AuthorizedKeysFile none)"))
        }
        NoSteps::HomeMissing(path) => {
            stop(format!("{path} does not exist")).hint(format!("make the home first, owned by {account}"))
        }
        NoSteps::HomeOnNetwork(path) => stop(format!("{path} is on a network file system and was not looked at"))
            .again("to look there anyway", "--network-homes"),
        NoSteps::HomeOwner { path, found, wanted } => {
            stop(format!("the home {path} belongs to uid {found}, not to {account} (uid {wanted})")).hint(format!(
                "if it is that account's: chown {} {}",
                shell_word(account),
                shell_word(&path.to_string())
            ))
        }
        NoSteps::NeedsRoot { path, found, wanted } => {
            stop(format!("{path} belongs to uid {found} instead of uid {wanted}, and only root may change that"))
                .again("as root or as a user with sudo", "--login NAME")
        }
        NoSteps::WrongKind(path) => stop(format!("{path} is not the file or folder that belongs there"))
            .hint(format!("ls -ld {}", shell_word(&path.to_string()))),
        NoSteps::LinkLeadsOut { path, to } => stop(format!("{path} is a link that leads out of the home, to {to}"))
            .hint("change that file where it is kept"),
        NoSteps::LinkLoop(path) => stop(format!("the links at {path} form a loop")),
        NoSteps::BinaryList(path) => {
            stop(format!("{path} is a binary list of revoked keys, which only its own program can write"))
                .hint("add the key there with the program that made it")
        }
        NoSteps::ChangedSince(path) => {
            stop(format!("{path} was changed again since then, and later changes would be lost"))
                .hint(format!("lavrin history {}@{place}", shell_word(account)))
        }
        NoSteps::WouldRevive(entries) => {
            let said = stop(format!(
                "repairing modes for {account} would make entries active that have no grant and that the server ignores today"
            ));
            let said = entries.iter().fold(said, |said, entry| said.because(crate::wording::steps::revived(entry)));
            let account = shell_word(account);
            said.hint(format!("allow them: lavrin grant PERSON {account} --host {place}"))
                .hint(format!("or remove them: lavrin remove SHA256:… {account}@{place}"))
        }
        NoSteps::SharedFile(path) => stop(format!(
            "{path} is read for several managed accounts, so a change for {account} would change them all"
        ))
        .hint("give each account a file of its own: AuthorizedKeysFile with %u or %h in it"),
        NoSteps::NotApplicable(Ability::Options) => stop(format!(
            "{place} has nothing like the options of an entry for {account}; without them it would open more"
        ))
        .hint(format!("look at its grants: lavrin host show {place}")),
        NoSteps::NoKeyTaken { who, limit } => {
            stop(format!("{who} has no key that {place} takes: {}", crate::wording::compare::taken(limit)))
                .hint(format!("lavrin key generate --for {place}"))
        }
        NoSteps::NotApplicable(ability) => {
            let what = crate::wording::not_applicable(&[*ability]).unwrap_or_default();
            stop(format!("{place}: {what}")).hint(format!("look at it: lavrin audit {place}"))
        }
        NoSteps::Unread(KeySource::Slots, Why::Permission) => {
            stop(format!("{place} shows nothing of {account} to this login, so nothing can be changed safely"))
                .again("as that account", &format!("--login {account}"))
        }
        NoSteps::Unread(source, why) => {
            let path = crate::wording::key_source(source);
            let said = stop(format!("{path} could not be read, so it cannot be changed safely"))
                .because(crate::wording::why_words(why));
            if *why == Why::Permission {
                said.again("as root or as a user with sudo", "--login NAME")
                    .hint(format!("if root may not either: chown {account} {}", shell_word(&path)))
            } else {
                said
            }
        }
        NoSteps::OthersMayWrite(_)
        | NoSteps::StartOption(_)
        | NoSteps::StartSwitches
        | NoSteps::PasswordBehindKey
        | NoSteps::BrokenSettings(_)
        | NoSteps::SettingNotUnderstood { .. } => of_settings(fault, place),
        NoSteps::OddName(_) | NoSteps::NoSuchGroup(_) | NoSteps::KeptOut { .. } | NoSteps::OnlyRoot => {
            of_new_account(fault, place)
        }
    }
}

/// Those of the server's settings.
fn of_settings(fault: &NoSteps, place: &str) -> CommandError {
    match fault {
        NoSteps::OthersMayWrite(path) => {
            let path = shell_word(&path.to_string());
            stop(format!("others than root may change {path} or a folder above it, so root does not work there"))
                .hint(format!("look at it: namei -l {path}"))
        }
        NoSteps::StartOption(option) => {
            let option = printable(option.as_bytes());
            stop(format!("the server was started with -o {option}, and that goes before its files"))
                .hint("take the option out of the server's own start script, start the server again, then run this again")
        }
        NoSteps::StartSwitches => {
            stop("this server (dropbear) has no settings in files: it takes switches when it starts".to_owned())
                .because("on Debian: add -s (no passwords) and -g (none for root) to DROPBEAR_EXTRA_ARGS in /etc/default/dropbear, then: service dropbear restart")
                .because("on OpenWrt: uci set dropbear.@dropbear[0].PasswordAuth=off; uci set dropbear.@dropbear[0].RootPasswordAuth=off; uci commit dropbear; /etc/init.d/dropbear restart")
                .because("keep a session open until a new login with a key has worked")
                .hint(format!("prove the key first: lavrin probe KEY.pub root@{place}"))
        }
        NoSteps::PasswordBehindKey => {
            stop("this server (dropbear) asks for a password behind each key, and does not start without passwords then".to_owned())
                .because("-t stands in DROPBEAR_EXTRA_ARGS in /etc/default/dropbear")
                .hint(format!("take -t out there, restart the server, then: lavrin keys-only {place}"))
        }
        NoSteps::BrokenSettings(fault) => {
            let (path, line) = (&fault.path, fault.line);
            let what = crate::wording::config::error(&fault.what);
            stop(format!("the server would not start with its settings: {path} line {line}: {what}"))
                .hint(format!("lavrin host settings {place}"))
        }
        NoSteps::SettingNotUnderstood { path, line } => {
            stop(format!("line {line} of {path} cannot be told well enough to change it safely"))
                .hint(format!("lavrin host settings {place}"))
        }
        _ => stop(format!("{place}: nothing can be done")),
    }
}

/// Those of an account that is to be made.
fn of_new_account(fault: &NoSteps, place: &str) -> CommandError {
    match fault {
        NoSteps::OddName(name) => {
            let name = printable(name.as_bytes());
            stop(format!("'{name}' is no name or path that every system takes for an account"))
                .hint("names: small letters, digits, - and _, at most 32, a letter first; paths: whole, as /bin/sh")
        }
        NoSteps::NoSuchGroup(group) => stop(format!("there is no group {group} on {place}, and none is made"))
            .hint(format!("make it there first: groupadd {}", shell_word(group))),
        NoSteps::KeptOut { account, keyword, list } => {
            let list = printable(list.join(" ").as_bytes());
            let said = stop(format!("the server would keep {account} out: {keyword} {list}"));
            if *keyword == "AllowGroups" {
                let group = list.split(' ').next().unwrap_or_default();
                said.again("with a group that is let in", &format!("--group {}", shell_word(group)))
            } else {
                said.hint(format!("change that line on the host first: lavrin host settings {place}"))
            }
        }
        NoSteps::OnlyRoot => {
            stop("only root can make accounts".to_owned()).again("as root or as a user with sudo", "--login NAME")
        }
        _ => stop(format!("{place}: nothing can be done")),
    }
}
