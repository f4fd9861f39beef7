#!/bin/bash
# Hours in a nutshell: a collector under load over all transports, while it is reloaded and its files are rotated. Its memory
# and descriptors must stay flat, nothing may be lost, and its books must add up at every look.
# Usage: bench/soak.sh BUILD [SECONDS]
# shellcheck source=bench/collector.sh
. "$(dirname "$0")/collector.sh"
seconds=${2:-600}
new='-newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes'
for name in collector device; do # each signed by itself, and known by its fingerprint
    # shellcheck disable=SC2086
    openssl req -x509 $new -days 30 -subj "/CN=$name" -addext 'subjectAltName=IP:127.0.0.1' -keyout $name.key -out $name.pem 2>/dev/null
done
print_of() { openssl x509 -in "$1.pem" -noout -fingerprint -sha256 | sed 's/.*=/sha-256:/'; }

configuration() { # configuration LAYOUT
    cat <<CONFIG
store: store
state: state
zone: UTC
listen:
  - udp: 127.0.0.1:0
  - tcp: 127.0.0.1:0
  - tls: 127.0.0.1:0
    certificate: collector.pem
    key: collector.key
    fingerprints: ["$(print_of device)"]
  - unix: datagrams
  - {unix: connections, stream: yes}
edits:
  - {name: masked, mask: [phone, email]}
archives: {default: {rotate: {size: 4 MiB}, keep: {number: 3}, compress: zstd 1}}
routes:
  - {name: all, file: "{facility}/{severity}.log", layout: $1}
  - {name: trouble, when: severity at least warning, file: trouble.log}
CONFIG
}
configuration plain >indagator.yaml
start 'unix.*connections'
again() { # again COMMAND…: a sender that comes and goes
    while :; do "$@" >/dev/null 2>&1 || sleep 0.2; done
}
sender() {
    again "$program" emit --from load.log --count 20000 --rate 4000 "$@" &
    senders="$senders $!"
}
sender --to "udp:127.0.0.1:$(port udp)"
sender --to "tcp:127.0.0.1:$(port tcp)" --framing lines
sender --to "tls:127.0.0.1:$(port tls)" --trust "$(print_of collector)" --certificate device.pem --key device.key
sender --to unix:datagrams
sender --to unix:connections

descriptors() { find "/proc/$collector/fd" -mindepth 1 2>/dev/null | wc -l; }
memory() { awk '/VmRSS/ { print $2 }' "/proc/$collector/status"; }
layout=plain began=$(date +%s) round=0
: >samples
while [ $(($(date +%s) - began)) -lt "$seconds" ]; do
    sleep 1
    round=$((round + 1))
    if [ $((round % 5)) -eq 0 ]; then
        [ $layout = plain ] && layout=json || layout=plain
        configuration $layout >indagator.yaml
        kill -HUP "$collector"
    fi
    [ $((round % 7)) -ne 0 ] || "$program" rotate >/dev/null
    if [ $((round % 3)) -eq 0 ]; then
        "$program" status --json >status || { echo 'soak: no status'; cat err; exit 1; }
        grep -q '"adds_up":false' status && { echo 'soak: the books do not add up'; exit 1; }
        echo "$(memory) $(descriptors)" >>samples
    fi
done
# shellcheck disable=SC2086
kill $senders 2>/dev/null || true
pkill -P "$(echo $senders | tr ' ' ',')" 2>/dev/null || true
senders=''
sleep 1
kill "$collector"
wait "$collector" || { echo 'soak: it did not end well'; tail -n 5 err; exit 1; }
collector=''
# Of what came after the first third: of the other two, the mean of memory, and the most of descriptors.
awk -v of="$(wc -l <samples)" '
    NR > of / 3 && NR <= of * 2 / 3 { m1 += $1; n1++; if ($2 > d1) d1 = $2 }
    NR > of * 2 / 3 { m2 += $1; n2++; if ($2 > d2) d2 = $2 }
    END {
        m1 /= n1; m2 /= n2
        printf "soak: memory %.1f, then %.1f MiB; descriptors at most %d, then %d\n", m1 / 1024, m2 / 1024, d1, d2
        exit !(m2 < m1 * 1.1 + 2048 && d2 < d1 + 10)
    }' samples || { echo 'soak: they grow:' $(cut -d' ' -f1 samples); exit 1; }
sed 's/.*"ledger":{\([^}]*\)}.*/soak: \1/' status | cut -c 1-300
tr '}' '\n' <out | sed -n 's/.*"count":\([0-9]*\),"what":"\(lost[^"]*\)".*/\1 \2/p' | grep -v '^0 ' && { echo 'soak: some were lost'; exit 1; }
echo "soak: good, after $seconds s"
