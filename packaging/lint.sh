#!/bin/sh
# What machines can say about the code. Usage: packaging/lint.sh [--quick] BUILD (a build of clang's, with
# compile_commands.json, in which warnings were errors).
set -u
quick=no
[ "$1" = --quick ] && quick=yes && shift
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

if [ $quick = yes ]; then
    [ $failed -eq 0 ] && say 'nothing found, quickly'
    exit $failed
fi

# The program as it is installed.
release=$(mktemp -d)
if ! { CC=${CC:-cc} cmake -S . -B "$release" && cmake --build "$release" -j "$(nproc)" --target indagator; } >/dev/null 2>&1 ||
    ! packaging/hardened.sh "$release/indagator" "$PWD"; then
    say 'hardening: the program is not built as it should be'
    failed=1
fi
rm -rf "$release"

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
