#!/bin/bash
# Instructions a message, by form and stage, counted by callgrind: repeatable on any machine. Prints rows of Markdown.
# Usage: bench/stages.sh BUILD [OTHER]: with OTHER, another build of this project, what it was there in front of each.
set -eu
work=$(mktemp -d "${TMPDIR:-/tmp}/indagator-bench-XXXXXX")
trap 'rm -rf "$work"' EXIT
forms=('RFC 5424' 'RFC 3164' 'RFC 3164 without a host' 'year and milliseconds' 'time of RFC 3339' 'number, host, time, code'
    'location, time, process, code' 'relayed: header, number, time, code' 'PRI and tag' 'PRI and text' 'all forms mixed')

count() { # count BUILD FORM: the stages' instructions a message
    valgrind --tool=callgrind --callgrind-out-file="$work/out" "$1/bench/bench_stages" count "$2" >/dev/null 2>"$work/err" ||
        { cat "$work/err" >&2; exit 1; }
    callgrind_annotate --inclusive=yes --threshold=100 "$work/out" | awk '
        { gsub(/,/, "", $1) }
        match($0, /stage_[a-z]+/) { stage = substr($0, RSTART + 6, RLENGTH - 6); if (!(stage in n)) n[stage] = $1 / 4000 }
        END { printf "%d %d %d %d %d\n", n["header"], n["fields"], n["plain"], n["json"], n["whole"] }'
}

echo '| form | header | fields | `plain` line | `json` line | from bytes to a line in a batch |'
echo '|---|---|---|---|---|---|'
for form in "${forms[@]}"; do
    read -r -a new < <(count "$1" "$form")
    old=()
    [ $# -lt 2 ] || read -r -a old < <(count "$2" "$form")
    printf '| %s |' "$form"
    for i in 0 1 2 3 4; do printf ' %s%s |' "${old[i]:+${old[i]} → }" "${new[i]}"; done
    echo
done
