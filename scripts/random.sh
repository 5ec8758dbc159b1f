#!/usr/bin/env bash
# Asks the real servers of three Debian releases and Lavrin about random worlds and settings: random.sh [CASES [FIRST-SEED]].
# As root; makes accounts, and the trees of the other releases.
set -euo pipefail
cd "$(dirname "$0")/.."
LAVRIN_SERVER_TREES=$(scripts/server-trees.sh)
export LAVRIN_SERVER_TREES LAVRIN_RANDOM_CASES="${1:-2500}" LAVRIN_RANDOM_SEED="${2:-1}"
cargo test --workspace --test program random_sshd -- --ignored --nocapture --test-threads 3
