//! The rules that refuse a login, in words.

use super::why_words;
use super::{config, mode};
use lavrin_keys::keysfile::LineFault;
use lavrin_keys::text::shell_word;
use lavrin_server::access_rules::ObstacleKind;
use lavrin_server::login::{AccountStage, Reason, ReasonKind, WrongCertificate};

/// What the rule says.
pub fn message(reason: &Reason, account: &str) -> String {
    match &reason.kind {
        ReasonKind::NoSuchAccount => format!("there is no account {account}"),
        ReasonKind::AccountLocked => {
            format!("the password field of {account} begins with '!': the server treats the account as locked")
        }
        ReasonKind::AccountExpired => "the account has expired".to_owned(),
        ReasonKind::AccountStage(why) => {
            format!("the key is accepted, but the login is refused: {}", account_stage(*why))
        }
        ReasonKind::ShellNotExecutable(shell) => format!("the shell {shell} is not an executable file"),
        ReasonKind::ShellNotListed(shell) => format!("the shell {shell} is not in the system's list of shells"),
        ReasonKind::NoTries => "MaxAuthTries is 0: the server ends every login before it begins".to_owned(),
        ReasonKind::ConfigRejected(what) => {
            format!("the server does not start with its settings: {}", config::error(what))
        }
        ReasonKind::PatternUnknown(pattern) => {
            format!(
                "AuthorizedKeysFile {pattern} has a percent sign that the server does not know: it drops every login"
            )
        }
        ReasonKind::AlgorithmOff(name) => format!("the server accepts no {name} signatures"),
        ReasonKind::Revoked => "the key is on the list of revoked keys".to_owned(),
        ReasonKind::RevokedListMissing => {
            "the list of revoked keys does not exist, so the server refuses every key".to_owned()
        }
        ReasonKind::NotAnAuthority => {
            "the entry is a plain key, not an authority (cert-authority), and a certificate was offered".to_owned()
        }
        ReasonKind::CertificateRefused(why) => format!("the server refuses the certificate: {}", certificate(*why)),
        ReasonKind::ShellMissing(shell) => format!("the shell {shell} does not exist"),
        ReasonKind::UserNotAllowed { keyword, list } => not_allowed(keyword, list, account),
        ReasonKind::RootNotAllowed(_) if reason.line.is_none() && reason.path.is_some() => {
            "the switch -w refuses logins of user number 0".to_owned()
        }
        ReasonKind::RootNotAllowed(value) => format!("PermitRootLogin is {value}"),
        ReasonKind::PublicKeysOff => "PubkeyAuthentication is off".to_owned(),
        ReasonKind::NoKeyFileNamed => "the server reads no key file for this account".to_owned(),
        ReasonKind::NoKeyFile => "the key file does not exist".to_owned(),
        ReasonKind::NotRegular => "it is not a regular file, so the server does not read it".to_owned(),
        ReasonKind::LinkLoop => "the links form a loop".to_owned(),
        ReasonKind::Obstacle(kind) => obstacle(kind, account),
        ReasonKind::NotOnItsLine => {
            "the key is here, but broken, joined with another or in another format; it has to be whole on one line"
                .to_owned()
        }
        ReasonKind::Broken { last } => {
            let first = reason.line.unwrap_or(1);
            let lines = if *last == first + 1 { format!("{first} and {last}") } else { format!("{first} to {last}") };
            format!("this key is here, broken over lines {lines}; the server needs it whole on one line")
        }
        ReasonKind::NoEntry => "the key is not in this file".to_owned(),
        ReasonKind::DeadLine(fault) => {
            format!("the key is there, but the server skips the line: {}", super::line_fault(fault))
        }
        ReasonKind::OtherAccount(other) => format!("the key is in the file of {other}, another account"),
        ReasonKind::OnlyAsAuthority => {
            "the entry is marked cert-authority: it is for certificates signed by this key, not for the key itself"
                .to_owned()
        }
        ReasonKind::FromElsewhere { from } => format!("the entry allows this key only from {from}"),
        ReasonKind::CertificateFromElsewhere { from } => format!("the certificate is valid only from {from}"),
        ReasonKind::FromUnknown { from } => {
            format!("the entry allows this key only from {from}; the address of the login was not given")
        }
        ReasonKind::Expired { at } => format!("the entry has expired: expiry-time={at}"),
        ReasonKind::VerificationUnknown => {
            "the entry wants the authenticator to check its user (verify-required), which only a login shows".to_owned()
        }
        ReasonKind::PrincipalsOnPlainKey => "principals= is set on a plain key: the server skips the entry".to_owned(),
        ReasonKind::KeyTooSmall { bits, min } => {
            format!("the RSA key has {bits} bits; the server accepts none below {min}")
        }
        ReasonKind::KeyTooLarge { bits, max } => {
            format!("the RSA key has {bits} bits; the server accepts none above {max}")
        }
        ReasonKind::ExponentTooLong { bits, max } => format!(
            "the RSA key's public exponent has {bits} bits; with a key of this length the server accepts none above {max}"
        ),
        ReasonKind::OnlyListed => {
            "the device lists the key, but does not show by which rules it accepts logins".to_owned()
        }
        ReasonKind::SettingUnknown(keyword) => {
            format!("the keyword {keyword} is unknown here; the server may know it")
        }
        ReasonKind::SessionEnds(what) => config::error(what),
        ReasonKind::RevokedKeysUnseen => "RevokedKeys is set, and the list was not checked for this key".to_owned(),
        ReasonKind::FurtherMethod(_) if reason.line.is_none() && reason.path.is_some() => {
            "the key alone is not enough: the switch -t also asks for a password".to_owned()
        }
        ReasonKind::FurtherMethod(methods) => format!("the key alone is not enough: AuthenticationMethods {methods}"),
        ReasonKind::Authorities(file) => {
            format!("TrustedUserCAKeys {file} may make the certificate valid; that was not checked")
        }
        ReasonKind::KeysCommand(command) => format!("a command gives the server further keys: {command}"),
        ReasonKind::SettingsUnseen => "the server's settings could not be read; its defaults were assumed".to_owned(),
        ReasonKind::SettingConditional(keyword) => format!("a Match block sets {keyword} for some connections"),
        ReasonKind::Unseen(why) => format!("it could not be looked at: {}", why_words(why)),
    }
}

