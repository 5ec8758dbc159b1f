#!/usr/bin/env bash
# Measures what docs/performance.md tells, each beside an anchor of the same run, and holds it against the last run that is kept in
# docs/bench.tsv: bench.sh [OUT.tsv]. As root on Debian; it takes less than half an hour on two cores after the build. More of each
# kind: keys-bench.sh, look-bench.sh, survey-bench.sh, enforce-bench.sh, devices-bench.py.
# LAVRIN_PROFILE=release builds without link-time optimisation; ROWS=PATTERN measures only rows whose name it is in.
set -euo pipefail
cd "$(dirname "$0")/.."
missing=()
for pair in /usr/sbin/sshd:openssh-server /usr/bin/ssh:openssh-client /usr/lib/python3/dist-packages/gmpy2/__init__.py:python3-gmpy2; do
  [ -e "${pair%%:*}" ] || missing+=("${pair##*:}")
done
if [ ${#missing[@]} -gt 0 ]; then
  echo "bench.sh: these are missing: apt-get install ${missing[*]}" >&2
  exit 2
fi
profile=${LAVRIN_PROFILE:-dist}
target=${CARGO_TARGET_DIR:-$PWD/target}
cargo build -q --profile "$profile" -p lavrin -p lavrin-work -p lavrin-standin -p lavrin-keys --bins --examples
exec /usr/bin/python3 scripts/bench.py "$target/$profile" "${1:-$target/bench.tsv}"
