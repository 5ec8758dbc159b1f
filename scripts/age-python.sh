#!/usr/bin/env bash
# Prints a Python that has PyPI's packages age and sshsig: implementations of the formats of sealed files and of signatures that share
# no line with ours. They are installed below target/ where they are not there yet.
set -euo pipefail
cd "$(dirname "$0")/.."
folder="$PWD/target/age-python"
if ! "$folder/bin/python" -c 'import age, sshsig' 2>/dev/null; then
  rm -rf "$folder"
  python3 -c "import ensurepip, venv" 2>/dev/null ||
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends python3-venv >&2
  python3 -m venv "$folder" >&2
  "$folder/bin/pip" install --quiet --disable-pip-version-check age==0.5.1 sshsig==0.3.1 >&2
fi
echo "$folder/bin/python"
