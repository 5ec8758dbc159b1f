#!/usr/bin/env bash
# Asks a real OpenSSH server and Lavrin about random worlds: random.sh [CASES [FIRST-SEED]]. As root; makes accounts.
set -euo pipefail
cd "$(dirname "$0")/.."
export LAVRIN_RANDOM_CASES="${1:-2500}" LAVRIN_RANDOM_SEED="${2:-1}"
cargo test --workspace --test program random_sshd -- --ignored --nocapture --test-threads 2
