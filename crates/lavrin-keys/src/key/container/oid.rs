//! Object identifiers in their encoded form, and what they stand for in SSH.

use super::der::Der;
use crate::key::fault::Unsupported;
use crate::key::{Curve, KeyFault};

pub(crate) const RSA: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x01];
pub(crate) const EC: &[u8] = &[0x2a, 0x86, 0x48, 0xce, 0x3d, 0x02, 0x01];
pub(crate) const ED25519: &[u8] = &[0x2b, 0x65, 0x70];
const ED448: &[u8] = &[0x2b, 0x65, 0x71];
const X25519: &[u8] = &[0x2b, 0x65, 0x6e];
const X448: &[u8] = &[0x2b, 0x65, 0x6f];
const DSA: &[u8] = &[0x2a, 0x86, 0x48, 0xce, 0x38, 0x04, 0x01];
const RSA_PSS: &[u8] = &[0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x01, 0x0a];
pub(crate) const P256: &[u8] = &[0x2a, 0x86, 0x48, 0xce, 0x3d, 0x03, 0x01, 0x07];
pub(crate) const P384: &[u8] = &[0x2b, 0x81, 0x04, 0x00, 0x22];
pub(crate) const P521: &[u8] = &[0x2b, 0x81, 0x04, 0x00, 0x23];

/// The algorithms whose keys SSH knows.
pub(crate) enum OidKey {
    Rsa,
    Ed25519,
    Ec(Curve),
}

/// Reads an `AlgorithmIdentifier` (RFC 5280, section 4.1.1.2).
pub(crate) fn algorithm(mut fields: Der<'_>) -> Result<OidKey, KeyFault> {
    let kind = match fields.oid()? {
        RSA => {
            fields.maybe_null()?;
            OidKey::Rsa
        }
        ED25519 => OidKey::Ed25519,
        EC => OidKey::Ec(named_curve(&mut fields)?),
        DSA => return Err(KeyFault::PolicyAlgorithm { name: "DSA".to_owned() }),
        X25519 => return Err(KeyFault::NotASigningKey { name: "X25519" }),
        X448 => return Err(KeyFault::NotASigningKey { name: "X448" }),
        ED448 => return Err(KeyFault::UnsupportedAlgorithm { name: Unsupported::Named("Ed448".to_owned()) }),
        RSA_PSS => return Err(KeyFault::UnsupportedAlgorithm { name: Unsupported::Named("RSA-PSS".to_owned()) }),
        _ => return Err(KeyFault::UnsupportedAlgorithm { name: Unsupported::Nameless }),
    };
    fields.end()?;
    Ok(kind)
}

/// A curve by its name; curves by their numbers are refused.
pub(crate) fn named_curve(fields: &mut Der<'_>) -> Result<Curve, KeyFault> {
    if fields.is_next(0x30) {
        return Err(KeyFault::ExplicitParameters);
    }
    match fields.oid()? {
        P256 => Ok(Curve::P256),
        P384 => Ok(Curve::P384),
        P521 => Ok(Curve::P521),
        _ => Err(KeyFault::UnsupportedAlgorithm { name: Unsupported::OtherCurve }),
    }
}

/// The identifier of a curve.
pub(crate) fn of_curve(curve: Curve) -> &'static [u8] {
    match curve {
        Curve::P256 => P256,
        Curve::P384 => P384,
        Curve::P521 => P521,
    }
}
