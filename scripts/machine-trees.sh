#!/usr/bin/env bash
# Makes the trees of the Debian releases that tests boot as whole machines with systemd, and prints their folder:
# machine-trees.sh [SUITE …].
set -euo pipefail
cd "$(dirname "$0")/.."
[ $# -gt 0 ] || set -- bookworm trixie
exec scripts/debian-trees.sh "${LAVRIN_MACHINE_TREES:-${CARGO_TARGET_DIR:-$PWD/target}/machine-trees}" \
  systemd,systemd-sysv,dbus,openssh-server,dropbear,sudo,procps,iproute2,python3-cffi-backend,cloud-init "$@"
