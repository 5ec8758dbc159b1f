#!/usr/bin/env python3
"""Measures Lavrin beside anchors: bench.py FOLDER-OF-PROGRAMS OUT.tsv, called by bench.sh. Needs root, Debian's openssh-server and
openssh-client, python3-gmpy2. Each row: name, seconds (median), MB, seconds of the anchor, and the one by the other."""
import atexit, hashlib, os, re, shutil, signal, statistics, subprocess, sys, tempfile, time

sys.dont_write_bytecode = True
sys.path.insert(0, os.path.dirname(os.path.abspath(__file__)))
import gmp_tree

programs, out = os.path.abspath(sys.argv[1]), os.path.abspath(sys.argv[2])
here = os.path.dirname(os.path.abspath(__file__))
kept = os.path.join(here, "../docs/bench.tsv")
lavrin = f"{programs}/lavrin"
only = os.environ.get("ROWS", "")
work = tempfile.mkdtemp(prefix="lavrin-bench-")
os.environ["HOME"] = work
rows = []
started = []


@atexit.register
def tidy():
    """Nothing that was started outlives the measuring, however it ends."""
    for child in started:
        if child.poll() is None: child.kill(); child.wait()
    if os.path.isdir(group):
        time.sleep(1)
        os.rmdir(group)
    shutil.rmtree(work, ignore_errors=True)


group = "/sys/fs/cgroup/cpu/lavrin-bench"


def example(name): return f"{programs}/examples/{name}"


def timed(command, cwd=work, ends=(0, 1, 3), **more):
    """Seconds and MB of one run; its end has to be one of those that are expected."""
    begun = time.perf_counter()
    child = subprocess.Popen(command, cwd=cwd, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)
    _, status, used = os.wait4(child.pid, 0)
    child.returncode = os.waitstatus_to_exitcode(status)
    assert child.returncode in ends, (command, child.returncode)
    return time.perf_counter() - begun, used.ru_maxrss / 1024


def apart(measure):
    """What a function gives, in a process of its own: the most memory that this one ever took counts for all that it starts."""
    read, write = os.pipe()
    child = os.fork()
    if child == 0:
        given = 1
        try:
            os.write(write, repr(measure()).encode())
            given = 0
        finally: os._exit(given)
    os.close(write)
    with os.fdopen(read) as said: result = said.read()
    assert os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) == 0, measure
    return float(result) if result != "None" else None


def hashing():
    """The anchor where there is no nearer one: SHA-256 over 256 MB on one core."""
    block = bytes(1 << 24)
    begun = time.perf_counter()
    for _ in range(16): hashlib.sha256(block).digest()
    return time.perf_counter() - begun


def row(name, command, anchor=hashing, runs=3, **more):
    if not wanted(name): return
    own, beside, memory = [], [], 0
    for _ in range(runs):
        beside.append(anchor())
        seconds, mb = timed(command, **more)
        own.append(seconds); memory = max(memory, mb)
    ratio = statistics.median(a / b for a, b in zip(own, beside))
    put(name, statistics.median(own), memory, statistics.median(beside), ratio)


def put(name, seconds, memory, anchor, ratio):
    rows.append((name, seconds, memory, anchor, ratio))
    print(f"{name:58} {seconds:9.4f} s {memory:7.0f} MB   anchor {anchor:8.4f} s   {ratio:7.2f} times", flush=True)


def wanted(*names): return any(re.search(only, name) for name in names)


def run(*command, **more): subprocess.run(command, check=True, stdout=subprocess.DEVNULL, **more)


# --- one file
run(lavrin, "--quiet", "key", "generate", "--passphrase", "none", "--folder", work, "--name", "office", cwd=work)
row("lavrin --help", [lavrin, "--help"], lambda: timed(["/bin/true"])[0], runs=60)
row("key inspect of one file", [lavrin, "key", "inspect", f"{work}/office.pub"], lambda: timed(["/bin/true"])[0], runs=60)
size = "installed program, MB"
if wanted(size):
    stripped = f"{work}/stripped"
    run("strip", "-o", stripped, lavrin)
    rows.append((size, os.path.getsize(stripped) / 1e6, 0, 1, os.path.getsize(stripped) / 1e6))
    print(f"{size:58} {rows[-1][1]:9.1f}")

# --- very many keys
many = f"{work}/many"
if wanted("100,000 keys", "audit of a tree", "register check"):
    with open(many, "wb") as file: subprocess.run([example("many_keys"), "100000", "mixed"], stdout=file, check=True)


