//! The private keys in `~/.ssh` of whoever runs the program.

use crate::{input, paths};
use lavrin_keys::key::Fingerprint;
use std::io::Read as _;
use std::path::{Path, PathBuf};

/// Files in `~/.ssh` that are looked at.
const FILES_MAX: usize = 200;

/// What private keys begin with, somewhere in their first line.
const PRIVATE: &[u8] = b"PRIVATE KEY";

/// Each with its fingerprint, in the order of their names.
pub fn lying_here() -> Vec<(PathBuf, Fingerprint)> {
    let Some(folder) = paths::home().map(|home| home.join(".ssh")) else { return Vec::new() };
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut files: Vec<PathBuf> = entries.map(|entry| entry.path()).filter(|path| path.is_file()).collect();
    files.sort();
    let private = files.into_iter().take(FILES_MAX).filter(|path| is_private(path));
    private.filter_map(|path| Some((path.clone(), print_of(&path)?))).collect()
}

/// The key in a file, or in the public half beside it.
pub fn print_of(path: &Path) -> Option<Fingerprint> {
    let beside = PathBuf::from(format!("{}.pub", path.display()));
    input::print_of_file(path).or_else(|_| input::print_of_file(&beside)).ok()
}

fn is_private(path: &Path) -> bool {
    let mut begin = Vec::new();
    let read = std::fs::File::open(path).and_then(|file| file.take(64).read_to_end(&mut begin));
    read.is_ok() && begin.windows(PRIVATE.len()).any(|part| part == PRIVATE)
}
