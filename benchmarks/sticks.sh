#!/bin/sh
# An environment of its own for the libraries that the table engine is measured against.
set -eu
cd "$(dirname "$0")/.."
python3 -m venv .bench
.bench/bin/pip install --quiet --require-hashes -r benchmarks/sticks.lock
