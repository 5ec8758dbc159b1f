//! Secrets are gone when they are dropped: while the program waits for a passphrase, its memory holds nothing of a key that it
//! is done with.

use crate::common::World;
use crate::common::terminal::talk_with;
use lavrin_keys::key::PrivateKey;
use lavrin_keys::key::container::write::{Form, private};
use lavrin_keys::key::generate::{Randomness as _, Recipe, RsaBits, SystemSource, generate};
use std::io::{BufRead as _, BufReader, Read as _, Seek as _, SeekFrom};

/// So many bytes of a secret in a row are no chance.
const TELLING: usize = 16;

const PAGE: usize = 4096;

/// Everything that a process can write to, as one searches it.
fn memory(process: u32) -> Vec<Vec<u8>> {
    let maps = std::fs::File::open(format!("/proc/{process}/maps")).unwrap();
    let mut memory = std::fs::File::open(format!("/proc/{process}/mem")).unwrap();
    let mut all = Vec::new();
    for line in BufReader::new(maps).lines().map(Result::unwrap) {
        let mut words = line.split_ascii_whitespace();
        let (range, rights) = (words.next().unwrap(), words.next().unwrap());
        let (from, to) = range.split_once('-').unwrap();
        let [from, to] = [from, to].map(|end| u64::from_str_radix(end, 16).unwrap());
        if !rights.starts_with("rw") || memory.seek(SeekFrom::Start(from)).is_err() {
            continue;
        }
        // Most of what an allocator has set aside was never touched.
        let (mut left, mut page, mut part) = (to - from, vec![0; PAGE], Vec::new());
        while left > 0 && memory.read_exact(&mut page).is_ok() {
            left -= PAGE as u64;
            if page.iter().all(|byte| *byte == 0) {
                all.extend((!part.is_empty()).then(|| std::mem::take(&mut part)));
            } else {
                part.extend_from_slice(&page);
            }
        }
        all.push(part);
    }
    all
}

/// How often any part of a number stands in memory, with its first or its last byte first.
fn count(memory: &[Vec<u8>], secret: &[u8]) -> usize {
    let turned: Vec<u8> = secret.iter().rev().copied().collect();
    let parts = [secret, &turned].into_iter().flat_map(|text| text.chunks_exact(TELLING));
    let searched: Vec<memchr::memmem::Finder<'_>> = parts.map(memchr::memmem::Finder::new).collect();
    memory.iter().map(|part| searched.iter().map(|finder| finder.find_iter(part).count()).sum::<usize>()).sum()
}

/// The private numbers in a PKCS#1 file: d, p, q, dp, dq and the inverse.
fn numbers(pem: &[u8]) -> Vec<Vec<u8>> {
    use base64::Engine as _;
    let text: String = String::from_utf8_lossy(pem).lines().filter(|line| !line.starts_with('-')).collect();
    let der = base64::engine::general_purpose::STANDARD.decode(text).unwrap();
    let mut rest = &der[4..];
    let mut found = Vec::new();
    while let [2, first, more @ ..] = rest {
        let digits = usize::from(first & 0x7f);
        let (length, body) = if first & 0x80 == 0 {
            (usize::from(*first), more)
        } else {
            (more[..digits].iter().fold(0, |length, byte| length << 8 | usize::from(*byte)), &more[digits..])
        };
        found.push(body[..length].iter().copied().skip_while(|byte| *byte == 0).collect());
        rest = &body[length..];
    }
    found.split_off(3)
}

#[test]
#[ignore = "looks into another process, which needs root: scripts/test.sh"]
fn nothing_of_a_key_is_left_in_memory_once_it_is_dropped() {
    let world = World::new();
    let mut seed = [0u8; 32];
    SystemSource.fill(&mut seed);
    let small = PrivateKey::ed25519(&seed).unwrap();
    let large = generate(Recipe::Rsa(RsaBits::B2048), &SystemSource).unwrap();
    let text = |form, key: &PrivateKey, passphrase| private(form, key, "x", passphrase, &SystemSource).unwrap();
    let pkcs1 = text(Form::Pkcs1, &large, None);
    let secrets: Vec<Vec<u8>> = std::iter::once(seed.to_vec()).chain(numbers(&pkcs1)).collect();
    assert_eq!(secrets.len(), 7);
    world.write("home/small", text(Form::OpenSsh, &small, None).as_slice(), 0o600);
    world.write("home/large", text(Form::OpenSsh, &large, None).as_slice(), 0o600);
    world.write("home/older", pkcs1.as_slice(), 0o600);
    world.write("home/closed", text(Form::OpenSsh, &small, Some(b"low water")).as_slice(), 0o600);
    let command = "key inspect home/small home/large home/older home/closed";
    let mut left = Vec::new();
    let look = |process: u32| {
        let memory = memory(process);
        // What is no secret is there, so that this looks at the right memory at the right moment.
        assert!(count(&memory, &small.public().blob()[19..]) > 0);
        left = secrets.iter().map(|secret| count(&memory, secret)).collect();
    };
    drop(talk_with(&world, command, &[("Passphrase", "low water")], look));
    assert_eq!(left, [0; 7], "seed, d, p, q, dp, dq, inverse");
}
