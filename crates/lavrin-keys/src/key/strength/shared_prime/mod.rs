//! RSA moduli that share a prime with another one of the same run (batch GCD), and small factors of all of them at once.

mod multiply;
mod parts;
mod reciprocal;
mod shape;
mod tree;

use super::{Depth, small_factor};
use dashu_base::Gcd as _;
use dashu_int::UBig;
use rayon::prelude::*;

/// How many keys with a shared prime are held against each other to name the partners: half a million common divisors take
/// some seconds.
const PARTNERS_SEARCHED: usize = 1000;

/// Up to so many moduli are held against each other pair by pair, which takes less than their product does.
const FEW: usize = 8;

/// What shows only when all moduli of a run are looked at together.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Together {
    /// The product of the modulus' prime factors below 2^21, where there are any.
    pub small_factor: Option<String>,
    /// Whether another modulus has a prime in common with it.
    pub shares_prime: bool,
    /// The indices of those that have; may lack some where very many do.
    pub partners: Vec<usize>,
}

/// Looks at distinct moduli (big-endian bytes, odd) together.
#[must_use]
pub fn together(moduli: &[&[u8]]) -> Vec<Together> {
    let moduli: Vec<UBig> = moduli.iter().map(|bytes| UBig::from_be_bytes(bytes)).collect();
    let mut found = vec![Together::default(); moduli.len()];
    let suspects = suspects(&moduli);
    let are_told = suspects.is_some();
    let each = suspects.unwrap_or_else(|| moduli.iter().cloned().enumerate().collect());
    let small = each.par_iter().map(|(index, _)| small_factor::of(&moduli[*index], Depth::Full));
    for ((index, _), factor) in each.iter().zip(small.collect::<Vec<_>>()) {
        found[*index].small_factor = factor.as_ref().map(UBig::to_string);
        // What has no small factor has one in common with another modulus.
        found[*index].shares_prime = are_told && factor.is_none();
    }
    name_partners(&moduli, &each, &mut found);
    found
}

/// The indices of moduli that have a factor in common with the product of all others or a small one, and that factor. `None` where
/// it is not worked out: for a few, and where an arithmetic fault was noticed, which was never seen.
fn suspects(moduli: &[UBig]) -> Option<Vec<(usize, UBig)>> {
    if moduli.len() <= FEW {
        return None;
    }
    let rests = tree::products_of_others(moduli, small_factor::primorial())?;
    let shares = |(index, rest): (usize, &UBig)| {
        let common = (&moduli[index]).gcd(rest);
        (common != UBig::ONE).then_some((index, common))
    };
    Some(rests.par_iter().enumerate().filter_map(shares).collect())
}

/// Two suspects have in common what is common to that of each with all.
fn name_partners(moduli: &[UBig], suspects: &[(usize, UBig)], found: &mut [Together]) {
    let searched = &suspects[..suspects.len().min(PARTNERS_SEARCHED)];
    let pairs: Vec<(usize, usize)> = searched
        .par_iter()
        .enumerate()
        .flat_map_iter(|(place, one)| searched[place + 1..].iter().map(move |other| (one, other)))
        .filter(|((one, of_one), (other, of_other))| {
            moduli[*one] != moduli[*other] && has_large_common_factor(of_one, of_other)
        })
        .map(|((one, _), (other, _))| (*one, *other))
        .collect();
    for (one, other) in pairs {
        for (index, partner) in [(one, other), (other, one)] {
            found[index].partners.push(partner);
            found[index].shares_prime = true;
        }
    }
}

/// Whether the common factor is more than the small ones, which are told on their own.
fn has_large_common_factor(one: &UBig, other: &UBig) -> bool {
    let mut common = one.gcd(other);
    // A small prime may be in it several times.
    while common != UBig::ONE {
        let Some(small) = small_factor::of(&common, Depth::Full) else { return true };
        common /= small;
    }
    false
}

#[cfg(test)]
mod tests {
    use super::multiply::tests::noise;
    use super::*;

    fn primes() -> Vec<UBig> {
        [127usize, 521, 607, 1279, 2203].iter().map(|bits| (UBig::ONE << *bits) - UBig::ONE).collect()
    }

    fn found(moduli: &[UBig]) -> Vec<Together> {
        let together = |moduli: &[UBig]| {
            let bytes: Vec<Box<[u8]>> = moduli.iter().map(UBig::to_be_bytes).collect();
            together(&bytes.iter().map(AsRef::as_ref).collect::<Vec<_>>())
        };
        let found = together(moduli);
        // Among many it is the same, by other means.
        let others = (0..=FEW as u64).map(|seed| noise(9, seed) | UBig::ONE);
        let many: Vec<UBig> = moduli.iter().cloned().chain(others).collect();
        assert_eq!(found, together(&many)[..moduli.len()]);
        found
    }

    #[test]
    fn those_that_share_are_told_with_each_other() {
        let p = primes();
        // The third shares both of its primes; the fourth none.
        let found = found(&[&p[0] * &p[1], &p[2] * &p[3], &p[1] * &p[2], &p[4] * &p[4]]);
        let partners: Vec<Vec<usize>> = found.iter().map(|one| one.partners.clone()).collect();
        assert_eq!(partners, [vec![2], vec![2], vec![0, 1], vec![]]);
        assert_eq!(found.iter().map(|one| one.shares_prime).collect::<Vec<_>>(), [true, true, true, false]);
    }

    #[test]
    fn small_factors_are_found_on_the_way_and_are_no_shared_primes() {
        let p = primes();
        let small = UBig::from(1_000_003u32);
        let found = found(&[&p[1] * &small, &p[2] * &small, &p[3] * &p[4], &p[3] * UBig::from(15u8)]);
        let factors: Vec<Option<&str>> = found.iter().map(|one| one.small_factor.as_deref()).collect();
        assert_eq!(factors, [Some("1000003"), Some("1000003"), None, Some("15")]);
        let shares: Vec<bool> = found.iter().map(|one| one.shares_prime).collect();
        assert_eq!(shares, [false, false, true, true]);
    }

    #[test]
    fn powers_of_small_primes_in_common_are_no_shared_primes() {
        let p = primes();
        let power = UBig::from(3u8).pow(4) * UBig::from(1_000_003u32).pow(2);
        let found = found(&[&p[1] * &power, &p[2] * &power]);
        assert!(found.iter().all(|one| !one.shares_prime && one.small_factor.is_some()), "{found:?}");
    }

    #[test]
    fn few_or_none_are_healthy() {
        let p = primes();
        assert_eq!(found(&[]), []);
        assert_eq!(found(&[&p[3] * &p[4]]), [Together::default()]);
    }
}
