#!/bin/bash
# What archives cost: compressing with index and chain, verifying, listing. Each number is the median of ratios of runs next
# to each other. Usage: bench/archive.sh BUILD [MEGABYTES]; prints rows of a table.
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
megabytes=${2:-300} rounds=${ROUNDS:-5}

mawk -v size=$((megabytes * 1000000)) -f "$here/varied.awk" >messages.log
config() { # config POLICY
    printf 'store: log\nstate: state\nzone: UTC\ndomain: skerry.example\nroutes: [{name: all, file: all.log}]\narchives: {default: {rotate: %s}}\n' "$1" >indagator.yaml
}
config '{every: month}, compress: none'
"$program" collect --from messages.log >/dev/null && mv log/all.log plain.log && rm -r log state
text=$(stat -c %s plain.log)

for level in 3 9; do
    for mode in index chain; do
        for _ in $(seq "$rounds"); do
            own=$("$build/bench/bench_archive" plain.log $level $mode | cut -d' ' -f1)
            ratio "$own" "$(seconds zstd -$level -q -f plain.log -o other.zst)"
        done | median >time
        row "compressing at level $level, with $mode, against \`zstd -$level\`: time" "$(cat time)" "$([ $mode = index ] && echo 1.15)"
    done
    "$build/bench/bench_archive" plain.log $level bare >/dev/null && bare=$(stat -c %s plain.log.zst)
    "$build/bench/bench_archive" plain.log $level index >/dev/null && whole=$(stat -c %s plain.log.zst)
    row "size without the index against \`zstd -$level\`" "$(awk -v a="$bare" -v b="$(stat -c %s other.zst)" 'BEGIN { printf "%.3f", a / b }')" "$([ $level = 3 ] && echo 1.01 || echo 1.03)"
    row "the index, a part of the archive, level $level" "$(awk -v a="$whole" -v b="$bare" 'BEGIN { printf "%.1f %%", (a - b) / a * 100 }')" "8 %"
done
rm -f plain.log.zst other.zst plain.log

# Rotation, index and chain: what they cost a collector under load, until all is stored; what is compressed, hashed and
# indexed goes on afterwards, in the idle class.
lines=$(wc -l <messages.log)
collecting() { # collecting POLICY
    local pid s e
    config "$1"
    echo 'listen: [{tcp: "127.0.0.1:0"}]' >>indagator.yaml
    "$program" collect >out 2>&1 &
    pid=$!
    until "$program" status >/dev/null 2>&1; do sleep 0.05; done
    port=$("$program" status --json | sed 's/.*127.0.0.1:\([0-9]*\).*/\1/')
    s=$(date +%s.%N)
    "$program" emit --to "tcp:127.0.0.1:$port" --from messages.log >/dev/null 2>&1
    until [ "$("$program" status --json | sed 's/.*"ledger":{[^}]*"stored":\([0-9]*\).*/\1/')" -ge "$lines" ]; do :; done
    e=$(date +%s.%N)
    kill $pid && wait $pid || true
    rm -rf log state
    awk -v a="$s" -v b="$e" 'BEGIN { printf "%.4f", b - a }'
}
for _ in $(seq "$rounds"); do
    ratio "$(collecting '{size: 16 MiB}, compress: none')" "$(collecting '{size: 16 MiB}, compress: none, chain: yes')"
done | median >time
row "throughput over TCP with a chain, against without, 16 MiB an archive, not compressed" "$(cat time)" "0.97"
for _ in $(seq "$rounds"); do
    ratio "$(collecting '{size: 16 MiB}')" "$(collecting '{size: 16 MiB}, chain: yes')"
done | median >time
row "the same, compressed with an index" "$(cat time)" "0.97"

# The longest pause of a receiver at a rate that the machine bears, with an archive each second or so and without any.
pausing() { # pausing POLICY: milliseconds
    local pid longest
    config "$1"
    echo 'listen: [{udp: "127.0.0.1:0"}]' >>indagator.yaml
    "$program" collect >out 2>&1 &
    pid=$!
    until "$program" status >/dev/null 2>&1; do sleep 0.05; done
    port=$("$program" status --json | sed 's/.*127.0.0.1:\([0-9]*\).*/\1/')
    "$program" emit --to "udp:127.0.0.1:$port" --from messages.log --rate 80000 --count 800000 >/dev/null 2>&1
    longest=$("$program" status --json | sed -n 's/.*"longest_pause":\([0-9.e-]*\).*/\1/p')
    kill $pid && wait $pid || true
    rm -rf log state
    awk -v a="$longest" 'BEGIN { printf "%.2f\n", a * 1000 }'
}
for _ in $(seq "$rounds"); do
    pausing '{every: month}, compress: none' >>never
    pausing '{size: 16 MiB}, chain: yes' >>often
done
row "longest pause of a receiver, 80,000 datagrams a second for 10 s, archives of 16 MiB, compressed, indexed, chained and counted: against none, ms, median of $rounds" "$(median <often), $(median <never)" "no longer"

config '{size: 16 MiB}, chain: yes'
"$program" collect --from messages.log >/dev/null && "$program" rotate >/dev/null
bare() { find log -name '*.zst' -print0 | xargs -0 -P "$(nproc)" -n 1 sh -c 'zstd -dcq "$0" | openssl dgst -sha256'; }
for _ in $(seq "$rounds"); do
    ratio "$(seconds bare)" "$(seconds "$program" archives verify)"
done | median >time
row "\`archives verify\` against \`zstd -dc | openssl dgst -sha256\`, both on all processors: speed" "$(cat time)" "0.9"
echo "$text bytes of text"
