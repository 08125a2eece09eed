#!/usr/bin/env bash
# Makes the pictures of docs/screenshots anew from the demo, by way of the tour.
set -euo pipefail
cd "$(dirname "$0")/.."
folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT
NIMBLE_OTTER_LANGUAGE=en ./start --tour "$folder"
rm -f docs/screenshots/*.png
for name in 1-query 2-changes 3-filter 3-group 4-documents 5-send 7-find 8-add-source 13-dark \
  23-check 24-deliveries 18-completion 19-upstream 21-pieces 25-chart 29-compare 30-trace 31-steps 32-settings; do
  cp "$folder/pictures/$name.png" "docs/screenshots/${name#*-}.png"
done
ls docs/screenshots
