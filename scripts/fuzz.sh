#!/usr/bin/env bash
# Runs the fuzz targets one after the other and prints their counts. Needs g++ (for the fuzzer's own part).
# scripts/fuzz.sh [SECONDS [ENTRY…]]; new inputs go to target/fuzz-corpus, crashes to target/fuzz-crashes.
# KEEP=1 replaces the corpus in the repository by a small one with the same coverage.
set -euo pipefail
cd "$(dirname "$0")/.."
seconds=${1:-60}; shift || true
# Each entry has its corpus beside the crate whose parser it reads with.
corpora=(crates/lavrin-fleet/tests/unsafe-fuzz-corpus crates/lavrin-reach/tests/unsafe-fuzz-corpus)
target=x86_64-unknown-linux-gnu
# Not for build scripts, hence --target. Works with the stable compiler; there is no address sanitizer in it, and the
# crate has no unsafe code.
export RUSTFLAGS="-Cpasses=sancov-module -Cllvm-args=-sanitizer-coverage-level=4 -Cllvm-args=-sanitizer-coverage-trace-compares -Cllvm-args=-sanitizer-coverage-inline-8bit-counters -Cllvm-args=-sanitizer-coverage-pc-table -Ccodegen-units=1"
cargo build --release --quiet --manifest-path fuzz/Cargo.toml --target "$target" --target-dir target/fuzz
entries=("$@"); [ ${#entries[@]} -gt 0 ] || mapfile -t entries < <(ls -1 "${corpora[@]}" | grep -v /crates/ | grep -v ':$' | grep .)
mkdir -p target/fuzz-crashes
for entry in "${entries[@]}"; do
  for kept in "${corpora[@]}"; do [ ! -d "$kept/$entry" ] || break; done
  grown=target/fuzz-corpus/$entry; mkdir -p "$grown"
  export LAVRIN_FUZZ_ENTRY=$entry
  target/fuzz/$target/release/entry "$grown" "$kept/$entry" -max_total_time="$seconds" -max_len=8192 -timeout=10 \
    -rss_limit_mb=512 -artifact_prefix="target/fuzz-crashes/$entry-" -print_final_stats=1 2>"target/fuzz-$entry.log" ||
    { tail -30 "target/fuzz-$entry.log"; exit 1; }
  printf '%-16s %12s runs, %s\n' "$entry" "$(sed -n 's/^stat::number_of_executed_units: *//p' "target/fuzz-$entry.log")" \
    "$(grep -o 'cov: [0-9]*' "target/fuzz-$entry.log" | tail -1)"
  if [ "${KEEP:-}" = 1 ]; then
    mkdir -p target/fuzz-small && rm -rf "target/fuzz-small/$entry" && mkdir "target/fuzz-small/$entry"
    target/fuzz/$target/release/entry -merge=1 -max_len=2048 "target/fuzz-small/$entry" "$kept/$entry" "$grown" 2>/dev/null
    # The smallest ones are enough to keep a refactoring honest.
    rm -rf "${kept:?}/$entry" && mkdir "$kept/$entry"
    mapfile -t small < <(ls -Sr "target/fuzz-small/$entry")
    for file in "${small[@]:0:${KEPT:-60}}"; do cp "target/fuzz-small/$entry/$file" "$kept/$entry/"; done
  fi
done
