#!/usr/bin/env bash
# The library as another program gets it: installed into a folder of its own, found by its CMake package, linked, run.
# Usage: cpp_package.sh BUILD EXAMPLES
set -euo pipefail
build="$1" examples="$2"
place="$(mktemp -d)"
trap 'rm -rf "$place"' EXIT
cmake --install "$build" --prefix "$place/installed" --component library > "$place/log"
cmake -S "$examples/cpp" -B "$place/example" -DCMAKE_PREFIX_PATH="$place/installed" -DCMAKE_BUILD_TYPE=Release > "$place/log"
cmake --build "$place/example" > "$place/log" || { cat "$place/log"; exit 1; }
"$place/example/sweep" "$examples/med-aux.hedge" | tee "$place/out"
[ "$(grep -c 'ripple [0-9]' "$place/out")" -eq 5 ]
if "$place/example/sweep" "$place/none.hedge" 2> "$place/err"; then echo "a project that is not there was opened"; exit 1; fi
grep -q none.hedge "$place/err"
