#!/usr/bin/env bash
# Makes the trees of the Debian releases that tests boot as whole machines with systemd, once, and prints their folder:
# machine-trees.sh [SUITE …]. As root, on Debian. debootstrap checks every package against the archive's keyring.
set -euo pipefail
cd "$(dirname "$0")/.."
trees=${LAVRIN_MACHINE_TREES:-${CARGO_TARGET_DIR:-$PWD/target}/machine-trees}
[ $# -gt 0 ] || set -- bookworm trixie
keyring=/usr/share/keyrings/debian-archive-keyring.gpg
mirror=$(sed -n 's/^\(URIs:\|deb\)\( \[.*\]\)\? *\(http[^ ]*debian\)\/\? *.*/\3/p' /etc/apt/sources.list /etc/apt/sources.list.d/*.sources 2>/dev/null | head -1) || true
mkdir -p "$trees"
make_tree() {
  # A tree counts once it is whole: it is made beside its place and moved there.
  [ -e "$trees/$1/made" ] && return 0
  rm -rf "${trees:?}/$1" "$trees/$1.new"
  debootstrap --variant=minbase --include=systemd,systemd-sysv,dbus,openssh-server,sudo,procps,iproute2 \
    --keyring="$keyring" "$1" "$trees/$1.new" "${mirror:-http://deb.debian.org/debian}" >"$trees/$1.log" 2>&1 ||
    { tail -5 "$trees/$1.log" >&2; return 2; }
  rm -rf "$trees/$1.new/var/cache/apt/archives" "$trees/$1.new/usr/share/doc" "$trees/$1.new/usr/share/locale"
  echo "$1" >"$trees/$1.new/made"
  mv "$trees/$1.new" "$trees/$1"
}
making=()
for suite in "$@"; do
  make_tree "$suite" &
  making+=($!)
done
for one in "${making[@]}"; do wait "$one"; done
echo "$trees"
