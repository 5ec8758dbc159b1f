#!/usr/bin/env python3
"""Measures the work on devices: devices-bench.py LAVRIN ROUTERS, as root on Debian with netconfd, openssh-server and a C compiler.

LAVRIN is the program, ROUTERS the example of that name in lavrin-standin. A NETCONF server with 500 accounts of 4 keys each is
surveyed, and 100 keys are added to 25 of its accounts; beside it the bare messages for the same go over `ssh -s`. Then 200 stand-in
routers are surveyed together with 30 stand-in servers, and each group by itself.
"""

import concurrent.futures, os, statistics, subprocess, sys, tempfile, time

lavrin, routers = (os.path.abspath(name) for name in sys.argv[1:3])
work = tempfile.mkdtemp(prefix="lavrin-bench-", dir="/run")
os.environ.update(HOME=work, XDG_STATE_HOME=work + "/state")
os.environ.pop("SSH_AUTH_SOCK", None)
BASE, SYSTEM = "urn:ietf:params:xml:ns:netconf:base:1.0", "urn:ietf:params:xml:ns:yang:ietf-system"
PORT = 22830
ROUNDS = 7


def run(*args, **more):
    return subprocess.run(args, check=more.pop("check", True), capture_output=True, text=True, **more)


def timed(*calls):
    """Seconds of each call, in turn; the middle of all rounds."""
    taken = [[] for _ in calls]
    for _ in range(ROUNDS):
        for own, call in zip(taken, calls):
            begun = time.monotonic()
            call()
            own.append(time.monotonic() - begun)
    return [statistics.median(own) for own in taken]


def pair(name):
    run(lavrin, "key", "generate", "--passphrase", "none", "--folder", work, "--name", name, "--comment", name)
    return open(f"{work}/{name}.pub").read().strip()


def write(name, text, mode=0o644):
    path = f"{work}/{name}"
    os.makedirs(os.path.dirname(path), exist_ok=True)
    with open(path, "w") as file:
        file.write(text)
    os.chmod(path, mode)


def slot(name, line):
    algorithm, data = line.split(" ")[:2]
    return f"<authorized-key><name>{name}</name><algorithm>{algorithm}</algorithm><key-data>{data}</key-data></authorized-key>"


people = {name: pair(name) for name in ["office", "edda", "sten", "runa", "liv"]}
accounts = [f"lvb{number}" for number in range(500)]
asked = accounts[:25]
host_key = pair("host")
for name in asked:
    run("userdel", name, check=False)
    run("useradd", "-M", "-p", "*", "-K", "UID_MIN=30000", "-s", "/bin/sh", name)


def startup():
    keys = "".join(slot(f"old {number}", pair_line) for number, pair_line in enumerate(old))
    users = "".join(f"<user><name>{name}</name>{keys}</user>" for name in accounts)
    root = f"<user><name>root</name>{slot('office', people['office'])}</user>"
    write("startup.xml", f'<config xmlns="{BASE}"><system xmlns="{SYSTEM}"><authentication>{root}{users}</authentication></system></config>')


