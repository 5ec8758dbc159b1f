//! The words for what the core decides.

pub mod compare;
pub mod config;
pub mod finding;
pub mod fleet;
pub mod key;
pub mod reason;
pub mod register;
pub mod rules;
pub mod steps;
mod trouble;

pub use trouble::{heard, host_fault, not_asked, trouble};

use lavrin_keys::key::container::TextNote;
use lavrin_keys::key::{Fingerprint, KeyFault};
use lavrin_keys::keysfile::LineFault;
use lavrin_keys::text::printable;
use lavrin_reach::ssh::{NoAnswer, SignedIn};
use lavrin_server::abilities::{Abilities, Ability};
use lavrin_server::device::{KeyLimits, LimitBroken};
use lavrin_server::fs::Why;
use lavrin_server::login::{KeySource, Limits, NotGone, Place};
use lavrin_server::server::{Known, Software};
use lavrin_server::survey::Observation;
use lavrin_work::NoProof;

/// A line about the login that is used.
pub fn signed_in(signed: &SignedIn, host: &str) -> String {
    match &signed.key {
        Some(print) => format!("Signed in to {host} as {} with publickey: {} {print}", signed.account, signed.source),
        None => format!("Signed in to {host} as {} with {}", signed.account, signed.method),
    }
}

/// By whose rules it was judged, and how that is known.
pub fn server(seen: &Observation) -> String {
    let name = match seen.server.software {
        Software::OpenSsh | Software::Unknown => "OpenSSH",
        Software::Dropbear => "dropbear",
    };
    let version = seen.server.version.map(|version| format!(" {version}")).unwrap_or_default();
    let build = if seen.server.tolerates_private_groups { " as Debian builds it" } else { "" };
    let whose = format!("{name}{version}{build}");
    let nearest = match seen.server.version {
        Some(_) if !seen.server.is_measured() => {
            format!("; not measured itself, so by {}", seen.server.nearest_measured())
        }
        _ => String::new(),
    };
    match &seen.server_known {
        Known::Given(name) => format!("{whose} (asked for: {name}{nearest})"),
        Known::Banner(banner) => format!("{whose} (it calls itself {}{nearest})", printable(banner.as_bytes())),
        Known::Packages(path, version) => format!("{whose} ({path} lists {}{nearest})", printable(version.as_bytes())),
        Known::OsRelease => format!("{whose} (by /etc/os-release)"),
        Known::Assumed => format!("{whose} (assumed; if it is another: --server NAME)"),
    }
}

/// Limits as a list of short phrases; empty where there are none.
pub fn limits(limits: &Limits) -> Vec<String> {
    let mut list = Vec::new();
    list.extend(limits.from.iter().map(|from| format!("only from {from}")));
    list.extend(limits.command.iter().map(|command| format!("only the command: {command}")));
    list.extend(limits.expires.iter().map(|until| format!("until {until}")));
    if !limits.denied.is_empty() {
        list.push(format!("no {}", limits.denied.join(", no ")));
    }
    list.extend(limits.permit.iter().cloned());
    list
}

/// A comment as it is shown; `(no comment)` where there is none.
pub fn comment(bytes: &[u8]) -> String {
    let text = printable(bytes.trim_ascii());
    if text.is_empty() { "(no comment)".to_owned() } else { text }
}

/// A mode as administrators write it.
pub fn mode(bits: u32) -> String {
    format!("{bits:04o}")
}

/// What a text has that would break a key file on a server.
pub fn text_note(note: TextNote) -> &'static str {
    match note {
        TextNote::ByteOrderMark => "begins with a byte order mark: in a key file the server would skip the first line",
        TextNote::Utf16 => "is UTF-16: in a key file the server would read nothing of it",
        TextNote::LoneCr => "its lines end with CR alone: in a key file the server would see one line",
        TextNote::CrLf => "its lines end with CR and LF: OpenSSH accepts that in a key file, small devices may not",
        TextNote::NoFinalNewline => "its last line has no line end: what is appended by hand ends up on the same line",
    }
}

