#!/bin/bash
# Measures, prints a table, and writes it to a file. Each row is a ratio: A and B run in turn, several rounds, and the best of
# each is taken, since the speed of shared machines drifts by half within minutes.
# Usage: bench/run.sh BUILD OUTPUT.md [MEGABYTES]
set -eu
export LC_ALL=C
build=$(realpath "$1") output=$(realpath "$2") megabytes=${3:-1000} rounds=${ROUNDS:-6}
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d "${TMPDIR:-/tmp}/indagator-bench-XXXXXX")
trap 'rm -rf "$work"' EXIT
cd "$work"
program=$build/indagator

seconds() { # seconds COMMAND…: wall time
    local start end
    start=$(date +%s.%N)
    "$@" >/dev/null 2>&1 || true
    end=$(date +%s.%N)
    awk -v a="$start" -v b="$end" 'BEGIN { printf "%.3f", b - a }'
}
least() { awk -v a="$1" -v b="$2" 'BEGIN { print (a == 0 || b < a) ? b : a }'; }
# The ratio of each round is of two runs next to each other: the median of them stands against drift.
median() { sort -n | awk '{ v[NR] = $1 } END { printf "%.2f", NR % 2 ? v[(NR + 1) / 2] : (v[NR / 2] + v[NR / 2 + 1]) / 2 }'; }
ratio() { awk -v a="$1" -v b="$2" 'BEGIN { printf "%.2f", a / b }'; }
peak() { # peak COMMAND…: highest resident memory in MiB
    "$@" >/dev/null 2>&1 &
    local pid=$! high=0 now
    while kill -0 $pid 2>/dev/null; do
        now=$(awk '/VmHWM/ { print $2 }' /proc/$pid/status 2>/dev/null || echo 0)
        [ "${now:-0}" -gt "$high" ] && high=$now
        sleep 0.02
    done
    wait $pid 2>/dev/null || true
    awk -v k="$high" 'BEGIN { printf "%.0f", k / 1024 }'
}

echo "making $megabytes MB of messages …" >&2
mawk -v size="${megabytes}000000" -f "$here/messages.awk" >in.log
messages=$(wc -l <in.log)
head -n $((messages / 10)) in.log >tenth.log
cat >indagator.yaml <<'EOF'
store: store
state: state
zone: UTC
listen: [{udp: "127.0.0.1:0"}]
routes:
  - {name: all, file: "{facility}/{severity}.log"}
archives:
  default: {rotate: {size: 100 GiB}, compress: none}
EOF

echo "header parser …" >&2
header=$("$build/bench/bench_header" 12)

echo "payloads and devices …" >&2
payload=$("$build/bench/bench_payload" 4)
devices=$("$build/bench/bench_devices" 4)

echo "patterns …" >&2
patterns=$("$build/bench/bench_patterns" 5)

echo "collect --from …" >&2
ours=0 theirs=0
for _ in $(seq "$rounds"); do
    rm -rf store state out
    a=$(seconds "$program" collect --from in.log)
    mkdir out
    b=$(seconds mawk -F'[<>]' '{print > ("out/" $2 ".log")}' in.log)
    rm -rf out
    ours=$(least "$ours" "$a") theirs=$(least "$theirs" "$b")
    ratio "$b" "$a" >>collect.ratios
    echo >>collect.ratios
done

echo "search …" >&2
find store -name '*.log' -exec cat {} + >plain.log
echo '2026-11-23T04:45:00.123456Z 0.12 harbour-fw local4 warning kernel - - - the needle Qx7 is here' >>plain.log
mine=0 grep=0 ripgrep=0
for _ in $(seq "$((rounds * 2))"); do
    mine=$(least "$mine" "$(seconds "$program" search --when 'text contains "needle Qx7"' --count plain.log)")
    grep=$(least "$grep" "$(seconds grep -cF 'needle Qx7' plain.log)")
    ripgrep=$(least "$ripgrep" "$(seconds rg -c 'needle Qx7' plain.log)")
done
plain=$(stat -c %s plain.log)

echo "a write a line …" >&2
write=$("$build/bench/bench_write" "$work")

echo "memory …" >&2
rm -rf store state
small=$(peak "$program" collect --from tenth.log)
rm -rf store state
large=$(peak "$program" collect --from in.log)
rm -rf store state
"$program" collect >/dev/null 2>collect.err &
pid=$!
until grep -q listening collect.err; do sleep 0.05; done
rest=$(awk '/VmRSS/ { printf "%.0f", $2 / 1024 }' /proc/$pid/status)
kill $pid
wait $pid || true

echo "receiving …" >&2
receiving=$("$here/receive.sh" "$build")

