#!/usr/bin/env bash
# Builds this commit twice, in two folders with different names, and compares the bytes: reproducible.sh [PROFILE].
set -euo pipefail
cd "$(dirname "$0")/.."
profile=${1:-dist}
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
for name in one another-and-longer; do
  git clone -q . "$work/$name"
  (cd "$work/$name" && env -u CARGO_TARGET_DIR scripts/dist.sh "$profile" >/dev/null)
done
host=$(rustc -vV | sed -n 's/^host: //p')
for name in one another-and-longer; do
  (cd "$work/$name/target/dist-build/$host/$profile" && sha256sum lavrin)
done
cmp "$work/one/target/dist-build/$host/$profile/lavrin" "$work/another-and-longer/target/dist-build/$host/$profile/lavrin"
echo "the same bytes"
