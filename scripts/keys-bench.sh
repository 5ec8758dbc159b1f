#!/usr/bin/env bash
# Measures keys and large files in more detail than bench.sh: process time of short commands, RSA generation beside openssl's in turn,
# inspection of very many keys beside a bare loop, and shared primes beside the tree of another library.
# Needs the Debian packages hyperfine, openssl, python3, python3-gmpy2 and time.
# RUNS_4096 and RUNS_8192 set the numbers of runs; MOST_MODULI the end of the row of shared primes.
set -euo pipefail
cd "$(dirname "$0")/.."
cargo build --profile dist --quiet
cargo build --profile dist --quiet -p lavrin-keys --example many_keys --example bare_loop
lavrin=$PWD/target/dist/lavrin
many_keys=$PWD/target/dist/examples/many_keys
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
many=$work/many
"$many_keys" 100000 mixed >"$many"
echo "== 100,000 public lines, half of them RSA-2048/3072/4096, without the cross check, output to nowhere (${RUNS_MANY:-20} runs)"
/usr/bin/python3 - "$lavrin" "$many" "${RUNS_MANY:-20}" <<'P'
import base64, hashlib, os, statistics, subprocess, sys, time
lavrin, many, runs = sys.argv[1], sys.argv[2], int(sys.argv[3])
lines = open(many, "rb").read().splitlines()
forms = {"JSON": ["--format", "json"], "in words": []}
ours, bare, memory = {form: [] for form in forms}, [], 0
for _ in range(runs):
    begun = time.perf_counter()
    for line in lines: hashlib.sha256(base64.b64decode(line.split(b" ")[1])).digest()
    bare.append(time.perf_counter() - begun)
    for form, arguments in forms.items():
        begun = time.perf_counter()
        child = subprocess.Popen([lavrin, "key", "inspect", "--no-cross-check", *arguments, many], stdout=subprocess.DEVNULL)
        _, _, used = os.wait4(child.pid, 0)
        ours[form].append((time.perf_counter() - begun, used.ru_maxrss // 1024))
print(f"  anchor in turn: a bare loop that decodes and hashes each line on one core takes {statistics.median(bare):.2f} s by the"
      f" median ({min(bare):.2f} to {max(bare):.2f})")
for form, took in ours.items():
    rate = [len(lines) / seconds for seconds, _ in took]
    times = statistics.median(seconds / anchor for (seconds, _), anchor in zip(took, bare))
    print(f"  {form}: {statistics.median(rate):,.0f} keys a second by the median, {min(rate):,.0f} to {max(rate):,.0f};"
          f" {times:.2f} times the anchor; {max(memory for _, memory in took)} MB")
P
echo "== the audit of a tree: ${ACCOUNTS:-10000} accounts, 1,000,000 entries of 20,000 keys; beside it a bare loop (5 runs in turn; needs root)"
"$many_keys" 20000 mixed >"$work/keys"
scripts/many-accounts.py "$work/keys" "$work/tree" "${ACCOUNTS:-10000}" 1000000
for _ in 1 2 3 4 5; do
  command time -f "  bare loop: %e s, %M KB" "$PWD/target/dist/examples/bare_loop" "$work/tree" >/dev/null
  command time -f "  audit, JSON to nowhere: %e s, %M KB" "$lavrin" audit --tree "$work/tree" --format json >/dev/null || true
done
echo "== check of a register: 2,500 and 5,000 people, an eighth of the keys RSA; 10,000 and 20,000 hosts; 50,000 and 100,000 grants (5 runs in turn)"
"$many_keys" 12000 mixed >"$work/pool"
{ grep -m650 '^ssh-rsa' "$work/pool"; grep -m4550 -v '^ssh-rsa' "$work/pool"; } | shuf --random-source="$work/pool" >"$work/eighth"
scripts/many-people.py "$work/eighth" "$work/half" 2500 10000 50000
scripts/many-people.py "$work/eighth" "$work/whole" 5000 20000 100000
for _ in 1 2 3 4 5; do
  for size in half whole; do
    command time -q -f "  $size: %e s, processor time %U + %S s, %M KB" "$lavrin" check --register "$work/$size" >/dev/null || true
  done
done
echo "== the memory of an office: 10,000 hosts written into a file and into a PostgreSQL in turn, by one collector and by three (5 runs)"
cargo build --profile dist --quiet -p lavrin-work --example shared_memory
mkdir "$work/office"; "$PWD/target/dist/examples/shared_memory" 10000 "$work/office"
echo "== shared primes among distinct RSA-2048 moduli"
"$many_keys" "${MOST_MODULI:-16000}" rsa-2048 >"$many"
for count in 1000 2000 4000 8000 16000 32000 64000; do
  if [ "$count" -gt "${MOST_MODULI:-16000}" ]; then break; fi
  head -"$count" "$many" >"$work/some"
  command time -f "  $count: %e s, %M KB" "$lavrin" key inspect --format json "$work/some" >/dev/null || true
done
head -16000 "$many" >"$work/some"
scripts/gmp_tree.py "$work/some"
