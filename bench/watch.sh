#!/bin/bash
# Measures what a live view costs the collector that it shows, with many devices: over TCP on loopback, with and without it, in
# turn. Prints rows of Markdown. Usage: bench/watch.sh BUILD; RUNS (7), MESSAGES (3000000), DEVICES (10000).
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
runs=${RUNS:-7} messages=${MESSAGES:-3000000} devices=${DEVICES:-10000}

cat >indagator.yaml <<CONFIG
store: store
state: state
zone: UTC
listen: [{tcp: "127.0.0.1:0"}]
archives: {default: {rotate: {size: 100 GiB}, compress: none}}
routes: [{name: all, file: all.log}]
CONFIG
mawk -v devices="$devices" 'BEGIN { for (i = 0; i < 10 * devices; i++) printf "<38>1 - device-%05d app - - - a message of some length, as devices send them %d\n", i % devices, i }' >devices.log
lines=$(wc -l <devices.log)
size() { stat -c %s store/all.log 2>/dev/null || echo 0; }
used() { awk '{ print ($14 + $15) / 100 }' "/proc/$collector/stat"; }
# once VIEW: sets took, and spent (seconds of processors).
once() {
    local begun view=''
    start 'tcp 127'
    "$program" emit --to "tcp:127.0.0.1:$(port tcp)" --from devices.log --framing lines >/dev/null
    until [ "$(stored)" -ge "$lines" ]; do sleep 0.05; done
    sleep 0.5
    all=$(($(size) / lines * (messages + lines)))
    if [ "$1" = viewed ]; then
        TERM=xterm script -qec "$program watch" /dev/null >/dev/null 2>&1 < <(sleep 1000) &
        view=$!
        sleep 2
    fi
    begun=$(now)
    "$program" emit --to "tcp:127.0.0.1:$(port tcp)" --from devices.log --count "$messages" --framing lines >/dev/null
    until [ "$(size)" -ge "$all" ]; do sleep 0.01; done # asking for the status would cost what is measured
    took=$(calculate %.3f "$(now) - $begun")
    [ -z "$view" ] || { pkill -P "$view" 2>/dev/null; kill "$view" 2>/dev/null; wait "$view" 2>/dev/null; } || true
    stop
}
# idle VIEW: sets spent, in ten seconds in which nothing comes.
idle() {
    local before view=''
    start 'tcp 127'
    "$program" emit --to "tcp:127.0.0.1:$(port tcp)" --from devices.log --framing lines >/dev/null
    sleep 15 # the catalog has counted
    if [ "$1" = viewed ]; then
        TERM=xterm script -qec "$program watch" /dev/null >/dev/null 2>&1 < <(sleep 1000) &
        view=$!
        sleep 3
    fi
    before=$(used)
    sleep 21
    spent=$(calculate %.4f "($(used) - $before) / 21")
    [ -z "$view" ] || { pkill -P "$view" 2>/dev/null; kill "$view" 2>/dev/null; wait "$view" 2>/dev/null; } || true
    stop
}
for _ in $(seq "$runs"); do
    once alone
    alone=$took
    once viewed
    ratio "$took" "$alone" >>ratios
done
idle alone
alone=$spent
idle viewed
row "time of $messages messages of $devices devices over TCP with a live view, against without, in turn, the median of $runs" "$(median <ratios)" "(aim 1.005)"
row "what it costs the collector while nothing comes: part of one processor" "$(calculate %.4f "$spent - $alone")" "(aim 0.005)"
