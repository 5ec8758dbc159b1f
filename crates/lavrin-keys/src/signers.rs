//! A list of those whose signatures count, in the format of allowed signers that the SSH world uses: one line for each key, with the
//! names it signs for, and options that limit it.

use crate::date::Date;
use crate::key::PublicKey;
use crate::key::container::line;
use crate::keysfile::options::split;
use crate::patterns::list_matches;

/// One line.
#[derive(Debug, Clone)]
pub struct Signer {
    /// The names that this key signs for, as they stand there; each may be a pattern.
    pub principals: String,
    /// The key.
    pub key: PublicKey,
    /// The line, counted from 1.
    pub line: usize,
    namespaces: Option<String>,
    /// In seconds since 1970, in UTC.
    valid_from: Option<i64>,
    valid_until: Option<i64>,
}

/// Why a line does not count.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignerFault {
    /// It holds no key, or not in this form.
    NotUnderstood,
    /// An option that is not known here, which may limit the key.
    Option(String),
    /// The key of an authority: certificates are not checked here.
    Authority,
}

/// A line that does not count, and why.
pub type OddLine = (usize, SignerFault);

/// Reads a list. Lines that are not understood are reported, and nobody may sign by them.
#[must_use]
pub fn read(text: &[u8]) -> (Vec<Signer>, Vec<OddLine>) {
    let (mut signers, mut odd) = (Vec::new(), Vec::new());
    for (number, line) in text.split(|byte| *byte == b'\n').enumerate() {
        let line = line.trim_ascii();
        if line.is_empty() || line.starts_with(b"#") {
            continue;
        }
        match signer(line, number + 1) {
            Ok(signer) => signers.push(signer),
            Err(fault) => odd.push((number + 1, fault)),
        }
    }
    (signers, odd)
}

fn signer(text: &[u8], number: usize) -> Result<Signer, SignerFault> {
    let (principals, rest) = split(text);
    let principals = std::str::from_utf8(principals).map_err(|_| SignerFault::NotUnderstood)?;
    let principals = principals.trim_matches('"').to_owned();
    let (options, key) = if let Some(key) = key_of(rest) {
        (&b""[..], Some(key))
    } else {
        let (options, rest) = split(rest);
        (options, key_of(rest))
    };
    let key = key.ok_or(SignerFault::NotUnderstood)?;
    let mut signer = Signer { principals, key, line: number, namespaces: None, valid_from: None, valid_until: None };
    let options = std::str::from_utf8(options).map_err(|_| SignerFault::NotUnderstood)?;
    for option in parts(options) {
        let (name, value) = option.split_once('=').unwrap_or((option, ""));
        let value = value.trim_matches('"');
        let time = || moment(value).ok_or_else(|| SignerFault::Option(option.to_owned()));
        match name.to_ascii_lowercase().as_str() {
            "namespaces" => signer.namespaces = Some(value.to_owned()),
            "valid-after" => signer.valid_from = Some(time()?),
            "valid-before" => signer.valid_until = Some(time()?),
            "cert-authority" => return Err(SignerFault::Authority),
            _ => return Err(SignerFault::Option(crate::text::printable(option.as_bytes()))),
        }
    }
    Ok(signer)
}

fn key_of(text: &[u8]) -> Option<PublicKey> {
    line::parse(text)?.ok().map(|line| (*line.key).clone())
}

/// Options between commas that stand in no quotes.
fn parts(text: &str) -> impl Iterator<Item = &str> {
    let mut is_quoted = false;
    let cut = move |letter: char| {
        is_quoted ^= letter == '"';
        letter == ',' && !is_quoted
    };
    text.split(cut).filter(|part| !part.is_empty())
}

/// `YYYYMMDD[HHMM[SS]][Z]`, in UTC: which time zone is meant without `Z` depends on the machine, and this does not.
fn moment(text: &str) -> Option<i64> {
    let digits = text.strip_suffix(['Z', 'z']).unwrap_or(text);
    let is_whole = matches!(digits.len(), 8 | 12 | 14) && digits.bytes().all(|byte| byte.is_ascii_digit());
    if !is_whole {
        return None;
    }
    let date = Date::parse(&format!("{}-{}-{}", &digits[..4], &digits[4..6], &digits[6..8]))?;
    let part = |at: usize| digits.get(at..at + 2).map_or(Some(0), |part| part.parse::<i64>().ok());
    let (hours, minutes, seconds) = (part(8)?, part(10)?, part(12)?);
    (hours < 24 && minutes < 60 && seconds < 61).then(|| date.number() * 86_400 + hours * 3600 + minutes * 60 + seconds)
}

impl Signer {
    /// Whether a signature of this key counts for this purpose, made at this moment (seconds since 1970).
    #[must_use]
    pub fn allows(&self, namespace: &str, time: i64) -> bool {
        let fits = self.namespaces.as_ref().is_none_or(|list| list_matches(list.split(','), namespace));
        fits && self.valid_from.is_none_or(|from| time >= from) && self.valid_until.is_none_or(|until| time < until)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::key::PrivateKey;

    fn public(seed: u8) -> String {
        PrivateKey::ed25519(&[seed; 32]).unwrap().public().line("lamp")
    }

    #[test]
    fn lines_allow_what_they_say_and_odd_ones_nothing() {
        let text = format!(
            "# signers\n\nedda@halvmark,*@skerry {}\nsten namespaces=\"file,statement@*\",valid-after=\"20260101\",valid-before=\"202607011200Z\" {}\n\
             runa cert-authority {}\nodd frobnicate {}\nnothing\n",
            public(1),
            public(2),
            public(3),
            public(4)
        );
        let (signers, odd) = read(text.as_bytes());
        assert_eq!(signers.len(), 2);
        assert!(signers[0].allows("anything", 0) && signers[0].principals == "edda@halvmark,*@skerry");
        let day = |text: &str| Date::parse(text).unwrap().number() * 86_400;
        let sten = &signers[1];
        assert!(sten.allows("statement@lavrin", day("2026-01-01")) && sten.allows("file", day("2026-07-01")));
        assert!(!sten.allows("git", day("2026-03-01")));
        assert!(!sten.allows("file", day("2025-12-31")) && !sten.allows("file", day("2026-07-01") + 12 * 3600));
        let told = [
            (5, SignerFault::Authority),
            (6, SignerFault::Option("frobnicate".to_owned())),
            (7, SignerFault::NotUnderstood),
        ];
        assert_eq!(odd, told);
    }
}