/// Why the server skips a line, in the words of somebody who looks at the file.
pub fn line_fault(fault: &LineFault) -> String {
    match fault {
        LineFault::Key(KeyFault::LengthOutOfBounds { .. } | KeyFault::Truncated | KeyFault::BadBase64 { .. }) => {
            "the key ends too early or is damaged; keys that were copied often break over several lines".to_owned()
        }
        LineFault::NoKey => {
            "there is no key on it; it may be the rest of a key that was broken over several lines".to_owned()
        }
        other => key::line(other),
    }
}

/// Why a question to a server gave no answer that shows anything.
pub fn no_proof(why: &NoProof) -> String {
    match why {
        NoProof::NoConnection(fault) => format!("no new connection was possible: {fault}"),
        NoProof::NoAnswer(NoAnswer::Lost) => {
            "the server ended the connection before it had answered; it may limit or block this address"
                .to_owned()
        }
        NoProof::NoAnswer(NoAnswer::NotOffered(methods)) => {
            format!("the server offers no public keys to this account, only {}", methods.join(", "))
        }
        NoProof::NoAnswer(NoAnswer::OpenToAll) => {
            "the server lets this account in without asking for anything".to_owned()
        }
        NoProof::NoAnswer(NoAnswer::Unaskable) => "keys of this kind cannot be asked about".to_owned(),
        NoProof::HeldOff => {
            "not asked: the server refuses further connections for a while, as it does after several questions; ask again later".to_owned()
        }
        NoProof::YesToAnything => {
            "the server accepts even a made-up key, so its answer shows nothing".to_owned()
        }
    }
}

/// What a host can bear of keys.
pub fn limits_of_host(limits: &KeyLimits) -> Vec<String> {
    let broken = [
        (!limits.algorithms.is_empty()).then(|| LimitBroken::Algorithm(limits.algorithms.clone())),
        limits.rsa_bits_max.map(LimitBroken::RsaBits),
        limits.keys_max.map(LimitBroken::Keys),
        limits.line_bytes_max.map(LimitBroken::Line),
        limits.comment_bytes_max.map(LimitBroken::Comment),
    ];
    let mut words: Vec<String> = broken.iter().flatten().map(compare::taken).collect();
    words.extend(limits.first_key_ends_passwords.then(|| "the first key ends the password of its account".to_owned()));
    words
}

/// What a host cannot do or show, one behind the other.
pub fn lacking(abilities: &Abilities) -> String {
    let lacks: Vec<Ability> = abilities.lacking().collect();
    not_applicable(&lacks).and_then(|text| Some(text.split_once(": ")?.1.to_owned())).unwrap_or_default()
}

/// What a host cannot do or show, whatever rights one has; nothing where it can all.
pub fn not_applicable(lacks: &[Ability]) -> Option<String> {
    let name = |ability: &Ability| match ability {
        Ability::Files => "key files",
        Ability::Modes => "modes",
        Ability::Owners => "owners",
        Ability::Settings => "settings",
        Ability::Logs => "logs",
        Ability::Options => "options",
        Ability::Rename => "replacing a file at once",
        Ability::Accounts => "a list of accounts",
        Ability::NewAccounts => "making accounts",
        Ability::Questions => "questions from outside",
    };
    // Without files nothing is written that could be replaced at once.
    let told = |ability: &&Ability| **ability != Ability::Rename || !lacks.contains(&Ability::Files);
    let names: Vec<&str> = lacks.iter().filter(told).map(name).collect();
    (!names.is_empty()).then(|| format!("not applicable: {}", names.join(", ")))
}

/// Where an entry stands.
pub fn place(place: &Place) -> String {
    match place {
        Place::Line { path, line } => format!("{path} line {line}"),
        Place::Slot { slot: name } => slot(name),
    }
}

/// A slot of a device. One that a device knows by its key alone is named by what limits that key and cannot stand on a line.
pub fn slot(name: &str) -> String {
    let name = printable(name.as_bytes());
    let own = name.split_once(' ').map_or((name.as_str(), ""), |(first, rest)| (first, rest));
    match Fingerprint::parse(own.0) {
        Ok(_) if own.1.is_empty() => "listed".to_owned(),
        Ok(_) => format!("listed with {}", own.1),
        Err(_) => format!("slot {name}"),
    }
}