def bare_keys():
    import base64
    lines = open(many, "rb").read().splitlines()
    begun = time.perf_counter()
    for line in lines: hashlib.sha256(base64.b64decode(line.split(b" ")[1])).digest()
    return time.perf_counter() - begun


row("key inspect of 100,000 keys, JSON", [lavrin, "key", "inspect", "--no-cross-check", "--format", "json", many], lambda: apart(bare_keys), runs=5)
tree = "audit of a tree, 10,000 accounts, 1,000,000 entries"
if wanted(tree):
    with open(f"{work}/keys", "wb") as file: subprocess.run([example("many_keys"), "20000", "mixed"], stdout=file, check=True)
    run(f"{here}/many-accounts.py", f"{work}/keys", f"{work}/tree", "10000", "1000000")
    row(tree, [lavrin, "audit", "--tree", f"{work}/tree", "--format", "json"], lambda: timed([example("bare_loop"), f"{work}/tree"])[0], runs=5)
    shutil.rmtree(f"{work}/tree")


for count in map(int, os.environ.get("MODULI", "16000 64000").split()):
    name = f"shared primes among {count:,} RSA-2048"
    if wanted(name):
        path = f"{work}/moduli"
        with open(path, "wb") as file: subprocess.run([example("many_keys"), str(count), "rsa-2048"], stdout=file, check=True)
        some = f"{work}/some"
        with open(some, "wb") as file, open(path, "rb") as all_of_them: file.writelines(next(all_of_them) for _ in range(8000))
        row(name, [lavrin, "key", "inspect", "--format", "json", path], lambda: apart(lambda: gmp_tree.seconds(some)[0]), runs=3 if count <= 16000 else 1)

# --- large registers
check = "register check, 5,000 people, 20,000 hosts, 100,000 grants"
if wanted(check):
    def make_pool():
        import random
        rsa, others = [], []
        for line in open(many): (rsa if line.startswith("ssh-rsa") else others).append(line)
        pool = rsa[:650] + others[:4550]
        random.Random(1).shuffle(pool)
        with open(f"{work}/pool", "w") as file: file.writelines(pool)

    apart(make_pool)
    run(f"{here}/many-people.py", f"{work}/pool", f"{work}/whole", "5000", "20000", "100000")
    row(check, [lavrin, "register", "check", "--register", f"{work}/whole"], runs=5)
agreed = f"{work}/agreed"
names = ["audit of 20,000 hosts remembered, JSON", "lavrin alone", "person show", "host show", "history of one host", "compare of 20,000 hosts by memory",
         "report of 20,000 hosts", "audit of 20,000 hosts remembered, 2,000 people, JSON"]
if wanted(*names):
    for folder, entries, more in ((agreed, "10", ["agreed"]), (f"{work}/five", "5", ["agreed"]), (f"{work}/stored", "10", [])):
        os.mkdir(folder)
        run(example("remembered"), "20000", entries, folder, *more)
    row(names[0], [lavrin, "audit", "--register", agreed, "--format", "json"])
    row(names[7], [lavrin, "audit", "--register", f"{work}/stored", "--format", "json"])
    row(names[1], [lavrin], cwd=agreed, runs=10)
    row(names[2], [lavrin, "person", "show", "keeper7", "--register", agreed], runs=5)
    row(names[3], [lavrin, "host", "show", "buoy7", "--register", agreed], runs=5)
    row(names[4], [lavrin, "history", "buoy7", "--register", agreed], runs=5)
    row(names[5], [lavrin, "compare", "--register", f"{work}/five"])
    if wanted(names[6]): row(names[6], [lavrin, "report", "--register", agreed, "--out", f"{work}/page.html"], runs=1)
hopping = "ways from one of 10,000 hosts"
if wanted(hopping):
    os.mkdir(f"{work}/hopping")
    run(example("remembered"), "10000", "9", f"{work}/hopping", "hopping")
    row(hopping, [lavrin, "paths", "buoy17", "--register", f"{work}/hopping"])

