//! What a device can bear of keys.

use lavrin_keys::key::{Algorithm, PublicKey};

/// Limits of a host, as the register says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct KeyLimits {
    /// Algorithms that it takes; none named: all.
    pub algorithms: Vec<Algorithm>,
    /// The largest RSA key, in bits.
    pub rsa_bits_max: Option<usize>,
    /// Most keys of one account.
    pub keys_max: Option<usize>,
    /// Longest entry, in bytes.
    pub line_bytes_max: Option<usize>,
    /// Longest comment, in bytes.
    pub comment_bytes_max: Option<usize>,
    /// The first key of an account ends its logins by password.
    pub first_key_ends_passwords: bool,
}

/// A limit that a key or an entry goes beyond.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LimitBroken {
    /// It takes other algorithms only.
    Algorithm(Vec<Algorithm>),
    /// It takes no RSA key of more bits.
    RsaBits(usize),
    /// It takes no more keys for one account.
    Keys(usize),
    /// It takes no longer entry.
    Line(usize),
    /// It takes no longer comment.
    Comment(usize),
}

impl KeyLimits {
    /// Why the device cannot take a key at all; `None`: it can.
    #[must_use]
    pub fn against_key(&self, key: &PublicKey) -> Option<LimitBroken> {
        if !self.algorithms.is_empty() && !self.algorithms.contains(&key.algorithm()) {
            return Some(LimitBroken::Algorithm(self.algorithms.clone()));
        }
        let max = self.rsa_bits_max?;
        (matches!(key, PublicKey::Rsa { .. }) && key.bits() > max).then_some(LimitBroken::RsaBits(max))
    }

    /// Why it cannot take an entry with such a key and comment.
    #[must_use]
    pub fn against_entry(&self, key: &PublicKey, comment: &str, line: &str) -> Option<LimitBroken> {
        let longer = |text: &str, max: &Option<usize>| max.filter(|max| text.len() > *max);
        self.against_key(key)
            .or_else(|| longer(comment, &self.comment_bytes_max).map(LimitBroken::Comment))
            .or_else(|| longer(line, &self.line_bytes_max).map(LimitBroken::Line))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use lavrin_keys::key::PrivateKey;

    #[test]
    fn each_limit_is_told_and_none_is_none() {
        let (key, rsa) = (
            PrivateKey::ed25519(&[1; 32]).unwrap().public().clone(),
            PublicKey::rsa(&[1, 0, 1], &[0xc5; 1024]).unwrap(),
        );
        let none = KeyLimits::default();
        assert_eq!(none.against_entry(&key, "a lamp", &key.line("a lamp")), None);
        let old = KeyLimits { algorithms: vec![rsa.algorithm()], rsa_bits_max: Some(4096), ..KeyLimits::default() };
        assert_eq!(old.against_key(&key), Some(LimitBroken::Algorithm(vec![rsa.algorithm()])));
        assert_eq!(old.against_key(&rsa), Some(LimitBroken::RsaBits(4096)));
        let short = KeyLimits { comment_bytes_max: Some(4), line_bytes_max: Some(60), ..KeyLimits::default() };
        assert_eq!(short.against_entry(&key, "a lamp", "x"), Some(LimitBroken::Comment(4)));
        assert_eq!(short.against_entry(&key, "lamp", &key.line("lamp")), Some(LimitBroken::Line(60)));
    }
}
