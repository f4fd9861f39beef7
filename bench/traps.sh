#!/bin/bash
# Measures what a trap costs against a message of the same length, over UDP on loopback with one receiver, and whether
# 100,000 of them a second are filed. Prints rows of Markdown. Usage: bench/traps.sh BUILD; RUNS (5), SECONDS_EACH (10), RATE (100000).
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
runs=${RUNS:-5} seconds=${SECONDS_EACH:-10} rate=${RATE:-100000}
count=$((rate * seconds))

cat >indagator.yaml <<CONFIG
store: store
state: state
zone: UTC
threads: 1
listen: [{udp: "127.0.0.1:0"}, {traps: "127.0.0.1:0", communities: [skerry]}]
archives: {default: {rotate: {size: 100 GiB}, compress: none}}
routes: [{name: all, file: all.log}]
CONFIG
# A trap of 143 bytes, and messages of as many, which are filed as lines of nearly the same length.
mawk 'BEGIN { for (i = 0; i < 10000; i++) printf "linkDown ifDescr=ge0/%05d ifAdminStatus=up ifOperStatus=down index=%d\n", i, i }' >traps.log
mawk 'BEGIN { for (i = 0; i < 10000; i++) { line = sprintf("<27>1 - - trap - linkDown [meta sysUpTime=\"%06d\"] linkDown ifDescr=ge0/%05d ifAdminStatus=up ifOperStatus=down index=", i, i); while (length(line) < 142) line = line (i % 10); print line } }' >messages.log
# Nanoseconds that its threads ran, as the scheduler counts them: ticks miss what is short and often.
used() { cat /proc/"$collector"/task/*/schedstat | awk '{ sum += $1 } END { printf "%.0f", sum }'; }
# once WHAT TARGET FILE OPTION…: sets spent (microseconds of processors a message) and lost.
once() {
    local before filed
    start 'traps 127'
    before=$(used)
    # shellcheck disable=SC2086
    "$program" emit --to "$1:127.0.0.1:$(port "$1")" --from "$2" ${3:-} --rate "$rate" --count "$count" >/dev/null
    until filed=$(wc -c <store/all.log) && sleep 0.5 && [ "$(wc -c <store/all.log)" -eq "$filed" ]; do :; done
    spent=$(calculate %.3f "($(used) - $before) / 1000 / $count")
    filed=$(grep -c ' trap - linkDown ' store/all.log)
    lost=$((count - filed))
    stop
}
worst=0
for _ in $(seq "$runs"); do
    once udp messages.log
    message=$spent
    once traps traps.log '--community skerry'
    ratio "$spent" "$message" >>ratios
    worst=$((lost > worst ? lost : worst))
done
row "processor time of a trap (SNMP v2c, 3 variables) against a message of its length, in turn, the median of $runs" "$(median <ratios)" "(aim 1.5)"
row "lost of $count traps at $rate a second, one receiver: the most in $runs runs" "$worst" "(aim 0)"