# The rows of bench_patterns: name, ours, theirs, ratio.
bench_patterns_rows() {
    awk -F'\t' '
        /^in turn/ {
            aim["10"] = 2; aim["100"] = 10; aim["1,000"] = 160
            printf "| patterns: which of %s, and its fields | %s million texts/s | PCRE2-JIT, its expressions in turn: %s million texts/s | %s | %s |\n", $5, $2, $3, $4, aim[$5]
        }
        /Hyperscan/ { printf "| the same of 1,000 | %s million texts/s | Hyperscan, then PCRE2-JIT for the fields: %s million texts/s | %s | 8 |\n", $2, $3, $4 }
        /^same messages/ { printf "| cost of a text with 1,000 patterns | %s million texts/s | with the 10 that these texts fit: %s million texts/s | %s | below 1.3 |\n", $2, $3, $4 }
        /^other messages/ { printf "| the same, the texts spread over all 1,000 | %s million texts/s | with 10, spread over those: %s million texts/s | %s | |\n", $2, $3, $4 }
        /^header/ { printf "| header and 1,000 patterns, one core | %s million messages/s | | | 2 million messages/s |\n", $2 }
        /^none fits/ { printf "| texts that none of 1,000 fits | %s million texts/s | that all fit: %s million texts/s | %s | 1 |\n", $2, $3, $4 }
        /^compiling/ { printf "| compiling 1,000 patterns | %s ms | | | 20 ms |\n", $2 }'
}
field() { echo "$header" | awk -F'\t' -v row="$1" -v column="$2" '$1 == row { print $column }'; }
{
    echo "# Benchmarks"
    echo
    echo "Made by \`make bench\` on $(date -u +%Y-%m-%d): $(nproc) processors, $(sed -n 's/^model name[^:]*: //p' /proc/cpuinfo | head -n 1),"
    echo "$megabytes MB of messages ($messages of them), the best of $rounds rounds or more, A and B in turn. Only the ratios mean"
    echo "anything: the speed of shared machines drifts by half within minutes."
    echo
    echo "| what | A (indagator) | B | ratio | aim |"
    echo "|---|---|---|---|---|"
    echo "| header parser, RFC 5424 and RFC 3164, one core | $(field both 2) million lines/s | PCRE2-JIT, same fields, times converted: $(field both 3) million lines/s | $(field both 4) | 3.5 |"
    echo "$header" | awk -F'\t' '$1 != "both" {
        aim = $1 == "RFC 5424" ? 3 : ""
        told = $1 == "all forms mixed" ? "its ten expressions in turn" : "told the form"
        printf "| header: %s | %s million lines/s | PCRE2-JIT, %s: %s million lines/s | %s | %s |\n", $1, $2, told, $3, $4, aim
    }'
    echo "$payload" | awk -F'\t' '{ printf "| payload: fields of %s, one core | %s million texts/s | PCRE2-JIT, same fields: %s million texts/s | %s | 3 |\n", $1, $2, $3, $4 }'
    echo "$devices" | awk -F'\t' 'NR == 1 { few = $2 } NR == 2 { printf "| a message from its bytes to its line, 10,000 devices that speak in turn | %s million messages/s | 10 devices: %s million messages/s | %s | 1 |\n", $2, few, $3 }'
    echo "$patterns" | bench_patterns_rows
    echo "| \`collect --from\` of $megabytes MB into 192 \`plain\` files, 1 route | $ours s, $(awk -v n="$messages" -v s="$ours" 'BEGIN { printf "%.2f", n / s / 1e6 }') million messages/s | mawk that splits at \`[<>]\` and prints, parsing nothing: $theirs s | $(ratio "$theirs" "$ours"), median of the rounds $(median <collect.ratios) | 5, stretch 8 |"
    echo "| \`search\` of a rare literal in $((plain / 1000000)) MB of plain lines | $mine s, $(awk -v n="$plain" -v s="$mine" 'BEGIN { printf "%.1f", n / s / 1e9 }') GB/s | \`LC_ALL=C grep -cF\`: $grep s | $(ratio "$grep" "$mine") | 1 |"
    echo "| the same | $mine s | ripgrep: $ripgrep s, $(awk -v n="$plain" -v s="$ripgrep" 'BEGIN { printf "%.1f", n / s / 1e9 }') GB/s | $(ratio "$ripgrep" "$mine") | stretch 5 GB/s |"
    echo "$receiving"
    echo "| writes of 256 KiB | $(echo "$write" | cut -f2) MB/s | a write a line of 180 bytes: $(echo "$write" | cut -f1) MB/s | $(echo "$write" | cut -f3) | |"
    echo
    echo "Memory: $rest MiB resident at rest (aim: below 64). Highest while taking messages from files: $small MiB for"
    echo "$((messages / 10)) messages, $large MiB for $messages: it does not grow with their number."
    echo
    sed -n '/^## /,$p' "$here/notes.md"
} >"$output.new"
mv "$output.new" "$output"
cat "$output"
