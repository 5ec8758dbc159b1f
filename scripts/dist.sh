#!/usr/bin/env bash
# Builds the program for packages: without the paths of the machine that builds it, the same bytes wherever it is built.
# dist.sh [PROFILE] [static]; the last line is the path of the program.
set -euo pipefail
cd "$(dirname "$0")/.."
profile=${1:-dist} kind=${2:-dynamic}
home=${CARGO_HOME:-$HOME/.cargo}
target=${CARGO_TARGET_DIR:-$PWD/target}
if git rev-parse --git-dir >/dev/null 2>&1; then
  LAVRIN_COMMIT=${LAVRIN_COMMIT:-$(git rev-parse HEAD)}
  SOURCE_DATE_EPOCH=${SOURCE_DATE_EPOCH:-$(git log -1 --format=%ct)}
fi
# A library writes SOURCE_DATE_EPOCH into what it embeds and is not built anew for another one: for it the time stands still.
export LAVRIN_COMMIT=${LAVRIN_COMMIT:-} LAVRIN_DATE=${SOURCE_DATE_EPOCH:-0} SOURCE_DATE_EPOCH=1
build=$target/dist-build folders="-ffile-prefix-map=$home/registry/src=/crates -ffile-prefix-map=$target=/target -ffile-prefix-map=$PWD=/lavrin"
export CFLAGS="$folders ${CFLAGS:-}"
flags="--remap-path-prefix=$home/registry/src=/crates --remap-path-prefix=$target=/target --remap-path-prefix=$PWD=/lavrin"
host=$(rustc -vV | sed -n 's/^host: //p')
# Functions with the same code are kept once. The linker that Rust brings along on this system can do it.
if [ "$host" = x86_64-unknown-linux-gnu ]; then
  flags="$flags -C link-arg=-Wl,--icf=all"
fi
if [ "$kind" = static ]; then
  # Without dlsym random bytes would be read from a device, which an empty root does not have.
  flags="$flags -C target-feature=+crt-static --cfg getrandom_backend=\"linux_getrandom\""
  build=$target/static-build
fi
export RUSTFLAGS="$flags ${RUSTFLAGS:-}"
# With a named target the flags are not those of build scripts and macros, which could not be linked statically.
cargo build --locked --profile "$profile" -p lavrin --target "$host" --target-dir "$build" >&2
binary=$build/$host/$profile/lavrin
if grep -aq -e "$home/" -e "$PWD/" "$binary"; then
  echo "dist.sh: $binary names a path of this machine" >&2
  exit 1
fi
echo "$binary"
