//! For whom private halves are sealed: the administrators that the register names, to their keys in use.

use crate::command::register::today;
use crate::error::CommandError;
use crate::exit::Exit;
use lavrin_fleet::register::{Person, Register};
use lavrin_keys::key::PublicKey;
use lavrin_keys::text::printable;
use lavrin_seal::{NoRecipient, RSA_BITS_MAX, RSA_BITS_MIN, can_be_recipient};

/// The administrators of today.
pub struct Recipients<'a> {
    /// Those for whom something can be sealed, and their keys.
    pub people: Vec<(&'a Person, Vec<&'a PublicKey>)>,
    /// Those who are there and for whom nothing can be sealed, and why.
    pub unable: Vec<(String, String)>,
}

impl Recipients<'_> {
    /// All keys.
    pub fn keys(&self) -> Vec<&PublicKey> {
        self.people.iter().flat_map(|(_, keys)| keys.iter().copied()).collect()
    }

    /// Their names.
    pub fn names(&self) -> Vec<String> {
        self.people.iter().map(|(person, _)| person.id.clone()).collect()
    }

    /// Their names in words.
    pub fn words(&self) -> String {
        self.names().join(", ")
    }
}

/// The administrators; there has to be one.
pub fn administrators(register: &Register) -> Result<Recipients<'_>, CommandError> {
    let mut found = Recipients { people: Vec::new(), unable: Vec::new() };
    let mut gone = Vec::new();
    for named in &register.administrators {
        let Some(person) = register.people.get(&named.value) else {
            let name = printable(named.value.as_bytes());
            found.unable.push((name, "the register does not know them".to_owned()));
            continue;
        };
        if let Some(left) = person.left.as_ref().filter(|_| person.has_left(today())) {
            gone.push(format!("{} left on {}", person.id, left.value));
            continue;
        }
        let active: Vec<&PublicKey> =
            person.keys.iter().filter(|key| key.is_active(today())).map(|key| &key.key).collect();
        let (able, unable): (Vec<_>, Vec<_>) = active.into_iter().partition(|key| can_be_recipient(key).is_ok());
        if able.is_empty() {
            let why = unable.first().and_then(|key| can_be_recipient(key).err());
            found.unable.push((person.id.clone(), why.map_or_else(|| "no key is in use".to_owned(), cannot)));
        } else {
            found.people.push((person, able));
        }
    }
    if !found.people.is_empty() {
        return Ok(found);
    }
    let error = CommandError::with(Exit::Stopped, "the register names nobody who could open a kept key");
    let error = gone.into_iter().fold(error, CommandError::because);
    let error = found.unable.iter().fold(error, |error, (name, why)| error.because(format!("{name}: {why}")));
    let named: Vec<&str> = found.unable.iter().map(|(name, _)| name.as_str()).collect();
    let able =
        register.people.values().filter(|person| !person.has_left(today()) && !named.contains(&person.id.as_str()));
    let able = able
        .filter(|person| person.keys.iter().any(|key| key.is_active(today()) && can_be_recipient(&key.key).is_ok()))
        .map(|person| person.id.as_str())
        .next();
    Err(error
        .because("nothing was sealed and nothing was changed")
        .hint(format!("lavrin kept seal --administrators {}", able.unwrap_or("PERSON"))))
}

/// Why a key cannot be a recipient, in words.
pub fn cannot(why: NoRecipient) -> String {
    match why {
        NoRecipient::Algorithm(name) => {
            format!("the key in use is {name}, and private halves are sealed for ssh-ed25519 and ssh-rsa keys only")
        }
        NoRecipient::RsaBits(bits) => format!(
            "the key in use is RSA of {bits} bits, and private halves are sealed for RSA keys of {RSA_BITS_MIN} to {RSA_BITS_MAX} bits only"
        ),
    }
}
