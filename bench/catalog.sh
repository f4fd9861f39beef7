#!/bin/bash
# What the catalog costs and gives: making it anew, its size, a year's counts, a list of many archives. Each number is the
# median of ratios of runs next to each other. Usage: bench/catalog.sh BUILD [MEGABYTES]; prints rows of a table.
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
megabytes=${2:-300} rounds=${ROUNDS:-5}
config() { # config FILE POLICY
    printf 'store: log\nstate: state\nzone: UTC\ndomain: skerry.example\nroutes: [{name: all, file: "%s"}]\narchives: {default: {%s}}\n' "$1" "$2" >indagator.yaml
}

mawk -v size=$((megabytes * 1000000)) -f "$here/varied.awk" >messages.log
config all.log 'rotate: {size: 16 MiB}'
"$program" collect --from messages.log >/dev/null && "$program" rotate >/dev/null
bare() { find log -name '*.zst' -exec taskset -c 0 zstd -dcq {} +; }
anew() { taskset -c 0 "$program" archives rebuild; }
text=$(bare | wc -c)
for _ in $(seq "$rounds"); do
    own=$(seconds anew)
    echo "$own" >>own
    ratio "$own" "$(seconds bare)"
done | median >time
row "\`archives rebuild\` on one processor against \`zstd -dc\` there: time" "$(cat time)" ""
row "the same, text a second" "$(median <own | awk -v t="$text" '{ printf "%d MB", t / $1 / 1e6 }')" "300 MB"
row "the catalog of it, a part of the text" "$(awk -v a="$(stat -c %s state/catalog.sqlite)" -v b="$text" 'BEGIN { printf "%.2f %%", a / b * 100 }')" "1 %"
rm -rf log state

mkdir -p year/state
"$build/bench/bench_catalog" year >made
row "the catalog of a year, 500 devices, $(awk '{ printf "%d million messages, %.1f GB of text", $1 / 1e6, $2 / 1e9 }' made): a part of the text" \
    "$(awk -v a="$(stat -c %s year/state/catalog.sqlite)" '{ printf "%.2f %%", a / $2 * 100 }' made)" "1 %"
by_day="SELECT date(hour * 3600, 'unixepoch'), sum(emergency), sum(alert), sum(critical), sum(error), sum(warning), sum(notice), sum(info), sum(debug) FROM hours GROUP BY 1"
for _ in $(seq "$rounds"); do seconds sqlite3 -readonly year/state/catalog.sqlite "$by_day"; echo; done | median >time
row "its counts by day and severity, with \`sqlite3\`" "$(cat time) s" "0.1 s"
rm -rf year

head -200000 messages.log >some.log
config '{device}/{severity}.log' 'rotate: {messages: 2}, compress: none, keep: {for: 2 years, number: 1000000}'
"$program" collect --from some.log >/dev/null 2>&1 && "$program" rotate >/dev/null
archives=$(find log -name '*.log' | wc -l)
for _ in $(seq "$rounds"); do
    own=$(seconds "$program" archives list)
    echo "$own" >>own_list
    ratio "$own" "$(seconds ls -lR log)"
done | median >time
row "\`archives list\` of $archives archives against \`ls -lR\`: time" "$(cat time)" ""
row "the same, seconds" "$(median <own_list)" "0.2 s"
