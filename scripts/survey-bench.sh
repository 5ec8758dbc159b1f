#!/usr/bin/env bash
# Measures surveys of many stand-ins on loopback: survey-bench.sh [HOSTS]. Beside it the stock ssh client with xargs -P
# makes the same look with the same script. Then the audit of what 20,000 hosts remember (survey-bench.sh 0 for that alone).
set -euo pipefail
cd "$(dirname "$0")/.."
hosts=${1:-1000}
cargo build --profile dist --quiet
cargo build --profile dist --quiet -p lavrin-standin --example fleet
cargo build --profile dist --quiet -p lavrin-work --example remembered
target=${CARGO_TARGET_DIR:-$PWD/target}
lavrin=$target/dist/lavrin
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
ulimit -n 65536 2>/dev/null || ulimit -n "$(ulimit -Hn)"
export HOME=$work
cd "$work"
echo "machine: $(nproc) cores, $(sed -n 's/^model name\s*: //p' /proc/cpuinfo | head -1)"
# Surveys so many hosts, then has ssh do the same look on some of them: `round COUNT [replays]`. With replays the first
# stand-in that gets a script runs it and all give its answer, so that only the asking is measured: the work of real hosts is
# done elsewhere.
round() {
  coproc FLEET { "$target/dist/examples/fleet" "$1" "$work" "$work/office.pub" "${@:2}"; }
  local pid=$FLEET_PID some=$(($1 < 300 ? $1 : 300))
  read -r -u "${FLEET[0]}" _
  rm -rf .lavrin
  for turn in first again; do
    command time -f "  $1 hosts surveyed ($turn): %e s, processor time of Lavrin %U + %S s, %M KB" \
      "$lavrin" survey --identity "$work/office" --parallel 32 --quiet | tail -1
  done
  "$lavrin" survey --script | sed '0,/; R=; export R$/s//; R=$LAVRIN_STANDIN_ROOT; export R/' >look.sh
  sed -n 's/^port = //p' hosts.toml >all
  head -"$some" all >ports
  for turn in first again; do
    : >answers
    command time -f "  ssh with xargs -P 32 on $some of them ($turn): %e s, processor time of ssh %U + %S s" \
      xargs -P 32 -I PORT sh -c 'ssh -q -F none -o UserKnownHostsFile=known_hosts -o IdentitiesOnly=yes -o BatchMode=yes -i office -p PORT root@127.0.0.1 sh <look.sh | grep -c " E 0" >>answers' <ports
  done
  sort answers | uniq -c | sed 's/^/  answers with so many frames: /'
  exec {FLEET[1]}>&-
  wait "$pid" 2>/dev/null || true
}
if [ "$hosts" -gt 0 ]; then
  "$lavrin" --quiet key generate --passphrase none --folder "$work" --name office >/dev/null
  echo "== each stand-in runs the script each time"
  round "$hosts"
  echo "== stand-ins give an answer again"
  round "$hosts" replays
fi
echo "== the audit of what was remembered of 20,000 hosts with 200,000 entries"
mkdir -p stored
"$target/dist/examples/remembered" 20000 10 stored
du -k stored/.lavrin/store.sqlite3 | sed 's/\s.*/ KB in the store/'
for _ in 1 2 3; do
  command time -f "  audit, JSON to nowhere: %e s, processor time %U + %S s, %M KB" \
    "$lavrin" audit --register stored --format json >/dev/null || true
done
