#!/usr/bin/env bash
# Changes a sample of places in table, changes and pull, one at a time, and counts how many the unit tests notice.
# usage: scripts/mutation.sh [COUNT] [SEED]
set -euo pipefail
cd "$(dirname "$0")/.."
count=${1:-400} seed=${2:-1} here=$PWD folder=build/mutation
. ./scripts/setup.sh
set_up requirements-dev.lock
[ -x .mutation/bin/mutmut ] || {
  "$(find_python)" -m venv .mutation
  .mutation/bin/python -m pip install -q --disable-pip-version-check --require-hashes -r scripts/mutation.lock
}
rm -rf "$folder" && mkdir -p "$folder"
git ls-files -z | xargs -0 cp --parents -t "$folder"
cat >> "$folder/pyproject.toml" <<'CONFIG'

[tool.mutmut]
source_paths = ["src/"]
only_mutate = ["src/nimble_otter/table/*/*", "src/nimble_otter/changes/*", "src/nimble_otter/pull/*", "src/nimble_otter/pull/*/*"]
pytest_add_cli_args_test_selection = ["tests/unit"]
pytest_add_cli_args = ["-m", "not long", "-p", "no:xdist", "-k", "not told_at_the_next_start and not test_house and not test_docs and not test_packages and not test_words and not test_cli and not test_imports and not test_line_speed"]
also_copy = ["tests", "docs", "scripts", "README.md", "benchmarks", "CHANGELOG.md"]
CONFIG
export QT_QPA_PLATFORM=offscreen PYTHONPATH=$here/.venv/lib/$(ls .venv/lib)/site-packages
mutmut() { (cd "$folder" && "$here/.mutation/bin/mutmut" "$@" > mutmut.log 2>&1) || true; }
mutmut run --max-children 1 "no such name"
"$here/.venv/bin/python" scripts/mutation_score.py "$folder" "$count" "$seed" > "$folder/sample.txt"
mutmut run --max-children "$(nproc)" $(cat "$folder/sample.txt")
"$here/.venv/bin/python" scripts/mutation_score.py "$folder" "$count" "$seed" --score
