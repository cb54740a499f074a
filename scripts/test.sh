#!/usr/bin/env bash
# Sets up, builds and passes the quick tests; with "all" also the long ones, with "sanitize" those of the sanitizer build.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
which="${1:-quick}"
case "$which" in
  quick|all) preset=release ;;
  sanitize|thread) preset="$which" ;;
  *) echo "usage: scripts/test.sh [quick|all|sanitize|thread]" >&2; exit 2 ;;
esac

scripts/setup.sh
export CCACHE_MAXSIZE="${CCACHE_MAXSIZE:-2G}" CCACHE_BASEDIR="$PWD" CCACHE_NOHASHDIR=1  # hits across clones
cmake --preset "$preset"
cmake --build --preset "$preset"
export UBSAN_OPTIONS="print_stacktrace=1:${UBSAN_OPTIONS:-}"
ctest --preset "$which" --no-tests=error -j "$(nproc)"
