//! A newcomer's request: who they are, their public key, what it is for, and the proof that they hold the private half: a signature
//! in the open SSH signature format (PROTOCOL.sshsig) over all of that and over the challenge they were given.

use crate::register::{Date, is_id};
use lavrin_keys::key::signature::{Signature, SignatureFault};
use lavrin_keys::key::{Fingerprint, PublicKey};

/// What requests are signed for.
pub const NAMESPACE: &str = "request@lavrin";

/// The first line.
const BEGIN: &str = "Lavrin request 1";

const SIGNATURE: &str = "-----BEGIN SSH SIGNATURE-----";
const SIGNATURE_END: &str = "-----END SSH SIGNATURE-----";

/// Longest text that is read, and longest value, in bytes.
pub const TEXT_BYTES_MAX: usize = 64 << 10;
const VALUE_BYTES_MAX: usize = 200;

/// What is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewcomerRequest {
    /// The name in the register.
    pub person: String,
    /// The full name.
    pub name: String,
    /// What for.
    pub purpose: String,
    /// The day on which it was written.
    pub date: Date,
    /// What the administrator gave them to sign; empty where nothing was given.
    pub challenge: String,
}

/// Why a text is no request that counts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RequestFault {
    /// It does not begin as one.
    NotARequest,
    /// It is too long.
    TooLong,
    /// This is missing, or stands there twice.
    Field(&'static str),
    /// This cannot be its value.
    Value(&'static str),
    /// The key that stands there is not the one that signed.
    OtherKey,
    /// The signature does not count.
    Signature(SignatureFault),
}

/// The names of the values, in their order.
const FIELDS: [&str; 6] = ["Person", "Name", "For", "Date", "Challenge", "Key"];

/// Whether a value can stand in a request: one line, with nothing in it that cannot be seen.
#[must_use]
pub fn is_value(text: &str) -> bool {
    text.len() <= VALUE_BYTES_MAX && !text.chars().any(char::is_control)
}

/// A value as it is signed: a mail may have broken it into lines, or have doubled blanks.
fn plain(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

impl NewcomerRequest {
    /// What is signed.
    #[must_use]
    pub fn message(&self, key: Fingerprint) -> Vec<u8> {
        let values = [
            plain(&self.person),
            plain(&self.name),
            plain(&self.purpose),
            self.date.to_string(),
            plain(&self.challenge),
            key.to_string(),
        ];
        let lines = FIELDS.into_iter().zip(values).map(|(field, value)| format!("{field}: {value}\n"));
        (format!("{BEGIN}\n") + &lines.collect::<String>()).into_bytes()
    }

    /// The text that is sent.
    #[must_use]
    pub fn text(&self, key: &PublicKey, signature: &str) -> String {
        let line = key.line(&self.person);
        let values = [&self.person, &self.name, &self.purpose, &self.date.to_string(), &self.challenge, &line];
        let lines = FIELDS.into_iter().zip(values).map(|(field, value)| format!("{field}: {}\n", value.trim_end()));
        format!("{BEGIN}\n{}{signature}", lines.collect::<String>())
    }

    /// Reads one out of a text that may have been mailed: quoted, with other line ends, with lines broken. The key is the one that
    /// signed.
    ///
    /// # Errors
    /// [`RequestFault`].
    pub fn read(bytes: &[u8]) -> Result<(Self, PublicKey), RequestFault> {
        let text = std::str::from_utf8(bytes).map_err(|_| RequestFault::NotARequest)?;
        if text.len() > TEXT_BYTES_MAX {
            return Err(RequestFault::TooLong);
        }
        let lines = text.lines().map(|line| line.trim_start_matches(['>', ' ', '\t', '\u{feff}']).trim_end());
        let lines: Vec<&str> = lines.skip_while(|line| *line != BEGIN).skip(1).collect();
        let begin = lines.iter().position(|line| *line == SIGNATURE).ok_or(RequestFault::NotARequest)?;
        let end = lines.iter().position(|line| *line == SIGNATURE_END).filter(|end| *end > begin);
        let end = end.ok_or(RequestFault::Signature(SignatureFault::NotASignature))?;
        let values = values(&lines[..begin])?;
        let [person, name, purpose, date, challenge, line] = values;
        let refuse = |field| move || RequestFault::Value(field);
        let request = Self {
            person: Some(person).filter(|person| is_id(person)).ok_or_else(refuse("Person"))?,
            name: Some(name).filter(|name| !name.is_empty() && is_value(name)).ok_or_else(refuse("Name"))?,
            purpose: Some(purpose).filter(|text| is_value(text)).ok_or_else(refuse("For"))?,
            date: Date::parse(&date).ok_or_else(refuse("Date"))?,
            challenge: Some(challenge).filter(|text| is_value(text)).ok_or_else(refuse("Challenge"))?,
        };
        let signature = Signature::read(lines[begin..=end].join("\n").as_bytes()).map_err(RequestFault::Signature)?;
        // A long line may have been broken within the key.
        let (algorithm, rest) = line.split_once(' ').unwrap_or((&line, ""));
        let own = signature.key.line("");
        let (own_algorithm, own_rest) = own.trim_end().split_once(' ').unwrap_or_default();
        if algorithm != own_algorithm || !rest.replace(' ', "").starts_with(own_rest) {
            return Err(RequestFault::OtherKey);
        }
        let message = request.message(signature.key.fingerprint());
        signature.check(NAMESPACE, &message).map_err(RequestFault::Signature)?;
        Ok((request, signature.key))
    }
}

/// The values in their order. A line without a name goes on with the one before.
fn values(lines: &[&str]) -> Result<[String; 6], RequestFault> {
    let mut found: [Option<String>; 6] = [const { None }; 6];
    let mut last = None;
    for line in lines.iter().filter(|line| !line.is_empty()) {
        let field = FIELDS.iter().position(|field| line.strip_prefix(field).is_some_and(|rest| rest.starts_with(':')));
        match (field, last) {
            (Some(field), _) => {
                let value = &line[FIELDS[field].len() + 1..];
                if found[field].replace(plain(value)).is_some() {
                    return Err(RequestFault::Field(FIELDS[field]));
                }
                last = Some(field);
            }
            (None, Some(last)) => {
                if let Some(Some(value)) = found.get_mut(last) {
                    *value = plain(&format!("{value} {line}"));
                }
            }
            (None, None) => return Err(RequestFault::NotARequest),
        }
    }
    let missing = found.iter().position(Option::is_none);
    missing.map_or(Ok(()), |at| Err(RequestFault::Field(FIELDS[at])))?;
    Ok(found.map(Option::unwrap_or_default))
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_keys::key::PrivateKey;
    use lavrin_keys::key::signature::sign;

    fn request() -> NewcomerRequest {
        NewcomerRequest {
            person: "edda".to_owned(),
            name: "Edda Holm".to_owned(),
            purpose: "the tide logs of the whole archipelago".to_owned(),
            date: Date { year: 2026, month: 11, day: 23 },
            challenge: "harbour 42".to_owned(),
        }
    }

    fn text(request: &NewcomerRequest, seed: u8) -> String {
        let key = PrivateKey::ed25519(&[seed; 32]).unwrap();
        let signature = sign(&key, NAMESPACE, &request.message(key.public().fingerprint())).unwrap();
        request.text(key.public(), &signature)
    }

    #[test]
    fn a_request_is_read_out_of_a_mail() {
        let sent = text(&request(), 1);
        let key = PrivateKey::ed25519(&[1; 32]).unwrap().public().clone();
        let quoted = format!("Hello,\r\n\r\n> {}", sent.replace('\n', "\r\n> "));
        let broken = sent.replace("of the whole", "of the\nwhole").replacen("AAAAC3Nza", "AAAAC3N\nza", 1);
        for arrived in [sent, quoted, broken] {
            assert_eq!(NewcomerRequest::read(arrived.as_bytes()), Ok((request(), key.clone())), "{arrived}");
        }
    }

    #[test]
    fn no_word_of_it_can_be_changed_and_nobody_elses_key_slips_in() {
        let sent = text(&request(), 1);
        let wrong = Err(RequestFault::Signature(SignatureFault::Wrong));
        for (from, to) in [
            ("edda\n", "sten\n"),
            ("Edda Holm", "Edda Olm"),
            ("tide logs", "lamps"),
            ("2026-11-23", "2026-11-24"),
            ("42", "43"),
        ] {
            assert_eq!(NewcomerRequest::read(sent.replacen(from, to, 1).as_bytes()), wrong, "{from}");
        }
        let other = text(&request(), 2);
        let line = |text: &str| text.lines().find(|line| line.starts_with("Key:")).unwrap().to_owned();
        let swapped = sent.replace(&line(&sent), &line(&other));
        assert_eq!(NewcomerRequest::read(swapped.as_bytes()), Err(RequestFault::OtherKey));
        let twice = sent.replace("Name:", "Name: Sten\nName:");
        assert_eq!(NewcomerRequest::read(twice.as_bytes()), Err(RequestFault::Field("Name")));
        let without = sent.replace("Challenge: harbour 42\n", "");
        assert_eq!(NewcomerRequest::read(without.as_bytes()), Err(RequestFault::Field("Challenge")));
        for odd in ["", BEGIN, "Lavrin request 1\n-----BEGIN SSH SIGNATURE-----\n", &"x".repeat(100_000)] {
            assert!(NewcomerRequest::read(odd.as_bytes()).is_err());
        }
        // A signature that was made for something else is none for this.
        let key = PrivateKey::ed25519(&[1; 32]).unwrap();
        let elsewhere = sign(&key, "file", &request().message(key.public().fingerprint())).unwrap();
        let namespace = NewcomerRequest::read(request().text(key.public(), &elsewhere).as_bytes());
        assert_eq!(namespace, Err(RequestFault::Signature(SignatureFault::Namespace("file".to_owned()))));
    }
}
