#!/usr/bin/env bash
# Builds the Debian package and prints its path: deb.sh [PROFILE]. What it needs it installs into the target folder.
set -euo pipefail
cd "$(dirname "$0")/.."
profile=${1:-dist}
target=${CARGO_TARGET_DIR:-$PWD/target}
tools=$target/tools
[ -x "$tools/bin/cargo-deb" ] || cargo install -q cargo-deb --version 3.8.0 --locked --root "$tools" >&2
binary=$(scripts/dist.sh "$profile")
# The list of the package's files stands in crates/lavrin/Cargo.toml; it names the pages below target/, wherever else is built.
rm -rf target/pages
mkdir -p target "$target/release"
"$binary" pages target/pages >&2
install -m 755 "$binary" "$target/release/lavrin"
out=$target/debian
rm -rf "$out"
SOURCE_DATE_EPOCH=${SOURCE_DATE_EPOCH:-$(git log -1 --format=%ct 2>/dev/null || echo 0)}
export SOURCE_DATE_EPOCH
CARGO_TARGET_DIR=$target "$tools/bin/cargo-deb" deb -q --no-build --no-strip -p lavrin --output "$out/" >&2
ls "$out"/*.deb
