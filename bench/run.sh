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

# 10,000 routes of five kinds.
many_routes() {
    awk 'BEGIN {
        print "allow: [10.0.0.0/8]\nconditions: {trouble: severity at least warning}\nroutes:"
        for (i = 0; i < 10000; i++) {
            k = i % 5; n = int(i / 5)
            when = k == 0 ? "facility is local" i % 8 " and severity at least error and host is \"pier" n "-sw1\"" \
                 : k == 1 ? "host starts with \"pier" n "-\" and severity at most notice" \
                 : k == 2 ? "text contains \"reason code " i ",\"" \
                 : k == 3 ? "sender within 10." int(n / 250) "." n % 250 ".0/24" \
                 : "app is \"job" i "\" and trouble"
            printf "  - {name: r%d, when: \047%s\047, file: d%d/r%d.log, last: %s}\n", i, when, i % 97, i, i % 2 ? "yes" : "no"
        }
    }'
}
four_routes() {
    cat <<'YAML'
store: store
state: state
zone: UTC
routes:
  - {name: firewall, when: 'facility is local4 and severity at least warning', file: firewall.log, layout: raw}
  - {name: down, when: 'host starts with "mv-" and text contains "is down"', file: down.log, layout: raw}
  - {name: logins, when: 'app is "sshd" and text contains "Failed password"', file: logins.log, layout: raw}
  - {name: grave, when: 'severity at least critical', file: grave.log, layout: raw}
archives:
  default: {rotate: {size: 100 GiB}, compress: none}
YAML
}
# All built-in kinds; so many threads take messages apart.
masks() {
    cat <<YAML
store: mask-store
state: mask-state
zone: UTC
threads: $1
edits:
  - {name: hide, mask: [phone, email, ipv4, ipv6, mac, card, secret], with: "***"}
routes:
  - {name: all, file: all.log, layout: raw}
archives:
  default: {rotate: {size: 100 GiB}, compress: none}
YAML
}
literals() {
    printf '%s\n' 'power supply 1 failed' 'fan tray 2' 'duplicate address' 'spanning tree loop' 'withdrawn by peer' \
        'reason code 4011' 'certificate expired' 'link flap on ge1' 'station denied' 'pool exhausted' 'clock not set' \
        'memory low' 'login from console' 'session 4711' 'route dampened' 'neighbour 192.0.2.77' 'vlan 999 missing' \
        'optics 7 hot' 'firmware mismatch' 'port security hit'
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

echo "rules …" >&2
rules=$("$build/bench/bench_rules" 3)
regexes=$("$build/bench/bench_regex")
many_routes >many.yaml
checking=0
for _ in 1 2 3 4 5; do checking=$(least "$checking" "$(seconds "$program" check -c many.yaml)"); done

echo "four routes …" >&2
four_routes >four.yaml
filter=0 mawk=0
for _ in $(seq "$rounds"); do
    rm -rf store state out
    a=$(seconds "$program" collect -c four.yaml --from in.log)
    mkdir out
    b=$(seconds mawk -f "$here/four.awk" in.log)
    for name in firewall down logins grave; do cmp "store/$name.log" "out/$name.log"; done
    filter=$(least "$filter" "$a") mawk=$(least "$mawk" "$b")
    ratio "$b" "$a" >>filter.ratios
    echo >>filter.ratios
done
rm -rf store state out

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

echo "rehearse …" >&2
rehearsing=0 collecting=0
for _ in $(seq "$rounds"); do
    a=$(seconds "$program" rehearse in.log)
    rm -rf store state
    b=$(seconds "$program" collect --from in.log)
    rehearsing=$(least "$rehearsing" "$a") collecting=$(least "$collecting" "$b")
    ratio "$b" "$a" >>rehearse.ratios
    echo >>rehearse.ratios
done

echo "masks …" >&2
mawk -f "$here/hidden.awk" in.log >hidden.log
head -n $((messages / 10)) hidden.log >hidden-tenth.log
masks 2 >mask.yaml
masks 1 >mask-one.yaml
rm -rf mask-store mask-state
"$program" collect -c mask.yaml --from hidden-tenth.log >/dev/null
sed -E -f "$here/mask.sed" hidden-tenth.log >hidden.out
cmp mask-store/all.log hidden.out
masking=0 sedding=0 one=0
for _ in 1 2 3; do
    rm -rf mask-store mask-state
    masking=$(least "$masking" "$(seconds "$program" collect -c mask.yaml --from hidden.log)")
    sedding=$(least "$sedding" "$(seconds sed -E -f "$here/mask.sed" hidden-tenth.log)")
    rm -rf mask-store mask-state
    one=$(least "$one" "$(seconds "$program" rehearse -c mask-one.yaml hidden.log)")
done
hidden=$(stat -c %s hidden.log)
rm -rf mask-store mask-state hidden.log hidden.out

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
literals >literals.txt
condition=$(sed 's/.*/text contains "&"/' literals.txt | paste -sd '|' | sed 's/|/ or /g')
for n in $(seq 1000); do
    echo "2026-11-23T04:45:00.123456Z 0.12 pier1-rtr local4 warning kernel - - - optics 7 hot, seen $n times"
done >>plain.log
many=0 grepmany=0
for _ in $(seq "$rounds"); do
    many=$(least "$many" "$(seconds "$program" search --when "$condition" --count plain.log)")
    grepmany=$(least "$grepmany" "$(seconds grep -c -F -f literals.txt plain.log)")
done

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
tls=$("$here/tls.sh" "$build")
serve=$("$here/serve.sh" "$build")

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
# The rows of bench_regex: ns, ns of the other, ratio, ms, ms of the other, which expression that is.
bench_regex_rows() {
    awk '{
        which = substr($0, index($0, $6)); gsub(/\|/, "\\|", which)
        printf "| a message of 64 KiB at its worst, in six hostile regular expressions together (`bench_regex`) | %s ms | PCRE2-JIT without a bound, in the worst one alone, `%s`: %s ms | %.0f times | a few ms |\n", $4, which, $5, $5 / $4
        printf "| an ordinary regular expression on an ordinary text, with its steps bounded | %s ns | PCRE2-JIT without a bound: %s ns | %.2f | |\n", $1, $2, $2 / $1
    }'
}
# The rows of bench_rules: name, ns, ns of the other, ratio, routes that took a message.
bench_rules_rows() {
    awk -F'\t' '
        $1 == "1,000 routes" && NR > 4 { printf "| deciding a message (`bench_rules`), 1,000 mixed routes | %s ns | each condition in turn: %s ns | %.0f times | |\n", $2, $3, $3 / $2; next }
        /routes, one/ || $1 == "1 literal" || $1 == "10 routes" { next }
        / routes/ { printf "| cost of deciding a message (`bench_rules`), %s of mixed conditions | %s ns, %s of them take it | 10 routes: %s ns | %s | %s |\n", $1, $2, $5, $3, $4, $1 == "1,000 routes" ? "3 at most" : "" }
        / literals/ { printf "| the same, %s, a route each | %s ns | 1 literal: %s ns | %s | %s |\n", $1, $2, $3, $4, $1 == "50 literals" ? "1.5 at most" : "" }'
}
field() { echo "$header" | awk -F'\t' -v row="$1" -v column="$2" '$1 == row { print $column }'; }
{
    echo "# Benchmarks"
    echo
    echo "Made by \`make bench\` on $(date -u +%Y-%m-%d): $(nproc) processors,"
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
    echo "$rules" | bench_rules_rows
    echo "$regexes" | bench_regex_rows
    echo "| \`check\` of 10,000 routes, the whole call (\`indagator check -c many.yaml\`) | $checking s | | | 1 s |"
    echo "| \`collect -c four.yaml --from in.log\`: $megabytes MB by four conditions into four \`raw\` files | $filter s | \`mawk -f bench/four.awk in.log\`: $mawk s | $(ratio "$mawk" "$filter"), median of the rounds $(median <filter.ratios) | 4 |"
    echo "| \`collect --from\` of $megabytes MB into 192 \`plain\` files, 1 route | $ours s, $(awk -v n="$messages" -v s="$ours" 'BEGIN { printf "%.2f", n / s / 1e6 }') million messages/s | mawk that splits at \`[<>]\` and prints, parsing nothing: $theirs s | $(ratio "$theirs" "$ours"), median of the rounds $(median <collect.ratios) | 5, stretch 8 |"
    sed10=$(awk -v s="$sedding" 'BEGIN { printf "%.1f", s * 10 }')
    echo "| all kinds of masks: \`collect -c mask.yaml --from hidden.log\`, $((hidden / 1000000)) MB, into one \`raw\` file | $masking s | \`LC_ALL=C sed -E -f bench/mask.sed\` on a tenth, times ten: $sed10 s; the same output | $(ratio "$sed10" "$masking") | 10 |"
    echo "| the same on one core, \`rehearse -c mask-one.yaml hidden.log\` with \`threads: 1\` | $one s, $(awk -v n="$messages" -v s="$one" 'BEGIN { printf "%.0f,000", n / s / 1e3 }') messages/s | sed as above: $sed10 s | $(ratio "$sed10" "$one") | 500,000 messages/s |"
    echo "| \`rehearse in.log\`, $megabytes MB | $rehearsing s | \`collect --from in.log\`, the same rules: $collecting s | $(ratio "$collecting" "$rehearsing"), median of the rounds $(median <rehearse.ratios) | 1.5 |"
    echo "| \`search\` of a rare literal in $((plain / 1000000)) MB of plain lines | $mine s, $(awk -v n="$plain" -v s="$mine" 'BEGIN { printf "%.1f", n / s / 1e9 }') GB/s | \`LC_ALL=C grep -cF\`: $grep s | $(ratio "$grep" "$mine") | 1 |"
    echo "| the same | $mine s | ripgrep: $ripgrep s, $(awk -v n="$plain" -v s="$ripgrep" 'BEGIN { printf "%.1f", n / s / 1e9 }') GB/s | $(ratio "$ripgrep" "$mine") | stretch 5 GB/s |"
    echo "| \`search --when 'text contains … or …' --count plain.log\`, 20 literals | $many s, $(awk -v n="$plain" -v s="$many" 'BEGIN { printf "%.1f", n / s / 1e9 }') GB/s | \`LC_ALL=C grep -c -F -f literals.txt plain.log\`: $grepmany s | $(ratio "$grepmany" "$many") | 1 |"
    echo "$receiving"
    echo "$tls"
    echo "$serve"
    echo "| writes of 256 KiB | $(echo "$write" | cut -f2) MB/s | a write a line of 180 bytes: $(echo "$write" | cut -f1) MB/s | $(echo "$write" | cut -f3) | |"
    echo
    echo "Memory: $rest MiB resident at rest (aim: below 64). Highest while taking messages from files: $small MiB for"
    echo "$((messages / 10)) messages, $large MiB for $messages: it does not grow with their number."
    echo
    sed -n '/^## /,$p' "$here/notes.md"
} >"$output.new"
mv "$output.new" "$output"
cat "$output"
