#!/usr/bin/env python3
"""Makes a register for measuring: many-people.py KEYS DIR PEOPLE HOSTS GRANTS. KEYS holds one public line a line."""
import os, random, sys

keys, folder, people, hosts, grants = sys.argv[1], sys.argv[2], *map(int, sys.argv[3:6])
lines = [line.strip() for line in open(keys)]
chance = random.Random(1)
os.makedirs(f"{folder}/people")
open(f"{folder}/lavrin.toml", "w").write('name = "many"\n')
for number in range(people):
    with open(f"{folder}/people/keeper{number}.toml", "w") as out:
        out.write(f'name = "Keeper {number}"\nteam = "team{number % 200}"\nsince = 2024-01-01\n\n[[key]]\nlabel = "main"\nline = "{lines[number]}"\nadded = 2025-06-01\n')
with open(f"{folder}/hosts.toml", "w") as out:
    for number in range(hosts):
        out.write(f'[buoy{number}]\naddress = "192.0.2.{number % 250}"\ntags = ["site{number % 100}"]\naccounts = ["keeper"]\nhost_keys = ["{lines[people + number % 100]}"]\n\n')
with open(f"{folder}/access.toml", "w") as out:
    for number in range(grants):
        where = f'tags = ["site{(number // people) % 100}"]' if number % 3 == 0 else f'hosts = ["buoy{chance.randrange(hosts)}", "buoy{chance.randrange(hosts)}"]'
        out.write(f'[[grant]]\nperson = "keeper{number % people}"\naccount = "keeper"\n{where}\nreason = "grant {number}"\n\n')
