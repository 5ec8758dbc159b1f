//! SEC1 EC private keys (RFC 5915).

use super::der::Der;
use super::oid;
use crate::key::fault::WrongStructure;
use crate::key::public::check_point;
use crate::key::{Curve, KeyFault, PrivateKey, PublicKey};

/// Reads `ECPrivateKey` to its end. Inside PKCS#8 the curve is known already; both have to agree.
pub(crate) fn private(bytes: &[u8], outside: Option<Curve>) -> Result<PrivateKey, KeyFault> {
    let mut outer = Der::new(bytes);
    let mut fields = outer.sequence()?;
    outer.end()?;
    if fields.small()? != 1 {
        return Err(KeyFault::BadStructure { detail: WrongStructure::EcVersion });
    }
    let scalar = fields.octets()?;
    let named = fields.context(0xa0)?.map(|inner| oid::named_curve(&mut Der::new(inner))).transpose()?;
    let curve = match (outside, named) {
        (Some(outside), Some(named)) if outside != named => {
            return Err(KeyFault::TypeMismatch { outside: outside.name().to_owned(), inside: named.name().to_owned() });
        }
        (Some(curve), _) | (None, Some(curve)) => curve,
        (None, None) => return Err(KeyFault::BadStructure { detail: WrongStructure::NoCurve }),
    };
    let point = fields.context(0xa1)?.map(|inner| Der::new(inner).bits()).transpose()?;
    fields.end()?;
    let key = PrivateKey::ecdsa(curve, scalar)?;
    if let Some(point) = point {
        check_told_point(curve, point, &key)?;
    }
    Ok(key)
}

/// The point told has to be the key's own, in whichever form it is written.
fn check_told_point(curve: Curve, told: &[u8], key: &PrivateKey) -> Result<(), KeyFault> {
    let PublicKey::Ecdsa { point: own, .. } = key.public() else { return Err(KeyFault::PublicPrivateMismatch) };
    let compressed = matches!(told.first(), Some(2 | 3)) && told.len() == 1 + curve.width();
    if compressed {
        let sign = own.last().map_or(0, |last| last & 1) + 2;
        let same = told[0] == sign && told[1..] == own[1..=curve.width()];
        return if same { Ok(()) } else { Err(KeyFault::PublicPrivateMismatch) };
    }
    check_point(curve, told)?;
    if told == own.as_slice() { Ok(()) } else { Err(KeyFault::PublicPrivateMismatch) }
}
