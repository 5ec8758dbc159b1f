//! Findings in words: what it is, what was found and expected, and what to type.

use super::mode;
use lavrin_keys::key::strength::Weakness;
use lavrin_keys::text::{printable, shell_word};
use lavrin_server::finding::{Fault, Finding};

/// What is wrong and why it matters.
pub fn message(fault: &Fault) -> String {
    match fault {
        Fault::WeakKey { weakness, .. } => weakness_message(weakness),
        Fault::UnprotectedPrivateKey => {
            "the private key has no passphrase: whoever gets the file has the key".to_owned()
        }
        Fault::PrivateKeyPasted { protected: false, .. } => {
            "this is a PRIVATE key in a paste, without a passphrase: treat it as known to others".to_owned()
        }
        Fault::PrivateKeyPasted { .. } => {
            "this is a PRIVATE key in a paste: only its passphrase still keeps it from others".to_owned()
        }
        Fault::SameKeyTwoNames { other, place } => {
            format!("the same key is called {other} in {place}: one of the two names is wrong, or the key is shared")
        }
        Fault::PrivateKeyReadable { .. } => "others may read this private key; count it as known to them".to_owned(),
        Fault::StrayPrivateKey { protected: Some(false) } => {
            "there is a private key without a passphrase on the server: whoever gets in here can use it".to_owned()
        }
        Fault::StrayPrivateKey { protected: Some(true) } => {
            "a private key lies on the server, protected by a passphrase".to_owned()
        }
        Fault::StrayPrivateKey { protected: None } => {
            "there is a private key on the server; whether it has a passphrase could not be checked".to_owned()
        }
        Fault::PrivateKeyInKeysFile => {
            "part of a PRIVATE key is in the key file; treat that key as compromised".to_owned()
        }
        Fault::ModeTooOpen { .. } => "other users can write to this file, so the server ignores the entries".to_owned(),
        Fault::ModeWiderThanPolicy { .. } => "the mode is wider than it needs to be".to_owned(),
        Fault::ModeTooClosed { .. } => "the account itself cannot read its key file".to_owned(),
        Fault::WrongOwner { .. } => "it belongs to another user, so the server ignores the entries".to_owned(),
        Fault::OwnedByRoot { .. } => "root owns it; the server reads it, but the account cannot change it".to_owned(),
        Fault::WrongKind => "the key file is not a regular file".to_owned(),
        Fault::UnusableLine { fault } => format!("the server skips this line: {}", super::line_fault(fault)),
        Fault::DuplicateEntry { first_line, fingerprint } => {
            format!("the key {fingerprint} is already in line {first_line}")
        }
        Fault::SettingsBroken { what, line } => {
            format!("the server would not start again: line {line}: {}", super::config::error(what))
        }
        Fault::RootWithPassword => "root can log in with a password".to_owned(),
        Fault::PasswordsOn => "passwords open accounts, so keys protect them only in part".to_owned(),
        Fault::EmptyPasswords => "an account without a password is open to everyone".to_owned(),
        Fault::StrictModesOff => "the server accepts key files that other users can write to".to_owned(),
        Fault::ClockOff { ahead } => {
            let minutes = ahead.abs() / 60;
            let minutes = lavrin_keys::text::count(usize::try_from(minutes).unwrap_or(usize::MAX), "minute", "minutes");
            let which = if *ahead > 0 { "ahead" } else { "behind" };
            format!("the clock of this host is {minutes} {which}: entries with an end end there at another time")
        }
        Fault::KeysOff => "the server accepts no keys at all".to_owned(),
        Fault::KeysFromElsewhere { keyword, value } => {
            format!("keys from outside the key files open accounts too: {keyword} {}", printable(value.as_bytes()))
        }
    }
}

