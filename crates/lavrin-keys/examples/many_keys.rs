//! Writes many distinct public lines to standard output, for measuring: `many_keys COUNT [rsa-2048|mixed]`.
//!
//! The RSA moduli are no products of primes but of numbers without a factor below 2^21, which a sieve finds thousands of
//! times faster; to every search of the product they look like healthy keys, but for about one in a thousand that shares
//! a larger factor with another one.
#![allow(clippy::print_stdout, clippy::disallowed_methods, reason = "this is a program and not the core")]

use dashu_int::UBig;
use lavrin_keys::key::generate::{Randomness as _, SystemSource};
use lavrin_keys::key::{Curve, PrivateKey, PublicKey};

const SMALL_PRIMES_BELOW: usize = 1 << 21;

fn main() {
    let mut arguments = std::env::args().skip(1);
    let count: usize = arguments.next().and_then(|text| text.parse().ok()).unwrap_or(1000);
    let mixed = arguments.next().as_deref() != Some("rsa-2048");
    let sizes: &[usize] = if mixed { &[2048, 3072, 4096] } else { &[2048] };
    let each = if mixed { count.div_ceil(6) } else { count };
    let small = small_primes();
    let mut rsa: Vec<_> = sizes
        .iter()
        .map(|bits| factors(bits / 2, each, &small).into_iter().zip(factors(bits / 2, each, &small)))
        .collect();
    for number in 0..count {
        let key = if mixed && number % 2 == 0 {
            other(number / 2)
        } else {
            let family = number / 2 % sizes.len();
            let (p, q) = rsa[family].next().expect("enough were sieved");
            PublicKey::rsa(&[1, 0, 1], &(p * q).to_be_bytes()).expect("a modulus of usual size")
        };
        println!("{}", key.line(&format!("edda-{number}@lantern")));
    }
}

fn random(bytes: usize) -> Vec<u8> {
    let mut random = vec![0; bytes];
    SystemSource.fill(&mut random);
    random
}

/// Three Ed25519 keys to one ECDSA key, as one finds them.
fn other(number: usize) -> PublicKey {
    let mut seed = [0; 32];
    seed.copy_from_slice(&random(32));
    let key = if number % 4 == 3 { PrivateKey::ecdsa(Curve::P256, &seed) } else { PrivateKey::ed25519(&seed) };
    key.expect("a random number is a private key").public().clone()
}

/// So many numbers come from one window: in a wider one many would share a factor.
const WINDOW: usize = 32_768;

/// Numbers of so many bits without a factor below the bound.
fn factors(bits: usize, count: usize, small: &[u64]) -> Vec<UBig> {
    let windows = (0..count).step_by(WINDOW).map(|done| WINDOW.min(count - done));
    windows.flat_map(|count| of_window(bits, count, small)).collect()
}

/// The same from a window that begins at a random number.
fn of_window(bits: usize, count: usize, small: &[u64]) -> Vec<UBig> {
    let mut start = random(bits / 8);
    start[0] |= 0xc0;
    if let Some(last) = start.last_mut() {
        *last |= 1;
    }
    let start = UBig::from_be_bytes(&start);
    // About one odd number in thirteen is left.
    let window = count * 16 + 10_000;
    let mut open = vec![true; window];
    for prime in small {
        // start + 2·place is a multiple of the prime
        let rest = &start % *prime;
        let missing = (*prime - rest) % *prime;
        let first = if missing.is_multiple_of(2) { missing } else { missing + *prime } / 2;
        for place in (first..window as u64).step_by(usize::try_from(*prime).expect("small")) {
            open[usize::try_from(place).expect("in the window")] = false;
        }
    }
    let left = open.iter().enumerate().filter(|(_, open)| **open);
    left.map(|(place, _)| &start + UBig::from(2 * place)).take(count).collect()
}

fn small_primes() -> Vec<u64> {
    let mut composite = vec![false; SMALL_PRIMES_BELOW];
    for number in 2..SMALL_PRIMES_BELOW {
        if !composite[number] {
            (number * number..SMALL_PRIMES_BELOW).step_by(number).for_each(|multiple| composite[multiple] = true);
        }
    }
    (3..SMALL_PRIMES_BELOW).filter(|number| !composite[*number]).map(|prime| prime as u64).collect()
}