# --- stand-ins
survey, enforce = "survey of 300 stand-ins", "enforce of one key on 300 stand-ins"
if wanted(survey, enforce):
    folder = f"{work}/fleet"
    os.mkdir(folder)
    run(lavrin, "--quiet", "key", "generate", "--passphrase", "none", "--folder", folder, "--name", "runa", cwd=work)
    fleet = subprocess.Popen([example("fleet"), "300", folder, f"{work}/office.pub"], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    started.append(fleet)
    fleet.stdout.readline()
    hosts = open(f"{folder}/hosts.toml").read()
    open(f"{folder}/hosts.toml", "w").write(hosts.replace("address =", 'accounts = ["keeper"]\naddress ='))
    for line in ("person add office --key ../office.pub", "person add runa --key runa.pub", "grant office keeper --host *", "grant office root --host *"):
        run(lavrin, "--quiet", *line.split(), cwd=folder)
    look = lambda: timed([lavrin, "survey", "--identity", f"{work}/office", "--parallel", "32", "--quiet"], cwd=folder)
    known = open(f"{folder}/known_hosts").read().splitlines()

    def stock():
        """The stock client makes the same look on 100 of them, 32 at once; for as many as are surveyed."""
        script = subprocess.run([lavrin, "survey", "--script"], cwd=folder, capture_output=True, check=True).stdout.decode()
        open(f"{folder}/look.sh", "w").write(script.replace("; R=; export R", "; R=$LAVRIN_STANDIN_ROOT; export R", 1))
        ports = "\n".join(line.split("]:")[1].split(" ")[0] for line in known[:100])
        begun = time.perf_counter()
        subprocess.run(["xargs", "-P", "32", "-I", "PORT", "sh", "-c", f"ssh -q -F none -o UserKnownHostsFile=known_hosts -o IdentitiesOnly=yes -o BatchMode=yes -i {work}/office -p PORT root@127.0.0.1 sh <look.sh >/dev/null"],
                       cwd=folder, input=ports.encode(), check=True)
        return 3 * (time.perf_counter() - begun)

    look()
    row(survey, [lavrin, "survey", "--identity", f"{work}/office", "--parallel", "32", "--quiet"], stock, cwd=folder)
    if wanted(enforce):
        run(lavrin, "--quiet", "grant", "runa", "keeper", "--host", "*", cwd=folder)
        row(enforce, [lavrin, "enforce", "--identity", f"{work}/office", "--yes", "--quiet"], lambda: look()[0], runs=1, cwd=folder)
    fleet.stdin.close(); fleet.wait()

# --- a real server
REAL = r"""
set -e
mount -t tmpfs none /home
rm -rf "$W/etc"; mkdir "$W/etc"; mount -t tmpfs none "$W/etc"; cp -a /etc/. "$W/etc"; cp "$W/passwd" "$W/group" "$W/etc/"
mount --bind "$W/etc" /etc
while IFS=: read -r name p uid gid c home s; do
  case $uid in 0 | 74) continue ;; esac
  mkdir "$home"
  case $name in with*)
    mkdir "$home/.ssh"; cp "$W/office.pub" "$home/.ssh/authorized_keys"; chmod 700 "$home/.ssh"; chmod 600 "$home/.ssh/authorized_keys" ;;
  esac
  chown -R "$uid:$gid" "$home"; chmod 755 "$home"
done <"$W/passwd"
mkdir -p /run/sshd
exec /usr/sbin/sshd -D -e -f "$W/sshd_config"
"""
real, wide = "100 looks by 8 at once at a real sshd, 22 accounts", "one look at 10,000 accounts, 200 with keys"


def end(server): server.send_signal(signal.SIGKILL); server.wait()


def real_server(with_keys, without):
    accounts = [f"with{n}" for n in range(with_keys)] + [f"none{n}" for n in range(without)]
    numbered = list(enumerate(accounts, 30000))
    with open(f"{work}/passwd", "w") as file:
        file.write("root:x:0:0:root:/root:/bin/sh\nsshd:x:74:74::/run/sshd:/usr/sbin/nologin\n")
        file.writelines(f"{name}:x:{id}:{id}::/home/{name}:/bin/sh\n" for id, name in numbered)
    with open(f"{work}/group", "w") as file:
        file.write("root:x:0:\nsshd:x:74:\n")
        file.writelines(f"{name}:x:{id}:\n" for id, name in numbered)
    port = 20000 + os.getpid() % 10000
    if not os.path.exists(f"{work}/hostkey"):
        run(lavrin, "--quiet", "key", "generate", "--passphrase", "none", "--folder", work, "--name", "hostkey", cwd=work)
    open(f"{work}/sshd_config", "w").write(f"Port {port}\nListenAddress 127.0.0.1\nHostKey {work}/hostkey\nPidFile none\nStrictModes no\nMaxStartups 100\n"
                                           f"Match User root\nAuthorizedKeysFile {work}/office.pub\n")
    os.chmod(work, 0o711)
    server = subprocess.Popen(["unshare", "--mount", "--pid", "--fork", "--mount-proc", "--kill-child", "/bin/bash", "-c", REAL], env={**os.environ, "W": work}, stdin=subprocess.DEVNULL,
                              stdout=subprocess.DEVNULL, stderr=open(f"{work}/server.log", "w"))
    started.append(server)
    for _ in range(1200):
        if "listening" in open(f"{work}/server.log").read(): break
        time.sleep(0.1)
    host = " ".join(open(f"{work}/hostkey.pub").read().split()[:2])
    open(f"{work}/known_hosts", "w").write(f"[127.0.0.1]:{port} {host}\n")
    return server, port, host


def real_register(folder, port, host, count):
    os.mkdir(folder)
    open(f"{folder}/lavrin.toml", "w").write('name = "real"\n')
    with open(f"{folder}/hosts.toml", "w") as file:
        for number in range(count):
            file.write(f'[buoy{number}]\naddress = "127.0.0.1"\nport = {port}\nhost_keys = ["{host}"]\n\n')


if wanted(real):
    server, port, host = real_server(22, 0)
    real_register(f"{work}/real", port, host, 100)
    read = "cat /etc/passwd /etc/group /etc/ssh/sshd_config; ls -ldn /home/* /home/*/.ssh /home/*/.ssh/*; cat /home/*/.ssh/authorized_keys"

    def client_loop():
        begun = time.perf_counter()
        subprocess.run(["xargs", "-P", "8", "-I", "NUMBER", "ssh", "-q", "-F", "none", "-o", f"UserKnownHostsFile={work}/known_hosts", "-o", "IdentitiesOnly=yes",
                        "-o", "BatchMode=yes", "-i", f"{work}/office", "-p", str(port), "root@127.0.0.1", read],
                       input="\n".join(map(str, range(100))).encode(), stdout=subprocess.DEVNULL, check=True)
        return time.perf_counter() - begun

    row(real, [lavrin, "survey", "--identity", f"{work}/office", "--parallel", "8", "--quiet"], client_loop, runs=5, cwd=f"{work}/real")
    end(server)
slow = "a look at a server on a twentieth of a core, 3 accounts"
if wanted(slow):
    server, port, host = real_server(3, 0)
    real_register(f"{work}/slow", port, host, 1)
    look = [lavrin, "survey", "--identity", f"{work}/office", "--host-limit", "30", "--quiet"]
    free = statistics.median(timed(look, cwd=f"{work}/slow", ends=(0,))[0] for _ in range(3))
    try:
        os.makedirs(group, exist_ok=True)
        open(f"{group}/cpu.cfs_quota_us", "w").write("5000")
        for pid in [server.pid] + [int(pid) for pid in subprocess.run(["pgrep", "-P", str(server.pid)], capture_output=True).stdout.split()]:
            open(f"{group}/cgroup.procs", "w").write(str(pid))
        # It has to be answered: an end other than 0 ends the measuring.
        throttled = statistics.median(timed(look, cwd=f"{work}/slow", ends=(0,))[0] for _ in range(3))
        put(slow, throttled, 0, free, throttled / free)
    except OSError as fault: print(f"{slow}: not measured: {fault}")
    end(server)
if wanted(wide):
    timings = []
    for count in ((100, 4900), (200, 9800)):
        server, port, host = real_server(*count)
        folder = f"{work}/wide{count[0]}"
        real_register(folder, port, host, 1)
        timings.append(statistics.median(timed([lavrin, "survey", "--identity", f"{work}/office", "--quiet"], cwd=folder)[0] for _ in range(3)))
        end(server)
    put(wide, timings[1], 0, timings[0], timings[1] / timings[0])

# --- what came out, beside the last run that is kept
with open(out, "w") as file:
    file.write("row\tseconds\tMB\tanchor, seconds\ttimes the anchor\n")
    file.writelines(f"{name}\t{seconds:.4f}\t{memory:.0f}\t{anchor:.4f}\t{ratio:.3f}\n" for name, seconds, memory, anchor, ratio in rows)
before = {}
if os.path.exists(kept):
    before = {words[0]: list(map(float, words[1:])) for words in (line.rstrip("\n").split("\t") for line in list(open(kept))[1:])}
print(f"\n{'beside the last run that is kept':58} {'last':>10} {'now':>10}  by the anchor   memory")
worse = 0
for name, seconds, memory, anchor, ratio in rows:
    last = before.get(name)
    if last is None: print(f"{name:58} {'':>10} {seconds:10.4f}  new"); continue
    change, more = ratio / last[3], memory / last[1] if last[1] else 1
    is_worse = change > 1.1 or more > 1.1
    worse += is_worse
    print(f"{name:58} {last[0]:10.4f} {seconds:10.4f}  {change:6.2f} times   {more:5.2f} times{'   WORSE by more than a tenth' if is_worse else ''}")
print(f"{len(rows)} rows, {worse} worse by more than a tenth; written to {out}")
