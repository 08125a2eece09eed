#!/usr/bin/env bash
# Names every source of the Flatpak (the wheels of the lock and our own, each with its SHA-256) beside a copy of the
# manifest in build/flatpak, has flatpak-builder read it where that is installed, and with --build builds and installs it
# for this user. Building needs the runtime and SDK of org.freedesktop 24.08.
set -euo pipefail
cd "$(dirname "$0")/.."
id=org.nimbleotter.NimbleOtter
out=build/flatpak
case "${1:-}" in
  ""|--build) ;;
  *) echo "usage: packaging/flatpak.sh [--build]" >&2; exit 2 ;;
esac
python=.venv/bin/python
[ -x "$python" ] || { echo "flatpak.sh: run ./check or ./start first, which sets up .venv" >&2; exit 2; }
arch=$(uname -m)
rm -rf "$out"
mkdir -p "$out/wheels"
# for the interpreter of the runtime, whatever this machine has
"$python" -m pip download -q --disable-pip-version-check --require-hashes --no-deps --only-binary=:all: \
  --python-version 3.12 --implementation cp --abi cp312 --abi abi3 --abi none \
  --platform "manylinux_2_34_$arch" --platform "manylinux_2_28_$arch" --platform "manylinux_2_17_$arch" \
  --platform "manylinux2014_$arch" --platform "manylinux_2_5_$arch" --platform any \
  -d "$out/wheels" -r requirements.lock
"$python" -m pip wheel -q --disable-pip-version-check --no-deps -w "$out/wheels" .
cp "packaging/$id.json" "$out/"
"$python" - "$out" <<'PYTHON'
import hashlib, json, pathlib, sys
out = pathlib.Path(sys.argv[1])
sources = [
    {"type": "file", "path": f"wheels/{wheel.name}", "dest": "wheels", "sha256": hashlib.sha256(wheel.read_bytes()).hexdigest()}
    for wheel in sorted(out.glob("wheels/*.whl"))
]
(out / "sources.json").write_text(json.dumps(sources, indent=2) + "\n")
print(len(sources), "sources named in", out / "sources.json")
PYTHON
if ! command -v flatpak-builder >/dev/null; then
  echo "flatpak-builder is not installed: the manifest was not read by it, and nothing was built"
  exit 0
fi
flatpak-builder --show-manifest "$out/$id.json" > "$out/read.json"
[ "$("$python" -c "import json,sys; print(len(json.load(open(sys.argv[1]))['modules'][0]['sources']))" "$out/read.json")" -ge 20 ]
echo "flatpak-builder reads the manifest"
[ "${1:-}" = --build ] || exit 0
flatpak-builder --user --install --force-clean "$out/build" "$out/$id.json"
flatpak run --command=nimble-otter "$id" --version
