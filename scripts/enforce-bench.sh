#!/usr/bin/env bash
# Measures comparing and enforcing: enforce-bench.sh [HOSTS]. One key is added on so many stand-ins on loopback, beside the time
# of surveying them, and then replaced by another one; then a register of 5,000 people, 20,000 hosts and 100,000 grants, and half of it, is compared with what
# was remembered (enforce-bench.sh 0 for that alone).
set -euo pipefail
cd "$(dirname "$0")/.."
hosts=${1:-1000}
profile=${LAVRIN_PROFILE:-dist}
cargo build --profile "$profile" --quiet
cargo build --profile "$profile" --quiet -p lavrin-standin --example fleet
cargo build --profile "$profile" --quiet -p lavrin-work --example remembered
target=${CARGO_TARGET_DIR:-$PWD/target}/$profile
lavrin=$target/lavrin
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
ulimit -n 65536 2>/dev/null || ulimit -n "$(ulimit -Hn)"
export HOME=$work
cd "$work"
echo "machine: $(nproc) cores, $(sed -n 's/^model name\s*: //p' /proc/cpuinfo | head -1)"
measure() { command time -q -f "  $1: %e s, processor time of Lavrin %U + %S s, %M KB" "${@:2}" | tail -1; }
if [ "$hosts" -gt 0 ]; then
  for name in office runa sten; do "$lavrin" --quiet key generate --passphrase none --folder "$work" --name "$name" >/dev/null; done
  coproc FLEET { "$target/examples/fleet" "$hosts" "$work" "$work/office.pub"; }
  pid=$FLEET_PID
  read -r -u "${FLEET[0]}" _
  sed -i 's/^address/accounts = ["keeper"]\naddress/' hosts.toml
  "$lavrin" --quiet person add office --key office.pub >/dev/null
  "$lavrin" --quiet grant office keeper --host '*' >/dev/null
  "$lavrin" --quiet grant office root --host '*' >/dev/null
  for name in runa sten; do
    "$lavrin" --quiet person add "$name" --key "$name.pub" >/dev/null
    measure "$hosts hosts surveyed" "$lavrin" survey --identity "$work/office" --quiet
    "$lavrin" --quiet grant "$name" keeper --host '*' >/dev/null
    measure "a key added on $hosts hosts" "$lavrin" enforce --identity "$work/office" --yes --quiet
  done
  "$lavrin" --quiet key generate --passphrase none --folder "$work" --name runa-2 >/dev/null
  measure "a key replaced on $hosts hosts" "$lavrin" rotate runa --from-file runa-2.pub --identity "$work/office" --yes --quiet
  exec {FLEET[1]}>&-
  wait "$pid" 2>/dev/null || true
fi
echo "== comparing with what was remembered"
for size in 10000 20000; do
  mkdir -p "$work/$size"
  "$target/examples/remembered" "$size" 5 "$work/$size" agreed
  for _ in 1 2 3 4 5; do measure "$size hosts compared" "$lavrin" compare --register "$work/$size" || true; done
done
