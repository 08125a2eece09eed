#!/bin/bash
# Write requirements.lock (what the app and its demo need) and requirements-dev.lock (what the checks need) anew from
# pyproject.toml, for every Python from 3.11 on. Versions that are locked already stay, where no argument says
# otherwise: scripts/lock.sh --upgrade
set -eu
cd "$(dirname "$0")/.."
tool=$(mktemp -d)
trap 'rm -rf "$tool"' EXIT
python3 -m venv "$tool"
"$tool/bin/python" -m pip install -q --disable-pip-version-check uv
lock() {
  "$tool/bin/uv" pip compile -q --universal --python-version 3.11 --generate-hashes --no-header "$@" pyproject.toml
}
lock --extra demo -o requirements.lock "$@"
lock --all-extras -o requirements-dev.lock "$@"
