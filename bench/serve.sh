#!/bin/bash
# How soon the collector tells how it stands, of 10,000 devices, at rest and under load; and what it costs to be asked.
# Prints rows of Markdown. Usage: bench/serve.sh BUILD; ROUNDS (5), MESSAGES (3000000).
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
rounds=${ROUNDS:-5} messages=${MESSAGES:-3000000}
cat >indagator.yaml <<'CONFIG'
store: store
state: state
zone: UTC
serve: 127.0.0.1:0
listen:
  - udp: 127.0.0.1:0
  - tcp: 127.0.0.1:0
archives: {default: {rotate: {size: 100 GiB}, compress: none}}
routes: [{name: all, file: "{facility}/{severity}.log"}]
CONFIG
mawk 'BEGIN { for (i = 0; i < 10000; i++)
    printf "<%d>1 2026-11-23T04:45:00Z pier%05d.skerry.example sshd 12 - - session %d opened from 192.0.2.%d\n", i % 190, i, i, i % 250 }' >devices.log
median() { sort -n | awk '{ v[NR] = $1 } END { printf "%.1f", NR % 2 ? v[(NR + 1) / 2] : (v[NR / 2] + v[NR / 2 + 1]) / 2 }'; }
rest=() load=()
ask() { # ask PATH COUNT PAUSE: the median of the time to the last byte, in ms, with so many seconds between two
    for _ in $(seq "$2"); do
        sleep "$3"
        curl -s -o /dev/null -w '%{time_total}\n' "http://127.0.0.1:$http/$1" | awk '{ print $1 * 1000 }'
    done | median
}

start 'serving at'
http=$(sed -n 's/.*serving at http:\/\/127.0.0.1:\([0-9]*\).*/\1/p' err)
"$program" emit --to "tcp:127.0.0.1:$(port tcp)" --framing lines --from devices.log >/dev/null
while [ "$(stored)" -lt 10000 ]; do sleep 0.1; done
all() { # all ARRAY: metrics that are made anew, and asked for ten times a second; the status
    local -n into=$1
    into=("$(ask metrics 10 2.1)" "$(ask metrics 40 0.1)" "$(ask status 20 0.1)")
}
all rest
"$program" emit --to "udp:127.0.0.1:$(port udp)" --from devices.log --count 100000000 >/dev/null 2>&1 &
senders=$!
sleep 1
all load
kill $senders
senders=''
stop
echo "| \`/metrics\` of 10,000 devices, made anew | ${rest[0]} ms; under full UDP load ${load[0]} ms | | | 20 ms |"
echo "| the same, asked for ten times a second | ${rest[1]} ms; under full UDP load ${load[1]} ms | | | 20 ms |"
echo "| \`/status\` of 10,000 devices, 4 MB of JSON | ${rest[2]} ms; under full UDP load ${load[2]} ms | | | 20 ms |"

timed() { # timed SCRAPES: processor time of the collector for all messages, in seconds
    start 'serving at'
    http=$(sed -n 's/.*serving at http:\/\/127.0.0.1:\([0-9]*\).*/\1/p' err)
    if [ "$1" -gt 0 ]; then
        while :; do curl -s -o /dev/null "http://127.0.0.1:$http/metrics" || true; sleep "$(calculate %.3f "1 / $1")"; done &
        senders=$!
    fi
    "$program" emit --to "tcp:127.0.0.1:$(port tcp)" --framing lines --from devices.log --count "$messages" >/dev/null
    while [ "$(stored)" -lt "$messages" ]; do sleep 0.05; done
    used=$(awk '{ print ($14 + $15) / 100 }' "/proc/$collector/stat")
    [ -z "$senders" ] || kill $senders
    senders=''
    stop
}
: >ratios
for _ in $(seq "$rounds"); do
    timed 0
    plain=$used
    timed 10
    calculate '%.4f\n' "$used / $plain" >>ratios
done
ratio=$(sort -n ratios | awk '{ v[NR] = $1 } END { printf "%.3f", v[int((NR + 1) / 2)] }')
echo "| processor time for $messages messages of 10,000 devices over TCP, with ten scrapes of \`/metrics\` a second | | the same without | $ratio | below 1.01 |"
