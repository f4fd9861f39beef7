#!/bin/bash
# Measures TLS: against the same messages over TCP, beside a UDP load, and how much memory and time it takes. Prints rows
# of Markdown.
# Usage: bench/tls.sh BUILD; ROUNDS (5) of each, MESSAGES (1500000) in each, IDLE (10000) connections.
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
rounds=${ROUNDS:-5} messages=${MESSAGES:-1500000} idle=${IDLE:-10000} client=$build/bench/bench_tls
"$client" make .
trust='--trust authority.pem --certificate pier1-rtr.pem --key pier1-rtr.key'

cat >indagator.yaml <<'CONFIG'
store: store
state: state
zone: UTC
limits: {connections: 30000, per address: 30000, handshakes: 1000}
listen:
  - udp: 127.0.0.1:0
  - tcp: 127.0.0.1:0
  - {tls: "127.0.0.1:0", certificate: collector.pem, key: collector.key, clients: authority.pem}
archives: {default: {rotate: {size: 100 GiB}, compress: none}}
routes: [{name: all, file: "{facility}/{severity}.log"}]
CONFIG

median() { sort -n | awk '{ v[NR] = $1 } END { printf "%.2f", NR % 2 ? v[(NR + 1) / 2] : (v[NR / 2] + v[NR / 2 + 1]) / 2 }'; }
faster() { calculate %.3f "($2 > $1) ? $2 : $1"; }

timed() { # timed COUNT COMMAND…: sets rate, in millions a second until all are stored
    local count=$1 began
    shift
    start 'tls 127'
    local words=("$@")
    words=("${words[@]//TCP/127.0.0.1:$(port tcp)}")
    words=("${words[@]//TLSPORT/$(port tls)}")
    words=("${words[@]//TLS/127.0.0.1:$(port tls)}")
    began=$(now)
    "${words[@]}" >/dev/null
    while [ "$(stored)" -lt "$count" ]; do sleep 0.05; done
    rate=$(calculate %.3f "$count / ($(now) - $began) / 1e6")
    stop
}

tcp=0 many=0 one=0
: >many.ratios
: >one.ratios
for _ in $(seq "$rounds"); do
    timed "$messages" "$program" emit --to tcp:TCP --from load.log --count "$messages" --framing lines
    of_tcp=$rate tcp=$(faster "$tcp" "$rate")
    # shellcheck disable=SC2086
    timed "$messages" "$program" emit --to tls:TLS $trust --from load.log --count "$messages" --framing lines
    many=$(faster "$many" "$rate")
    calculate '%.3f\n' "$rate / $of_tcp" >>many.ratios
    timed "$messages" "$client" records . TLSPORT load.log "$messages"
    one=$(faster "$one" "$rate")
    calculate '%.3f\n' "$rate / $of_tcp" >>one.ratios
done
echo "| TLS, many messages a record, one connection | $many million messages/s | TCP: $tcp million messages/s | $(median <many.ratios) | at least 0.5 |"
echo "| TLS, one message a record | $one million messages/s | the same TCP run | $(median <one.ratios) | at least 0.25 |"

# What one handshake costs the server, in processor time: ours, and the library's own server.
ticks() { awk '{ print $14 + $15 }' "/proc/$1/stat"; }
cost() { # cost PROCESS PORT: sets milliseconds
    local before
    before=$(ticks "$1")
    "$client" handshakes . "$2" 100000 4 >shaken
    milliseconds=$(calculate %.2f "($(ticks "$1") - $before) * 1000 / $(getconf CLK_TCK) / ($(cut -d' ' -f1 shaken) * 4)")
}
least() { calculate %.2f "($1 == 0 || $2 < $1) ? $2 : $1"; }
ours=0 theirs=0
for _ in $(seq "$rounds"); do
    start 'tls 127'
    cost "$collector" "$(port tls)"
    ours=$(least "$ours" "$milliseconds")
    stop
    openssl s_server -accept 127.0.0.1:7599 -cert collector.pem -key collector.key -CAfile authority.pem -Verify 1 \
        -verify_return_error -quiet -no_ticket -num_tickets 0 </dev/zero >/dev/null 2>&1 &
    collector=$!
    sleep 0.5
    cost "$collector" 7599
    theirs=$(least "$theirs" "$milliseconds")
    kill "$collector"
    wait "$collector" 2>/dev/null || true
    collector=''
