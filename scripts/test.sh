#!/usr/bin/env bash
# Runs every check and every test. On Debian as root it first installs what is missing, so that it works on a new machine.
set -euo pipefail
cd "$(dirname "$0")/.."

# Commands that the tests need, and the packages they come in.
needed=(
  /usr/sbin/sshd:openssh-server /usr/bin/ssh:openssh-client /usr/sbin/dropbear:dropbear-bin /usr/bin/busybox:busybox-static
  /usr/bin/sudo:sudo /usr/bin/doas:opendoas /usr/bin/setfacl:acl /usr/bin/script:bsdutils /usr/bin/unshare:util-linux /usr/bin/sshfs:sshfs
  /bin/bsd-csh:csh /usr/bin/pkill:procps /usr/bin/cc:gcc /usr/bin/make:make /usr/bin/bzip2:bzip2 /usr/bin/openssl:openssl
  /usr/bin/python3:python3 /usr/lib/python3/dist-packages/cryptography/__init__.py:python3-cryptography
  /usr/lib/python3/dist-packages/bcrypt/__init__.py:python3-bcrypt /usr/sbin/debootstrap:debootstrap
  /usr/bin/systemd-nspawn:systemd-container /usr/sbin/netconfd:netconfd /usr/lib/proftpd/mod_sftp.so:proftpd-mod-crypto /usr/lib/openssh/sftp-server:openssh-sftp-server /usr/include/libssh2.h:libssh2-1-dev
  /usr/include/nc_server.h:libnetconf2-dev /usr/include/libyang/libyang.h:libyang2-dev /usr/include/libssh/libssh.h:libssh-dev
  /usr/bin/node:nodejs /usr/bin/npm:npm /usr/bin/chromium:chromium /usr/bin/zsh:zsh /usr/bin/fish:fish /usr/bin/git:git
  /usr/bin/psql:postgresql-client /usr/share/doc/postgresql/copyright:postgresql
)
missing=()
for pair in "${needed[@]}"; do
  [ -e "${pair%%:*}" ] || missing+=("${pair##*:}")
done
if [ ${#missing[@]} -gt 0 ]; then
  if [ "$(id -u)" != 0 ] || ! command -v apt-get >/dev/null; then
    echo "test.sh: these are missing: ${missing[*]}; as root on Debian this script installs them" >&2
    exit 2
  fi
  apt-get update -qq
  # The servers are started by the tests; the packages must not start any.
  printf '#!/bin/sh\nexit 101\n' >/usr/sbin/policy-rc.d && chmod 755 /usr/sbin/policy-rc.d
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}"
  rm -f /usr/sbin/policy-rc.d
fi
if [ "$(id -u)" != 0 ]; then
  echo "test.sh: the tests with real servers make accounts, which needs root; without it: cargo test --workspace" >&2
  exit 2
fi

# What the tests need beside the program. It mostly waits for the network and the disk, so that it is made while the program is built.
made=$(mktemp -d)
trap 'kill "${surroundings:-}" 2>/dev/null || true; rm -rf "$made"' EXIT
make_surroundings() {
  # The servers of the releases that this machine has not itself.
  local own suite others=()
  own=$(sed -n 's/^VERSION_CODENAME=//p' /etc/os-release)
  for suite in bullseye bookworm trixie; do [ "$suite" = "$own" ] || others+=("$suite"); done
  scripts/server-trees.sh "${others[@]}" >"$made/servers"
  # Whole machines with systemd.
  scripts/machine-trees.sh bookworm trixie >"$made/machines"
  # Another implementation of the format in which private halves are sealed.
  scripts/age-python.sh >"$made/age"
  # A real browser is driven for the report.
  scripts/playwright.sh >"$made/playwright"
  # A busybox that makes accounts itself.
  scripts/busybox.sh >"$made/busybox"
}
make_surroundings &
surroundings=$!

# The program as others get it: a package, and one file.
LAVRIN_DEB=$(scripts/deb.sh release)
LAVRIN_STATIC=$(scripts/dist.sh release static)
export LAVRIN_DEB LAVRIN_STATIC
scripts/deny.sh

export INSTA_UPDATE=no
cargo fmt --all --check
cargo clippy --workspace --all-targets -- -D warnings

wait "$surroundings"
LAVRIN_SERVER_TREES=$(cat "$made/servers") LAVRIN_MACHINE_TREES=$(cat "$made/machines")
LAVRIN_AGE_PYTHON=$(cat "$made/age") LAVRIN_PLAYWRIGHT=$(cat "$made/playwright")
LAVRIN_BUSYBOX=$(dirname "$(cat "$made/busybox")")
export LAVRIN_SERVER_TREES LAVRIN_MACHINE_TREES LAVRIN_AGE_PYTHON LAVRIN_PLAYWRIGHT LAVRIN_BUSYBOX
# Three at a time on two cores: much of what they do is waiting for servers, and for lines that were cut.
cargo test --workspace --no-fail-fast -- --include-ignored --test-threads 3

# As somebody installs it from the source.
cargo install -q --path crates/lavrin --locked --debug --root "${CARGO_TARGET_DIR:-$PWD/target}/installed"
"${CARGO_TARGET_DIR:-$PWD/target}/installed/bin/lavrin" version --long
