#!/usr/bin/env bash
# Holds licences, sources and known advisories of every dependency against deny.toml, with what is on this machine: nothing is
# asked of a network but the program itself, once. Advisories are held where their database is (`cargo deny fetch`); else that is said.
set -euo pipefail
cd "$(dirname "$0")/.."
target=${CARGO_TARGET_DIR:-$PWD/target}
tools=$target/tools
[ -x "$tools/bin/cargo-deny" ] || cargo install -q cargo-deny --version 0.20.2 --locked --root "$tools" >&2
cargo fetch -q --locked
"$tools/bin/cargo-deny" --offline --locked check licenses sources bans
if ls "${CARGO_HOME:-$HOME/.cargo}"/advisory-dbs/*/crates >/dev/null 2>&1; then
  "$tools/bin/cargo-deny" --offline --locked check advisories
else
  echo "advisories: NOT CHECKED, their database is not on this machine (cargo deny fetch)"
fi
