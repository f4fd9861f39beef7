#!/bin/sh
# Runs every fuzzer for SECONDS on its corpus; a finding is left in tests/fuzz/corpus/NAME/ and ends the run with 1.
# Usage: tests/fuzz/run.sh BUILD SECONDS
set -u
here=$(cd "$(dirname "$0")" && pwd)
failed=0
TMPDIR=$(mktemp -d) # what fuzzers write, also those that break off
export TMPDIR
for fuzzer in "$1"/tests/fuzz/fuzz_*; do
    name=${fuzzer##*/fuzz_}
    [ -x "$fuzzer" ] && [ -d "$here/corpus/$name" ] || continue
    scratch=$(mktemp -d)
    if [ "$name" = header ]; then # the page of headers has one of each form
        awk -v to="$scratch" '/^```$/ { inside = !inside; next } inside && !/^ / { printf "%s", $0 > (to "/page-" NR) }' \
            "$here/../../docs/headers.md"
    fi
    echo "fuzz: $name, $2 s"
    if ! "$fuzzer" -max_total_time="$2" -print_final_stats=0 -verbosity=0 -rss_limit_mb=2048 \
        -timeout=10 -close_fd_mask=1 -artifact_prefix="$here/corpus/$name/found-" "$scratch" "$here/corpus/$name"; then
        failed=1
    fi
    rm -rf "$scratch"
done
rm -rf "$TMPDIR"
[ $failed -eq 0 ] && echo 'fuzz: nothing found'
exit $failed
