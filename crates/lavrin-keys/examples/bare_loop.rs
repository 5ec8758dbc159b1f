//! The anchor for the audit of a large tree: reads every key file below `DIR/home`, decodes each key and hashes it, on
//! all cores, and does nothing else: `bare_loop DIR`.
#![allow(clippy::print_stdout, clippy::disallowed_methods, reason = "this is a program and not the core")]

use aws_lc_rs::digest::{SHA256, digest};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use rayon::prelude::*;
use std::path::PathBuf;

fn main() {
    let root = PathBuf::from(std::env::args().nth(1).expect("a folder")).join("home");
    let homes: Vec<PathBuf> = std::fs::read_dir(root).expect("homes").flatten().map(|entry| entry.path()).collect();
    let sums: Vec<(usize, u8)> = homes.par_iter().map(|home| one(&home.join(".ssh/authorized_keys"))).collect();
    let (keys, sum) = sums.iter().fold((0, 0), |(keys, sum), (more, other)| (keys + more, sum ^ other));
    println!("{keys} keys, {sum}");
}

fn one(path: &std::path::Path) -> (usize, u8) {
    let Ok(bytes) = std::fs::read(path) else { return (0, 0) };
    let words = bytes
        .split(|byte| *byte == b'\n')
        .filter_map(|line| line.split(|byte| *byte == b' ').find(|word| word.starts_with(b"AAAA")));
    let blobs = words.filter_map(|base64| STANDARD.decode(base64).ok());
    blobs.fold((0, 0), |(keys, sum), blob| (keys + 1, sum ^ digest(&SHA256, &blob).as_ref()[0]))
}
