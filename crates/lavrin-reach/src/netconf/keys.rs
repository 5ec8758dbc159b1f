//! Accounts and keys as they stand in a device's data (RFC 7317), and how an entry's comment lies in the name of its place there.

use super::xml::{Element, Namespace, SYSTEM, escaped};
use crate::slots::unreadable;
use lavrin_keys::key::{PublicKey, base64};
use lavrin_keys::text::printable;
use lavrin_server::account::Account;
use lavrin_server::survey::KeySlot;

/// Longest comment that becomes part of a name, in characters.
const COMMENT_MAX: usize = 200;

/// How much of a fingerprint ends a name, in characters: it keeps two keys with one comment apart.
const MARK: usize = 8;

/// Accounts of a device have no numbers; these are none that a system gives.
const FIRST_UID: u32 = 4_000_000_000;

/// An account with its keys.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct User {
    /// Its name.
    pub name: String,
    /// Its keys.
    pub keys: Vec<KeySlot>,
}

/// The accounts in an answer; `None`: the answer shows none at all, which may as well mean that the login may not see them.
pub fn users(answer: &Element) -> Option<Vec<User>> {
    let system = answer.one("data")?.parts.iter().find(|part| part.is(Namespace::System, "system"))?;
    let users: Vec<User> = system.one("authentication")?.all("user").filter_map(user).collect();
    (!users.is_empty()).then_some(users)
}

fn user(element: &Element) -> Option<User> {
    let name = element.value("name").filter(|name| !name.is_empty())?;
    // Line ends in it would draw lines of their own in what is shown; written out, the name is nobody's.
    let name = if name.contains(char::is_control) { printable(name.as_bytes()) } else { name.to_owned() };
    let keys = element.all("authorized-key").map(slot).collect();
    Some(User { name, keys })
}

/// A key as an entry on a line. What the device says is its algorithm does not count: the key says that itself, and a server looks
/// at nothing else.
fn slot(element: &Element) -> KeySlot {
    let name = element.value("name").unwrap_or_default().to_owned();
    let data: String = element.value("key-data").unwrap_or_default().split_ascii_whitespace().collect();
    let entry = if let Ok(key) = PublicKey::from_blob(&base64::decode_loosely(data.as_bytes())) {
        key.line(&comment(&name, &key))
    } else {
        unreadable(element.value("algorithm").unwrap_or_default(), &data, &name)
    };
    KeySlot { name, entry: entry.into_bytes() }
}

/// The comment in a name. A name that somebody else gave is the comment as it is.
fn comment(name: &str, key: &PublicKey) -> String {
    let own = name.strip_suffix(&mark(key));
    own.map_or(name, str::trim_end).replace(['\n', '\r', '\t'], " ")
}

/// What ends the names that Lavrin gives.
fn mark(key: &PublicKey) -> String {
    let print = key.fingerprint().to_string();
    format!("[{}]", print.trim_start_matches("SHA256:").chars().take(MARK).collect::<String>())
}

/// An entry that is to be put into a place.
pub struct NewSlot {
    /// The name of the place.
    pub name: String,
    algorithm: String,
    data: String,
}

impl NewSlot {
    /// That of an entry without options; `None`: the line holds none. Where the place is known it keeps its name.
    pub fn of(entry: &[u8], name: Option<&str>) -> Option<Self> {
        let text = str::from_utf8(entry).ok()?;
        let mut words = text.splitn(3, ' ');
        let (algorithm, data) = (words.next()?, words.next()?);
        let key = PublicKey::from_blob(&base64::decode_loosely(data.as_bytes())).ok()?;
        let comment: String = words.next().unwrap_or_default().trim().chars().take(COMMENT_MAX).collect();
        let made = format!("{comment} {}", mark(&key)).trim().to_owned();
        let name = name.map_or(made, str::to_owned);
        Some(Self { name, algorithm: algorithm.to_owned(), data: data.to_owned() })
    }

    /// The place with the key in it, as a request creates it.
    pub fn created(&self) -> String {
        format!(
            "<authorized-key nc:operation=\"create\"><name>{}</name><algorithm>{}</algorithm><key-data>{}</key-data></authorized-key>",
            escaped(&self.name),
            escaped(&self.algorithm),
            escaped(&self.data)
        )
    }
}

