//! Differences in words.

use super::mode;
use lavrin_fleet::fleet::compare::{Difference, WhyGone};
use lavrin_keys::text::{count, printable};
use lavrin_server::device::LimitBroken;
use lavrin_server::steps::{Change, FileChange, OpenSetting, SWITCH};

/// Why something differs, and what would be done.
pub fn message(difference: &Difference) -> String {
    let bare = |options: &str| if options.is_empty() { "without options".to_owned() } else { options.to_owned() };
    match difference {
        Difference::Add { options, .. } if options.is_empty() => "granted, but missing on the host".to_owned(),
        Difference::Add { options, .. } => format!("granted with {options}, but missing on the host"),
        Difference::Options { place, from, to, .. } => {
            format!("{}: {}; granted {}", super::number(place), bare(from), bare(to))
        }
        Difference::Remove { place, why, back, comment, .. } => {
            let back = back.map(|on| format!("; removed on {on} and there again")).unwrap_or_default();
            format!("{}: {}{back}", super::number(place), gone(*why, comment))
        }
        Difference::Unknown { place, comment, .. } => {
            format!("{}: not in the register{}; left in place", super::number(place), named(comment))
        }
        Difference::NotUnderstood { place } => {
            let file = place.path().map(|path| format!(" of {path}")).unwrap_or_default();
            format!("{}{file}: not understood, so it may be any key; left in place", super::number(place))
        }
        Difference::Mode(change) => mode_change(change),
        Difference::NoKeyTaken { who, limit } => format!("{who} has no key that it takes: {}", taken(limit)),
        Difference::MakeAccount { groups, .. } if groups.is_empty() => "is not there; a grant has it made".to_owned(),
        Difference::MakeAccount { groups, .. } => {
            format!("is not there; a grant has it made, in {}", groups.join(", "))
        }
        Difference::Passwords(None) => "whether it takes passwords is not known; policy asks for keys only".to_owned(),
        Difference::Passwords(Some(open)) => {
            let open: Vec<String> = open.iter().map(open_setting).collect();
            format!("takes passwords, and policy asks for keys only: {}", open.join("; "))
        }
    }
}

/// What a host takes of keys.
pub fn taken(limit: &LimitBroken) -> String {
    match limit {
        LimitBroken::Algorithm(names) => {
            let names: Vec<&str> = names.iter().map(|algorithm| algorithm.name()).collect();
            format!("{} only", names.join(", "))
        }
        LimitBroken::RsaBits(max) => format!("RSA keys up to {max} bits"),
        LimitBroken::Keys(max) => format!("at most {} for one account", count(*max, "key", "keys")),
        LimitBroken::Line(max) => format!("entries up to {max} bytes"),
        LimitBroken::Comment(max) => format!("comments up to {max} bytes"),
    }
}

fn open_setting(open: &OpenSetting) -> String {
    let built_in = if open.keyword == SWITCH { "its own switch" } else { "built in" };
    let place = open.place.as_ref().map_or(built_in.to_owned(), |(path, line)| format!("{path} line {line}"));
    format!("{} {} ({place})", open.keyword, printable(open.value.as_bytes()))
}

fn named(comment: &str) -> String {
    if comment.is_empty() { String::new() } else { format!(" ({comment})") }
}

fn gone(why: WhyGone, comment: &str) -> String {
    match why {
        WhyGone::Left(on) => format!("left on {on}"),
        WhyGone::Retired(on) => format!("the key is retired since {on}"),
        WhyGone::Over(on) => format!("was let in until {on}"),
        WhyGone::NotGranted => "no grant for this key here".to_owned(),
        WhyGone::Nobody => format!("this key is not in the register{}", named(comment)),
        WhyGone::Second => "another entry of the same key, with other options".to_owned(),
    }
}

fn mode_change(change: &Change) -> String {
    match change {
        Change::File(FileChange::SetMode { path, from, to }) => {
            format!("{path} has mode {}, should be {}", mode(*from), mode(*to))
        }
        Change::File(FileChange::SetOwner { path, from, to }) => {
            format!("{path} belongs to uid {}, should be uid {}", from.uid, to.uid)
        }
        other => format!("{} is to be replaced by a copy that belongs to its owner", other.subject()),
    }
}
