#!/usr/bin/env bash
# Measures what is made to be looked at on a large register: the report, the ways through, and reading the register itself.
# `look-bench.sh [RUNS]`; LAVRIN_PROFILE=release builds without link-time optimisation.
set -euo pipefail
cd "$(dirname "$0")/.."
runs=${1:-3} profile=${LAVRIN_PROFILE:-dist}
target=${CARGO_TARGET_DIR:-$PWD/target}
cargo build -q --profile "$profile" -p lavrin -p lavrin-work --bins --examples
lavrin=$target/$profile/lavrin
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
mkdir "$work/agreed" "$work/hopping"
"$target/$profile/examples/remembered" 20000 10 "$work/agreed" agreed
"$target/$profile/examples/remembered" 10000 9 "$work/hopping" hopping
cd "$work"
timed() { # REGISTER COMMAND…
  local register=$1; shift
  for _ in $(seq "$runs"); do
    command time -f "  $1 $2: %e s, processor time %U + %S s, %M KB" "$lavrin" "$@" --register "$register" >/dev/null || true
  done
}
echo "== the report of 5,000 people, 20,000 hosts and 200,000 entries"
for run in $(seq "$runs"); do runs=1 timed agreed report --out "$work/page-$run.html"; done
stat -c '  %s bytes' "$work/page-1.html"
echo "== the ways through 10,000 hosts with a private key in each of four accounts"
timed hopping paths buoy17
timed hopping paths --cut buoy17 buoy9000
timed hopping paths --all
echo "== the register of 5,000 people, 20,000 hosts and 200,000 grants"
timed agreed audit --format csv
(cd agreed && for _ in $(seq "$runs"); do command time -f "  alone: %e s, processor time %U + %S s, %M KB" "$lavrin" >/dev/null; done)
timed agreed person list
timed agreed register check
timed agreed host show buoy1
