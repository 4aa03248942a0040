#!/usr/bin/env bash
# Write requirements/*.txt anew: exact versions with hashes of all that Plait needs to run
# (plait.txt) and that its tests and documents need (tests.txt), for every Python and system.
# With "--upgrade" the newest of everything, otherwise only what pyproject.toml asks for now.
set -euo pipefail
cd "$(dirname "$0")/.."
compile() {
  target=$1
  shift
  uv pip compile --universal --python-version 3.11 --generate-hashes --no-annotate --quiet \
    --custom-compile-command "tools/lock.sh" "${options[@]}" "$@" --output-file "requirements/$target"
}
options=("$@")
compile tests.txt pyproject.toml requirements/build.in --extra dev --extra servers --extra docs
options=()  # the other has the versions of the first
compile plait.txt pyproject.toml requirements/build.in --constraint requirements/tests.txt
