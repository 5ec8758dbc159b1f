//! What one machine gets before it runs for the first time, checked: every value may stand in a file that root carries out.

use crate::error::CommandError;
use crate::exit::Exit;
use lavrin_fleet::fleet::FirstAccount;
use lavrin_fleet::register::{Host, USUAL_LOGIN};
use lavrin_keys::key::{PrivateKey, PublicKey};
use lavrin_keys::text::printable;
use std::sync::Arc;
use zeroize::Zeroizing;

/// A machine.
pub struct Machine<'a> {
    /// As the register knows it.
    pub host: &'a Host,
    /// Accounts with keys.
    pub accounts: Vec<FirstAccount>,
    /// Whether its server takes keys only.
    pub keys_only: bool,
    /// A key by which it proves itself from the first connection on.
    pub host_key: Option<HostKey>,
}

/// A host key that was made here.
pub struct HostKey {
    /// The private half, in OpenSSH's own form.
    pub private: Zeroizing<String>,
    /// The public half.
    pub public: PublicKey,
}

impl HostKey {
    /// Makes one: Ed25519, without a passphrase, since a server starts by itself.
    pub fn make(host: &str) -> Result<Self, CommandError> {
        use lavrin_keys::key::generate::{Recipe, SystemSource, generate};
        let failed = |fault: &_| crate::error::key_fault(host, 0, fault);
        let key: Arc<PrivateKey> =
            generate(Recipe::Ed25519, &SystemSource).map(Arc::new).map_err(|fault| failed(&fault))?;
        let private = lavrin_keys::key::container::openssh::write(&key, host, None, &SystemSource)
            .map_err(|fault| failed(&fault))?;
        Ok(Self { private, public: key.public().clone() })
    }

    /// The line of the public half.
    pub fn line(&self, host: &str) -> String {
        self.public.line(host).trim_end().to_owned()
    }
}

/// What is said about an account that gets nothing.
pub struct Refused {
    pub account: String,
    pub why: String,
}

impl<'a> Machine<'a> {
    /// With the accounts that get a key; what is left out is named.
    pub fn of(host: &'a Host, all: Vec<FirstAccount>, keys_only: bool) -> Result<(Self, Vec<Refused>), CommandError> {
        let (mut accounts, mut refused) = (Vec::new(), Vec::new());
        for account in all {
            check(&account, host)?;
            let name = printable(account.name.as_bytes());
            for (who, limit) in &account.refused {
                let why = format!("no key of {who}: {}", crate::wording::compare::taken(limit));
                refused.push(Refused { account: name.clone(), why });
            }
            if account.lines.is_empty() {
                refused.push(Refused { account: name, why: "nobody is granted it, so it gets no key".to_owned() });
            } else {
                accounts.push(account);
            }
        }
        let login = host.login.as_deref().unwrap_or(USUAL_LOGIN);
        if !accounts.iter().any(|account| account.name == login) {
            let why = format!("it is the account by which {} is surveyed, and it gets no key", host.id);
            refused.retain(|one| one.account != login);
            refused.push(Refused { account: printable(login.as_bytes()), why });
        }
        Ok((Self { host, accounts, keys_only, host_key: None }, refused))
    }
}

/// Where root's machine carries it out, a name is a name and nothing else.
fn check(account: &FirstAccount, host: &Host) -> Result<(), CommandError> {
    let is_name = |text: &str| {
        let fine = |byte: u8| byte.is_ascii_alphanumeric() || b"._-".contains(&byte);
        let begins = text.bytes().next().is_some_and(|byte| byte.is_ascii_alphabetic() || byte == b'_');
        begins && text.len() <= 32 && text.bytes().all(fine)
    };
    let is_path = |text: &str| {
        let fine = |byte: u8| byte.is_ascii_alphanumeric() || b"._-/+".contains(&byte);
        text.starts_with('/') && text.bytes().all(fine) && !text.split('/').any(|part| part == "..")
    };
    let odd = Some(&account.name).filter(|name| !is_name(name));
    let odd = odd.or_else(|| account.groups.iter().find(|group| !is_name(group)));
    let odd = odd.or_else(|| account.shell.iter().chain(&account.home).find(|path| !is_path(path)));
    let odd = odd.or_else(|| account.lines.iter().find(|line| line.contains(['\n', '\r', '\0'])));
    odd.map_or(Ok(()), |odd| {
        let said = format!("'{}' cannot stand in what a new machine carries out", printable(odd.as_bytes()));
        Err(CommandError::with(Exit::Stopped, said)
            .because("nothing was written")
            .hint(format!("lavrin host show {}", host.id)))
    })
}

/// The home of an account.
pub fn home_of(account: &FirstAccount) -> String {
    let usual = if account.name == USUAL_LOGIN { "/root".to_owned() } else { format!("/home/{}", account.name) };
    account.home.clone().unwrap_or(usual)
}
