//! What the fuzzer found worth keeping about the parsers of what devices say, replayed.

mod entries;

use std::path::Path;

#[test]
fn the_kept_inputs_end_well() {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/unsafe-fuzz-corpus");
    for (name, entry) in entries::ALL {
        let files = std::fs::read_dir(corpus.join(name)).expect("each entry has a folder").flatten();
        let inputs: Vec<Vec<u8>> = files.map(|file| std::fs::read(file.path()).unwrap()).collect();
        assert!(inputs.len() > 3, "{name}");
        for bytes in &inputs {
            entry(bytes);
        }
    }
}
