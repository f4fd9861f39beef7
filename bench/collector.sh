#!/bin/bash
# Sourced first by what measures a running collector, with the folder of the build as $1: a folder to work in, which goes in
# the end with the collector and the senders, and how a collector is started, asked and stopped.
# shellcheck disable=SC2034
set -eu
export LC_ALL=C
build=$(realpath "$1") here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d "${TMPDIR:-/tmp}/indagator-bench-XXXXXX")
collector='' senders=''
end() {
    # shellcheck disable=SC2086
    [ -z "$senders" ] || kill $senders 2>/dev/null || true
    [ -z "$collector" ] || kill -9 "$collector" 2>/dev/null || true
    rm -rf "$work"
}
trap end EXIT
cd "$work"
program=$build/indagator
mawk -v count=20000 -f "$here/load.awk" >load.log

start() { # start LISTENER: a new one, with indagator.yaml; until it says that it listens there
    rm -rf store state out
    : >err
    "$program" collect --json >out 2>err &
    collector=$!
    until grep -q "$1" err; do sleep 0.05; done
}
stop() {
    kill "$collector"
    wait "$collector" || true
    collector=''
}
port() { sed -n "s/.*$1 127.0.0.1://p" err | head -n 1; }
# The ledger comes first in the answer of `status`.
stored() { "$program" status --json | sed 's/.*"ledger":{\([^}]*\)}.*/\1/; s/.*"stored":\([0-9]*\).*/\1/'; }
counted() { sed -n "s/.*\"count\":\([0-9]*\),\"what\":\"$1\".*/\1/p" out; }
now() { date +%s.%N; }
calculate() { awk "BEGIN { printf \"$1\", $2 }"; }
# For ratios of runs next to each other.
seconds() { local s e; s=$(now); "$@" >/dev/null 2>&1; e=$(now); calculate %.4f "$e - $s"; }
median() { sort -n | awk '{ v[NR] = $1 } END { printf "%.2f", NR % 2 ? v[(NR + 1) / 2] : (v[NR / 2] + v[NR / 2 + 1]) / 2 }'; }
ratio() { awk -v a="$1" -v b="$2" 'BEGIN { print a / b }'; }
row() { echo "| $1 | $2 | $3 |"; }
