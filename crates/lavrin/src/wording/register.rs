//! What is wrong with a register, in words, and what to type.

use lavrin_fleet::register::FieldKind;
use lavrin_fleet::register::edit::EditFault;
use lavrin_fleet::register::{RegisterFault, RegisterFinding};
use lavrin_keys::text::{printable, shell_word};
use lavrin_server::finding::Fault;

/// What is wrong.
pub fn message(fault: &RegisterFault) -> String {
    match fault {
        RegisterFault::Syntax { said } => format!("this is not TOML: {said}"),
        RegisterFault::UnknownField { name, .. } => format!("there is no field '{}' here", printable(name.as_bytes())),
        RegisterFault::MissingField { name } => format!("the field '{name}' is missing"),
        RegisterFault::WrongKind { name, wanted } | RegisterFault::BadValue { name, wanted } => {
            format!("'{}' has to be {}", printable(name.as_bytes()), field_kind(*wanted))
        }
        RegisterFault::BadKey { fault } => format!("this public line cannot be used: {}", super::key::fault(fault)),
        RegisterFault::NamedTwice { name } => format!("'{name}' is in the register twice"),
        RegisterFault::WeakKey { weakness, fingerprint } => {
            super::finding::message(&Fault::WeakKey { weakness: weakness.clone(), fingerprint: *fingerprint })
        }
        RegisterFault::AlgorithmNotAllowed { name } => format!("policy does not allow {name} keys"),
        RegisterFault::SharedKey { other, .. } => {
            format!("{other} has the same key: the two cannot be told apart")
        }
        RegisterFault::DuplicateKey { .. } => "this key is listed twice".to_owned(),
        RegisterFault::OldKey { days, limit } => format!("this key is {days} days old, and {limit} are allowed"),
        RegisterFault::CommentForm { comment, pattern } => {
            format!("the comment '{comment}' does not have the form {pattern}")
        }
        RegisterFault::AutomationUnlimited { wanted } => {
            format!("a program's key opens this account without {}", wanted.join("= or ") + "=")
        }
        RegisterFault::ReplacedTwice { label } => format!("another key replaces '{label}' already"),
        RegisterFault::ReplacesItself { label } => format!("'{label}' replaces itself, perhaps over other keys"),
        RegisterFault::PersonWithoutKey => "this person has no key in use".to_owned(),
        RegisterFault::UnknownName { what, name, .. } => format!("there is no {what} '{name}'"),
        RegisterFault::GrantMatchesNothing => "this grant matches no host".to_owned(),
        RegisterFault::GrantEnded { on, .. } => format!("this grant ended on {on}"),
        RegisterFault::GrantEndsSoon { on, .. } => format!("the last day of this grant is {on}"),
        RegisterFault::GrantOfLeaver { person, left, .. } => {
            format!("{person} left on {left} and still has this grant")
        }
        RegisterFault::GroupForbidden { group } => format!("policy forbids to put accounts into the group {group}"),
        RegisterFault::GroupLikeRoot { group } => format!("whoever is in the group {group} can become root"),
        RegisterFault::GrantWithoutKey => "nobody whom this grant is for has a key in use".to_owned(),
        RegisterFault::GrantTwice => "the same grant is listed above".to_owned(),
        RegisterFault::KeptNotManaged => {
            "the register does not manage this account, so no command puts the kept key there or takes it away"
                .to_owned()
        }
        RegisterFault::KeptKnownToLeaver { person, left } => {
            format!("{person}, who left on {left}, may have a copy of this private key")
        }
        RegisterFault::HostUnpinned => {
            "the keys of this host are not pinned, so another machine could answer in its place".to_owned()
        }
        RegisterFault::WayBackMissing => {
            "nobody has written down how to get into this host where no key opens it any more".to_owned()
        }
        RegisterFault::WayBackUntried { days: None, .. } => "the way back to this host was never tried".to_owned(),
        RegisterFault::WayBackUntried { days: Some(days), limit } => {
            format!("the way back to this host was last tried {days} days ago, and {limit} are allowed")
        }
        RegisterFault::SharedHostKey { other, .. } => {
            format!("{other} has the same host key: one machine is a copy of the other and can answer in its place")
        }
        RegisterFault::ThroughLoop => "the hosts on the way to this host form a loop".to_owned(),
        RegisterFault::OldAlgorithms => {
            "this host may speak with SHA-1, which is broken: whoever is on the way may listen in or change what is said"
                .to_owned()
        }
        RegisterFault::AfterChangeNoPath { word } => {
            format!("what runs after a change is a program by its whole path, and {} is none; it is not run", printable(word.as_bytes()))
        }
        RegisterFault::RunsAfterChange { words } => {
            format!("after each change this runs there, by root where the login has root's rights: {}", printable(words.as_bytes()))
        }
        RegisterFault::AccountNotOfLogin { account, login } => {
            format!("this host takes keys for the account that signs in ({login}) and not for {account}")
        }
        RegisterFault::AccountWithoutWayIn { account } => {
            format!("no grant is for {account} here: after an enforce nobody could log in")
        }
        RegisterFault::AccountNeverSeen { account, near } => {
            let near = near.as_ref().map(|near| format!(" (near to it: {near})")).unwrap_or_default();
            format!("the last survey saw no account {account} here{near}")
        }
        RegisterFault::LeaveByComment { comment, meant } => {
            let keys: Vec<String> = meant.iter().map(ToString::to_string).collect();
            let meant = match &keys[..] {
                [] => "no key was seen here that goes by it".to_owned(),
                keys => format!("here it would mean {}", keys.join(", ")),
            };
            format!(
                "'{comment}' is no fingerprint, and anybody can write a comment, so nothing is left alone by it; {meant}"
            )
        }
        RegisterFault::LeaveOfPerson { person, .. } => {
            format!("this is a key of {person}: whether it may stay is for a grant to say, so it is not left alone")
        }
        RegisterFault::ExceptionEnded { on } => format!("this exception ended on {on}"),
        RegisterFault::ExceptionUnused => "this exception is no longer needed".to_owned(),
    }
}