/// The line of an entry, or its slot.
pub fn number(place: &Place) -> String {
    match place {
        Place::Line { line, .. } => format!("line {line}"),
        Place::Slot { slot: name } => slot(name),
    }
}

/// What keys are read from.
pub fn key_source(source: &KeySource) -> String {
    match source {
        KeySource::Path(path) => path.to_string(),
        KeySource::Slots => "what the device lists".to_owned(),
    }
}

/// Why something was not looked at, in words.
pub fn why_words(why: &Why) -> String {
    match why {
        Why::Permission => "this login may not read it".to_owned(),
        Why::NetworkHome => {
            "it is on a network file system; --network-homes looks there, once for all hosts that share it".to_owned()
        }
        Why::TooLarge(limit) => format!("it is larger than {limit} bytes"),
        Why::WrongKind => "it is not a regular file or folder".to_owned(),
        Why::NoAnswer => "the script that runs as this account did not answer in time, or printed too much".to_owned(),
        Why::NotReached => "it was not looked at".to_owned(),
        Why::AccessList => {
            "only its mode is seen; file transfer shows no access lists, which can let more in".to_owned()
        }
        Why::Other(said) => said.clone(),
    }
}

/// Why a key is not shown to be gone.
pub fn not_gone(why: &NotGone) -> String {
    match why {
        NotGone::Stands(at) => format!("it is in {}", place(at)),
        NotGone::Unseen(source, why) => {
            format!("{} was not read: {}", key_source(source), why_words(why))
        }
        NotGone::NotUnderstood(at) => {
            format!("{} is not understood: repair or delete that line first", place(at))
        }
        NotGone::Authority(at) => {
            format!("certificates open it too, and it is not known whose: {}", place(at))
        }
        NotGone::KeysCommand(command) => {
            format!("a command gives the server keys too: AuthorizedKeysCommand {command}")
        }
        NotGone::Authorities(what) => format!("certificates open it too, and it is not known whose: {what}"),
        NotGone::Settings(path) => format!("which files the server reads is not certain: {path}"),
        NotGone::NoSuchAccount => "the account was not found, and this login cannot see all accounts".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_fleet::fleet::HostFault;
    use lavrin_server::access_rules::ObstacleKind;
    use lavrin_server::finding::{Fault, Finding};
    use lavrin_server::login::{Reason, ReasonKind};

    #[test]
    fn what_a_host_cannot_do_is_told_in_one_sentence() {
        assert_eq!(not_applicable(&[]), None);
        let told = not_applicable(&[Ability::Files, Ability::Modes]).unwrap();
        assert_eq!(told, "not applicable: key files, modes");
    }

    #[test]
    fn the_name_of_an_account_is_one_word_of_what_is_typed_next() {
        let print = Fingerprint::parse("SHA256:9w4IoLYZsYMOL8M24AC7fy0Ls2bfAt+UXrjlTihbf0U").unwrap();
        let finding = |fault| Finding { fault, account: Some("x;id".to_owned()), path: None, line: None };
        let open = finding(Fault::from(ObstacleKind::TooOpen { found: 0o666, wanted: 0o600 }));
        assert_eq!(finding::remedy(&open.fault, &open, Some("gull"), "/k"), "lavrin mend 'x;id'@gull");
        let owner = finding(Fault::WrongOwner { found: 7, wanted: 1001 });
        assert_eq!(finding::remedy(&owner.fault, &owner, None, "/k"), "chown 'x;id' /k");
        let over = HostFault::NotGranted { who: "edda".to_owned(), fingerprint: print };
        let said = fleet::remedy(&over, &open, Some("gull"));
        assert_eq!(said.matches("'x;id'").count(), 2, "{said}");
        let reason = Reason { kind: ReasonKind::AccountExpired, path: None, line: None };
        let said = reason::remedy(&reason, "x;id", "x", "/k").unwrap();
        assert!(said.starts_with("usermod -e '' 'x;id'"), "{said}");
    }
}
