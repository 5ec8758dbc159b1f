//! Replays what the fuzz targets found worth keeping, without a fuzzer.

mod entries;

use std::path::Path;

#[test]
#[allow(clippy::disallowed_methods, reason = "tests of the core may read their data")]
fn every_entry_takes_its_corpus() {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/unsafe-fuzz-corpus");
    for (name, entry) in entries::ALL {
        let files: Vec<_> = std::fs::read_dir(corpus.join(name)).unwrap().map(|file| file.unwrap().path()).collect();
        assert!(files.len() >= 5, "{name} has a corpus of {}", files.len());
        for file in files {
            entry(&std::fs::read(&file).unwrap());
        }
    }
}
