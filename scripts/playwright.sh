#!/usr/bin/env bash
# Prints the folder in which node finds playwright-core from npm, which drives a real browser. It is installed below target/ where it
# is not there yet.
set -euo pipefail
cd "$(dirname "$0")/.."
folder="$PWD/target/playwright"
if ! [ -e "$folder/node_modules/playwright-core/package.json" ]; then
  rm -rf "$folder"; mkdir -p "$folder"
  npm install --prefix "$folder" --no-audit --no-fund --no-package-lock --silent playwright-core@1.64.1 >&2
fi
echo "$folder/node_modules"