fn weakness_message(weakness: &Weakness) -> String {
    match weakness {
        Weakness::RsaShort { bits, refused_below, advised } if bits < refused_below => {
            format!(
                "an RSA key of {bits} bits can be broken; at least {refused_below} are needed, {advised} are advised"
            )
        }
        Weakness::RsaShort { bits, advised, .. } => {
            format!("an RSA key of {bits} bits is still sound; new ones should have {advised}")
        }
        Weakness::EvenModulus => "the RSA modulus is even: this is no key".to_owned(),
        Weakness::ExponentOne => "the RSA exponent is 1: anybody can sign for this key".to_owned(),
        Weakness::ExponentEven => "the RSA exponent is even, which no valid key has".to_owned(),
        Weakness::ExponentHuge => {
            "the RSA exponent is as long as the modulus, which goes with a private number that can be found".to_owned()
        }
        Weakness::OddSize { bits } => format!("{bits} bits is an unusual size for an RSA key; some devices refuse it"),
        Weakness::ExponentThree => "the RSA exponent is 3: allowed, and unusual".to_owned(),
        Weakness::SmallFactor { factor } => {
            let shown: String = factor.chars().take(40).collect();
            format!("the RSA modulus can be divided by {shown}: the key is broken")
        }
        Weakness::PrimeModulus => "the RSA modulus is a single prime: anybody can compute the private key".to_owned(),
        Weakness::SquareModulus => "the RSA modulus is a square: the key is broken".to_owned(),
        Weakness::Dsa => "DSA keys have 1024 bits and sign with SHA-1: new servers take none".to_owned(),
        Weakness::ClosePrimes { steps } => {
            let steps = if *steps == 1 { "1 step".to_owned() } else { format!("{steps} steps") };
            format!("the RSA primes are so close together that they are found in {steps}: the key is broken")
        }
        Weakness::StructuredPrimes => {
            "the RSA primes come from a generator that is known to be broken (CVE-2017-15361)".to_owned()
        }
        Weakness::GeneratorPoint => {
            "the public point is the generator of its curve: the private number is 1, and everybody knows it".to_owned()
        }
        Weakness::SharedPrime { with } if with.is_empty() => {
            "the RSA modulus shares a prime with another key of this run: both keys are broken".to_owned()
        }
        Weakness::SharedPrime { with } => {
            format!("the RSA modulus shares a prime with {}: both keys are broken", with.join(", "))
        }
        Weakness::SameModulus { with } => {
            format!("the RSA modulus is that of {}, with another exponent: both keys are broken", with.join(", "))
        }
    }
}

/// What was found, where that is a value.
pub fn found(fault: &Fault) -> Option<String> {
    match fault {
        Fault::ModeTooOpen { found, .. }
        | Fault::ModeWiderThanPolicy { found, .. }
        | Fault::ModeTooClosed { found, .. }
        | Fault::PrivateKeyReadable { mode: found } => Some(mode(*found)),
        Fault::WrongOwner { found, .. } => Some(format!("uid {found}")),
        Fault::OwnedByRoot { .. } => Some("uid 0".to_owned()),
        Fault::WeakKey { weakness: Weakness::RsaShort { bits, .. }, .. } => Some(format!("{bits} bits")),
        _ => None,
    }
}

/// What was expected, where that is a value.
pub fn expected(fault: &Fault) -> Option<String> {
    match fault {
        Fault::ModeTooOpen { wanted, .. }
        | Fault::ModeWiderThanPolicy { wanted, .. }
        | Fault::ModeTooClosed { wanted, .. } => Some(mode(*wanted)),
        Fault::PrivateKeyReadable { .. } => Some("0600".to_owned()),
        Fault::WrongOwner { wanted, .. } | Fault::OwnedByRoot { wanted } => Some(format!("uid {wanted}")),
        Fault::WeakKey { weakness: Weakness::RsaShort { refused_below, advised, bits }, .. } => {
            Some(format!("{} bits", if bits < refused_below { refused_below } else { advised }))
        }
        _ => None,
    }
}