/// A list of accounts that keeps this one out.
fn not_allowed(keyword: &str, list: &[String], account: &str) -> String {
    let names = lavrin_keys::text::printable(list.join(" ").as_bytes());
    if list.is_empty() {
        format!("{keyword} does not allow {account}")
    } else if keyword.starts_with("Deny") {
        format!("{keyword} names {account}: {keyword} {names}")
    } else {
        format!("{keyword} does not allow {account}: {keyword} {names}")
    }
}

fn account_stage(stage: AccountStage) -> &'static str {
    match stage {
        AccountStage::NoShadowLine => "the shadow file has no line for it",
        AccountStage::Expired => "the account has expired",
        AccountStage::PasswordTooOld => "its password is too old",
    }
}

fn certificate(why: WrongCertificate) -> &'static str {
    match why {
        WrongCertificate::ForHosts => "it is for hosts",
        WrongCertificate::NotYetValid => "it is not valid yet",
        WrongCertificate::Ended => "it has expired",
        WrongCertificate::NamesNobody => "it names nobody",
        WrongCertificate::ForSomebodyElse => "it is for somebody else",
        WrongCertificate::UnknownCriticalOption => "it has a critical option that no server knows",
        WrongCertificate::TwoCommands => "it and the line force different commands",
        WrongCertificate::BadAddresses => "its list of addresses cannot be read",
    }
}

fn obstacle(kind: &ObstacleKind, account: &str) -> String {
    match kind {
        ObstacleKind::TooOpen { found, .. } => {
            format!(
                "users other than {account} can write to this path (mode {}), so the server ignores the key file",
                mode(*found)
            )
        }
        ObstacleKind::WrongOwner { found, unreadable: true, .. } => {
            let owner = if *found == 0 { "root".to_owned() } else { format!("uid {found}") };
            format!(
                "it belongs to {owner}, and {account} cannot read it; the server reads it with that account's rights"
            )
        }
        ObstacleKind::WrongOwner { found, .. } => {
            format!("it belongs to uid {found}, neither {account} nor root, so the server ignores the key file")
        }
        ObstacleKind::TooClosed { found, .. } => format!(
            "{account} itself cannot read it (mode {}), and the server reads it with that account's rights",
            mode(*found)
        ),
    }
}

