#!/usr/bin/env bash
# Builds the program for packages: without the paths of the machine that builds it.
set -euo pipefail
cd "$(dirname "$0")/.."
home=${CARGO_HOME:-$HOME/.cargo}
export CFLAGS="-ffile-prefix-map=$home/registry/src=/crates ${CFLAGS:-}"
export RUSTFLAGS="--remap-path-prefix=$home/registry/src=/crates --remap-path-prefix=$PWD=/lavrin ${RUSTFLAGS:-}"
target=${CARGO_TARGET_DIR:-target}
cargo build --locked --profile "${1:-dist}" -p lavrin --target-dir "$target/dist-build"
binary=$target/dist-build/${1:-dist}/lavrin
if grep -aq -e "$home/" -e "$PWD/" "$binary"; then
  echo "dist.sh: $binary names a path of this machine" >&2
  exit 1
fi
echo "$binary"
