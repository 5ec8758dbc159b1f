#!/usr/bin/env bash
# Prints a Python that has PyPI's package age: an implementation of the sealed files' format that shares no line with ours. It is
# installed below target/ where it is not there yet.
set -euo pipefail
cd "$(dirname "$0")/.."
folder="$PWD/target/age-python"
if ! "$folder/bin/python" -c 'import age' 2>/dev/null; then
  rm -rf "$folder"
  python3 -c "import ensurepip, venv" 2>/dev/null ||
    DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends python3-venv >&2
  python3 -m venv "$folder" >&2
  "$folder/bin/pip" install --quiet --disable-pip-version-check age==0.5.1 >&2
fi
echo "$folder/bin/python"
