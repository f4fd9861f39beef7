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

# Layers: a folder includes only itself and those above it (DESIGN section 3).
layers='core config store net collect cli'
allowed_core='core'
allowed_config='core config'
allowed_store='core config store'
allowed_net='core net'
allowed_collect='core config store net collect'
allowed_cli='core config store net collect cli'
for layer in $layers; do
    eval "allowed=\$allowed_$layer"
    for other in $layers; do
        case " $allowed " in *" $other "*) continue ;; esac
        if grep -n "#include \"$other/" src/"$layer"/*.[ch]; then
            say "layers: $layer/ must not know $other/"
            failed=1
        fi
    done
done

# The core computes: no input or output, no clock, no threads, no printing.
forbidden='^(open|openat|creat|close|read|write|pread|pwrite|readv|writev|recv.*|send.*|socket|bind|connect|listen|accept|poll|select|fopen|fclose|fread|fwrite|fprintf|printf|puts|fputs|putchar|perror|snprintf|sprintf|vsnprintf|time|gettimeofday|clock.*|localtime.*|gmtime.*|strftime|mktime|nanosleep|sleep|pthread_.*|thrd_.*|mtx_.*|fork|exec.*|system|getenv|exit|abort|rand|random|syslog|signal|sigaction|stdout|stderr|stdin)$'
core=$(find "$build" -name 'libind_core.a' | head -n 1)
if [ -z "$core" ]; then
    say 'symbols: the core library is not built'
    failed=1
elif nm -u "$core" | awk '$1 == "U" { sub(/@.*/, "", $2); print $2 }' | sort -u | grep -E "$forbidden"; then
    say 'symbols: the core must not use these'
    failed=1
fi
# Nothing to keep between calls: no writable data in the core.
if [ -n "$core" ] && objdump -t "$core" | awk '$4 ~ /^\.(data|bss)$/ && $3 == "O" || $4 == "*COM*"' | grep .; then
    say 'symbols: the core must not keep writable globals'
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
