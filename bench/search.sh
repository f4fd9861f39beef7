#!/bin/bash
# What searches cost: over archives with and without an index, over plain files, merged, counted. Each number is the median of
# ratios of runs next to each other. Usage: bench/search.sh BUILD [MEGABYTES]; prints rows of a table.
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
megabytes=${2:-1000} rounds=${ROUNDS:-5}

# So many messages a second that they are of 30 days.
rate=$(calculate %.6f "$megabytes * 1000000 / 165 / 30 / 86400")
mawk -v size=$((megabytes * 1000000)) -v rate="$rate" -f "$here/varied.awk" >messages.log
cat >indagator.yaml <<END
store: log
state: state
zone: UTC
domain: skerry.example
routes: [{name: all, file: "{facility}.log"}]
archives: {default: {rotate: {size: 64 MiB}}}
END
"$program" collect --from messages.log >/dev/null
"$program" rotate >/dev/null
"$program" archives rebuild >/dev/null
rm messages.log
"$program" search >plain.log
text=$(stat -c %s plain.log) archives=$(ls log/*.zst)
# A hardware address that stands in few lines.
token=$(mawk 'match($0, /02:00:5e:[0-9a-f:]+/) { t = substr($0, RSTART, RLENGTH); if (c[t]++ == 0 && ++n == 20000) { print t; exit } }' plain.log)

against() { # against WHAT AIM 'ours' 'theirs': how many times as quick
    for _ in $(seq "$rounds"); do
        ratio "$(seconds bash -c "$4")" "$(seconds bash -c "$3")"
    done | median >time
    row "$1" "$(cat time)" "$2"
}
export program token archives
when="--count --when 'text mentions \"$token\"'"
against "a rare text in $((text / 1000000)) MB, archives with an index, against \`zstdcat … \\| grep -F\`" 30 "$program search $when" "zstdcat $(echo $archives) | grep -cF '$token' | cat"
mkdir bare && for file in $archives; do zstd -dcq "$file" | zstd -q -o "bare/$(basename "$file")"; done
against "the same without index, two processors" 2 "$program search --as plain $when bare/*.zst" "zstdcat bare/*.zst | grep -cF '$token' | cat"
against "the same without index, both on one processor" 1.2 "taskset -c 0 $program search --as plain $when bare/*.zst" "taskset -c 0 bash -c \"zstdcat bare/*.zst | grep -cF '$token' | cat\""
against "a rare text in a plain file, against \`grep -F\`" 2 "$program search --as plain $when plain.log" "grep -cF '$token' plain.log | cat"
against "an expression in a plain file, against \`grep -E\`" 1 "$program search --as plain --count --when 'text matches \"from 203.0.7.1[0-9]+ port 4[0-9]+2 \"' plain.log" "grep -cE 'from 203.0.7.1[0-9]+ port 4[0-9]+2 ' plain.log | cat"
against "an expression without a text in it" 1 "$program search --as plain --count --when 'text matches \"[a-f0-9]+:[a-f0-9]+:[0-9]+ .*-4[0-9] dBm\"' plain.log" "grep -cE '[a-f0-9]+:[a-f0-9]+:[0-9]+ .*-4[0-9] dBm' plain.log | cat"
hour='--since 2026-11-15T04:00:00Z --until 2026-11-15T05:00:00Z'
against "an hour of 30 days, printed, against all of them" '' "$program search $hour" "$program search"
against "five seconds of 30 days" '' "$program search --since 2026-11-15T04:00:00Z --until 2026-11-15T04:00:05Z" "$program search"
against "an hour of 30 days in a plain file, against \`grep\` for it" '' "$program search --as plain $hour plain.log | cat" "grep '^2026-11-15T04' plain.log | cat"
mkdir parts && split -n r/20 plain.log parts/
against "20 sorted files as one, against \`sort -m\`" 5 "$program search --as plain parts/*" "sort -m parts/*"
rm -r parts
against "\`--by device,severity\` in a plain file, against mawk" 4 "$program search --as plain --by device,severity plain.log" "mawk '{ c[\$3 \" \" \$5]++ } END { for (k in c) print c[k], k }' plain.log"
against "\`--by device,severity\` by the catalog, against mawk in a plain file" '' "$program search --by device,severity" "mawk '{ c[\$3 \" \" \$5]++ } END { for (k in c) print c[k], k }' plain.log"
against "\`--by 'field SRC/24,field DPT'\`, against mawk" 4 "$program search --as plain --by 'field SRC/24,field DPT' plain.log" "mawk '{ s = d = \"-\"; if (match(\$0, /SRC=[0-9.]+/)) { s = substr(\$0, RSTART + 4, RLENGTH - 4); sub(/[0-9]+\$/, \"\", s) } if (match(\$0, /DPT=[0-9]+/)) d = substr(\$0, RSTART + 4, RLENGTH - 4); c[s \" \" d]++ } END { for (k in c) print c[k], k }' plain.log"
for _ in $(seq "$rounds"); do calculate '%.2f\n' "$text / 1e9 / $(seconds "$program" search --as plain --when 'severity at least error and device starts with "pier"' plain.log)"; done | median >time
row 'a condition on device and severity in a plain file, GB a second' "$(cat time)" 1.5
for _ in $(seq "$rounds"); do seconds "$program" search --first 1; echo; done | median >time
row 'the first line of all archives, s' "$(cat time)" 0.1
for _ in $(seq "$rounds"); do seconds "$program" search --as plain --first 1 plain.log; echo; done | median >time
row 'the first line of a plain file, s' "$(cat time)" 0.1
peak=0
for question in '' '--reverse' "$when" '--by device,severity --copies' '--by text --top 5'; do
    kilobytes=$(bash -c "/usr/bin/time -f %M $program search $question 2>&1 >/dev/null | tail -n 1")
    [ "$kilobytes" -le "$peak" ] || peak=$kilobytes
done
row 'most memory of these and others, MiB' "$((peak / 1024))" 128
