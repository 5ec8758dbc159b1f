//! Makes the product of all primes below 2^21, against which moduli are held to find small factors.

#![allow(clippy::disallowed_methods, reason = "what builds the core is not in it")]

use dashu_int::UBig;
use std::path::PathBuf;

/// Primes below this are looked for: what a trial division finds in a second or so.
const BOUND: usize = 1 << 21;

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    let out = PathBuf::from(std::env::var_os("OUT_DIR").expect("cargo sets it")).join("primorial.bin");
    let product = product(&primes());
    std::fs::write(out, product.to_le_bytes()).expect("the build folder can be written");
}

fn primes() -> Vec<UBig> {
    let mut composite = vec![false; BOUND];
    let mut primes = Vec::new();
    for number in 2..BOUND {
        if composite[number] {
            continue;
        }
        primes.push(UBig::from(number));
        for multiple in (number * number..BOUND).step_by(number) {
            composite[multiple] = true;
        }
    }
    primes
}

fn product(numbers: &[UBig]) -> UBig {
    match numbers {
        [] => UBig::ONE,
        [one] => one.clone(),
        many => {
            let (left, right) = many.split_at(many.len() / 2);
            product(left) * product(right)
        }
    }
}
