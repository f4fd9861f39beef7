#!/bin/sh
# Two builds of the same sources in two folders must be the same bytes. Usage: packaging/reproducible.sh
set -eu
source=$(cd "$(dirname "$0")/.." && pwd)
work=$(mktemp -d "${TMPDIR:-/tmp}/indagator-build-XXXXXX")
trap 'rm -rf "$work"' EXIT
for name in one another-and-longer; do
    mkdir -p "$work/$name"
    (cd "$source" && cp -R CMakeLists.txt cmake src demo patterns packaging README.md LICENSE "$work/$name/")
    cmake -S "$work/$name" -B "$work/$name/build" >/dev/null
    cmake --build "$work/$name/build" -j "$(nproc 2>/dev/null || echo 2)" >/dev/null
done
cmp "$work/one/build/indagator" "$work/another-and-longer/build/indagator"
echo 'two builds in two folders are the same bytes'
