//! SSH certificates (OpenSSH's PROTOCOL.certkeys): what they certify, for whom, until when, by which authority.

use crate::key::fault::{Unsupported, WrongStructure};
use crate::key::{Algorithm, Fingerprint, KeyFault, PublicKey};
use crate::text::printable;
use crate::wire::Reader;

/// What ends the name of a certificate's algorithm.
const ENDING: &[u8] = b"-cert-v01@openssh.com";

/// A certificate.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Certificate {
    /// The key it certifies.
    pub key: PublicKey,
    /// Serial number.
    pub serial: u64,
    /// `user` or `host`.
    pub kind: &'static str,
    /// The name the authority gave it.
    pub key_id: String,
    /// For whom or for which hosts it holds; empty: for all.
    pub principals: Vec<String>,
    /// Seconds since 1970 from which it holds.
    pub valid_after: u64,
    /// Seconds since 1970 before which it holds.
    pub valid_before: u64,
    /// The authority's key.
    pub authority: Fingerprint,
    /// What every server has to heed.
    pub critical: Critical,
}

/// The critical options of a certificate.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Critical {
    /// The only command that is run.
    pub force_command: Option<String>,
    /// Addresses and ranges that it may come from.
    pub source_address: Option<String>,
    /// Whether the authenticator has to check its user.
    pub verify_required: bool,
    /// A name that is not known, so that no server takes the certificate.
    pub unknown: Option<String>,
}

impl Critical {
    fn read(bytes: &[u8]) -> Result<Self, KeyFault> {
        let mut critical = Self::default();
        let mut reader = Reader::new(bytes);
        while !reader.rest().is_empty() {
            let (name, data) = (reader.string()?, reader.string()?);
            let value = || Reader::new(data).string().map(printable);
            match name {
                b"force-command" => critical.force_command = Some(value()?),
                b"source-address" => critical.source_address = Some(value()?),
                b"verify-required" => critical.verify_required = true,
                other => critical.unknown = Some(printable(&other[..other.len().min(64)])),
            }
        }
        Ok(critical)
    }
}

/// Whether a label names a certificate.
#[must_use]
pub fn is_label(label: &[u8]) -> bool {
    label.ends_with(ENDING)
}

/// The plain algorithm behind a certificate's name; those of authenticators carry their own domain.
fn plain(name: &[u8]) -> Option<Algorithm> {
    let stem = name.strip_suffix(ENDING)?;
    Algorithm::from_name(stem).or_else(|| Algorithm::from_name(&[stem, b"@openssh.com"].concat()))
}

impl Certificate {
    /// Reads a certificate's blob to its end and checks the authority's signature.
    ///
    /// # Errors
    /// [`KeyFault`], [`KeyFault::Corrupt`] where the signature does not verify.
    pub fn from_blob(blob: &[u8]) -> Result<Self, KeyFault> {
        let mut reader = Reader::new(blob);
        let name = reader.string()?;
        let algorithm = plain(name).ok_or_else(|| KeyFault::UnsupportedAlgorithm {
            name: Unsupported::Named(printable(&name[..name.len().min(64)])),
        })?;
        reader.string()?;
        let (key, _) = PublicKey::read_body(algorithm, &mut reader)?;
        let serial = u64::from(reader.u32()?) << 32 | u64::from(reader.u32()?);
        let kind = match reader.u32()? {
            1 => "user",
            2 => "host",
            _ => return Err(KeyFault::BadStructure { detail: WrongStructure::CertificateKind }),
        };
        let key_id = printable(reader.string()?);
        let mut names = Reader::new(reader.string()?);
        let mut principals = Vec::new();
        while !names.rest().is_empty() {
            principals.push(printable(names.string()?));
        }
        let valid_after = u64::from(reader.u32()?) << 32 | u64::from(reader.u32()?);
        let valid_before = u64::from(reader.u32()?) << 32 | u64::from(reader.u32()?);
        let critical = Critical::read(reader.string()?)?;
        for _ in 0..2 {
            reader.string()?; // extensions, reserved
        }
        let authority = PublicKey::from_blob(reader.string()?)?;
        let signed = blob.len() - reader.rest().len();
        let signature = reader.string()?;
        reader.end()?;
        if can_verify(&authority) && !authority.verifies(&blob[..signed], signature) {
            return Err(KeyFault::BadAuthoritySignature);
        }
        Ok(Self {
            key,
            serial,
            kind,
            key_id,
            principals,
            valid_after,
            valid_before,
            authority: authority.fingerprint(),
            critical,
        })
    }
}

/// Whether the library can check this authority's signatures at all.
fn can_verify(authority: &PublicKey) -> bool {
    match authority {
        PublicKey::Ed25519(_) | PublicKey::Ecdsa { .. } => true,
        PublicKey::Rsa { .. } => (2048..=8192).contains(&authority.bits()),
        PublicKey::SkEd25519 { .. } | PublicKey::SkEcdsa { .. } | PublicKey::Dss { .. } => false,
    }
}

/// The name of the certificate's algorithm for a plain key.
#[must_use]
pub fn name_of(key: &PublicKey) -> String {
    format!("{}-cert-v01@openssh.com", key.algorithm().name().trim_end_matches("@openssh.com"))
}
