#!/usr/bin/env bash
# Makes trees of Debian releases below a folder, once, and prints the folder: debian-trees.sh FOLDER PACKAGE,… SUITE…
# As root, on Debian. debootstrap checks every package against the archive's keyring.
set -euo pipefail
trees=$1 packages=$2
shift 2
command -v debootstrap >/dev/null || DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends debootstrap >&2
keyring=/usr/share/keyrings/debian-archive-keyring.gpg
mirror=$(sed -n 's/^\(URIs:\|deb\)\( \[.*\]\)\? *\(http[^ ]*debian\)\/\? *.*/\3/p' /etc/apt/sources.list /etc/apt/sources.list.d/*.sources 2>/dev/null | head -1) || true
mkdir -p "$trees"
make_tree() {
  # A tree counts once it is whole: it is made beside its place and moved there. One with other packages is made anew.
  [ -e "$trees/$1/made" ] && [ "$(cat "$trees/$1/made-of" 2>/dev/null)" = "$packages" ] && return 0
  rm -rf "${trees:?}/$1.new"
  debootstrap --variant=minbase --include="$packages" --keyring="$keyring" \
    "$1" "$trees/$1.new" "${mirror:-http://deb.debian.org/debian}" >"$trees/$1.log" 2>&1 ||
    { tail -5 "$trees/$1.log" >&2; return 2; }
  chroot "$trees/$1.new" dpkg-query -W -f '${Package} ${Version}\n' ${packages//,/ } >"$trees/$1.new/made"
  printf '%s' "$packages" >"$trees/$1.new/made-of"
  # It works only where a test asks for it.
  if [ -d "$trees/$1.new/etc/cloud" ]; then touch "$trees/$1.new/etc/cloud/cloud-init.disabled"; fi
  rm -rf "$trees/$1.new/var/cache/apt/archives" "$trees/$1.new/usr/share/doc" "$trees/$1.new/usr/share/locale"
  rm -rf "${trees:?}/$1"
  mv "$trees/$1.new" "$trees/$1"
}
making=()
for suite in "$@"; do
  make_tree "$suite" &
  making+=($!)
done
for one in "${making[@]}"; do wait "$one"; done
echo "$trees"