/// A place, as a request empties it: its name and nothing more.
pub fn deleted(name: &str) -> String {
    format!("<authorized-key nc:operation=\"delete\"><name>{}</name></authorized-key>", escaped(name))
}

/// What is asked for: names and keys, of one account or of all. Hashes of passwords are left out by the device.
pub fn asked_for(account: Option<&str>) -> String {
    let name = account.map_or_else(|| "<name/>".to_owned(), |name| format!("<name>{}</name>", escaped(name)));
    format!("<system xmlns=\"{SYSTEM}\"><authentication><user>{name}<authorized-key/></user></authentication></system>")
}

/// An account as the core knows it: it has no number, no home and no shell.
pub fn account(number: usize, name: &str) -> Account {
    let uid = FIRST_UID + u32::try_from(number).unwrap_or_default();
    Account { uid, gid: uid, ..Account::unknown(name) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::netconf::xml::BASE;
    use lavrin_keys::key::PrivateKey;

    fn key(seed: u8) -> PublicKey {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().clone()
    }

    fn read(keys: &str) -> Vec<KeySlot> {
        let text = format!(
            "<rpc-reply xmlns='{BASE}' message-id='1'><data><system xmlns='{SYSTEM}'><authentication><user><name>keeper</name>{keys}</user></authentication></system></data></rpc-reply>"
        );
        users(&Element::read(text.as_bytes()).unwrap()).unwrap().remove(0).keys
    }

    #[test]
    fn an_entry_is_the_same_once_it_was_there() {
        for comment in ["edda@lantern", "", "Åke's <lamp> & more", "tide [old]"] {
            let entry = key(1).line(comment).into_bytes();
            let new = NewSlot::of(&entry, None).unwrap();
            let there = read(&new.created().replace(" nc:operation=\"create\"", ""));
            assert_eq!(there, [KeySlot { name: new.name, entry }], "{comment}");
        }
        let names = [key(1), key(2)].map(|key| NewSlot::of(key.line("edda").as_bytes(), None).unwrap().name);
        assert!(names[0] != names[1] && names.iter().all(|name| name.starts_with("edda [")), "{names:?}");
    }

    #[test]
    fn what_others_put_there_is_taken_as_it_is() {
        let data = key(3).line("").split(' ').nth(1).unwrap().trim().to_owned();
        let of = |algorithm: &str, data: &str| {
            format!("<authorized-key><name>a key</name>{algorithm}<key-data>{data}</key-data></authorized-key>")
        };
        let wanted = key(3).line("a key").into_bytes();
        let broken_up = format!("\n  {}\n  {}\n", &data[..30], &data[30..]);
        for (algorithm, data) in [("<algorithm>ssh-rsa</algorithm>", &data), ("", &data), ("", &broken_up)] {
            assert_eq!(read(&of(algorithm, data))[0].entry, wanted, "{algorithm} {data}");
        }
        let told = |keys: &str| String::from_utf8(read(keys)[0].entry.clone()).unwrap();
        assert_eq!(told(&of("<algorithm>ssh-rsa</algorithm>", "!")), "ssh-rsa ! a key");
        assert_eq!(told("<authorized-key><name>x</name></authorized-key>"), "unknown - x");
    }

    #[test]
    fn a_name_has_one_line() {
        let text = format!(
            "<rpc-reply xmlns='{BASE}' message-id='1'><data><system xmlns='{SYSTEM}'><authentication><user><name>kee\nper</name></user></authentication></system></data></rpc-reply>"
        );
        assert_eq!(users(&Element::read(text.as_bytes()).unwrap()).unwrap()[0].name, "kee\\x0aper");
        let entry = &read("<authorized-key><name>a\nb</name><algorithm>ssh\nx</algorithm></authorized-key>")[0].entry;
        assert!(!entry.contains(&b'\n'), "{entry:?}");
    }

    #[test]
    fn an_answer_without_accounts_shows_nothing() {
        for data in ["<data/>", "", "<data><system xmlns='urn:other'/></data>"] {
            let text = format!("<rpc-reply xmlns='{BASE}' message-id='1'>{data}</rpc-reply>");
            assert_eq!(users(&Element::read(text.as_bytes()).unwrap()), None, "{data}");
        }
    }
}
