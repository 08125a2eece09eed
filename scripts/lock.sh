#!/bin/bash
# Write requirements.lock (what the app and its demo need) and requirements-dev.lock (what the checks need) anew from
# pyproject.toml, and that of the tests' servers, for every Python from 3.11 on. Versions that are locked already stay, where no argument says
# otherwise: scripts/lock.sh --upgrade
set -eu
cd "$(dirname "$0")/.."
tool=$(mktemp -d)
trap 'rm -rf "$tool"' EXIT
python3 -m venv "$tool"
"$tool/bin/python" -m pip install -q --disable-pip-version-check uv
lock() {
  "$tool/bin/uv" pip compile -q --universal --python-version 3.11 --generate-hashes --no-header "$@"
}
lock pyproject.toml --extra demo -o requirements.lock "$@"
lock pyproject.toml --all-extras -o requirements-dev.lock "$@"
lock tests/servers/requirements.in -o tests/servers/requirements.lock "$@" # of the servers that the tests start
