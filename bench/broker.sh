#!/bin/bash
# Measures a message system between two collectors, on loopback: one relay, one server that keeps on disk, one filer that
# acknowledges what is flushed; against a bare publisher and consumer of the same batches. Prints rows of Markdown.
# Usage: bench/broker.sh BUILD; RUNS (5), MESSAGES (3000000), RATE (170000: what comes a second). Needs nats-server.
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
runs=${RUNS:-5} messages=${MESSAGES:-3000000}
PATH=$PATH:/usr/sbin
server='' filer=''
leave() {
    for process in $server $filer; do kill -9 "$process" 2>/dev/null || true; done
    end
}
trap leave EXIT
port=$(python3 -c 'import socket; s = socket.socket(); s.bind(("127.0.0.1", 0)); print(s.getsockname()[1])')
mkdir filer
cat >indagator.yaml <<CONFIG
store: store
state: state
zone: UTC
listen: [{tcp: "127.0.0.1:0"}]
relays: [{name: centre, to: "nats://127.0.0.1:$port", waiting: {space: 20 GiB}}]
edits: [{name: quiet, when: 'app is "indagator"', drop: yes}]
routes: [{name: on, to: {relay: centre}}]
CONFIG
cat >filer/indagator.yaml <<CONFIG
store: store
state: state
zone: UTC
listen: [{nats: "127.0.0.1:$port", group: filers}]
archives: {default: {rotate: {size: 100 GiB}, compress: none}}
routes: [{name: all, file: "{facility}/{severity}.log"}]
CONFIG
taken() { "$program" -c filer/indagator.yaml status --json | sed 's/.*"taken_from":\[{\([^[]*\).*/\1/; s/.*"'"$1"'":\([0-9]*\).*/\1/'; }
refused() { "$program" status --json | sed 's/.*"relays":\[{//; s/.*"not_taken":\([0-9]*\).*/\1/'; }
start_server() {
    rm -rf kept
    nats-server -js -sd kept -a 127.0.0.1 -p "$port" >/dev/null 2>&1 &
    server=$!
    until (: <"/dev/tcp/127.0.0.1/$port") 2>/dev/null; do sleep 0.05; done
}
stop_server() {
    kill "$server"
    wait "$server" 2>/dev/null || true
    server=''
}
for _ in $(seq "$runs"); do
    start_server
    rm -rf filer/store filer/state
    (cd filer && exec "$program" collect >out 2>err) &
    filer=$!
    start 'tcp 127'
    begun=$(now)
    "$program" emit --to "tcp:127.0.0.1:$(sed -n 's/.*tcp 127.0.0.1://p' err | head -n 1)" --from load.log --framing lines --count "$messages" --rate "${RATE:-170000}" >/dev/null
    until [ $(($(taken messages) + $(refused))) -ge "$messages" ]; do sleep 0.25; done
    refused >>refusals
    took=$(calculate %.3f "$(now) - $begun")
    batches=$(taken batches)
    stop
    kill "$filer"
    wait "$filer" 2>/dev/null || true
    filer=''
    stop_server
    start_server
    bare=$("$build/bench/bench_nats" 127.0.0.1 "$port" "$batches" "${BATCH_BYTES:-2000}")
    stop_server
    calculate '%.0f\n' "$messages / $took / 1000" >>rates
    calculate '%.0f\n' "$messages / $bare / 1000" >>bares
    ratio "$bare" "$took" >>ratios
done
row "through a message system (NATS with JetStream, one server, on disk), from TCP into 192 files, acknowledged after the flush, thousand messages/s; sender, relay, server and filer share $(nproc) processors; $runs runs of $messages, of which the relay had no room for $(tail -n 1 refusals)" \
    "$(median <rates)" "a bare publisher and consumer of as many batches ($batches): $(median <bares); ratio $(median <ratios) (aims 150; 0.7)"
