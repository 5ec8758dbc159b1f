#!/usr/bin/env bash
# Measures what docs/performance.md tells: process time of short commands, and RSA generation beside openssl's, in turn.
# Needs hyperfine and openssl (Debian packages of the same names).
set -euo pipefail
cd "$(dirname "$0")/.."
cargo build --release --quiet
lavrin=$PWD/target/release/lavrin
work=$(mktemp -d); trap 'rm -rf "$work"' EXIT
export HOME=$work
"$lavrin" --quiet key generate --passphrase none --folder "$work" --name small >/dev/null
"$lavrin" --quiet key generate --algorithm rsa-3072 --passphrase none --folder "$work" --name rsa >/dev/null
echo "machine: $(nproc) cores, $(sed -n 's/^model name\s*: //p' /proc/cpuinfo | head -1)"
echo "== process time: --help, key inspect, Ed25519 generation (100 runs each)"
hyperfine --shell=none --ignore-failure --warmup 10 --runs 100 --export-json "$work/short.json" \
  "$lavrin --help" "$lavrin key inspect $work/small.pub" "$lavrin key inspect $work/rsa.pub" \
  "$lavrin key generate --passphrase none --folder $work/new --name k --replace" >/dev/null 2>&1
median() { python3 -c "import json,sys; [print(f\"{r['median']*1000:8.1f} ms median, {r['max']*1000:.1f} ms max  {r['command'].split('/')[-1][:60]}\") for r in json.load(open(sys.argv[1]))['results']]" "$1"; }
median "$work/short.json"
turns() { # bits runs
  python3 - "$lavrin" "$work" "$1" "$2" <<'P'
import statistics, subprocess, sys, time
lavrin, work, bits, runs = sys.argv[1], sys.argv[2], sys.argv[3], int(sys.argv[4])
ours, theirs = [], []
def timed(args):
    begun = time.perf_counter(); subprocess.run(args, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    return time.perf_counter() - begun
for turn in range(runs):
    ours.append(timed([lavrin, "key", "generate", "--algorithm", f"rsa-{bits}", "--passphrase", "none", "--folder", work, "--name", f"r{bits}-{turn}"]))
    theirs.append(timed(["openssl", "genpkey", "-algorithm", "RSA", "-pkeyopt", f"rsa_keygen_bits:{bits}", "-out", f"{work}/o"]))
a, b = statistics.median(ours), statistics.median(theirs)
print(f"RSA-{bits}, {runs} runs each in turn: lavrin {a:.2f} s, openssl {b:.2f} s by the median ({a/b:.2f} times)")
P
}
echo "== RSA generation"
turns 4096 "${RUNS_4096:-20}"
if [ -n "${RUNS_8192:-}" ]; then turns 8192 "$RUNS_8192"; fi
