//! All fuzz targets: `LAVRIN_FUZZ_ENTRY` names the one that runs.
#![no_main]

#[path = "../../crates/lavrin-reach/tests/entries/mod.rs"]
mod device_entries;
#[path = "../../crates/lavrin-fleet/tests/entries/mod.rs"]
mod entries;

use libfuzzer_sys::fuzz_target;
use std::sync::LazyLock;

static ENTRY: LazyLock<fn(&[u8])> = LazyLock::new(|| {
    let name = std::env::var("LAVRIN_FUZZ_ENTRY").unwrap_or_default();
    let mut all = entries::ALL.iter().chain(&device_entries::ALL);
    all.find(|(known, _)| *known == name).unwrap_or_else(|| panic!("LAVRIN_FUZZ_ENTRY names no entry: {name}")).1
});

fuzz_target!(|bytes: &[u8]| ENTRY(bytes));
