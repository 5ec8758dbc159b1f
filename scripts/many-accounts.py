#!/usr/bin/env python3
"""Makes a tree for measuring the audit: many-accounts.py KEYS DIR ACCOUNTS ENTRIES.

KEYS holds one public line a line; each account gets the same number of entries, taken from them with a fixed seed.
Needs root, since each home belongs to its account."""
import os, random, sys

keys, tree, accounts, entries = sys.argv[1], sys.argv[2], int(sys.argv[3]), int(sys.argv[4])
lines = open(keys, "rb").read().splitlines()
chance = random.Random(1)
os.makedirs(f"{tree}/etc/ssh")
with open(f"{tree}/etc/passwd", "w") as passwd, open(f"{tree}/etc/group", "w") as group:
    for number in range(accounts):
        uid = 20000 + number
        passwd.write(f"keeper{number}:x:{uid}:{uid}::/home/keeper{number}:/bin/sh\n")
        group.write(f"keeper{number}:x:{uid}:\n")
        home = f"{tree}/home/keeper{number}"
        os.makedirs(f"{home}/.ssh")
        path = f"{home}/.ssh/authorized_keys"
        with open(path, "wb") as out:
            for line in chance.sample(lines, entries // accounts):
                out.write((b"restrict,pty " if chance.random() < 0.1 else b"") + line + b"\n")
        os.chmod(home, 0o755); os.chmod(f"{home}/.ssh", 0o700); os.chmod(path, 0o600)
        for owned in (home, f"{home}/.ssh", path):
            os.chown(owned, uid, uid)
with open(f"{tree}/etc/ssh/sshd_config", "w") as config:
    config.write("PasswordAuthentication no\nUsePAM yes\nX11Forwarding yes\n")
