#!/usr/bin/env bash
# Builds busybox with its own programs for accounts, which Debian leaves out, from Debian's source, once; prints where it is.
# As root, on Debian.
set -euo pipefail
cd "$(dirname "$0")/.."
folder=${LAVRIN_BUSYBOX:-${CARGO_TARGET_DIR:-$PWD/target}/busybox}
if [ ! -x "$folder/busybox" ]; then
  rm -rf "$folder" && mkdir -p "$folder/build"
  # The source of the same archive and release as the system's packages.
  sources=$folder/build/sources.list
  mirror=$(sed -n 's/^\(URIs:\|deb\)\( \[.*\]\)\? *\(http[^ ]*debian\)\/\? *.*/\3/p' /etc/apt/sources.list /etc/apt/sources.list.d/*.sources 2>/dev/null | head -1) || true
  codename=$(sed -n 's/^VERSION_CODENAME=//p' /etc/os-release)
  echo "deb-src [signed-by=/usr/share/keyrings/debian-archive-keyring.gpg] ${mirror:-http://deb.debian.org/debian} $codename main" >"$sources"
  mkdir -p "$folder/build/lists/partial"
  options=(-o Dir::Etc::sourcelist="$sources" -o Dir::Etc::sourceparts=- -o Dir::State::lists="$folder/build/lists" -qq)
  {
    apt-get "${options[@]}" update
    cd "$folder/build" && apt-get "${options[@]}" source --download-only busybox
    mkdir source && tar -xf busybox_*.orig.tar.* -C source --strip-components=1
    cd source && make allnoconfig
    for option in STATIC LFS SH_IS_ASH ASH ADDUSER ADDGROUP FEATURE_ADDUSER_TO_GROUP DELUSER DELGROUP FEATURE_DEL_USER_FROM_GROUP CHPASSWD \
      FEATURE_SHADOWPASSWDS USE_BB_PWD_GRP USE_BB_SHADOW USE_BB_CRYPT USE_BB_CRYPT_SHA LONG_OPTS; do
      sed -i "s/^# CONFIG_$option is not set\$/CONFIG_$option=y/" .config
    done
    sed -i 's/^CONFIG_FEATURE_DEFAULT_PASSWD_ALGO=.*/CONFIG_FEATURE_DEFAULT_PASSWD_ALGO="sha512"/' .config
    (yes '' || true) | make oldconfig
    make -j"$(nproc)" busybox
  } >"$folder/log" 2>&1 || { tail -5 "$folder/log" >&2; exit 2; }
  cp busybox "$folder/busybox"
  cd / && rm -rf "$folder/build"
fi
echo "$folder/busybox"
