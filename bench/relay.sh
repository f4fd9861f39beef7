#!/bin/bash
# Measures relays on loopback: passing on against filing, an outage and catching up, the queue on disk. Prints rows of
# Markdown. Usage: bench/relay.sh BUILD; RUNS (5), MESSAGES (4000000), OUTAGE (60 s), RATE (100000 a second).
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
runs=${RUNS:-5} messages=${MESSAGES:-4000000} outage=${OUTAGE:-60} rate=${RATE:-100000}
sink=''
leave() {
    [ -z "$sink" ] || kill -9 "$sink" 2>/dev/null || true
    end
}
trap leave EXIT

configuration() { # configuration ROUTE
    cat <<CONFIG
store: store
state: state
zone: UTC
listen: [{tcp: "127.0.0.1:0"}]
archives: {default: {rotate: {size: 100 GiB}, compress: none}}
relays:
  - {name: hq, to: "tcp:127.0.0.1:${1:-9}", waiting: {space: 8 GiB}}
edits: [{name: quiet, when: 'app is "indagator"', drop: yes}]
routes:
  - $2
CONFIG
}
relay() { "$program" status --json | sed 's/.*"relays":\[{\([^[]*\).*/\1/; s/.*"'"$1"'":\([0-9]*\).*/\1/'; }
other_side() { # other_side: sets other, the port of one that only writes down what comes
    rm -f bare.port
    "$build/bench/bench_bare" tcp /dev/null >bare.port &
    sink=$!
    until [ -s bare.port ]; do sleep 0.02; done
    other=$(head -n 1 bare.port)
}
run_through() { # run_through COUNTER…: sends all to the collector, until the counter has them; sets took
    local begun
    begun=$(now)
    "$program" emit --to "tcp:127.0.0.1:$(port tcp)" --from load.log --count "$messages" --framing lines >/dev/null
    while [ "$("$@")" -lt "$messages" ]; do sleep 0.05; done
    took=$(calculate %.3f "$(now) - $begun")
    stop
}
files() { # files: sets took
    configuration '' '{name: all, file: "{facility}/{severity}.log"}' >indagator.yaml
    start 'tcp 127'
    run_through stored
}
passed_on() { # passed_on: sets took
    other_side
    configuration "$other" '{name: all, to: {relay: hq}}' >indagator.yaml
    start 'tcp 127'
    run_through relay sent
    wait "$sink" || true
    sink=''
}

echo "passing on …" >&2
for _ in $(seq "$runs"); do
    files
    one=$took
    passed_on
    ratio "$one" "$took" >>ratios
    calculate '%.3f\n' "$messages / $took / 1e6" >>rates
    calculate '%.3f\n' "$messages / $one / 1e6" >>filed
done
row "one TCP connection, messages of 180 bytes, passed on over TCP in RFC 5424's form, million messages/s; $runs runs of $messages" \
    "$(median <rates)" "the same into 192 files, in turn: $(median <filed); ratio $(median <ratios) (aim 0.6)"

echo "an outage …" >&2
free=$(python3 -c 'import socket; s = socket.socket(); s.bind(("127.0.0.1", 0)); print(s.getsockname()[1])')
configuration "$free" '{name: all, to: {relay: hq}}' >indagator.yaml
start 'tcp 127'
"$program" emit --to "tcp:127.0.0.1:$(port tcp)" --from load.log --rate "$rate" --count $((rate * (outage * 3 + 60))) >/dev/null &
senders=$!
sleep "$outage"
waited=$(relay waiting) disk=$(relay disk_bytes)
rm -f bare.port
"$build/bench/bench_bare" tcp /dev/null "$free" >bare.port &
sink=$!
while [ "$(relay sent)" -eq 0 ]; do sleep 0.02; done
before=$(relay sent) begun=$(now)
while [ "$(relay waiting)" -gt $((rate / 20)) ]; do sleep 0.1; done
caught=$(calculate %.2f "($(relay sent) - $before) / ($(now) - $begun) / $rate")
lost=$(($(relay given_up) + $(relay not_taken)))
kill "$senders" 2>/dev/null || true
senders=''
stop
row "an outage of $outage s at $rate messages/s, then caught up while they go on: how many times that rate" "$caught" \
    "$waited waited, $((disk >> 20)) MiB on disk; $lost lost (aim 3)"

echo "the queue …" >&2
"$build/bench/bench_queue" "${MEBIBYTES:-1000}" "$runs" >queue.times
row "the queue on disk, records of 230 bytes, flushed, against the same bytes written to one file and flushed, in turn" \
    "$(awk '{ print $3 }' queue.times | median)" "(aim 0.7)"
