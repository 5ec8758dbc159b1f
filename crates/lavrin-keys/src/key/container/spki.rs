//! `SubjectPublicKeyInfo` (RFC 5280, section 4.1.2.7; RFC 5480; RFC 8410).

use super::compressed::uncompressed;
use super::der::Der;
use super::oid::{self, OidKey};
use super::pkcs1;
use crate::key::public::check_point;
use crate::key::{KeyFault, PublicKey};

/// Reads a public key to its end.
pub(crate) fn public(bytes: &[u8]) -> Result<PublicKey, KeyFault> {
    let mut outer = Der::new(bytes);
    let mut fields = outer.sequence()?;
    outer.end()?;
    let kind = oid::algorithm(fields.sequence()?)?;
    let key = fields.bits()?;
    fields.end()?;
    match kind {
        OidKey::Rsa => pkcs1::public(key),
        OidKey::Ed25519 => PublicKey::ed25519(key),
        // SSH writes points in full only; the fingerprint is that of the full form.
        OidKey::Ec(curve) if matches!(key.first(), Some(2 | 3)) => {
            let point = uncompressed(curve, key).ok_or(KeyFault::PointNotOnCurve)?;
            check_point(curve, &point)?;
            Ok(PublicKey::Ecdsa { curve, point })
        }
        OidKey::Ec(curve) => {
            check_point(curve, key)?;
            Ok(PublicKey::Ecdsa { curve, point: key.to_vec() })
        }
    }
}
