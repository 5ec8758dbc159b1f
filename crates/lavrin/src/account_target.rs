//! `ACCOUNT@HOST`: the account it is about and the host it is on.

use std::str::FromStr;

/// An account, on a host or, without one, in a local tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccountTarget {
    /// The account's name.
    pub account: String,
    /// The host's name or address.
    pub host: Option<String>,
}

impl FromStr for AccountTarget {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (account, host) = match text.rsplit_once('@') {
            Some((account, host)) => (account, Some(parse_host(host)?)),
            None => (text, None),
        };
        if account.is_empty() || account.contains([':', '/', '\n', '\0']) || account.starts_with('-') {
            return Err(format!("'{account}' is not an account name"));
        }
        Ok(Self { account: account.to_owned(), host })
    }
}

/// A host's name or address; an IPv6 address may stand in brackets.
pub fn parse_host(text: &str) -> Result<String, String> {
    let host = text.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')).unwrap_or(text);
    let fine = |character: char| character.is_ascii_alphanumeric() || ".-_:%".contains(character);
    if host.is_empty() || host.starts_with('-') || !host.chars().all(fine) {
        return Err(format!("'{text}' is not a host name or address"));
    }
    Ok(host.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn accounts_and_hosts_are_told_apart() {
        let parse =
            |text: &str| text.parse::<AccountTarget>().map(|target| (target.account, target.host.unwrap_or_default()));
        assert_eq!(parse("edda@lantern.example"), Ok(("edda".into(), "lantern.example".into())));
        assert_eq!(parse("edda@[2001:db8::7]"), Ok(("edda".into(), "2001:db8::7".into())));
        assert_eq!(parse("edda@mail.example@192.0.2.1"), Ok(("edda@mail.example".into(), "192.0.2.1".into())));
        assert_eq!(parse("edda"), Ok(("edda".into(), String::new())));
        for wrong in ["@host", "edda@", "edda@-oProxy", "-x@host", "a:b", "edda@ho st"] {
            assert!(parse(wrong).is_err(), "{wrong}");
        }
    }
}
