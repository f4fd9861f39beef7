#!/bin/bash
# Measures what alerts cost a message that concerns none, against the same rules as routes, and what keys that strangers make
# up cost; over TCP on loopback. Prints rows of Markdown. Usage: bench/alerts.sh BUILD; RUNS (5), MESSAGES (3000000).
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
runs=${RUNS:-5} messages=${MESSAGES:-3000000}

base() {
    cat <<CONFIG
store: store
state: state
zone: UTC
listen: [{tcp: "127.0.0.1:0"}]
archives: {default: {rotate: {size: 100 GiB}, compress: none}}
edits: [{name: quiet, when: 'app is "indagator"', drop: yes}]
CONFIG
}
# rules COUNT REST: as many, of four kinds, none of which holds for any message.
rules() {
    mawk -v count="$1" -v rest="$2" 'BEGIN {
        when[0] = "host is \"none-%d\""; when[1] = "text contains \"needle-%d\""
        when[2] = "app is \"none-%d\""; when[3] = "severity at least critical and text starts with \"needle %d\""
        for (i = 0; i < count; i++)
            printf "  - {name: rule-%d, when: \047" when[i % 4] "\047, %s}\n", i, i, rest
    }'
}
run_through() { # sets took
    local begun
    start 'tcp 127'
    begun=$(now)
    "$program" emit --to "tcp:127.0.0.1:$(port tcp)" --from "${1:-load.log}" --count "$messages" --framing lines >/dev/null
    while [ "$(stored)" -lt "$messages" ]; do sleep 0.02; done
    took=$(calculate %.3f "$(now) - $begun")
}
with_alerts() {
    { base; echo 'routes: [{name: all, file: "{facility}/{severity}.log"}]'; [ "$1" -eq 0 ] || { echo alerts:; rules "$1" 'more than: 20 in 5 min, by: device'; }; } >indagator.yaml
    run_through
    stop
}
with_routes() {
    { base; echo routes:; rules "$1" 'file: none.log, last: yes'; echo '  - {name: all, file: "{facility}/{severity}.log"}'; } >indagator.yaml
    run_through
    stop
}
for _ in $(seq "$runs"); do
    with_alerts 0
    none=$took
    with_alerts 1
    ratio "$took" "$none" >>one
    with_alerts 1000
    many=$took
    ratio "$many" "$none" >>many_to_none
    with_routes 1000
    ratio "$many" "$took" >>many_to_routes
done
row "one alert that no message concerns: time of $messages messages of 180 bytes over one TCP connection into 192 files, against none; $runs runs" \
    "$(median <one)" "(aim 1)"
row "1,000 alerts that no message concerns, against none" "$(median <many_to_none)" ""
row "the same, against 1,000 routes with the same conditions" "$(median <many_to_routes)" "(aim 1 at most)"

echo "keys …" >&2
mawk 'BEGIN { for (i = 0; i < 200000; i++) printf "<38>1 - harbour-fw app-%d - - - a message of a stranger with a name of its own %d\n", i, i }' >keys.log
messages=400000
memory() { awk '/VmRSS/ { print $2 }' "/proc/$collector/status"; }
keys() { # keys COUNT: sets took, held (KiB)
    { base; echo 'routes: [{name: all, file: "all.log"}]'; [ "$1" -eq 0 ] || echo 'alerts: [{name: strangers, more than: 1000 in 1 h, by: app}]'; } >indagator.yaml
    run_through keys.log
    sleep 1
    held=$(memory)
    counts=$("$program" status --json | sed 's/.*"watched":\([0-9]*\),"forgotten":\([0-9]*\).*"missed":\([0-9]*\).*/\1 keys held, \2 forgotten, \3 messages missed/')
    stop
}
keys 0
none=$took before=$held
keys 1
row "200,000 keys that strangers make up, one alert by app: MiB more than without it" "$(((held - before) / 1024))" "$counts; time $(ratio "$took" "$none") of that without (aim 64 MiB, evictions counted)"

echo "to a mail …" >&2
python3 "$here/../tests/support/standin.py" smtp "$work" &
senders=$!
until [ -s "$work/port" ]; do sleep 0.02; done
{ base; echo "alerts: [{name: down, when: 'text contains \"down\"', by: text, tell: {mail: noc@skerry.example}}]"; echo "mail: {server: \"127.0.0.1:$(cat "$work/port")\", from: indagator@skerry.example}"; } >indagator.yaml
for _ in $(seq "$runs"); do
    rm -f "$work"/mail-*
    start 'tcp 127'
    begun=$(now)
    "$program" emit --to "tcp:127.0.0.1:$(port tcp)" --app linkd 'it is down' >/dev/null
    until [ -n "$(ls "$work"/mail-* 2>/dev/null)" ]; do sleep 0.005; done
    calculate '%.3f\n' "$(now) - $begun" >>mailed
    stop
done
row "from a message that opens an alert to the mail in the hands of the server, s; with the sender's start" "$(median <mailed)" "(aim 2)"