/// What to do about it.
pub fn remedy(finding: &RegisterFinding) -> String {
    // What a register says is pasted with it: each name is one word.
    let about = &shell_word(&finding.about);
    let host = &shell_word(finding.about.rsplit('@').next().unwrap_or_default());
    match &finding.fault {
        RegisterFault::UnknownField { near: Some(near), .. } => format!("did you mean '{near}'?"),
        RegisterFault::UnknownName { near: Some(near), .. } => format!("did you mean '{near}'?"),
        RegisterFault::UnknownName { what: "person", name, .. } => {
            format!("lavrin person add {} --key KEY.pub, or take the grant out", shell_word(name))
        }
        RegisterFault::UnknownName { what: "host", name, .. } => {
            format!("lavrin host add {}, or correct the name", shell_word(name))
        }
        RegisterFault::OldKey { .. } if !finding.about.contains('@') => {
            format!("lavrin rotate {about} --from-file NEW.pub")
        }
        RegisterFault::OldKey { .. } | RegisterFault::KeptKnownToLeaver { .. } => {
            format!("lavrin rotate --account {about}")
        }
        RegisterFault::KeptNotManaged => {
            format!("name it under accounts: lavrin host show {host}")
        }
        RegisterFault::GrantEndsSoon { team, account, hosts, tags, .. } => {
            let team = if *team { " --team" } else { "" };
            let hosts = hosts.iter().map(|host| format!(" --host {}", shell_word(host)));
            let places: String = hosts.chain(tags.iter().map(|tag| format!(" --tag {}", shell_word(tag)))).collect();
            format!(
                "if it is needed for longer: lavrin grant {about} {}{team}{places} --until DATE",
                shell_word(account)
            )
        }
        RegisterFault::WeakKey { .. } | RegisterFault::AlgorithmNotAllowed { .. } => {
            format!("have a new pair made (lavrin key generate), then: lavrin person add {about} --key KEY.pub")
        }
        RegisterFault::SharedKey { .. } => "ask both; a key belongs to one person or one machine".to_owned(),
        RegisterFault::GrantOfLeaver { account, .. } => {
            format!("lavrin withdraw {about} {} --all", shell_word(account))
        }
        RegisterFault::GrantEnded { account, on } => {
            format!("lavrin withdraw {about} {} --until {on}", shell_word(account))
        }
        RegisterFault::PersonWithoutKey | RegisterFault::GrantWithoutKey => {
            format!("lavrin person add {about} --key KEY.pub")
        }
        RegisterFault::HostUnpinned => format!("lavrin host trust {about}"),
        RegisterFault::WayBackMissing => format!("lavrin host set {about} --way-back 'HOW' --way-back-tried DATE"),
        RegisterFault::WayBackUntried { .. } => {
            format!("try it, then: lavrin host set {about} --way-back-tried DATE")
        }
        RegisterFault::SharedHostKey { fingerprint, .. } => {
            format!("make new host keys on one of them, then: lavrin host trust {about} --replace {fingerprint}")
        }
        RegisterFault::AccountNotOfLogin { account, .. } => {
            let account = shell_word(account);
            format!(
                "lavrin host add {host}-{account} --login {account} --account {account}, with the same address and reach"
            )
        }
        RegisterFault::AccountWithoutWayIn { account } => {
            format!("lavrin grant PERSON {} --host {host}", shell_word(account))
        }
        RegisterFault::AccountNeverSeen { .. } => {
            format!("lavrin survey {host}")
        }
        RegisterFault::AutomationUnlimited { .. } => {
            "add from = \"ADDRESS\" or command = \"…\" to the grant".to_owned()
        }
        RegisterFault::LeaveByComment { meant, .. } => match &meant[..] {
            [] => "take it out, or name the key: leave = [\"SHA256:…\"]".to_owned(),
            keys => {
                let named: Vec<String> = keys.iter().map(|key| format!("\"{key}\"")).collect();
                format!("leave = [{}]", named.join(", "))
            }
        },
        RegisterFault::LeaveOfPerson { person, .. } => {
            format!("take it out; where it may stay: lavrin grant {} ACCOUNT --host {about}", shell_word(person))
        }
        RegisterFault::ExceptionEnded { .. } | RegisterFault::ExceptionUnused => "take it out".to_owned(),
        RegisterFault::DuplicateKey { .. } | RegisterFault::GrantTwice | RegisterFault::NamedTwice { .. } => {
            "one of the two is enough".to_owned()
        }
        RegisterFault::RunsAfterChange { .. } => "nothing, where you mean it; else take it out".to_owned(),
        _ => "correct it there".to_owned(),
    }
}

