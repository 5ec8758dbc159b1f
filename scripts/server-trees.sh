#!/usr/bin/env bash
# Makes the trees of the Debian releases whose servers Lavrin is held against, and prints their folder: server-trees.sh [SUITE …].
set -euo pipefail
cd "$(dirname "$0")/.."
[ $# -gt 0 ] || set -- bullseye bookworm trixie
exec scripts/debian-trees.sh "${LAVRIN_SERVER_TREES:-${CARGO_TARGET_DIR:-$PWD/target}/server-trees}" openssh-server,dropbear-bin,netbase "$@"
