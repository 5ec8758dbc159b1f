//! What is asked beyond what the server demands.

use super::Algorithm;

/// The policy in force. [`Policy::default`] is what Lavrin asks without a register.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Policy {
    /// RSA keys with fewer bits are refused.
    pub rsa_bits_min: usize,
    /// RSA keys with fewer bits are worth telling.
    pub rsa_bits_advised: usize,
    /// Algorithms that may be installed.
    pub algorithms: Vec<Algorithm>,
    /// Permission bits of a new `.ssh` folder.
    pub folder_mode: u32,
    /// Permission bits of a new key file.
    pub file_mode: u32,
}

impl Default for Policy {
    fn default() -> Self {
        Self {
            rsa_bits_min: 2048,
            rsa_bits_advised: 3072,
            algorithms: Algorithm::ALL.into_iter().filter(|algorithm| *algorithm != Algorithm::Dss).collect(),
            folder_mode: 0o700,
            file_mode: 0o600,
        }
    }
}
