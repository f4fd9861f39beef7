#!/bin/sh
# A short run of every fuzzer, as a test: enough to see that they build and that nothing lies open. Exit code 77 where
# clang cannot build them. Usage: tests/fuzz/short.sh SOURCE BUILD
set -eu
mkdir -p "$2"
if ! CC=clang cmake -S "$1" -B "$2" -DIND_FUZZ=ON -DCMAKE_BUILD_TYPE=None -DCMAKE_C_FLAGS=-O0 >"$2/log" 2>&1 ||
    ! cmake --build "$2" -j 2 --target fuzzers >>"$2/log" 2>&1; then
    tail -5 "$2/log"
    echo '[  SKIPPED ] every_fuzzer_runs' # counted by packaging/test.sh
    exit 77
fi
exec "$1/tests/fuzz/run.sh" "$2" 1
