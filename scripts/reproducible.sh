#!/usr/bin/env bash
# Builds this commit here and in another folder, and compares the bytes: reproducible.sh [PROFILE].
set -euo pipefail
cd "$(dirname "$0")/.."
profile=${1:-dist}
if [ -n "$(git status --porcelain --untracked-files=no)" ]; then
  echo "reproducible.sh: NOT CHECKED, files differ from the commit that the other folder would be built from" >&2
  exit 0
fi
here=$(scripts/dist.sh "$profile")
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
git clone -q . "$work/another-and-longer-name"
there=$(cd "$work/another-and-longer-name" && env -u CARGO_TARGET_DIR scripts/dist.sh "$profile")
sha256sum "$here" "$there"
cmp "$here" "$there"
echo "the same bytes in two folders"