/// What to type or do. `path` is the path as the one who types it sees it, `host` the host where it is about one.
pub fn remedy<F>(fault: &Fault, finding: &Finding<F>, host: Option<&str>, path: &str) -> String {
    let path = shell_word(path);
    let line = finding.line.unwrap_or(0);
    // What a host says is pasted with it: each name is one word.
    let account = finding.account.as_deref().map(shell_word);
    let at = host.map(|host| format!("@{host}")).unwrap_or_default();
    match fault {
        Fault::WeakKey { weakness: Weakness::RsaShort { bits, refused_below, .. }, .. } if bits >= refused_below => {
            "nothing now; make the next one with: lavrin key generate".to_owned()
        }
        Fault::WeakKey { weakness: Weakness::ExponentThree | Weakness::OddSize { .. }, .. } => {
            "nothing now; make the next one with: lavrin key generate".to_owned()
        }
        Fault::WeakKey { fingerprint, .. } => match &account {
            Some(account) => {
                format!("make a new key: lavrin key generate; then: lavrin remove {fingerprint} {account}{at}")
            }
            None => "make a new key: lavrin key generate".to_owned(),
        },
        Fault::UnprotectedPrivateKey => {
            "keep it so only where a program uses it; else make a protected one: lavrin key generate".to_owned()
        }
        Fault::PrivateKeyPasted { fingerprint, .. } => {
            let print = fingerprint.map_or_else(|| "its fingerprint".to_owned(), |print| print.to_string());
            format!(
                "treat the key as compromised: lavrin key generate; then, wherever it is installed: lavrin remove {print} ACCOUNT@HOST"
            )
        }
        Fault::SameKeyTwoNames { .. } => "ask both; a key belongs to one person or one machine".to_owned(),
        Fault::PrivateKeyReadable { .. } => format!("chmod 600 {path}"),
        Fault::StrayPrivateKey { .. } => format!("if nothing here uses it: rm {path}"),
        Fault::PrivateKeyInKeysFile => {
            format!("take line {line} and what follows it out of {path}, and replace that key everywhere")
        }
        Fault::ModeTooOpen { .. }
        | Fault::ModeWiderThanPolicy { .. }
        | Fault::ModeTooClosed { .. }
        | Fault::WrongOwner { .. }
        | Fault::OwnedByRoot { .. }
            if host.is_some() && finding.account.is_some() =>
        {
            mend(host, account.as_deref())
        }
        Fault::ModeTooOpen { wanted, .. }
        | Fault::ModeWiderThanPolicy { wanted, .. }
        | Fault::ModeTooClosed { wanted, .. } => {
            // A host without a shell, where nothing is mended from here.
            let there = if host.is_some() { "    # on the host" } else { "" };
            format!("chmod {wanted:o} {path}{there}")
        }
        Fault::WrongOwner { wanted, .. } | Fault::OwnedByRoot { wanted } => {
            let owner = account.unwrap_or_else(|| wanted.to_string());
            format!("chown {owner} {path}")
        }
        Fault::WrongKind => format!("ls -ld {path}"),
        Fault::UnusableLine { .. } => {
            format!("sed -n {line}p {path}    # shows it; write the key there on one line")
        }
        Fault::DuplicateEntry { .. } => format!("sed -n {line}p {path}    # shows it; one of the two is enough"),
        Fault::SettingsBroken { .. } => format!("sshd -t -f {path}    # on the host"),
        Fault::RootWithPassword => {
            format!("when a key login as root works: PermitRootLogin prohibit-password in {path}")
        }
        Fault::PasswordsOn => format!("when every key works: PasswordAuthentication no in {path}"),
        Fault::EmptyPasswords => format!("PermitEmptyPasswords no in {path}"),
        Fault::StrictModesOff => format!("{}, then: StrictModes yes in {path}", mend(host, None)),
        Fault::KeysFromElsewhere { .. } => "ask whoever looks after that source which keys it gives".to_owned(),
        Fault::ClockOff { .. } => "set the clock there, or have it kept: timedatectl set-ntp true".to_owned(),
        Fault::KeysOff => format!("PubkeyAuthentication yes in {path}"),
    }
}

/// How modes, owners and lines are repaired: of one account, or of all.
fn mend(host: Option<&str>, account: Option<&str>) -> String {
    let at = host.map(|host| format!("@{host}"));
    match (account, at) {
        (Some(account), at) => format!("lavrin mend {account}{}", at.unwrap_or_default()),
        (None, Some(at)) => format!("lavrin mend --all {at} --login root"),
        (None, None) => "lavrin mend --all".to_owned(),
    }
}