fn field_kind(kind: FieldKind) -> &'static str {
    match kind {
        FieldKind::Text => "a text in quotes",
        FieldKind::Number => "a whole number in its bounds",
        FieldKind::Date => "a date as 2027-01-31",
        FieldKind::Flag => "true or false",
        FieldKind::Table => "a table",
        FieldKind::Tables => "tables in double brackets",
        FieldKind::Algorithm => "a name as ssh-ed25519 or ssh-rsa",
        FieldKind::Severity => "critical, high, medium, low, info or off",
        FieldKind::Id => "a name of small letters, digits, dots and dashes",
        FieldKind::Purpose => "person, automation or break-glass",
        FieldKind::Reach => "shell, netconf, publickey-subsystem, sftp or dialogue",
        FieldKind::RootBy => "sudo, doas or none",
        FieldKind::JournalPlace => "desk or register",
        FieldKind::StoreUrl => "an address as postgresql://NAME@HOST/DATABASE, without a password",
        FieldKind::OneLine => "a text on one line",
        FieldKind::KeysPath => "a path without .. in it, as /keys/%u",
        FieldKind::Shown => "a text as the device shows it, and not empty",
        FieldKind::KeyForm => "lines or blocks",
        FieldKind::LineEnds => "lf or crlf",
        FieldKind::PasswordsEnd => "first-key, switch or unknown",
        FieldKind::Template => "one line with the marks %u, %n, %k, %a, %d, %c, %b, %m, %f, or %% for a percent sign",
        FieldKind::KeyTemplate => "the line that lists a key, with %k or with %a and %d",
        FieldKind::Options => "options as they stand in front of a key, each one known to the server",
        FieldKind::Machine => "ACCOUNT@HOST",
        FieldKind::OneGrantee => "one of person, team and machine, not several",
    }
}

/// Why a file of the register could not be edited.
pub fn edit(fault: &EditFault) -> String {
    match fault {
        EditFault::Syntax(said) => said.clone(),
        EditFault::WrongKind(name) => format!("'{name}' is not what it should be"),
    }
}
