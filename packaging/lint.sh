#!/bin/sh
# What machines can say about the code. Usage: packaging/lint.sh BUILD (a build of clang's, with compile_commands.json).
set -u
build=$1
failed=0

say() { printf '%s\n' "lint: $*"; }

# Format.
if ! find src tests bench -name '*.[ch]' -print0 | xargs -0 clang-format --dry-run -Werror 2>/tmp/indagator-format.$$; then
    head -n 20 /tmp/indagator-format.$$
    say 'format: run "make format"'
    failed=1
fi
rm -f /tmp/indagator-format.$$

# Rooms: includes, symbols, circles, private headers, names, the core's purity.
if ! packaging/rooms.py check "$build"; then
    say 'rooms: see src/ROOMS'
    failed=1
fi

if ! find src -name '*.c' -print0 | xargs -0 -P "$(nproc)" -n 4 clang-tidy -p "$build" --quiet --warnings-as-errors='*' 2>/dev/null; then
    say 'clang-tidy found something'
    failed=1
fi

if ! cppcheck --quiet --std=c11 --language=c --enable=warning,performance,portability --inline-suppr \
    `# of uthash's macros it knows nothing; memory is watched over by the sanitizers` \
    --suppress=uninitvar --suppress=ctuuninitvar --suppress=unknownMacro --suppress=memleak --suppress=missingIncludeSystem --suppress=normalCheckLevelMaxBranches --error-exitcode=1 -I src src; then
    say 'cppcheck found something'
    failed=1
fi

[ $failed -eq 0 ] && say 'nothing found'
exit $failed