/// What to type. `path` is the path as the one who types it sees it.
pub fn remedy(reason: &Reason, account: &str, place: &str, path: &str) -> Option<String> {
    // What a host says is pasted with it: each name is one word.
    let (path, account) = (shell_word(path), &*shell_word(account));
    let text = match &reason.kind {
        ReasonKind::Obstacle(ObstacleKind::TooOpen { wanted, .. } | ObstacleKind::TooClosed { wanted, .. }) => {
            format!("chmod {wanted:o} {path}")
        }
        ReasonKind::Obstacle(ObstacleKind::WrongOwner { .. }) => format!("chown {account} {path}"),
        ReasonKind::NoEntry | ReasonKind::NoKeyFile | ReasonKind::OtherAccount(_) => {
            format!("lavrin install KEY.pub {place}")
        }
        ReasonKind::NotOnItsLine
        | ReasonKind::Broken { .. }
        | ReasonKind::DeadLine(LineFault::ByteOrderMark { .. }) => {
            format!("lavrin mend {place}")
        }
        ReasonKind::DeadLine(_)
        | ReasonKind::OnlyAsAuthority
        | ReasonKind::PrincipalsOnPlainKey
        | ReasonKind::NotAnAuthority
        | ReasonKind::FromElsewhere { .. }
        | ReasonKind::Expired { .. } => {
            format!("sed -n {}p {path}    # shows the entry", reason.line.unwrap_or(1))
        }
        ReasonKind::FromUnknown { .. } => "say where it comes from: --from-address ADDRESS".to_owned(),
        ReasonKind::NotRegular | ReasonKind::LinkLoop => format!("ls -ld {path}"),
        ReasonKind::AccountLocked => format!("usermod -p '*' {account}    # ends the lock; still no password login"),
        ReasonKind::UserNotAllowed { keyword, list } if keyword.starts_with("Deny") => {
            format!("{keyword} names {account}: {keyword} {}", lavrin_keys::text::printable(list.join(" ").as_bytes()))
        }
        ReasonKind::UserNotAllowed { keyword, list } => {
            allow(keyword, list, account, reason.line.map(|line| (line, &path[..])))?
        }
        ReasonKind::PublicKeysOff
        | ReasonKind::RootNotAllowed(_)
        | ReasonKind::SettingConditional(_)
        | ReasonKind::SettingUnknown(_)
        | ReasonKind::SessionEnds(_)
        | ReasonKind::ConfigRejected(_)
        | ReasonKind::AlgorithmOff(_)
        | ReasonKind::PatternUnknown(_)
        | ReasonKind::NoTries
        | ReasonKind::FurtherMethod(_) => {
            format!("sed -n {}p {path}    # shows the setting", reason.line?)
        }
        ReasonKind::AccountExpired => format!("usermod -e '' {account}    # removes the expiry date"),
        ReasonKind::AccountStage(_) => format!("chage -l {account}    # shows its dates"),
        ReasonKind::ShellNotExecutable(_) | ReasonKind::ShellMissing(_) | ReasonKind::ShellNotListed(_) => {
            format!("usermod -s /bin/sh {account}")
        }
        ReasonKind::Revoked | ReasonKind::RevokedListMissing => format!("ls -l {path}"),
        ReasonKind::KeyTooSmall { .. } | ReasonKind::KeyTooLarge { .. } | ReasonKind::ExponentTooLong { .. } => {
            "lavrin key generate".to_owned()
        }
        ReasonKind::Unseen(_) | ReasonKind::SettingsUnseen if place.contains("--tree ") => {
            "run the same command as root".to_owned()
        }
        ReasonKind::Unseen(_) | ReasonKind::SettingsUnseen => format!("lavrin why {place} --login root"),
        _ => return None,
    };
    Some(text)
}

/// How an account is let past a list of users or groups; the place is a line and the file it is in.
fn allow(keyword: &str, list: &[String], account: &str, place: Option<(usize, &str)>) -> Option<String> {
    let at = place.map(|(line, path)| format!("in {path} line {line}, then reload the server")).unwrap_or_default();
    let plain = |word: &&String| !word.contains(['*', '?', '!', '@']);
    match (keyword, list.iter().find(plain)) {
        ("AllowGroups", Some(group)) => Some(format!("usermod -aG {} {account}", shell_word(group))),
        ("AllowUsers", _) => Some(format!("add {account} to AllowUsers {at}").trim_end().to_owned()),
        ("AllowGroups", None) => Some(format!("add a group of {account} to AllowGroups {at}").trim_end().to_owned()),
        ("DenyUsers" | "DenyGroups", _) => {
            Some(format!("remove what fits {account} from {keyword} {at}").trim_end().to_owned())
        }
        _ => None,
    }
}
