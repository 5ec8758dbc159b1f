//! RSA moduli that share a prime with another one: a product tree upwards, a tree of remainders downwards (batch GCD).

use dashu_base::Gcd as _;
use dashu_int::UBig;

/// For each modulus (big-endian bytes) the indices of those that share a prime with it. Equal moduli are not told: they are the same key,
/// or the same modulus with another exponent, which the caller sees.
#[must_use]
pub fn partners(moduli: &[&[u8]]) -> Vec<Vec<usize>> {
    let moduli: Vec<UBig> = moduli.iter().map(|bytes| UBig::from_be_bytes(bytes)).collect();
    let suspects = suspects(&moduli);
    let mut found = vec![Vec::new(); moduli.len()];
    // Few are suspect; who shares with whom is told by holding them against each other.
    for (place, one) in suspects.iter().enumerate() {
        for other in &suspects[place + 1..] {
            if moduli[*one] != moduli[*other] && moduli[*one].clone().gcd(&moduli[*other]) != UBig::ONE {
                found[*one].push(*other);
                found[*other].push(*one);
            }
        }
    }
    found
}

/// The indices of moduli that have a factor in common with the product of all others.
fn suspects(moduli: &[UBig]) -> Vec<usize> {
    if moduli.len() < 2 {
        return Vec::new();
    }
    let mut levels = vec![moduli.to_vec()];
    while levels.last().is_some_and(|level| level.len() > 1) {
        let next = levels.last().into_iter().flatten().collect::<Vec<_>>();
        let pairs = next
            .chunks(2)
            .map(|pair| if let [left, right] = pair { *left * *right } else { pair[0].clone() })
            .collect();
        levels.push(pairs);
    }
    let mut rests = levels.pop().unwrap_or_default();
    for level in levels.iter().rev() {
        rests = level.iter().enumerate().map(|(index, number)| &rests[index / 2] % (number * number)).collect();
    }
    let shares = |(index, rest): (usize, &UBig)| {
        let others = rest / &moduli[index];
        (moduli[index].clone().gcd(&others) != UBig::ONE).then_some(index)
    };
    rests.iter().enumerate().filter_map(shares).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn those_that_share_are_told_with_each_other() {
        let primes: Vec<UBig> =
            [127usize, 521, 607, 1279, 2203].iter().map(|bits| (UBig::ONE << *bits) - UBig::ONE).collect();
        let n = |a: usize, b: usize| &primes[a] * &primes[b];
        // The third shares both of its primes; the fourth none.
        let partners = |moduli: &[UBig]| {
            let bytes: Vec<Box<[u8]>> = moduli.iter().map(UBig::to_be_bytes).collect();
            super::partners(&bytes.iter().map(AsRef::as_ref).collect::<Vec<_>>())
        };
        assert_eq!(partners(&[n(0, 1), n(2, 3), n(1, 2), n(4, 4)]), [vec![2], vec![2], vec![0, 1], vec![]]);
        assert_eq!(partners(&[n(0, 1), n(0, 1)]), [vec![], vec![]] as [Vec<usize>; 2]);
        assert!(partners(&[]).is_empty());
    }
}
