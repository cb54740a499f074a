#!/usr/bin/env bash
# Sets up, builds, and starts Hedgerow on the demo project. Without a display, or with --headless, it runs the full
# example instead and writes pictures and data.
#
# usage: scripts/demo.sh [--headless [FOLDER]]
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."

scripts/setup.sh
export CCACHE_MAXSIZE="${CCACHE_MAXSIZE:-2G}" CCACHE_BASEDIR="$PWD" CCACHE_NOHASHDIR=1  # hits across clones
cmake --preset release -DHEDGEROW_TESTS=OFF -DHEDGEROW_BENCH=OFF -B build/demo
cmake --build build/demo

if [ "${1:-}" != "--headless" ] && [ -n "${DISPLAY:-}${WAYLAND_DISPLAY:-}" ]; then
  exec build/demo/app/hedgerow examples/med-aux.hedge
fi

folder="${2:-demo-output}"
mkdir -p "$folder"
folder="$(cd "$folder" && pwd)"
screens="$(mktemp)"
trap 'rm -f "$screens"' EXIT
cat > "$screens" <<'JSON'
{"synchronousWindowSystemEvents": false, "windowFrameMargins": false,
 "screens": [{"name": "demo", "x": 0, "y": 0, "width": 1920, "height": 1080, "logicalDpi": 96, "logicalBaseDpi": 96, "dpr": 1}]}
JSON
QT_QPA_PLATFORM="offscreen:configfile=$screens" XDG_RUNTIME_DIR="${XDG_RUNTIME_DIR:-/tmp}" \
  build/demo/app/hedgerow --pictures "$folder" examples/*.hedge
for project in examples/*.hedge; do
  echo "== $project"
  build/demo/cli/hedgerow-cli run --quiet "$project"
done
echo "Pictures and data are in $folder"