done
echo "| processor time of a handshake with certificates on both sides | $ours ms | \`openssl s_server\`: $theirs ms | $(calculate %.2f "$theirs / $ours") | |"

# Datagrams lost without and with handshakes beside them, in turn.
load() { # load SHAKE: sets lost, shaken, pause
    local sent=3000000 shaker=''
    start 'tls 127'
    if [ "$1" = yes ]; then
        "$client" handshakes . "$(port tls)" 1000 10 >shaken &
        shaker=$!
    fi
    "$program" emit --to "udp:127.0.0.1:$(port udp)" --from load.log --rate 300000 --count "$sent" >/dev/null
    [ -z "$shaker" ] || wait "$shaker"
    sleep 0.5
    pause=$("$program" status --json | sed -n 's/.*"longest_pause":\([0-9.e-]*\).*/\1/p' | head -n 1)
    stop
    lost=$(($sent - $(counted 'messages stored')))
    [ "$lost" -gt 0 ] || lost=0 # our own messages are among those stored
}
without=0 with=0 slowest=1000000 longest=0 before=0
for _ in $(seq "$rounds"); do
    load no
    without=$((without + lost)) before=$(calculate %.4f "($pause > $before) ? $pause : $before")
    load yes
    with=$((with + lost)) longest=$(calculate %.4f "($pause > $longest) ? $pause : $longest")
    slowest=$(awk -v s="$slowest" '{ print ($1 < s) ? $1 : s }' shaken)
done
echo "| datagrams lost at 0.3 million/s beside TLS handshakes ($slowest a second and more were done) | $with of $((3000000 * rounds)); longest pause of a receiver $(calculate %.1f "$longest * 1000") ms | without handshakes: $without; $(calculate %.1f "$before * 1000") ms | | none that would not be lost without |"

# The longest pause of a receiver that has nothing else to do.
pauses=0
for _ in $(seq "$rounds"); do
    start 'tls 127'
    "$client" slow . "$(port tls)" 2000 10
    pause=$("$program" status --json | sed -n 's/.*"longest_pause":\([0-9.e-]*\).*/\1/p' | head -n 1)
    stop
    pauses="$pauses $(calculate %.1f "$pause * 1000")"
done
echo "| longest pause of a receiver, with 2,000 TLS connections that send a byte a second and 2,000 handshakes that stop | $(echo "$pauses" | tr ' ' '\n' | sed 1d | sort -n | tr '\n' ' ' | awk -v n="$rounds" '{ print $int((n + 1) / 2) }') ms, the middle of $rounds runs | | | 5 ms of processor time |"

ulimit -n 65536 2>/dev/null || idle=$(($(ulimit -n) / 2 - 200))
start 'tls 127'
memory() { awk '/VmRSS/ { print $2 }' "/proc/$collector/status"; }
before=$(memory)
mkfifo keep
"$client" idle . "$(port tls)" "$idle" <keep >ready &
exec 9>keep
until [ -s ready ]; do sleep 0.1; done
sleep 1
after=$(memory)
exec 9>&-
wait $! || true
stop
echo "| $idle idle TLS connections | $(calculate %.0f "$after / 1024") MiB resident, $(calculate %.1f "($after - $before) / $idle") KiB a connection | | | 512 MiB |"

sed 's|/var/log/indagator|store|; s|/var/lib/indagator|state|; s|0\.0\.0\.0:[0-9]*|127.0.0.1:0|; s|"\[::\]:[0-9]*"|127.0.0.1:0|' "$here/../packaging/indagator.yaml" >example.yaml
best=1000000
for _ in $(seq 10); do
    rm -rf store state
    : >err
    began=$(now)
    "$program" collect -c example.yaml >out 2>err &
    collector=$!
    until grep -q listening err; do :; done
    took=$(calculate %.1f "($(now) - $began) * 1000")
    stop
    best=$(calculate %.1f "($took < $best) ? $took : $best")
done
echo "| from the start to listening, with the example configuration | $best ms | | | below 50 ms |"
