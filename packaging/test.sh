#!/bin/sh
# Runs the tests of a build folder, then says which of them were skipped, so that nothing is left out unseen.
# Usage: packaging/test.sh BUILD [options of ctest]
build=$1
shift
log=$build/Testing/Temporary/LastTest.log
rm -f "$log" # one that is there is of an earlier run
ctest --test-dir "$build" --output-on-failure "$@"
result=$?
[ -e "$log" ] || exit "$result"
awk '
    /^[0-9]+\/[0-9]+ Test: / { program = $3 }
    /^\[  SKIPPED \] .*[^:]$/ && !seen[program, $0]++ && !/test\(s\)/ { print "  " program ": " $4; count++ }
    END { print "tests skipped: " count + 0 }
' "$log"
exit "$result"