old = [pair(f"old{number}") for number in range(4)]
startup()
# A quick one, since sshd runs it for each key that it is asked about, and a device looks into its own memory.
write("keys.c", """#include <stdio.h>
#include <stdlib.h>
#include <string.h>
static char *word(char *from, const char *tag, char *until) {
  char *at = strstr(from, tag);
  if (!at || at > until) return 0;
  at += strlen(tag);
  return at + strspn(at, " \\n");
}
int main(int argc, char **argv) {
  FILE *file = fopen(argv[1], "r");
  char *text = calloc(1, 8 << 20), name[256], *at = text;
  if (argc != 3 || !file) return 1;
  text[fread(text, 1, (8 << 20) - 1, file)] = 0;
  while ((at = strstr(at, "<user>"))) {
    char *end = strstr(at, "</user>"), *own = word(at, "<name>", end);
    snprintf(name, sizeof name, "%.*s", (int)strcspn(own, " \\n<"), own);
    for (char *key = at; !strcmp(name, argv[2]) && (key = word(key, "<algorithm>", end));) {
      char *data = word(key, "<key-data>", end);
      printf("%.*s %.*s\\n", (int)strcspn(key, " \\n<"), key, (int)strcspn(data, " \\n<"), data);
    }
    at = end;
  }
}
""")
run("cc", "-O2", "-o", f"{work}/keys", f"{work}/keys.c")
write("sshd_config", f"""Port {PORT}
ListenAddress 127.0.0.1
HostKey {work}/host
PidFile none
UsePAM no
MaxStartups 200
AuthorizedKeysFile none
AuthorizedKeysCommand {work}/keys {work}/startup.xml %u
AuthorizedKeysCommandUser root
Subsystem netconf "/usr/sbin/netconf-subsystem --ncxserver-sockname={PORT}@{work}/ncx.sock"
""")
os.makedirs("/run/sshd", exist_ok=True)
quiet = dict(stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
started = [subprocess.Popen(["/usr/sbin/sshd", "-D", "-f", f"{work}/sshd_config"], **quiet)]


def start_device():
    startup()
    for name in ["ncx.sock"]:
        if os.path.exists(f"{work}/{name}"):
            os.remove(f"{work}/{name}")
    started.append(subprocess.Popen([
        "/usr/sbin/netconfd", "--module=ietf-system", "--superuser=root", "--target=candidate", f"--port={PORT}",
        f"--ncxserver-sockname={work}/ncx.sock", f"--startup={work}/startup.xml", f"--log={work}/netconfd.log"], cwd=work, **quiet))
    while not os.path.exists(f"{work}/ncx.sock"):
        time.sleep(0.05)


def register(folder, hosts, accounts, who):
    write(f"{folder}/lavrin.toml", 'name = "bench"\n')
    write(f"{folder}/hosts.toml", hosts)
    for name in who:
        write(f"{folder}/people/{name}.toml", f'name = "{name}"\n[[key]]\nlabel = "main"\nline = "{people[name]}"\n')
    grants = "".join(
        f'[[grant]]\nperson = "{name}"\naccount = "{account}"\nhosts = ["*"]\n' for name in who for account in accounts)
    write(f"{folder}/access.toml", grants)


def messages(*bodies):
    """The bare messages over the stock client, each once the answer to the one before is whole."""
    ssh = subprocess.Popen(
        ["ssh", "-F", "none", "-q", "-o", "StrictHostKeyChecking=no", "-o", f"UserKnownHostsFile={work}/known", "-o", "IdentitiesOnly=yes",
         "-o", "BatchMode=yes", "-i", f"{work}/office", "-p", str(PORT), "-s", "root@127.0.0.1", "netconf"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE)

    def answer(end):
        text = b""
        while not text.endswith(end):
            part = os.read(ssh.stdout.fileno(), 1 << 16)
            if not part:
                sys.exit("the session ended: " + text.decode()[-300:])
            text += part
        return text

    def send(text):
        ssh.stdin.write(text)
        ssh.stdin.flush()

    send(f'<hello xmlns="{BASE}"><capabilities><capability>urn:ietf:params:netconf:base:1.1</capability></capabilities></hello>]]>]]>'.encode())
    answer(b"]]>]]>")
    time.sleep(0.06)
    for number, body in enumerate(bodies):
        text = f'<rpc message-id="{number}" xmlns="{BASE}">{body}</rpc>'.encode()
        send(b"\n#%d\n" % len(text) + text + b"\n##\n")
        said = answer(b"\n##\n")
        if b"<rpc-error>" in said:
            sys.exit(said.decode())
    ssh.stdin.close()
    ssh.kill()
    ssh.wait()


def get(filter):
    return f'<get-config><source><running/></source><filter type="subtree"><system xmlns="{SYSTEM}"><authentication>{filter}</authentication></system></filter></get-config>'


ALL = get("<user><name/><authorized-key/></user>")
NEW = ["edda", "sten", "runa", "liv"]


def edit(operation, body, own):
    users = "".join(f"<user><name>{account}</name>{body}</user>" for account in own)
    return (f'<edit-config xmlns:nc="{BASE}"><target><candidate/></target><default-operation>none</default-operation><config>'
            f'<system xmlns="{SYSTEM}"><authentication>{users}</authentication></system></config></edit-config>').replace(
                "<authorized-key>", f'<authorized-key nc:operation="{operation}">')


def bare_change(names, own):
    messages("<lock><target><running/></target></lock>", "<lock><target><candidate/></target></lock>", ALL,
             edit("create", "".join(slot(name, people[name]) for name in names), own), "<commit/>", ALL)


def take_back(names, own):
    messages(edit("delete", "".join(f"<authorized-key><name>{name}</name></authorized-key>" for name in names), own), "<commit/>")


def bare_proof(own):
    """A new login, and a connection for each account, four at once: less than it takes to ask about keys there."""
    client = ["ssh", "-F", "none", "-q", "-o", "StrictHostKeyChecking=no", "-o", f"UserKnownHostsFile={work}/known", "-p", str(PORT)]
    messages()
    asks = [client + ["-o", "PreferredAuthentications=none", "-o", "BatchMode=yes", f"{account}@127.0.0.1"] for account in own]
    with concurrent.futures.ThreadPoolExecutor(4) as pool:
        list(pool.map(lambda ask: run(*ask, check=False), asks))


def said(*args, codes=(0, 1)):
    done = run(lavrin, *args, check=False)
    if done.returncode not in codes:
        sys.exit(f"{args}: {done.returncode}\n{done.stdout[-2000:]}{done.stderr[-2000:]}")
    return done


try:
    print("machine:", os.cpu_count(), "cores,", next(line.split(":")[1].strip() for line in open("/proc/cpuinfo") if "model name" in line))
    start_device()
    listed = ", ".join(f'"{name}"' for name in asked)
    host = f'[router]\naddress = "127.0.0.1"\nport = {PORT}\nreach = "netconf"\nhost_keys = ["{host_key}"]\naccounts = [{listed}]\n'
    register("register", host, asked, NEW)
    there = ["--register", f"{work}/register"]
    key = ["--identity", f"{work}/office"]
    ours, bare = timed(lambda: said("survey", *key, *there), lambda: messages(ALL))
    print(f"survey of 500 accounts with 4 keys each: {ours:.2f} s, the bare messages {bare:.2f} s, {ours / bare:.2f} times")
    many = {f"crew{number}": pair(f"crew{number}") for number in range(100)}
    people.update(many)
    for what, keys, own in [("one account", list(many), accounts[:1]), ("25 accounts", NEW, accounts[:25])]:
        register("register", host, own, keys)
        times = {"ours": [], "bare": [], "proven": []}
        for _ in range(ROUNDS):
            begun = time.monotonic()
            said("enforce", "--yes", *key, *there, codes=(0,))
            times["ours"].append(time.monotonic() - begun)
            said("undo", "--last", "--yes", "--accept-lockout", *key, *there, codes=(0,))
            begun = time.monotonic()
            bare_change(keys, own)
            times["bare"].append(time.monotonic() - begun)
            bare_proof(own)
            times["proven"].append(time.monotonic() - begun)
            take_back(keys, own)
        ours, bare, proven = (statistics.median(times[name]) for name in ("ours", "bare", "proven"))
        print(f"enforce of 100 keys in {what}, proven: {ours:.2f} s, the bare messages {bare:.2f} s, {ours / bare:.2f} times; with a login and a connection for each account {proven:.2f} s, {ours / proven:.2f} times")

    fleet = subprocess.Popen([routers, "200", "30", f"{work}/office.pub"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    started.append(fleet)
    groups = {"netconf": "", "shell": ""}
    for line in fleet.stdout:
        if line.strip() == "ready":
            break
        name, kind, port, line_of_key = line.strip().split(" ", 3)
        groups[kind] += f'[{name}]\naddress = "127.0.0.1"\nport = {port}\nreach = "{kind}"\nhost_keys = ["{line_of_key}"]\naccounts = ["keeper"]\n'
    for name, text in [("routers", groups["netconf"]), ("servers", groups["shell"]), ("both", groups["netconf"] + groups["shell"])]:
        register(name, text, ["keeper"], ["edda"])
    survey = lambda name: lambda: said("survey", "--quiet", *key, "--register", f"{work}/{name}", codes=(0,))
    only_routers, only_servers, both = timed(survey("routers"), survey("servers"), survey("both"))
    print(f"200 routers {only_routers:.2f} s, 30 servers {only_servers:.2f} s, all together {both:.2f} s: {both / (only_routers + only_servers):.2f} times the sum")
finally:
    for process in started:
        process.kill()
        process.wait()
    for name in asked:
        run("userdel", name, check=False)
    subprocess.run(["rm", "-rf", work])
