#!/bin/bash
# Measures receiving: a collector on loopback, our own sender, everything filed. Prints rows of Markdown.
# Usage: bench/receive.sh BUILD; RUNS (10) runs of SECONDS_EACH (10) for each of the RATES of datagrams.
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
runs=${RUNS:-10} seconds=${SECONDS_EACH:-10}
mawk -v count=50000 -v files=5000 -f "$here/load.awk" >files.log

configuration() { # configuration ROUTE…
    cat <<CONFIG
store: store
state: state
zone: UTC
listen: [{udp: "127.0.0.1:0"}, {tcp: "127.0.0.1:0"}]
archives: {default: {rotate: {size: 100 GiB}, compress: none}}
routes:
CONFIG
    printf '  - %s\n' "$@"
}
one='{name: all, file: "{facility}/{severity}.log"}'
two='{name: again, file: "again/{severity}.log"}'

start_on_ports() {
    start 'tcp 127'
    udp=udp:127.0.0.1:$(port udp) tcp=tcp:127.0.0.1:$(port tcp)
}
field() { "$program" status --json | sed -n "s/.*\"$1\":\([0-9.e-]*\).*/\1/p" | head -n 1; }

# Without what the collector says itself, which is filed, too.
stored_of_senders() { echo $(($(counted 'messages stored') - $(cat store/syslog/*.log | grep -c ' indagator ' || true))); }

datagrams() { # datagrams RATE: sets sent_rate, lost_runs, lost, pause, longest
    local rate=$1 total_sent=0 total_time=0 begun took sent kept
    lost_runs=0 lost=0 pause=0
    for _ in $(seq "$runs"); do
        start_on_ports
        begun=$(now)
        if [ "$rate" -gt 0 ]; then
            sent=$((rate * seconds))
            "$program" emit --to "$udp" --from load.log --rate "$rate" --count "$sent" >/dev/null
        else
            sent=$((350000 * seconds))
            "$program" emit --to "$udp" --from load.log --count "$sent" >/dev/null
        fi
        took=$(calculate %.3f "$(now) - $begun")
        sleep 0.5
        longest=$(field longest_pause)
        stop
        kept=$(stored_of_senders)
        [ "$kept" = "$sent" ] || lost_runs=$((lost_runs + 1))
        lost=$((lost + sent - kept))
        total_sent=$((total_sent + sent))
        total_time=$(calculate %.3f "$total_time + $took")
        pause=$(calculate %.6f "($longest > $pause) ? $longest : $pause")
    done
    sent_rate=$(calculate %.2f "$total_sent / $total_time / 1e6")
    lost_share=$(calculate %.4f "100 * $lost / $total_sent")
    pause=$(calculate %.1f "$pause * 1000")
}
bare_datagrams() { # bare_datagrams RATE: sets bare_lost
    local sent=$(($1 * seconds)) port total=0
    bare_lost=0
    for _ in $(seq $(((runs + 1) / 2))); do
        rm -f bare.port
        "$build/bench/bench_bare" udp bare.out >bare.port &
        collector=$!
        until [ -s bare.port ]; do sleep 0.05; done
        port=$(head -n 1 bare.port)
        "$program" emit --to "udp:127.0.0.1:$port" --from load.log --rate "$1" --count $sent >/dev/null
        sleep 0.5
        stop
        bare_lost=$((bare_lost + sent - $(tail -n 1 bare.port)))
        total=$((total + sent))
    done
    bare_lost=$(calculate %.4f "100 * $bare_lost / $total")
}
faster() { calculate %.2f "($2 > $1) ? $2 : $1"; }
stream() { # stream COUNT FRAMING: sets rate
    local begun took
    start_on_ports
    begun=$(now)
    "$program" emit --to "$tcp" --from load.log --count "$1" --framing "$2" >/dev/null
    while [ "$(stored)" -lt "$1" ]; do sleep 0.1; done
    took=$(calculate %.3f "$(now) - $begun")
    stop
    rate=$(calculate %.3f "$1 / $took / 1e6")
}
bare_stream() { # bare_stream COUNT: sets rate
    local begun took
    rm -f bare.port
    "$build/bench/bench_bare" tcp bare.out >bare.port &
    collector=$!
    until [ -s bare.port ]; do sleep 0.05; done
    begun=$(now)
    "$program" emit --to "tcp:127.0.0.1:$(head -n 1 bare.port)" --from load.log --count "$1" --framing lines >/dev/null
    wait "$collector"
    collector=''
    took=$(calculate %.3f "$(now) - $begun")
    rate=$(calculate %.3f "$1 / $took / 1e6")
}

configuration "$one" >indagator.yaml
echo "datagrams …" >&2
for rate in ${RATES-0 600000 900000}; do
    datagrams $rate
    what="$(calculate %.1f "$rate / 1e6") million/s, in trains"
    aim='none lost'
    [ $rate -gt 0 ] || what='our sender at its full plain rate'
    [ $rate -lt 900000 ] || aim='stretch: none lost'
    bare='-'
    if [ $rate -gt 0 ]; then
        bare_datagrams $rate
        bare="a receiver that only writes the bytes to one file: $bare_lost % lost"
    fi
    echo "| UDP, messages of 180 bytes, one route into 192 files, $runs runs of $seconds s: $what ($sent_rate million/s were sent) | $lost_share % lost, in $lost_runs of $runs runs; longest pause of an intake thread $pause ms | $bare | | $aim |"
done

echo "streams …" >&2
lines=0 count=0 bare=0 both=0
for _ in $(seq 8); do
    configuration "$one" >indagator.yaml
    bare_stream 6000000
    bare=$(faster "$bare" "$rate")
    stream 6000000 lines
    lines=$(faster "$lines" "$rate")
    stream 6000000 count
    count=$(faster "$count" "$rate")
    configuration "$one" "$two" >indagator.yaml
    stream 6000000 lines
    both=$(faster "$both" "$rate")
done
echo "| TCP, the same messages, lines, one connection, one route | $lines million messages/s | a receiver that only counts line ends and writes the bytes to one file: $bare million/s | $(calculate %.2f "$lines / $bare") | 2 million/s |"
echo "| the same, octet counting | $count million messages/s | the same | $(calculate %.2f "$count / $bare") | 2 million/s |"
echo "| the same, lines, two routes (each message is written twice) | $both million messages/s | one route: $lines million messages/s | $(calculate %.2f "$both / $lines") | |"

echo "many files …" >&2
configuration '{name: all, file: "{app}.log"}' >indagator.yaml
start_on_ports
"$program" emit --to "$tcp" --from files.log --count 1000000 >/dev/null
while [ "$(stored)" -lt 1000000 ]; do sleep 0.05; done
memory=$(awk '/VmHWM/ { printf "%.0f", $2 / 1024 }' "/proc/$collector/status")
live=$(find store -name '*.log' | wc -l)
stop
echo "| highest resident memory, 1,000,000 messages in turn into $live live files | $memory MiB | | | 128 MiB |"
