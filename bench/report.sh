#!/bin/bash
# Measures a report over a year from the catalog, and its page. Prints rows of Markdown.
# Usage: bench/report.sh BUILD; MESSAGES (50000000), DEVICES (500), RUNS (5).
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
runs=${RUNS:-5} messages=${MESSAGES:-50000000} devices=${DEVICES:-500}

cat >indagator.yaml <<CONFIG
store: store
state: state
zone: UTC
archives: {default: {rotate: {size: 64 MiB}, compress: zstd 1}}
routes: [{name: all, file: all.log}]
CONFIG
# A year of stored lines, in order: devices by chance, most of them at info.
echo "$messages messages …" >&2
mawk -v messages="$messages" -v devices="$devices" 'BEGIN {
    split("info info info info info notice notice warning warning error", severity, " ")
    split("31 28 31 30 31 30 31 31 30 31 30 31", days, " ")
    srand(7)
    for (month = 1; month <= 12; month++)
        for (day = 1; day <= days[month]; day++) {
            count = int(messages / 365)
            for (i = 0; i < count; i++) {
                second = int(i * 86400 / count)
                printf "2025-%02d-%02dT%02d:%02d:%02d.000000Z - device-%03d local4 %s app - - - text\n", month, day, second / 3600, second / 60 % 60, second % 60, rand() * devices, severity[int(rand() * 10) + 1]
            }
        }
}' | "$program" collect --from - --as plain >/dev/null
"$program" rotate >/dev/null
"$program" archives rebuild >/dev/null
for _ in $(seq "$runs"); do
    begun=$(now)
    /usr/bin/env time -f %M -o memory "$program" report --quick --for 2025 --html page.html
    calculate '%.3f\n' "$(now) - $begun" >>took
    cat memory >>held
    begun=$(now)
    "$program" search --copies --by severity --since 2025-01-01 --until 2025-12-31 >/dev/null
    calculate '%.3f\n' "$(now) - $begun" >>searched
done
row "report over a year, $devices devices, $messages messages, with its page: s" "$(median <took)" "(aim 1); a search by severity that the same catalog answers: $(median <searched)"
row "its memory, MiB" "$(median <held | awk '{ printf "%.0f", $1 / 1024 }')" "(aim 128)"
row "its page, bytes" "$(stat -c %s page.html)" "(aim 1,000,000)"
